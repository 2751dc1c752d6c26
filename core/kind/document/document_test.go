package document_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
)

const (
	office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	list   = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">`
)

func relation(id, typ, target string) string {
	return fmt.Sprintf(`<Relationship Id="%s" Type="%s/%s" Target="%s"/>`, id, office, typ, target)
}

func slide(shapes string) string {
	return `<p:sld xmlns:p="p" xmlns:a="a" xmlns:r="` + office + `"><p:cSld><p:spTree>` + shapes + `</p:spTree></p:cSld></p:sld>`
}

func titleShape(s string) string {
	return `<p:sp><p:nvSpPr><p:nvPr><p:ph type="title"/></p:nvPr></p:nvSpPr><p:txBody><a:p><a:r><a:t>` + s +
		`</a:t></a:r></a:p></p:txBody></p:sp>`
}

// deck is a presentation of parts; more are put over its own.
func deck(more map[string]string) map[string]string {
	parts := map[string]string{
		"[Content_Types].xml": `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="xml" ContentType="application/xml"/><Override PartName="/ppt/slides/slide1.xml" ContentType="slide"/><Override PartName="/ppt/slides/slide2.xml" ContentType="slide"/></Types>`,
		"ppt/presentation.xml": `<p:presentation xmlns:p="p" xmlns:r="` + office +
			`"><p:sldMasterIdLst><p:sldMasterId id="9" r:id="rId9"/></p:sldMasterIdLst><p:sldIdLst><p:sldId id="256" r:id="rId1"/><p:sldId id="257" r:id="rId2"/></p:sldIdLst></p:presentation>`,
		"ppt/_rels/presentation.xml.rels": list + relation("rId1", "slide", "slides/slide1.xml") + relation("rId2", "slide",
			"slides/slide2.xml") + relation("rId9", "slideMaster", "slideMasters/slideMaster1.xml") + `</Relationships>`,
		"ppt/slideMasters/slideMaster1.xml": `<p:sldMaster xmlns:p="p"/>`,
		"ppt/slides/slide1.xml": slide(titleShape("Reef") +
			`<p:pic><a:blip r:embed="rId3"/></p:pic><a:hlinkClick r:id="rId4"/>`),
		"ppt/slides/_rels/slide1.xml.rels": list + relation("rId3", "image", "../media/image1.png") + relation("rId4", "slide",
			"slide2.xml") + relation("rId5", "notesSlide", "../notesSlides/notesSlide1.xml") + `</Relationships>`,
		"ppt/media/image1.png":                       "\x89a fish",
		"ppt/slides/slide2.xml":                      slide(titleShape("Kelp")),
		"ppt/notesSlides/notesSlide1.xml":            `<p:notes xmlns:p="p" xmlns:a="a"><a:t>Speak slowly</a:t></p:notes>`,
		"ppt/notesSlides/_rels/notesSlide1.xml.rels": list + relation("rId1", "slide", "../slides/slide1.xml") + `</Relationships>`,
	}
	for name, text := range more {
		if parts[name] = text; text == "" {
			delete(parts, name)
		}
	}
	return parts
}

func zipped(t *testing.T, parts map[string]string) []byte {
	t.Helper()
	var names []string
	for n := range parts {
		names = append(names, n)
	}
	slices.Sort(names)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, n := range names {
		w, err := z.Create(n)
		if err == nil {
			_, err = io.WriteString(w, parts[n])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func unzipped(t *testing.T, data []byte) map[string]string {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		out[f.Name] = string(text)
	}
	return out
}

func read(t *testing.T, name string, parts map[string]string) (kind.Writer, kind.FileSource, *kind.Reading) {
	t.Helper()
	src := kind.FileSource{Name: name, Data: zipped(t, parts)}
	k := all.Table().For(name, src.Data[:4]).(kind.Writer)
	r, err := k.Read(src)
	if err != nil {
		t.Fatal(err)
	}
	return k, src, r
}

// TestNumbersSayNothing reads one deck whose parts, ids and pictures are numbered otherwise.
func TestNumbersSayNothing(t *testing.T) {
	_, _, one := read(t, "talk.pptx", deck(nil))
	other := map[string]string{}
	swap := strings.NewReplacer("slide1.xml", "slide2.xml", "slide2.xml", "slide1.xml", "image1", "image7", "rId3", "rId8", "rId4", "rId3",
		"notesSlide1", "notesSlide5", `id="256"`, `id="300"`, `r:id="rId1"`, `r:id="rId6"`, `Id="rId1"`, `Id="rId6"`)
	for name, text := range deck(nil) {
		other[swap.Replace(name)] = swap.Replace(text)
	}
	_, _, two := read(t, "talk.pptx", other)
	if d := element.Compare(one.Root, two.Root); d != nil {
		for _, c := range d.Changes("talk.pptx") {
			t.Errorf("%s %s: %s, %s", c.Address, c.Kind, c.From, c.To)
		}
	}
}

// TestSlidesAreWrittenIntoParts writes decks with other slides.
func TestSlidesAreWrittenIntoParts(t *testing.T) {
	k, src, _ := read(t, "talk.pptx", deck(nil))
	for name, change := range map[string]map[string]string{
		"a slide between": {
			"ppt/presentation.xml": `<p:presentation xmlns:p="p" xmlns:r="` + office +
				`"><p:sldMasterIdLst><p:sldMasterId id="9" r:id="rId9"/></p:sldMasterIdLst><p:sldIdLst><p:sldId id="256" r:id="rId1"/><p:sldId id="257" r:id="rId2"/><p:sldId id="258" r:id="rId3"/></p:sldIdLst></p:presentation>`,
			"ppt/_rels/presentation.xml.rels": list + relation("rId1", "slide", "slides/slide1.xml") + relation("rId2", "slide",
				"slides/slide2.xml") + relation("rId3", "slide", "slides/slide3.xml") + relation("rId9", "slideMaster",
				"slideMasters/slideMaster1.xml") + `</Relationships>`,
			"ppt/slides/slide2.xml":            slide(titleShape("Mangroves") + `<p:pic><a:blip r:embed="rId1"/></p:pic>`),
			"ppt/slides/_rels/slide2.xml.rels": list + relation("rId1", "image", "../media/image2.png") + `</Relationships>`,
			"ppt/media/image2.png":             "\x89another fish", "ppt/slides/slide3.xml": slide(titleShape("Kelp")),
			"ppt/slides/_rels/slide1.xml.rels": list + relation("rId3", "image", "../media/image1.png") + relation("rId4", "slide",
				"slide3.xml") + relation("rId5", "notesSlide", "../notesSlides/notesSlide1.xml") + `</Relationships>`,
			"[Content_Types].xml": `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="xml" ContentType="application/xml"/></Types>`,
		},
		"another title": {"ppt/slides/slide2.xml": slide(titleShape("Kelp forest"))},
		"no picture, no link": {"ppt/slides/slide1.xml": slide(titleShape("Reef")), "ppt/slides/_rels/slide1.xml.rels": list +
			relation("rId5", "notesSlide", "../notesSlides/notesSlide1.xml") + `</Relationships>`, "ppt/media/image1.png": ""},
		"other notes": {"ppt/notesSlides/notesSlide1.xml": `<p:notes xmlns:p="p" xmlns:a="a"><a:t>Speak up</a:t></p:notes>`},
	} {
		_, _, want := read(t, "talk.pptx", deck(change))
		files, err := k.Write(src, want.Root, want.Content)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		again, err := k.Read(kind.FileSource{Name: src.Name, Data: files[src.Name]})
		if err != nil || element.Compare(again.Root, want.Root) != nil {
			t.Errorf("%s: it reads otherwise: %v", name, err)
		}
		parts := unzipped(t, files[src.Name])
		if name == "a slide between" {
			if !strings.Contains(parts["ppt/slides/slide2.xml"], "Kelp<") ||
				!strings.Contains(parts["ppt/slides/slide3.xml"], "Mangroves") {
				t.Errorf("slides that stay have other parts: %s", parts["ppt/slides/slide2.xml"])
			}
			if !strings.Contains(parts["[Content_Types].xml"],
				`PartName="/ppt/slides/slide3.xml" ContentType="application/vnd.openxmlformats-officedocument.presentationml.slide+xml"`) {
				t.Errorf("the new slide is not declared: %s", parts["[Content_Types].xml"])
			}
			if parts["ppt/media/image2.png"] != "\x89another fish" || parts["ppt/media/image1.png"] != "\x89a fish" {
				t.Error("the pictures are others")
			}
		}
		if _, there := parts["ppt/media/image1.png"]; there == strings.HasPrefix(name, "no picture") {
			t.Errorf("%s: the picture is there: %v", name, there)
		}
	}
}

// TestWhatLeadsNowhereIsRefused asks for decks that can't be written.
func TestWhatLeadsNowhereIsRefused(t *testing.T) {
	k, src, r := read(t, "talk.pptx", deck(nil))
	slides := r.Root.Children[0]
	for name, want := range map[string]*element.Element{
		"a link to a slide that is gone": replaced(r.Root, &element.Element{Type: slides.Type, Key: slides.Key, Ordered: true, Firm: true,
			Children: slides.Children[:1]}),
		"a slide under a wrong title": replaced(r.Root, renamed(slides, "Reef", "Coral")),
		"no slides at all":            {Type: r.Root.Type, Children: r.Root.Children[1:]},
	} {
		files, err := k.Write(src, want, r.Content)
		if name == "a slide under a wrong title" { // the title is the key alone, so this gives it another one
			if err != nil || !strings.Contains(unzipped(t, files[src.Name])["ppt/slides/slide1.xml"], "<a:t>Coral</a:t>") {
				t.Errorf("%s: %v", name, err)
			}
		} else if err == nil {
			t.Errorf("%s was written", name)
		}
	}
	// Two slides that nothing tells apart, and a link to one of them: it is a package then.
	twins := deck(map[string]string{"ppt/slides/slide1.xml": slide(`<a:hlinkClick r:id="rId4"/>`), "ppt/slides/slide2.xml": slide("")})
	if _, _, r := read(t, "talk.pptx", twins); r.Root.Type != "package" {
		t.Errorf("it was read as %s", r.Root.Type)
	}
}

func replaced(root, first *element.Element) *element.Element {
	c := *root
	c.Children = append([]*element.Element{first}, root.Children[1:]...)
	return &c
}

func renamed(holder *element.Element, from, to string) *element.Element {
	c := holder.Clone()
	for _, k := range c.Children {
		if k.Key == from {
			k.Key = to
		}
	}
	return c
}

// TestSectionsByHeading reads texts of both formats.
func TestSectionsByHeading(t *testing.T) {
	paragraph := func(style, text string) string {
		return `<w:p><w:pPr><w:pStyle w:val="` + style + `"/></w:pPr><w:r><w:t>` + text + `</w:t></w:r></w:p>`
	}
	word := map[string]string{
		"word/document.xml": `<w:document xmlns:w="w"><w:body>` + paragraph("Standard", "Before") + paragraph("berschrift1", "Reef") +
			paragraph("Standard", "Fish") + paragraph("Chapter", "Kelp") + `<w:tbl><w:tr/></w:tbl>` + paragraph("berschrift1", "Reef") +
			`<w:sectPr/></w:body></w:document>`,
		"word/styles.xml": `<w:styles xmlns:w="w"><w:style w:styleId="berschrift1"><w:name w:val="heading 1"/></w:style><w:style w:styleId="Chapter"><w:name w:val="Chapter"/><w:pPr><w:outlineLvl w:val="0"/></w:pPr></w:style><w:style w:styleId="Standard"><w:name w:val="Normal"/><w:pPr><w:outlineLvl w:val="9"/></w:pPr></w:style></w:styles>`,
	}
	open := map[string]string{"content.xml": `<office:document-content xmlns:office="o" xmlns:text="t" xmlns:table="b"><office:body><office:text><text:p>Before</text:p><text:h>Reef</text:h><text:p>Fish</text:p><text:h>Kelp</text:h><table:table/><text:h>Reef</text:h></office:text></office:body></office:document-content>`}
	for name, parts := range map[string]map[string]string{"a.docx": word, "a.odt": open} {
		k, src, r := read(t, name, parts)
		var got []string
		for _, s := range r.Root.Children[0].Children {
			got = append(got, fmt.Sprintf("%s %d", s.Key, len(s.Children)))
		}
		if want := []string{" 1", "Reef 2", "Kelp 2", "Reef~2 1"}; !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
		files, err := k.Write(src, replaced(r.Root, renamed(r.Root.Children[0], "Reef~2", "Coral")), r.Content)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for part, text := range unzipped(t, files[name]) {
			want := strings.Replace(parts[part], "Reef", "Coral", 2)
			if i := strings.LastIndex(parts[part], "Reef"); i >= 0 {
				want = parts[part][:i] + "Coral" + parts[part][i+4:]
			}
			if text != want {
				t.Errorf("%s, %s:\n%s\nwant\n%s", name, part, text, want)
			}
		}
	}
}
