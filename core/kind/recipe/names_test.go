package recipe_test

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// TestStylesAreKnownByWhatTheySay numbers the same styles otherwise, edits one, and tries
// to give one a name that it does not earn.
func TestStylesAreKnownByWhatTheySay(t *testing.T) {
	tab := table(t, "")
	document := func(first, second, weight string) kind.FileSource {
		style := func(name, property string) string {
			return `<style:style style:name="` + name + `" style:family="text"><style:text-properties ` + property + `/></style:style>`
		}
		return source("content.xml", `<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" `+
			`xmlns:style="urn:oasis:names:tc:opendocument:xmlns:style:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" `+
			`xmlns:fo="urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0"><office:automatic-styles>`+
			style(first, `fo:font-style="italic"`)+style(second, `fo:font-weight="`+weight+`"`)+
			`</office:automatic-styles><office:body><text:p text:style-name="`+first+
			`">Kelp</text:p></office:body></office:document-content>`)
	}
	doc := document("T1", "T2", "bold")
	was := read(t, tab, doc).Root
	if d := element.Compare(was, read(t, tab, document("T2", "T1", "bold")).Root); d != nil {
		t.Errorf("other numbers: %v", d.Changes("x"))
	}
	w := tab.For(doc.Name, doc.Data).(kind.Writer)
	files, err := w.Write(doc, read(t, tab, document("T1", "T2", "100")).Root, nil)
	if err != nil || !strings.Contains(string(files[doc.Name]), `fo:font-weight="100"`) {
		t.Errorf("a style that says something else: %v\n%s", err, files[doc.Name])
	}
	want := was.Clone()
	for _, c := range want.Children[0].Children {
		if c.Type == "office:automatic-styles" {
			c.Children[0].Set("style:name", element.TextValue("text-fancy"))
			c.Children[0].Key = "text-fancy"
		}
	}
	if files, err := w.Write(doc, want, nil); err == nil || !strings.Contains(err.Error(), "text-fancy") {
		t.Errorf("a name that a style does not earn: %v, %q", err, files)
	}
}
