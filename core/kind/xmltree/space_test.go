package xmltree

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// TestBlanksBetweenWordsAreText reads blanks between elements with words as text, those of
// the layout as none, the same way whether a document is only read or written too.
func TestBlanksBetweenWordsAreText(t *testing.T) {
	for doc, texts := range map[string]int{
		"<p><b>big</b> <i>old</i></p>": 1, "<p>a <b>big</b> <i>old</i> fish</p>": 3, "<p><b>big</b>\n  <i>old</i></p>": 0,
		"<p><x/> <y/></p>":    0,
		"<p> <b>big</b> </p>": 0, "<p><s><t>big</t></s> <s>old</s></p>": 1, "<p><b>big</b> <!-- c --> <i>old</i></p>": 1,
		"<p><b> </b> <i>old</i></p>": 0, "<p>a<br/> <i>old</i></p>": 1,
	} {
		root := tree(t, doc)
		d, err := parse([]byte(doc))
		if err != nil {
			t.Fatal(err)
		}
		if element.Compare(root, d.tree(origins{})) != nil {
			t.Errorf("%s: read as\n%s, to be written as\n%s", doc, root.Dump(), d.tree(origins{}).Dump())
		}
		if n := strings.Count(root.Dump(), " text: text="); n != texts {
			t.Errorf("%s has %d texts among elements, want %d\n%s", doc, n, texts, root.Dump())
		}
	}
	// What is put in anew keeps its blanks.
	got := write(t, "<d><a/></d>", tree(t, "<d><a/><p><b>big</b> <i>old</i></p></d>"))
	if got != "<d><a/><p><b>big</b> <i>old</i></p></d>" {
		t.Errorf("got %s", got)
	}
}

// TestWhiteSpaceOfAttributes reads white space in attributes as the standard has it.
func TestWhiteSpaceOfAttributes(t *testing.T) {
	a := tree(t, "<a d=\"M 1\n\t2\" e=\"x&#10;y\"/>").Children[0]
	if a.Prop("d").Text() != "M 1  2" || a.Prop("e").Text() != "x\ny" {
		t.Errorf("%q", a.Dump())
	}
	var k kind.Remarker = Kind{}
	if got := k.Remarks([]byte("<!DOCTYPE a [<!ENTITY fish \"Ray\">]><a><!-- one --><b>&fish; &amp;</b><![CDATA[x]]></a>")); len(got) != 4 {
		t.Errorf("remarks: %q", got)
	}
}
