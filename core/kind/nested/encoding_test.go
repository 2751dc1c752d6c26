package nested

import (
	"bytes"
	"encoding/base64"
	"net/url"
	"strings"
	"testing"

	"oakenchest/core/kind"
)

// spare gives a budget of which almost nothing is left.
func spare() *kind.Budget {
	b := kind.NewBudget(0)
	_ = b.Decoded(b.Left() - 1000)
	return b
}

func TestEncodingsGiveBackWhatTheyTook(t *testing.T) {
	data := []byte(`<?xml version="1.0"?><layout title="Fütterung der Woche"><column id="tank" width="120"/></layout>`)
	for _, encoding := range []string{"base64", "hex", "percent", "text", "base64 gzip", "hex zlib", "base64 deflate", "percent zlib"} {
		text, err := Encode(data, encoding, "")
		if err != nil {
			t.Fatal(err)
		}
		back, err := Decode(text, encoding, kind.NewBudget(1<<20))
		if err != nil || !bytes.Equal(back, data) {
			t.Errorf("%s: %q, %v", encoding, back, err)
		}
		if strings.HasSuffix(encoding, "deflate") {
			continue // nothing tells that from other bytes
		}
		if f, ok := Detect(text, kind.NewBudget(1<<20)); encoding != "percent zlib" && (!ok || f.Encoding != encoding || f.Ext != ".xml") {
			t.Errorf("%s is taken for %v, %v", encoding, f.Encoding, ok)
		}
	}
}

func TestHabitsOfWritingStay(t *testing.T) {
	for _, c := range []struct{ encoding, text string }{
		{"hex", "7B227A223A317D"}, {"hex", "7b227a223a317d"}, {"percent", "%7b%22a%22:%20%5b1%2c2%5d%7d"}, {"percent", "%7B%22a%22%3A1%7D"},
	} {
		data, err := Decode(c.text, c.encoding, kind.NewBudget(100))
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		if text, _ := Encode(data, c.encoding, c.text); text != c.text {
			t.Errorf("%s is written as %s", c.text, text)
		}
	}
}

func TestWhatIsNoContentIsLeftAlone(t *testing.T) {
	bomb, err := Encode(bytes.Repeat([]byte("<?xml "), 100_000), "base64 gzip", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"a word", strings.Repeat("word", 20), strings.Repeat("ab", 40),
		"{ this is no JSON at all, but a sentence }", "%7B this neither, though it has the signs", "=" + strings.Repeat("A", 63)} {
		if f, ok := Detect(text, kind.NewBudget(1<<20)); ok {
			t.Errorf("%.30q is taken for %s", text, f.Encoding)
		}
	}
	if f, ok := Detect(bomb, spare()); ok && strings.HasSuffix(f.Encoding, "gzip") {
		t.Error("more was unpacked than was allowed")
	}
	if _, err := Decode(bomb, "base64 gzip", spare()); err == nil {
		t.Error("more was unpacked than was allowed")
	}
	for _, name := range []string{"", "rot13", "base64 bzip2", "text gzip", "base64 gzip zlib"} {
		if CheckEncoding(name) == nil {
			t.Errorf("%q counts as an encoding", name)
		}
	}
}

func TestSignsOfContentAreSeen(t *testing.T) {
	for text, json := range map[string]bool{
		`{"a": "{\"b\": 1}"}`: true, `{"a": "%7B%22b%22%3A1%7D"}`: true, "<a>\n  {\"b\": 1}</a>": false, "<a b='{}'/>": false,
		"<a>&lt;?xml</a>": false, "<a>&lt;report id=</a>": false, `{"a": "<report id='1'/>"}`: true, "<a><![CDATA[<?xml?>]]></a>": false,
		"<a>" + strings.Repeat("7b", 16) + "</a>": false,
	} {
		if !MayHold([]byte(text), json) {
			t.Errorf("nothing is seen in %s", text)
		}
	}
	for text, json := range map[string]bool{"{\n  \"a\": [ {\"b\": 1} ],\n  \"c\": \"plain words, and more of them\"\n}": true,
		"<form id=\"round\">\n  <field label=\"Tank\"/>\n</form>": false} {
		if MayHold([]byte(text), json) {
			t.Errorf("something is seen in %s", text)
		}
	}
}

// TestMarkupIsFoundWithoutADeclaration takes for XML what is one element with something in it, and
// nothing that only looks like it.
func TestMarkupIsFoundWithoutADeclaration(t *testing.T) {
	const report = `<report title="Feeding of the week"><column id="tank" width="120"/></report>`
	for text, want := range map[string]string{
		report: "text", "\n  " + report + "\n": "text", base64.StdEncoding.EncodeToString([]byte(report + " ")): "base64",
		url.PathEscape(report):                     "percent",
		"<p>just a paragraph with words in it</p>": "", report + report: "", report + " and more": "",
		"<report title='x'><column></report></column>":   "",
		"<b>a</b> is < b, and c > d for all that I know": "", "<https://example.com/a/long/address/in/angles>": "",
		`<a href="x">open and never closed, never`: "",
	} {
		found, ok := Detect(text, kind.NewBudget(1<<16))
		if got := found.Encoding; ok != (want != "") || ok && (got != want || found.Ext != ".xml") {
			t.Errorf("%s: %v, %+v", text, ok, found.Encoding)
		}
	}
}

func TestReferencesAreReadAsTheyAreWritten(t *testing.T) {
	for _, encoding := range []string{"base64", "hex zlib"} {
		file, back, ok := ParseReference(Reference("a/b c.json", encoding))
		if !ok || file != "a/b c.json" || back != encoding {
			t.Errorf("%s: %s, %s, %v", encoding, file, back, ok)
		}
	}
	if _, _, ok := ParseReference("oaken-part:rot13:x@"); ok {
		t.Error("an unknown encoding is taken")
	}
}

func FuzzDetect(f *testing.F) {
	f.Add("eJyrVkpUslJKVKoFAA4vA0o=" + strings.Repeat("A", 40))
	f.Add("%7B%22a%22%3A%22" + strings.Repeat("b", 40) + "%22%7D")
	f.Add(strings.Repeat("7b7d", 20))
	f.Fuzz(func(t *testing.T, text string) {
		found, ok := Detect(text, kind.NewBudget(1<<16))
		if !ok || strings.Contains(found.Encoding, " ") {
			return
		}
		if back, err := Encode(found.Data, found.Encoding, text); err != nil || back != text {
			t.Fatalf("%q as %s comes back as %q", text, found.Encoding, back)
		}
	})
}
