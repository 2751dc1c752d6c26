package xmltree

import (
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func source(s string) kind.FileSource { return kind.FileSource{Name: "a.xml", Data: []byte(s)} }

func tree(t *testing.T, s string) *element.Element {
	t.Helper()
	r, err := Kind{}.Read(source(s))
	if err != nil {
		t.Fatalf("%s: %v", s, err)
	}
	return r.Root
}

// write gives the bytes that from has once its tree is that of to.
func write(t *testing.T, from string, want *element.Element) string {
	t.Helper()
	files, err := Kind{}.Write(source(from), want, nil)
	if err != nil {
		t.Fatalf("%s: %v", from, err)
	}
	if files == nil {
		return from
	}
	return string(files["a.xml"])
}

const rounds = `<?xml version="1.0"?>
<!-- the keepers' rounds -->
<rounds xmlns:x='urn:x'>
	<round id="am" label='Morning &amp; early' x:rate="2"/>
	<round id="pm" label="Evening">
		<!-- note --><task name="feed">Feed the <b>reef</b> fish</task>
	</round>
	<empty></empty>
</rounds>
`

func TestOneEditChangesItsBytesAlone(t *testing.T) {
	for _, c := range []struct{ old, new, address string }{
		{`Morning &amp; early`, `Dawn`, "a.xml::rounds:#1/round:am.label"},
		{`x:rate="2"`, `x:rate="3"`, `a.xml::rounds:#1/round:am."x:rate"`},
		{`Feed the `, `Watch the `, "a.xml::rounds:#1/round:pm/task:feed/text:#1.text"},
		{`>reef<`, `>kelp<`, "a.xml::rounds:#1/round:pm/task:feed/b:#1.text"},
		{`>reef<`, `>kelp<`, "a.xml::rounds:#1/round:pm/task:feed/b:#1.text"},
		{`<empty></empty>`, `<empty>x &lt; y</empty>`, "a.xml::rounds:#1/empty:#1.text"},
		{"\n\t<empty></empty>", "", "a.xml::rounds:#1/empty:#1"},
		{` label="Evening"`, ``, "a.xml::rounds:#1/round:pm.label"},
	} {
		to := strings.Replace(rounds, c.old, c.new, 1)
		changes := element.Compare(tree(t, rounds), tree(t, to)).Changes("a.xml")
		if len(changes) != 1 || changes[0].Address.String() != c.address {
			t.Errorf("%s: changes %v", c.address, changes)
		}
		if got := write(t, rounds, tree(t, to)); got != to {
			t.Errorf("%s: got\n%s", c.address, got)
		}
	}
}

func TestAdditionsAreLaidOutLikeTheirNeighbours(t *testing.T) {
	to := strings.Replace(rounds, "\t<empty></empty>\n",
		"\t<empty></empty>\n\t<round id=\"night\">\n\t\t<task name=\"lights\">Off</task>\n\t</round>\n", 1)
	if got := write(t, rounds, tree(t, to)); got != to {
		t.Errorf("got\n%s", got)
	}
	if got := write(t, `<a><b/></a>`, tree(t, `<a><b><c d="1"/></b></a>`)); got != `<a><b><c d="1"/></b></a>` {
		t.Errorf("got %s", got)
	}
}

func TestCommentsBesideATextStay(t *testing.T) {
	from := "<a>\n  <!-- before --><b><!-- in -->reef<?pi x?></b><!-- behind -->\n</a>"
	for _, to := range []string{strings.Replace(from, "reef", "kelp", 1), strings.Replace(from, "<b>", "<b c=\"1\">", 1)} {
		if got := write(t, from, tree(t, to)); got != to {
			t.Errorf("got %s", got)
		}
	}
	if got := write(t, "<a><b/> <!-- of b -->\n  <!-- kept -->\n</a>", tree(t, "<a/>")); got != "<a><!-- kept --></a>" {
		t.Errorf("got %s", got)
	}
}

func TestHostileDocumentsAreRefused(t *testing.T) {
	for name, s := range map[string]string{
		"empty": "", "no root": "<!-- x -->", "open": "<a><b></b>", "crossed": "<a><b></a></b>", "two roots": "<a/><b/>",
		"entity":    `<!DOCTYPE a [<!ENTITY e "eeee"><!ENTITY f "&e;&e;">]><a>&f;</a>`,
		"attribute": `<a b="1" b="2"/>`, "deep": strings.Repeat("<a>", 10_000), "encoding": `<?xml version="1.0" encoding="no-such"?><a/>`,
		"control": "<a>\x01</a>", "cut": "\xff\xfe<\x00a\x00/\x00>", "text": "<a/>x",
	} {
		if _, err := (Kind{}).Read(source(s)); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

func TestTheDocumentsOwnEntitiesAreRead(t *testing.T) {
	doc := `<!DOCTYPE a [<!ENTITY reef "Brindle 'Bay'"><!ENTITY ns 'urn:x'>]><a b="&ns;" c="1">&reef; &amp; more</a>`
	a := tree(t, doc).Children[0]
	if a.Prop("b").Text() != "urn:x" || a.Prop("text").Text() != "Brindle 'Bay' & more" {
		t.Errorf("read as\n%s", a.Dump())
	}
	to := strings.Replace(doc, `c="1"`, `c="2"`, 1)
	if got := write(t, doc, tree(t, to)); got != to {
		t.Errorf("got %s", got)
	}
	flood := `<!DOCTYPE a [<!ENTITY e "` + strings.Repeat("e", 10_000) + `">]><a>` + strings.Repeat("&e;", 1000) + `</a>`
	if _, err := (Kind{}).Read(source(flood)); err == nil || !strings.Contains(err.Error(), "too much") {
		t.Errorf("a flood of entities: %v", err)
	}
}

func FuzzXML(f *testing.F) {
	f.Add(rounds, `<rounds><round id="x"/></rounds>`)
	f.Add(`<a b='1'>t<c/>u</a>`, `<a b="2"><![CDATA[x]]><c d=""/></a>`)
	f.Add(`<a><b/><b/></a>`, `<a>  <b x="1"/>mixed<b/></a>`)
	f.Fuzz(func(t *testing.T, from, to string) {
		a, err := Kind{}.Read(source(from))
		if err != nil {
			return
		}
		doc, _ := parse([]byte(from))
		if plain, _, _ := decoded([]byte(from)); string(plain) != from {
			return
		}
		if kept := doc.tree(origins{}); kept.Dump() != a.Root.Dump() {
			t.Fatalf("%q is read as\n%s\nand to be written as\n%s", from, a.Root.Dump(), kept.Dump())
		}
		var b strings.Builder
		doc.root.write(&b)
		if b.WriteString(doc.trail); b.String() != from {
			t.Fatalf("%q came back as %q", from, b.String())
		}
		want, err := Kind{}.Read(source(to))
		if err != nil || a.Root.Children[0].Type != want.Root.Children[0].Type {
			return
		}
		files, err := Kind{}.Write(source(from), want.Root, nil)
		if err != nil || files == nil {
			return
		}
		got, err := Kind{}.Read(source(string(files["a.xml"])))
		if err != nil {
			t.Fatalf("%q to %q gave %q: %v", from, to, files["a.xml"], err)
		}
		if left := element.Compare(got.Root, want.Root); left != nil {
			t.Fatalf("%q to %q gave %q\n%s\nwant\n%s", from, to, files["a.xml"], got.Root.Dump(), want.Root.Dump())
		}
	})
}

// BenchmarkRead reads documents of many siblings: the time for each byte must not
// grow with their number.
func BenchmarkRead(b *testing.B) {
	for _, n := range []int{5_000, 50_000} {
		var doc strings.Builder
		doc.WriteString("<tanks>\n")
		for i := range n {
			fmt.Fprintf(&doc, "  <tank id=\"t%d\"><name>Tank %d</name></tank>\n", i, i)
		}
		doc.WriteString("</tanks>\n")
		src := kind.FileSource{Name: "tanks.xml", Data: []byte(doc.String())}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.SetBytes(int64(doc.Len()))
			for b.Loop() {
				if _, err := (Kind{}).Read(src); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

func TestTextBesideComments(t *testing.T) {
	r, err := Kind{}.Read(kind.FileSource{Name: "a.xml",
		Data: []byte("<a><b>one<!-- c --> two<![CDATA[ <three>]]></b><c> x <d/> y </c></a>")})
	if err != nil {
		t.Fatal(err)
	}
	a := r.Root.Children[0]
	if got := a.Children[0].Prop("text").Text(); got != "one two <three>" {
		t.Errorf("text in pieces: %q", got)
	}
	if got := a.Children[1]; !got.Prop("text").IsAbsent() || len(got.Children) != 3 {
		t.Errorf("text beside an element: %s", got.Dump())
	}
}

// wide writes text in UTF-16, with a byte-order mark or without.
func wide(s string, mark bool) []byte {
	if mark {
		s = "\ufeff" + s
	}
	var out []byte
	for _, r := range s {
		out = append(out, byte(r), byte(r>>8))
	}
	return out
}

func TestDocumentsStayInTheirEncoding(t *testing.T) {
	latin := `<?xml version="1.0" encoding="ISO-8859-1"?><a b="1">` + "f\xfcr</a>"
	for name, c := range map[string][2]string{
		"latin":          {latin, strings.Replace(latin, `"1"?><a b="1"`, "", 1)},
		"UTF-16":         {string(wide(`<?xml version="1.0" encoding="UTF-16"?><a b="1">für</a>`, true)), ""},
		"UTF-16, no BOM": {string(wide(`<?xml version="1.0"?><a b="1">für</a>`, false)), ""},
		"windows":        {`<?xml version='1.0' encoding='windows-1252'?><a b="1">` + "\x84f\xfcr\x93</a>", ""},
	} {
		from := c[0]
		src := kind.FileSource{Name: "a.xml", Data: []byte(from)}
		if !(Kind{}).Claims("a", src.Data) {
			t.Errorf("%s is not taken for XML", name)
		}
		r, err := Kind{}.Read(src)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if text := r.Root.Children[0].Prop("text").Text(); !strings.Contains(text, "für") {
			t.Errorf("%s: the text is %q", name, text)
		}
		want := r.Root.Clone()
		want.Children[0].Set("b", element.TextValue("2"))
		files, err := Kind{}.Write(src, want, nil)
		if len(from) != len(files["a.xml"]) || err != nil {
			t.Errorf("%s: %v\n%q\n%q", name, err, from, files["a.xml"])
			continue
		}
		differ := 0
		for i := range from {
			if from[i] != files["a.xml"][i] {
				differ++
			}
		}
		if differ != 1 {
			t.Errorf("%s: %d bytes differ", name, differ)
		}
		want.Children[0].Set("text", element.TextValue("魚"))
		if _, err := (Kind{}).Write(src, want, nil); (err == nil) != strings.HasPrefix(name, "UTF") {
			t.Errorf("%s: a character that the encoding may lack: %v", name, err)
		}
	}
}
