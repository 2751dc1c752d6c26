package scene

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/partfile"
)

// A split scene is a folder with
//
//	oaken-scene.json    what belongs to no part: asset, default scene, extensions
//	LIST/NAME.json      each node, mesh, material ... as an element's file
//	data/NAME.bin       the bytes behind values; pictures with their own ending
//
// Join makes a .glb of it.
const (
	marker    = "oaken-scene.json"
	dataPath  = "data/"
	emptyText = `{"asset":{"version":"2.0"}}`
)

// Marker is the file that says that a folder is a split scene.
func (Kind) Marker() string { return marker }

// Split takes the scene apart, one element a file.
func (k Kind) Split(src kind.Source) ([]kind.Part, error) {
	r, err := k.Read(src)
	if err != nil {
		return nil, err
	}
	s := &splitter{reading: r, names: partfile.Names{}, stored: map[element.Digest]string{}}
	rest := *r.Root
	rest.Children = nil
	kids := slices.Clone(r.Root.Children)
	slices.SortStableFunc(kids, func(a, b *element.Element) int { return strings.Compare(a.Key, b.Key) })
	for _, e := range kids {
		list := listOf(e.Type)
		if list == "" {
			rest.Children = append(rest.Children, e)
			continue
		}
		data, err := partfile.Encode(e, s.put)
		if err != nil {
			return nil, err
		}
		s.parts = append(s.parts, kind.Part{Name: s.names.Take(list+"/"+partfile.Safe(e.Key), ".json", e.Key), Data: data})
	}
	data, err := partfile.Encode(&rest, s.put)
	if err != nil {
		return nil, err
	}
	return append([]kind.Part{{Name: marker, Data: data}}, s.parts...), nil
}

type splitter struct {
	reading *kind.Reading
	names   partfile.Names
	stored  map[element.Digest]string
	parts   []kind.Part
}

// put stores the bytes behind a value once, under the name of its first use.
func (s *splitter) put(at []string, v element.Value) (string, error) {
	d, _ := v.Content()
	if name, ok := s.stored[d]; ok {
		return name, nil
	}
	data, ok := s.reading.Content(d)
	if !ok {
		return "", fmt.Errorf("the bytes of %s are not at hand", strings.Join(at, " "))
	}
	ext := ".bin"
	switch {
	case strings.HasPrefix(string(data), "\x89PNG"):
		ext = ".png"
	case strings.HasPrefix(string(data), "\xff\xd8\xff"):
		ext = ".jpg"
	}
	name := s.names.Take(dataPath+partfile.Safe(strings.Join(at[:len(at)-1], " ")), ext, strings.Join(at, "/"))
	s.stored[d] = name
	s.parts = append(s.parts, kind.Part{Name: name, Data: data})
	return name, nil
}

// Join makes a .glb of the parts; entries come in the order of their names.
func (k Kind) Join(parts []kind.Part) ([]byte, error) {
	files := map[string][]byte{}
	for _, p := range parts {
		files[p.Name] = p.Data
	}
	held := map[element.Digest][]byte{}
	get := func(name string) (element.Value, error) {
		data, ok := files[name]
		if !ok {
			return element.Value{}, fmt.Errorf("the file %s is missing", name)
		}
		d := element.DigestOf(data)
		held[d] = data
		return element.BytesValue(d, int64(len(data))), nil
	}
	root, err := partfile.Decode(files[marker], get)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", marker, err)
	}
	for _, c := range collections {
		var kids []*element.Element
		for name, data := range files {
			if !strings.HasPrefix(name, c.list+"/") {
				continue
			}
			e, err := partfile.Decode(data, get)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			if e.Type != c.typ || e.Key == "" {
				return nil, fmt.Errorf("%s holds a %s, not a %s with a name", name, e.Type, c.typ)
			}
			kids = append(kids, e)
		}
		slices.SortFunc(kids, func(a, b *element.Element) int { return strings.Compare(a.Key, b.Key) })
		for i := range kids[:max(len(kids)-1, 0)] {
			if kids[i].Key == kids[i+1].Key {
				return nil, fmt.Errorf("two files hold %s %q", c.typ, kids[i].Key)
			}
		}
		root.Add(kids...)
	}
	doc, err := jsondoc.Parse([]byte(emptyText))
	if err != nil {
		return nil, err
	}
	out, err := write(&file{doc: doc, binary: true, read: func(string) ([]byte, error) { return nil, errors.New("not at hand") }}, root,
		kind.Held(held))
	if out == nil && err == nil {
		return nil, errors.New("there is nothing in it")
	}
	return out, err
}
