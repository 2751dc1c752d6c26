// Package scene is the kind of glTF 2.0 scenes (Khronos glTF 2.0, ISO/IEC
// 12113:2022): `.gltf` with its buffers and images, and `.glb`.
//
// Elements are scenes, nodes, meshes, materials, textures, images, animations,
// skins, cameras and lights (KHR_lights_punctual), keyed by name; a reference to
// another element is written as its name. Nodes stand side by side with their
// parent as a property, so that a node keeps its address when it is hung
// elsewhere. Accessors, buffer views, buffers and samplers are not elements:
// their content is a property of what uses them.
package scene

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

// Kind reads glTF scenes.
type Kind struct{}

var (
	_ kind.Writer   = Kind{}
	_ kind.Splitter = Kind{}
)

// Name is "scene".
func (Kind) Name() string { return "scene" }

// Gathers tells scenes that may have their buffers and pictures in files beside them.
func (Kind) Gathers(p string) bool { return strings.EqualFold(path.Ext(p), ".gltf") }

// About describes the kind.
func (Kind) About() string {
	return "glTF 2.0 scenes, .gltf with its buffers and .glb: nodes, meshes, materials, images, animations, lights, by name"
}

// Claims takes .glb and .gltf files, and what begins like a .glb.
func (Kind) Claims(p string, head []byte) bool {
	switch strings.ToLower(path.Ext(p)) {
	case ".glb", ".gltf":
		return true
	}
	return bytes.HasPrefix(head, []byte("glTF\x02\x00\x00\x00"))
}

const (
	glbMagic  = 0x46546C67
	chunkJSON = 0x4E4F534A
	chunkBIN  = 0x004E4942
)

// file is a scene with its bytes.
type file struct {
	doc     *jsondoc.Doc
	binary  bool // .glb
	bin     []byte
	hasBin  bool
	others  []chunk // further chunks of a .glb
	buffers [][]byte
	uses    []string
	read    func(name string) ([]byte, error)
}

type chunk struct {
	kind uint32
	data []byte
}

func open(src kind.Source) (*file, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	f := &file{read: src.File}
	text := data
	if bytes.HasPrefix(data, []byte("glTF")) {
		f.binary = true
		if text, err = f.chunks(data); err != nil {
			return nil, err
		}
	}
	if f.doc, err = jsondoc.Parse(text); err != nil {
		return nil, fmt.Errorf("the scene's JSON: %w", err)
	}
	version := f.doc.Root.Get("asset").Get("version")
	if version == nil || !strings.HasPrefix(version.Text, "2.") {
		return nil, errors.New("it does not say that it is glTF 2.0")
	}
	return f, f.loadBuffers()
}

// chunks takes a .glb apart and gives its JSON.
func (f *file) chunks(data []byte) ([]byte, error) {
	if len(data) < 20 || binary.LittleEndian.Uint32(data[4:]) != 2 {
		return nil, errors.New("it is no GLB of version 2")
	}
	if n := binary.LittleEndian.Uint32(data[8:]); int64(n) != int64(len(data)) {
		return nil, fmt.Errorf("it is cut short or has something after its end: %d bytes, its head says %d", len(data), n)
	}
	var text []byte
	for rest := data[12:]; len(rest) > 0; {
		if len(rest) < 8 || int64(binary.LittleEndian.Uint32(rest)) > int64(len(rest)-8) {
			return nil, errors.New("a chunk is cut short")
		}
		n, id := binary.LittleEndian.Uint32(rest), binary.LittleEndian.Uint32(rest[4:])
		body := rest[8 : 8+n]
		switch {
		case text == nil && id == chunkJSON:
			text = body
		case id == chunkBIN && !f.hasBin:
			f.bin, f.hasBin = body, true
		default:
			f.others = append(f.others, chunk{id, body})
		}
		rest = rest[8+n:]
	}
	if text == nil {
		return nil, errors.New("it has no JSON chunk")
	}
	return text, nil
}

// bytes writes the file again, with its chunks padded as the format asks.
func (f *file) bytes() []byte {
	text := f.doc.Bytes()
	if !f.binary {
		return text
	}
	out := binary.LittleEndian.AppendUint32(nil, glbMagic)
	out = binary.LittleEndian.AppendUint32(out, 2)
	out = binary.LittleEndian.AppendUint32(out, 0)
	put := func(id uint32, data []byte, pad byte) {
		n := (len(data) + 3) &^ 3
		out = binary.LittleEndian.AppendUint32(out, uint32(n))
		out = binary.LittleEndian.AppendUint32(out, id)
		out = append(out, data...)
		for i := len(data); i < n; i++ {
			out = append(out, pad)
		}
	}
	put(chunkJSON, text, ' ')
	if f.hasBin {
		put(chunkBIN, f.bin, 0)
	}
	for _, c := range f.others {
		put(c.kind, c.data, 0)
	}
	binary.LittleEndian.PutUint32(out[8:], uint32(len(out)))
	return out
}

func (f *file) loadBuffers() error {
	for i, it := range f.list("buffers") {
		uri := it.Get("uri")
		var data []byte
		var err error
		if uri == nil {
			if i != 0 || !f.hasBin {
				return fmt.Errorf("buffer %d has no bytes", i)
			}
			data = f.bin
		} else if data, err = f.fetch(uri.Text); err != nil {
			return fmt.Errorf("buffer %d: %w", i, err)
		}
		n, err := whole(it.Get("byteLength"))
		if err != nil || n > len(data) {
			return fmt.Errorf("buffer %d is shorter than it says", i)
		}
		f.buffers = append(f.buffers, data[:n])
	}
	return nil
}

// fetch gives the bytes of a data URI (RFC 2397) or of a file beside the scene.
func (f *file) fetch(uri string) ([]byte, error) {
	if rest, ok := strings.CutPrefix(uri, "data:"); ok {
		head, body, found := strings.Cut(rest, ",")
		if !found || !strings.HasSuffix(head, ";base64") {
			return nil, errors.New("its data URI is not base64")
		}
		return base64.StdEncoding.DecodeString(body)
	}
	name, err := url.PathUnescape(uri)
	if err != nil || strings.Contains(uri, "://") || path.IsAbs(name) || strings.HasPrefix(path.Clean(name), "..") {
		return nil, fmt.Errorf("%q is no file beside the scene", uri)
	}
	name = path.Clean(name)
	data, err := f.read(name)
	if err == nil && !slices.Contains(f.uses, name) {
		f.uses = append(f.uses, name)
	}
	return data, err
}

// list gives a top-level array's values.
func (f *file) list(name string) []*jsondoc.Node { return values(f.doc.Root.Get(name)) }

func values(n *jsondoc.Node) []*jsondoc.Node {
	if n == nil || n.Kind != jsondoc.Array {
		return nil
	}
	out := make([]*jsondoc.Node, len(n.Items))
	for i, it := range n.Items {
		out[i] = it.Value
	}
	return out
}

// whole reads a number that counts or points, from 0.
func whole(n *jsondoc.Node) (int, error) {
	if n == nil || n.Kind != jsondoc.Number || len(n.Text) > 10 || strings.ContainsAny(n.Text, "-.eE") {
		return 0, errors.New("expected a whole number from 0")
	}
	v := 0
	for _, c := range n.Text {
		v = v*10 + int(c-'0')
	}
	return v, nil
}

// optionalWhole is whole with 0 for a missing member.
func optionalWhole(n *jsondoc.Node) (int, error) {
	if n == nil {
		return 0, nil
	}
	return whole(n)
}

// view gives the bytes of a buffer view.
func (f *file) view(i int) (data []byte, stride int, err error) {
	views := f.list("bufferViews")
	if i >= len(views) {
		return nil, 0, fmt.Errorf("buffer view %d is not there", i)
	}
	b, err1 := whole(views[i].Get("buffer"))
	from, err2 := optionalWhole(views[i].Get("byteOffset"))
	n, err3 := whole(views[i].Get("byteLength"))
	stride, err4 := optionalWhole(views[i].Get("byteStride"))
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return nil, 0, fmt.Errorf("buffer view %d: %w", i, err)
	}
	if b >= len(f.buffers) || from+n > len(f.buffers[b]) {
		return nil, 0, fmt.Errorf("buffer view %d reaches outside of its buffer", i)
	}
	return f.buffers[b][from : from+n], stride, nil
}

var (
	componentSize = map[string]int{"5120": 1, "5121": 1, "5122": 2, "5123": 2, "5125": 4, "5126": 4}
	componentName = map[string]string{"5120": "int8", "5121": "uint8", "5122": "int16", "5123": "uint16", "5125": "uint32", "5126": "float"}
	typeCount     = map[string]int{"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
)

// accessor gives the values of an accessor without gaps between them, and with
// its sparse part, when it has one, after them.
func (f *file) accessor(i int) (*jsondoc.Node, []byte, error) {
	all := f.list("accessors")
	if i >= len(all) {
		return nil, nil, fmt.Errorf("accessor %d is not there", i)
	}
	a := all[i]
	fail := func(err error) (*jsondoc.Node, []byte, error) {
		return nil, nil, fmt.Errorf("accessor %d: %w", i, err)
	}
	count, err := whole(a.Get("count"))
	if err != nil {
		return fail(err)
	}
	item, err := itemSize(a)
	if err != nil {
		return fail(err)
	}
	var out []byte
	if v := a.Get("bufferView"); v != nil {
		if out, err = f.strided(v, a.Get("byteOffset"), item, count); err != nil {
			return fail(err)
		}
	}
	if s := a.Get("sparse"); s != nil {
		n, err := whole(s.Get("count"))
		if err != nil {
			return fail(err)
		}
		size := componentSize[member(s.Get("indices"), "componentType")]
		at, err1 := f.strided(s.Get("indices").Get("bufferView"), s.Get("indices").Get("byteOffset"), size, n)
		val, err2 := f.strided(s.Get("values").Get("bufferView"), s.Get("values").Get("byteOffset"), item, n)
		if err := errors.Join(err1, err2); err != nil {
			return fail(err)
		}
		out = slices.Concat(out, at, val)
	}
	return a, out, nil
}

func itemSize(a *jsondoc.Node) (int, error) {
	size, n := componentSize[member(a, "componentType")], typeCount[member(a, "type")]
	if size == 0 || n == 0 {
		return 0, errors.New("its type is unknown")
	}
	if t := member(a, "type"); strings.HasPrefix(t, "MAT") { // columns begin at multiples of four bytes
		side := int(t[3] - '0')
		return side * ((side*size + 3) &^ 3), nil
	}
	return size * n, nil
}

func member(n *jsondoc.Node, key string) string {
	if v := n.Get(key); v != nil {
		return v.Text
	}
	return ""
}

func (f *file) strided(view, offset *jsondoc.Node, item, count int) ([]byte, error) {
	i, err1 := whole(view)
	from, err2 := optionalWhole(offset)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	data, stride, err := f.view(i)
	if err != nil || count == 0 {
		return nil, err
	}
	if stride == 0 {
		stride = item
	}
	if item == 0 || stride < item || from+(count-1)*stride+item > len(data) || from > len(data) {
		return nil, errors.New("it reaches outside of its buffer view")
	}
	if stride == item {
		return data[from : from+count*item], nil
	}
	out := make([]byte, 0, count*item)
	for k := range count {
		out = append(out, data[from+k*stride:from+k*stride+item]...)
	}
	return out, nil
}

// Weigh counts what the JSON of a scene in text form has; a binary one is bounded by its size.
func (Kind) Weigh(data []byte) int64 {
	if bytes.HasPrefix(data, []byte("glTF")) {
		return 0
	}
	return jsondoc.Weigh(data)
}

// Read reads the scene.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	f, err := open(src)
	if err != nil {
		return nil, err
	}
	r, err := newReader(f)
	if err != nil {
		return nil, err
	}
	root, err := r.root()
	if err != nil {
		return nil, err
	}
	return &kind.Reading{Root: root, Content: kind.Held(r.held), Uses: f.uses, Placed: r.placed}, nil
}

// Collections of a scene, in the order in which they are shown. A collection's
// type is the word in addresses.
var collections = []struct{ list, typ string }{
	{"scenes", "scene"}, {"nodes", "node"}, {"meshes", "mesh"}, {"materials", "material"}, {"textures", "texture"},
	{"images", "image"}, {"animations", "animation"}, {"skins", "skin"}, {"cameras", "camera"}, {lightList, "light"},
}

const (
	lightList      = "lights"
	lightExtension = "KHR_lights_punctual"
)

func listOf(typ string) string {
	for _, c := range collections {
		if c.typ == typ {
			return c.list
		}
	}
	return ""
}

// entries gives the objects of a collection.
func (f *file) entries(list string) []*jsondoc.Node {
	if list == lightList {
		return values(f.doc.Root.Get("extensions").Get(lightExtension).Get("lights"))
	}
	return f.list(list)
}

// names gives each entry of each collection its key: its name, else what it
// holds, else its place.
func (f *file) names() map[string][]string {
	out := map[string][]string{}
	for _, c := range slices.Backward(collections) { // meshes before nodes, images before textures
		entries := f.entries(c.list)
		kids := make([]*element.Element, len(entries))
		for i, e := range entries {
			key := member(e, "name")
			if key == "" {
				key = f.fallback(c.list, e, i, out)
			}
			kids[i] = &element.Element{Type: c.typ, Key: key}
		}
		element.Distinguish(kids)
		for _, k := range kids {
			out[c.list] = append(out[c.list], k.Key)
		}
	}
	return out
}

const unnamed = "unnamed "

func (f *file) fallback(list string, e *jsondoc.Node, i int, known map[string][]string) string {
	refer := map[string][2]string{"nodes": {"mesh", "meshes"}, "textures": {"source", "images"}}[list]
	if refer[0] != "" {
		if j, err := whole(e.Get(refer[0])); err == nil && j < len(known[refer[1]]) {
			return known[refer[1]][j]
		}
	}
	if uri := member(e, "uri"); uri != "" && !strings.HasPrefix(uri, "data:") {
		return uri
	}
	return fmt.Sprint(unnamed, i+1)
}
