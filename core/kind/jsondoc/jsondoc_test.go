package jsondoc

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
)

var documents = []string{
	`{}`, `[]`, ` [ 1 , 2.50e3 ,"a\u00e9\/" ] `, "\ufeff{\n\t\"b\" : null,\r\n\t\"a\": [ ] , \"c\":{ }\n}\n",
	`{"asset":{"version":"2.0"},"nodes":[{"name":"Lamp","scale":[1,1,1]}]}`, `"text"`, `-0.0`, `true`,
}

func TestParsedDocumentsAreWrittenAsTheyWere(t *testing.T) {
	for _, s := range documents {
		d, err := Parse([]byte(s))
		if err != nil {
			t.Errorf("%s: %v", s, err)
		} else if got := string(d.Bytes()); got != s {
			t.Errorf("%q came back as %q", s, got)
		}
	}
}

func TestBadDocumentsSayWhere(t *testing.T) {
	for s, where := range map[string]string{
		``: "line 1, column 1", `{"a":1,"a":2}`: "twice", "[1,\n 2": "line 1, column 1: what begins here is never closed",
		`[1 2]`: "column 4", `{"a" 1}`: "expected :", `[01]`: "number",
		`"\x"`: "escape", "\"a\nb\"": "control", strings.Repeat("[", 5000): "nested", `nul`: "expected a value", `{} x`: "after the end",
		"\"\xff\"": "UTF-8", `[1,]`: "expected a value",
	} {
		if _, err := Parse([]byte(s)); err == nil || !strings.Contains(err.Error(), where) {
			t.Errorf("%.20q: %v, want %s", s, err, where)
		}
	}
}

func TestBecomeChangesOnlyWhatDiffers(t *testing.T) {
	for _, c := range []struct{ from, want, result string }{
		{"{\n  \"a\": 1.0,\n  \"b\" : [1, 2]\n}\n", `{"a":1.0,"b":[1,3]}`, "{\n  \"a\": 1.0,\n  \"b\" : [1, 3]\n}\n"},
		{"{\n  \"a\": 1\n}\n", `{"a":1,"n":{"x":[1,2],"y":[{"z":1}]}}`,
			"{\n  \"a\": 1,\n  \"n\": {\n    \"x\": [1, 2],\n    \"y\": [\n      {\n        \"z\": 1\n      }\n    ]\n  }\n}\n"},
		{`{"a":1,"b":2}`, `{"b":2,"c":"x"}`, `{"b":2,"c":"x"}`},
		{`{"b":2,"a":1}`, `{"a":1,"b":2}`, `{"b":2,"a":1}`},
		{`[{"n":1},{"n":2},{"n":3}]`, `[{"n":1},{"n":3}]`, `[{"n":1},{"n":3}]`},
		{`[1, 2]`, `[1,2,3]`, `[1, 2, 3]`},
	} {
		d, err := Parse([]byte(c.from))
		w, werr := Parse([]byte(c.want))
		if err != nil || werr != nil {
			t.Fatal(err, werr)
		}
		d.Root.Become(w.Root)
		if got := string(d.Bytes()); got != c.result {
			t.Errorf("%q to %q gave\n%q, want\n%q", c.from, c.want, got, c.result)
		}
	}
}

func TestFormatIsReadable(t *testing.T) {
	n := Obj().Set("name", Str("Lamp <1>")).Set("at", Arr(Int(1), Num("2.5"))).Set("kids", Arr(Obj().Set("x", Truth(true)))).Set("none",
		Obj())
	want := "{\n  \"name\": \"Lamp <1>\",\n  \"at\": [1, 2.5],\n  \"kids\": [\n    {\n      \"x\": true\n    }\n  ],\n  \"none\": {}\n}\n"
	if got := string(Format(n, "  ")); got != want {
		t.Errorf("got %q", got)
	}
	if got := string(Format(n, "")); got != `{"name":"Lamp <1>","at":[1,2.5],"kids":[{"x":true}],"none":{}}` {
		t.Errorf("compact: %s", got)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range documents {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := Parse(data)
		if err != nil {
			return
		}
		if !bytes.Equal(d.Bytes(), data) {
			t.Fatalf("%q came back as %q", data, d.Bytes())
		}
		if body := bytes.TrimPrefix(data, []byte("\ufeff")); !json.Valid(body) {
			t.Fatalf("%q was taken and is no JSON", data)
		}
		other, err := Parse([]byte(`{"a":[1,{"b":2}],"c":null}`))
		if err != nil {
			t.Fatal(err)
		}
		want := d.Root.Clone()
		other.Root.Become(want)
		if !other.Root.Equal(d.Root) || !json.Valid(other.Bytes()) {
			t.Fatalf("became %s, want %s", other.Bytes(), data)
		}
	})
}
