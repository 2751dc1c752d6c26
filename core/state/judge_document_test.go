package state

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// chapter is a section of a text, or a slide.
type chapter struct {
	id      int
	title   string
	paras   []para
	picture string // its bytes, empty for none
	link    int    // the chapter that it leads to, 0 for none
}

type para struct {
	id   int
	text string
}

type report []*chapter

func (d report) clone() report {
	out := make(report, len(d))
	for i, c := range d {
		x := *c
		x.paras = slices.Clone(c.paras)
		out[i] = &x
	}
	return out
}

func (d report) find(id int) *chapter {
	for _, c := range d {
		if c.id == id {
			return c
		}
	}
	return nil
}

func (h hand) sentence() string {
	words := make([]string, 6)
	for i := range words {
		words[i] = h.word()
	}
	return strings.Join(words, " ")
}

func (h hand) chapter() *chapter {
	c := &chapter{id: h.number(), title: h.word() + " " + h.word()}
	switch h.IntN(8) {
	case 0:
		c.title = "Summary"
	case 1:
		c.title = ""
	}
	for range 1 + h.IntN(3) {
		c.paras = append(c.paras, para{h.number(), h.sentence()})
	}
	if h.IntN(3) == 0 {
		c.picture = "\x89picture " + h.word()
	}
	return c
}

// write edits a document in one way.
func (h hand) write(d *report, linked bool) {
	if len(*d) == 0 {
		*d = report{h.chapter()}
		return
	}
	n := h.IntN(len(*d))
	c := (*d)[n]
	switch h.IntN(10) {
	case 0:
		*d = slices.Insert(*d, h.IntN(len(*d)+1), h.chapter())
	case 1:
		*d = slices.Delete(*d, n, n+1)
		for _, x := range *d {
			if x.link == c.id {
				x.link = 0
			}
		}
	case 2:
		to := h.IntN(len(*d))
		*d = slices.Insert(slices.Delete(*d, n, n+1), to, c)
	case 3:
		c.title = h.word() + " " + h.word()
	case 4:
		c.picture = "\x89picture " + h.word()
	case 5:
		if other := (*d)[h.IntN(len(*d))]; linked && other != c {
			c.link = other.id
		}
	case 6:
		c.paras = slices.Insert(c.paras, h.IntN(len(c.paras)+1), para{h.number(), h.sentence()})
	case 7:
		if len(c.paras) > 1 {
			k := h.IntN(len(c.paras))
			c.paras = slices.Delete(c.paras, k, k+1)
		}
	default:
		k := h.IntN(len(c.paras))
		words := strings.Fields(c.paras[k].text)
		words[h.IntN(len(words))] = h.word()
		c.paras[k].text = strings.Join(words, " ")
	}
}

// blendReports gives what a merge has to come to.
func blendReports(k *known, b, m, t report) report {
	same := func(x, y *chapter) bool {
		return x.title == y.title && x.picture == y.picture && x.link == y.link && slices.Equal(x.paras, y.paras)
	}
	out := pick(k, "chapter", b, m, t, func(c *chapter) int { return c.id }, same, func(b, m, t *chapter) *chapter {
		c := &chapter{id: m.id, title: k.value("title", b.title, m.title, t.title),
			picture: k.value("picture", b.picture, m.picture, t.picture)}
		if b.picture == "" && m.picture != "" && t.picture != "" && m.picture != t.picture {
			k.soft = append(k.soft, "both put in a picture") // where they are paragraphs, both stand
		}
		link, _ := strconv.Atoi(k.value("link", strconv.Itoa(b.link), strconv.Itoa(m.link), strconv.Itoa(t.link)))
		c.link = link
		point := func(list []para) []*para {
			var out []*para
			for i := range list {
				out = append(out, &list[i])
			}
			return out
		}
		paras := pick(k, "paragraph", point(b.paras), point(m.paras), point(t.paras), func(p *para) int { return p.id },
			func(x, y *para) bool { return x.text == y.text }, func(b, m, t *para) *para {
				return &para{m.id, k.value("text", b.text, m.text, t.text)}
			})
		for _, p := range paras {
			c.paras = append(c.paras, *p)
		}
		return c
	})
	for _, c := range out {
		if c.link != 0 && report(out).find(c.link) == nil {
			k.conflicts = append(k.conflicts, "a link leads to what was taken away")
		}
	}
	return out
}

// reborn makes other chapters of those that have nothing of what they had.
func (d report) reborn(b report, more int) {
	for _, c := range d {
		was := b.find(c.id)
		if was == nil || was.title == c.title {
			continue
		}
		kept := slices.ContainsFunc(c.paras, func(p para) bool {
			return slices.ContainsFunc(was.paras, func(q para) bool { return p.text == q.text })
		})
		if !kept {
			for _, x := range d {
				if x.link == c.id {
					x.link += more
				}
			}
			c.id += more
		}
	}
	// One that takes the title of one that is gone has taken its place.
	for _, was := range b {
		at := slices.IndexFunc(d, func(c *chapter) bool { return c.title == was.title && b.find(c.id) == nil })
		if was.title == "" || d.find(was.id) != nil || at < 0 {
			continue
		}
		for _, x := range d {
			if x.link == d[at].id {
				x.link = was.id
			}
		}
		d[at].id = was.id
	}
}

// means tells a document whatever the order of its chapters and paragraphs.
func (d report) means() string {
	var all []string
	for _, c := range d {
		var texts []string
		for _, p := range c.paras {
			texts = append(texts, p.text)
		}
		slices.Sort(texts)
		to := ""
		if x := d.find(c.link); x != nil {
			to = x.name()
		}
		all = append(all, fmt.Sprintf("%q %q picture %q leads to %q", c.title, texts, c.picture, to))
	}
	slices.Sort(all)
	return strings.Join(all, "\n")
}

// name tells a chapter from others.
func (c *chapter) name() string {
	texts := []string{}
	for _, p := range c.paras {
		texts = append(texts, p.text)
	}
	slices.Sort(texts)
	return c.title + strings.Join(texts, "")
}

// packed makes a package of parts; their order is by chance, as is that of numbers in them.
func packed(r *rand.Rand, parts map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	names := slices.Sorted(func(yield func(string) bool) {
		for n := range parts {
			if !yield(n) {
				return
			}
		}
	})
	r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	for _, n := range names {
		w, _ := z.Create(n)
		io.WriteString(w, parts[n])
	}
	z.Close()
	return b.Bytes()
}

const (
	relationships = `http://schemas.openxmlformats.org/officeDocument/2006/relationships`
	relationList  = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">`
)

// numbers gives ids of relations, by chance.
type numbers struct {
	r    *rand.Rand
	used map[int]bool
	list strings.Builder
}

func newNumbers(r *rand.Rand) *numbers { return &numbers{r: r, used: map[int]bool{}} }

func (n *numbers) id(typ, target string) string {
	k := 1 + n.r.IntN(40)
	for n.used[k] {
		k = 1 + n.r.IntN(40)
	}
	n.used[k] = true
	fmt.Fprintf(&n.list, `<Relationship Id="rId%d" Type="%s/%s" Target="%s"/>`, k, relationships, typ, target)
	return fmt.Sprintf("rId%d", k)
}

func (n *numbers) xml() string { return relationList + n.list.String() + `</Relationships>` }

// A writer of documents names parts by their place, as programs do when they save.
var documentWriters = map[string]func(r *rand.Rand, d report) []byte{
	"pptx": func(r *rand.Rand, d report) []byte {
		parts, top := map[string]string{}, newNumbers(r)
		types := `<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Default Extension="png" ContentType="image/png"/>`
		number := map[int]int{}
		for i, c := range d {
			number[c.id] = i + 1
		}
		list, pictures := "", 0
		if r.IntN(2) == 0 {
			top.id("presProps", "presProps.xml")
			parts["ppt/presProps.xml"] = "<p:presentationPr xmlns:p=\"p\"/>"
		}
		for i, c := range d {
			own, shapes := newNumbers(r), ""
			if c.title != "" {
				shapes += `<p:sp><p:nvSpPr><p:nvPr><p:ph type="title"/></p:nvPr></p:nvSpPr><p:txBody><a:p><a:r><a:t>` + c.title +
					`</a:t></a:r></a:p></p:txBody></p:sp>`
			}
			if c.link != 0 {
				shapes += `<p:cxnSp><a:hlinkClick r:id="` + own.id("slide", fmt.Sprintf("slide%d.xml", number[c.link])) + `"/></p:cxnSp>`
			}
			if c.picture != "" {
				pictures++
				name := fmt.Sprintf("media/image%d.png", pictures)
				parts["ppt/"+name] = c.picture
				shapes += `<p:pic><a:blip r:embed="` + own.id("image", "../"+name) + `"/></p:pic>`
			}
			shapes += fmt.Sprintf(`<p:sp><p:nvSpPr><p:cNvPr id="%d" name=""/></p:nvSpPr><p:spPr><a:ext cx="72" cy="10"/></p:spPr><p:txBody>`, 2+strings.Count(shapes, "<p:sp>"))
			for _, p := range c.paras {
				shapes += `<a:p><a:r><a:t>` + p.text + `</a:t></a:r></a:p>`
			}
			name := fmt.Sprintf("slides/slide%d.xml", i+1)
			parts["ppt/"+name] = `<p:sld xmlns:p="p" xmlns:a="a" xmlns:r="` + relationships + `"><p:cSld><p:spTree>` + shapes +
				`</p:txBody></p:sp></p:spTree></p:cSld></p:sld>`
			parts[fmt.Sprintf("ppt/slides/_rels/slide%d.xml.rels", i+1)] = own.xml()
			types += `<Override PartName="/ppt/` + name +
				`" ContentType="application/vnd.openxmlformats-officedocument.presentationml.slide+xml"/>`
			list += fmt.Sprintf(`<p:sldId id="%d" r:id="%s"/>`, 256+i, top.id("slide", name))
		}
		parts["ppt/presentation.xml"] = `<p:presentation xmlns:p="p" xmlns:r="` + relationships + `"><p:sldIdLst>` + list +
			`</p:sldIdLst></p:presentation>`
		parts["ppt/_rels/presentation.xml.rels"] = top.xml()
		root := newNumbers(r)
		root.id("officeDocument", "ppt/presentation.xml")
		parts["_rels/.rels"] = root.xml()
		parts["[Content_Types].xml"] = `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">` + types + `</Types>`
		return packed(r, parts)
	},
	"docx": func(r *rand.Rand, d report) []byte {
		parts, own, body, pictures := map[string]string{}, newNumbers(r), "", 0
		for _, c := range d {
			body += `<w:p><w:pPr><w:pStyle w:val="H1"/></w:pPr><w:r><w:t>` + c.title + `</w:t></w:r></w:p>`
			if c.picture != "" {
				pictures++
				name := fmt.Sprintf("media/image%d.png", pictures)
				parts["word/"+name] = c.picture
				body += `<w:p><a:blip r:embed="` + own.id("image", name) + `"/></w:p>`
			}
			for _, p := range c.paras {
				body += `<w:p><w:r><w:t>` + p.text + `</w:t></w:r></w:p>`
			}
		}
		own.id("styles", "styles.xml")
		parts["word/styles.xml"] = `<w:styles xmlns:w="w"><w:style w:styleId="H1"><w:name w:val="heading 1"/></w:style></w:styles>`
		parts["word/document.xml"] = `<w:document xmlns:w="w" xmlns:a="a" xmlns:r="` + relationships + `"><w:body>` + body +
			`<w:sectPr/></w:body></w:document>`
		parts["word/_rels/document.xml.rels"] = own.xml()
		parts["[Content_Types].xml"] = `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="png" ContentType="image/png"/></Types>`
		return packed(r, parts)
	},
	"odp": func(r *rand.Rand, d report) []byte {
		body := ""
		for i, c := range d {
			body += fmt.Sprintf(`<draw:page draw:name="page%d">`, i+1)
			if c.title != "" {
				body += `<draw:frame presentation:class="title"><draw:text-box><text:p>` + c.title +
					`</text:p></draw:text-box></draw:frame>`
			}
			body += `<draw:frame draw:layer="layout" svg:width="20cm" svg:height="3cm"><draw:text-box>`
			for _, p := range c.paras {
				body += `<text:p>` + p.text + `</text:p>`
			}
			body += `</draw:text-box></draw:frame></draw:page>`
		}
		return openDocument(r, "presentation", body)
	},
	"odt": func(r *rand.Rand, d report) []byte {
		body := ""
		for _, c := range d {
			body += `<text:h>` + c.title + `</text:h>`
			for _, p := range c.paras {
				body += `<text:p>` + p.text + `</text:p>`
			}
		}
		return openDocument(r, "text", body)
	},
}

func openDocument(r *rand.Rand, sort, body string) []byte {
	return packed(r, map[string]string{"mimetype": "application/vnd.oasis.opendocument." + sort,
		"content.xml": `<office:document-content xmlns:office="o" xmlns:text="t" xmlns:draw="d" xmlns:svg="s" xmlns:presentation="p"><office:body><office:` + sort + `>` + body + `</office:` + sort + `></office:body></office:document-content>`})
}

// node is XML as encoding/xml reads it.
type node struct {
	XMLName xml.Name
	Attrs   []xml.Attr `xml:",any,attr"`
	Text    string     `xml:",chardata"`
	Nodes   []node     `xml:",any"`
}

func (n node) attr(name string) string {
	for _, a := range n.Attrs {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// all gives everything of one name below, without what is below such.
func (n node) all(name string) []node {
	var out []node
	for _, k := range n.Nodes {
		if k.XMLName.Local == name {
			out = append(out, k)
		} else {
			out = append(out, k.all(name)...)
		}
	}
	return out
}

func (n node) text() string {
	s := n.Text
	for _, k := range n.Nodes {
		s += k.text()
	}
	return s
}

// readDocument reads a document with other people's packages.
func readDocument(ending string, data []byte) (report, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	raw := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		if err == nil {
			raw[f.Name], err = io.ReadAll(r)
		}
		if err != nil {
			return nil, err
		}
	}
	part := func(name string) (n node) {
		if raw[name] == nil {
			return n
		}
		if e := xml.Unmarshal(raw[name], &n); e != nil && err == nil {
			err = fmt.Errorf("%s: %w", name, e)
		}
		return n
	}
	leads := func(owner string) map[string]string {
		out := map[string]string{}
		for _, r := range part(path.Dir(owner) + "/_rels/" + path.Base(owner) + ".rels").Nodes {
			out[r.attr("Id")] = path.Join(path.Dir(owner), r.attr("Target"))
		}
		return out
	}
	var d report
	switch ending {
	case "pptx":
		to, ids := leads("ppt/presentation.xml"), map[string]int{}
		entries := part("ppt/presentation.xml").all("sldId")
		for i, s := range entries {
			ids[to[s.attr("id")]] = i + 1
		}
		for i, s := range entries {
			name := ""
			for _, a := range s.Attrs {
				if a.Name.Space != "" {
					name = to[a.Value]
				}
			}
			ids[name] = i + 1
			d = append(d, &chapter{id: i + 1, title: name})
		}
		for _, c := range d {
			name, root := c.title, part(c.title)
			c.title = ""
			own := leads(name)
			for _, shape := range root.all("sp") {
				if len(shape.all("ph")) > 0 {
					c.title = shape.text()
					continue
				}
				for _, p := range shape.all("p") {
					c.paras = append(c.paras, para{text: p.text()})
				}
			}
			for _, b := range root.all("blip") {
				c.picture += string(raw[own[b.attr("embed")]])
			}
			for _, l := range root.all("hlinkClick") {
				if c.link = ids[own[l.attr("id")]]; c.link == 0 {
					err = fmt.Errorf("a link leads nowhere")
				}
			}
		}
	case "docx":
		own := leads("word/document.xml")
		for _, p := range part("word/document.xml").all("p") {
			switch blips := p.all("blip"); {
			case len(p.all("pStyle")) > 0:
				d = append(d, &chapter{id: len(d) + 1, title: p.text()})
			case len(blips) > 0:
				d[len(d)-1].picture += string(raw[own[blips[0].attr("embed")]])
			default:
				d[len(d)-1].paras = append(d[len(d)-1].paras, para{text: p.text()})
			}
		}
	case "odp":
		for i, page := range part("content.xml").all("page") {
			c := &chapter{id: i + 1}
			for _, f := range page.all("frame") {
				for _, p := range f.all("p") {
					if f.attr("class") == "title" {
						c.title = p.text()
					} else {
						c.paras = append(c.paras, para{text: p.text()})
					}
				}
			}
			d = append(d, c)
		}
	case "odt":
		for _, n := range part("content.xml").Nodes[0].Nodes[0].Nodes {
			if n.XMLName.Local == "h" {
				d = append(d, &chapter{id: len(d) + 1, title: n.text()})
			} else {
				d[len(d)-1].paras = append(d[len(d)-1].paras, para{text: n.text()})
			}
		}
	}
	return d, err
}

// TestDocumentsBeforeAJudge merges texts and slides that two people edited in programs which
// number parts, relations and pictures anew at every save.
func TestDocumentsBeforeAJudge(t *testing.T) {
	rounds, seed := 60, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("OAKEN_MERGES")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	for ending, write := range documentWriters {
		t.Run(ending, func(t *testing.T) {
			clean, needless, reasons := 0, 0, map[string]int{}
			for n := range rounds {
				r := rand.New(rand.NewPCG(seed+uint64(n), 11))
				next := 0
				h := hand{r, &next, "nobody", format{}}
				var b report
				for range 2 + r.IntN(4) {
					b = append(b, h.chapter())
				}
				if ending[0] == 'o' {
					for _, c := range b {
						c.picture = ""
					}
				}
				edited := func() report {
					d := b.clone()
					for range 1 + r.IntN(3) {
						h.write(&d, ending == "pptx")
					}
					for _, c := range d {
						if ending[0] == 'o' {
							c.picture = ""
						}
						if c.title == "" && ending[2] != 'p' && ending != "pptx" {
							c.title = "Untitled" // a heading says something
						}
					}
					return d
				}
				if ending == "docx" || ending == "odt" {
					for _, c := range b {
						if c.title == "" {
							c.title = "Untitled"
						}
					}
				}
				m, th := edited(), edited()
				m.reborn(b, 1_000_000)
				th.reborn(b, 2_000_000)
				k := &known{}
				want := report(blendReports(k, b, m, th)).means()
				name := "d." + ending
				got, conflicts := merged(t, memory(name, string(write(r, b))), memory(name, string(write(r, m))),
					memory(name, string(write(r, th))), nil)
				is, err := readDocument(ending, got.Contents[name])
				tell := fmt.Sprintf("seed %d\n--- base\n%s\n--- mine\n%s\n--- theirs\n%s\n--- outcome, conflicts %v\n%s\n", seed+uint64(n),
					b.means(), m.means(), th.means(), conflicts, is.means())
				switch {
				case err != nil:
					t.Fatalf("the outcome can't be read: %v\n%s", err, tell)
				case len(k.soft) > 0:
				case len(conflicts) > 0 && len(k.conflicts) == 0:
					needless++
					reasons[conflicts[0][max(strings.LastIndexAny(conflicts[0], "(.:/"), 0):]]++
					if os.Getenv("OAKEN_SHOW") != "" {
						t.Logf("without need, %s", tell)
					}
				case len(conflicts) == 0 && len(k.conflicts) > 0:
					t.Fatalf("a conflict went unseen: %v, %s", k.conflicts, tell)
				case len(conflicts) == 0:
					if clean++; is.means() != want {
						t.Fatalf("it means something else, %swant\n%s", tell, want)
					}
				}
			}
			t.Logf("%d merges: %d without conflict, %d conflicts without need %v", rounds, clean, needless, reasons)
		})
	}
}
