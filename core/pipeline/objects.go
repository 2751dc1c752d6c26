package pipeline

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
)

// folder knows the objects in the folder of an environment: of a database the tables,
// views and all that has a name, else the files.
type folder struct {
	path string
	kind kind.Writer // nil for a folder of files
}

// folderOf gives the folder of an environment.
func (m *Mover) folderOf(into, target string) (folder, error) {
	name, err := environment.KindOf(target)
	if err != nil || name == "" {
		return folder{path: into}, err
	}
	k, _ := m.Project.Reader().Kinds.As(name, into)
	w, ok := k.(kind.Writer)
	if !ok {
		return folder{}, fmt.Errorf("the kind %s can't be written", name)
	}
	return folder{into, w}, nil
}

// address gives where an object is in the project, as people name and lock it: a file by its
// path.
func (f folder) address(o object) string {
	if f.kind == nil {
		return path.Join(f.path, o.e.Key)
	}
	return element.Address{Path: f.path, Steps: o.steps}.String()
}

// object is one thing that has a version of its own.
type object struct {
	address string // below the folder
	e       *element.Element
	steps   []element.Step
}

// contents are the objects of a folder, by address.
type contents struct {
	root    *element.Element
	objects map[string]object
	files   environment.Files
}

// read lists the objects that files declare.
func (f folder) read(files environment.Files) (*contents, error) {
	c := &contents{root: &element.Element{Type: "folder"}, objects: map[string]object{}, files: files}
	if f.kind == nil {
		for name, data := range files {
			e := &element.Element{Type: "file", Key: name, Firm: true}
			e.Set("content", element.BytesValue(element.DigestOf(data), int64(len(data))))
			c.root.Add(e)
		}
	} else {
		r, err := f.kind.Read(&memory{f.path, files})
		if err != nil {
			return nil, fault.New(fault.Refused, "Correct that file; nothing was changed.", "What is declared in %s can't be read: %w.",
				f.path, err)
		}
		c.root = r.Root
	}
	for _, e := range c.root.Children {
		c.add(e, []element.Step{{Type: e.Type, Key: e.Key}})
	}
	return c, nil
}

// add lists an object, and those in it when it is a schema.
func (c *contents) add(e *element.Element, steps []element.Step) {
	at := element.Address{Steps: steps}
	name := strings.TrimPrefix(at.InPath("x").String(), "x::")
	o := object{name, e, steps}
	if e.Type == "schema" {
		bare := *e
		bare.Children, bare.Gist = nil, ""
		o.e = &bare
		for _, k := range e.Children {
			c.add(k, append(slices.Clone(steps), element.Step{Type: k.Type, Key: k.Key}))
		}
	}
	c.objects[name] = o
}

// same says that two folders have the same version of an object, or neither has it.
func same(a, b *contents, address string) bool {
	x, inA := a.objects[address]
	y, inB := b.objects[address]
	return inA == inB && (!inA || x.e.Sum() == y.e.Sum())
}

// differing lists the addresses of the objects in which two folders differ, sorted.
func differing(a, b *contents) []string {
	all := maps.Clone(a.objects)
	maps.Copy(all, b.objects)
	out := slices.DeleteFunc(slices.Collect(maps.Keys(all)), func(name string) bool { return same(a, b, name) })
	slices.Sort(out)
	return out
}

// mix gives the files of a folder in which some objects are as another has them. The
// files of the others stay as they are.
func (f folder) mix(own, other *contents, take func(address string) bool) (environment.Files, error) {
	if f.kind == nil {
		out := maps.Clone(own.files)
		for _, name := range differing(own, other) {
			if !take(name) {
				continue
			}
			key := nameOf(own, other, name)
			if data, ok := other.files[key]; ok {
				out[key] = data
			} else {
				delete(out, key)
			}
		}
		return out, nil
	}
	want := &element.Element{Type: own.root.Type, Props: own.root.Props, Ordered: own.root.Ordered}
	schemas := map[string]*element.Element{}
	holder := func(o object) *element.Element {
		if len(o.steps) < 2 {
			return want
		}
		key := o.steps[0].Key
		if schemas[key] == nil {
			s := &element.Element{Type: "schema", Key: key, Firm: true}
			schemas[key] = s
			want.Add(s)
		}
		return schemas[key]
	}
	all := maps.Clone(own.objects)
	maps.Copy(all, other.objects)
	names := slices.Sorted(maps.Keys(all))
	for _, name := range names { // schemas come before what is in them
		from := own
		if !same(own, other, name) && take(name) {
			from = other
		}
		o, ok := from.objects[name]
		switch {
		case !ok:
		case o.e.Type == "schema" && len(o.steps) == 1:
			s := *o.e
			schemas[o.e.Key] = &s
			want.Add(&s)
		default:
			holder(o).Add(o.e)
		}
	}
	edits, err := f.kind.Write(&memory{f.path, own.files}, want, nil)
	if err != nil {
		return nil, err
	}
	out := maps.Clone(own.files)
	for name, data := range edits {
		if data == nil {
			delete(out, name)
		} else {
			out[name] = data
		}
	}
	return out, nil
}

func nameOf(a, b *contents, address string) string {
	if o, ok := a.objects[address]; ok {
		return o.e.Key
	}
	return b.objects[address].e.Key
}

// edits gives the files that differ, nil for one that goes.
func edits(from, to environment.Files) environment.Files {
	out := environment.Files{}
	for name, data := range to {
		if old, ok := from[name]; !ok || string(old) != string(data) {
			out[name] = data
		}
	}
	for name := range from {
		if _, ok := to[name]; !ok {
			out[name] = nil
		}
	}
	return out
}

// memory is a folder in memory, as a source for its kind.
type memory struct {
	path  string
	files environment.Files
}

// Path gives the folder's path.
func (s *memory) Path() string { return s.path }

// Files lists the names.
func (s *memory) Files() []string { return slices.Sorted(maps.Keys(s.files)) }

// File gives one file.
func (s *memory) File(name string) ([]byte, error) {
	if data, ok := s.files[name]; ok {
		return data, nil
	}
	return nil, fmt.Errorf("%s/%s: %w", s.path, name, kind.ErrNoFile)
}
