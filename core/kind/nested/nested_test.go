package nested_test

import (
	"encoding/base64"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
	"oakenchest/core/kind/nested"
)

func reader() *nested.Reader {
	return nested.NewReader(all.Table(), kind.FileSource{Name: "rounds.xml"})
}

// holder is an element with texts as properties.
func holder(texts ...string) *element.Element {
	e := &element.Element{Type: "form"}
	for i := 0; i < len(texts); i += 2 {
		e.Set(texts[i], element.TextValue(texts[i+1]))
	}
	return e
}

func TestTextsThatHoldContentAreOpenedAndClosed(t *testing.T) {
	json := `{"title": "Feeding log", "width": 120, "note": "weekly"}`
	png := "\x89PNG\r\n\x1a\n" + strings.Repeat("px", 40)
	e := holder("name", "log", "layout", base64.StdEncoding.EncodeToString([]byte(json)), "icon",
		base64.StdEncoding.EncodeToString([]byte(png)), "query", json)
	was := e.Clone()
	r := reader()
	if !r.Open(e, nil) {
		t.Fatal("nothing was opened")
	}
	if e.Prop("name").Text() != "log" || e.Prop("icon").Sort() != element.Bytes || !e.Prop("layout").IsAbsent() || len(e.Children) != 2 {
		t.Fatalf("opened:\n%s", e.Dump())
	}
	for _, c := range e.Children {
		if c.Prop("title").Text() != "Feeding log" || !nested.IsEmbedded(c) {
			t.Errorf("%s", c.Dump())
		}
		back, err := r.Text(c, was.Prop(c.Key).Text(), r.Content())
		if err != nil || back != was.Prop(c.Key).Text() {
			t.Errorf("%s closed: %v, %q", c.Key, err, back)
		}
		c.Set("title", element.TextValue("Another log"))
		if back, err = r.Text(c, "", r.Content()); err != nil || back == was.Prop(c.Key).Text() {
			t.Errorf("%s changed: %v, %q", c.Key, err, back)
		}
	}
	if text, err := nested.ValueText("icon", e.Prop("icon"), r.Content()); err != nil || text != was.Prop("icon").Text() {
		t.Errorf("the icon: %v, %q", err, text)
	}
	if _, err := nested.ValueText("icon", element.BytesValue(element.Digest{1}, 4), r.Content()); err == nil {
		t.Error("bytes that are not at hand became text")
	}
}

func TestARecipeCanNameAnEncodingThatIsNotFound(t *testing.T) {
	packed, err := nested.Encode([]byte(`{"a": 1}`), "base64 deflate", "")
	if err != nil {
		t.Fatal(err)
	}
	e := holder("state", packed)
	if reader().Open(e, nil) {
		t.Error("what nothing tells from other text was opened")
	}
	if !reader().Open(e, map[string]string{"state": "base64 deflate"}) || e.Children[0].Prop("a").Text() != "1" ||
		e.Children[0].Prop(nested.EncodingProperty).Text() != "base64 deflate" {
		t.Errorf("opened:\n%s", e.Dump())
	}
	wrong := holder("state", "no base64 at all, but a sentence")
	if reader().Open(wrong, map[string]string{"state": "base64"}) || wrong.Prop("state").Sort() != element.Text {
		t.Error("text in another form was opened")
	}
}

func TestBytesOfUnknownKindsAreGivenBackAsTheyWere(t *testing.T) {
	r := reader()
	e := r.Element("part", "x.bin", "x.bin", []byte{0, 1, 2})
	if data, err := r.Bytes(e, "x.bin", r.Content()); err != nil || len(data) != 3 {
		t.Errorf("%v, %v", data, err)
	}
	e = r.Element("part", "a.json", "a.json", []byte(`{"a": 1}`))
	e.Set(nested.KindProperty, element.TextValue("picture"))
	if _, err := r.Bytes(e, "a.json", r.Content()); err == nil {
		t.Error("a kind that can't write has written")
	}
}
