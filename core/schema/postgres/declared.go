package postgres

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/shape"
	"oakenchest/core/schema/sqltext"
)

// Declared is a schema as a folder of SQL files declares it, as it is written: types
// and expressions are those of the text and not yet the engine's.
type Declared struct {
	Root *element.Element
	// Formerly gives the old names that files declare with `-- formerly: NAME`, by
	// the identity of a thing as ID and sub give it.
	Formerly map[string]string
	// Places tells where each object's statements stand, by its identity.
	Places map[string][]declared.Place
	at     map[string]declared.Place // of parts, by identity
}

// Where gives the place of an object or of a part of one; ok is false for one that no
// file has.
func (d *Declared) Where(id string) (declared.Place, bool) {
	for {
		if p, ok := d.at[id]; ok {
			return p, true
		}
		if ps := d.Places[id]; len(ps) > 0 {
			return ps[0], true
		}
		i := strings.LastIndexByte(id, '/')
		if i < 0 {
			return declared.Place{}, false
		}
		id = id[:i]
	}
}

// Parse reads declared files without an engine.
func Parse(files declared.Files) (*Declared, error) {
	r := newReader()
	var later []declaration
	for _, name := range declared.Names(files) {
		text := string(files[name])
		list, err := Dialect.Statements(text)
		if err != nil {
			return nil, fmt.Errorf("%s, %w", name, err)
		}
		for _, s := range list {
			st := declaration{s, &sqltext.Cursor{Tokens: sqltext.Meaning(s.Tokens)}, text,
				declared.Place{File: name, From: s.From, To: s.To, Line: s.Line}}
			if !r.first(st) {
				later = append(later, st)
				continue
			}
			if err := r.read(st, r.create); err != nil {
				return nil, err
			}
		}
	}
	for _, st := range later {
		if err := r.read(st, r.attach); err != nil {
			return nil, err
		}
	}
	gistOfSchemas(r.d.Root)
	return r.d, nil
}

// gistOfSchemas says of each schema how much is in it.
func gistOfSchemas(root *element.Element) {
	for _, s := range kids(root, "schema") {
		s.Gist = element.Counted(len(s.Children), "object")
	}
}

// declaration is one statement of a file.
type declaration struct {
	sqltext.Statement
	c     *sqltext.Cursor
	text  string // of the whole file
	place declared.Place
}

// reader builds elements from statements.
type reader struct {
	d       *Declared
	schemas map[string]*element.Element
	objects map[string]*element.Element // by identity
	owners  map[string]string           // identity of what holds a relation's name, by that name
}

func newReader() *reader {
	return &reader{d: &Declared{Root: &element.Element{Type: "database"}, Formerly: map[string]string{},
		Places: map[string][]declared.Place{}, at: map[string]declared.Place{}},
		schemas: map[string]*element.Element{}, objects: map[string]*element.Element{}, owners: map[string]string{}}
}

func (r *reader) read(st declaration, how func(declaration) error) error {
	if err := how(st); err != nil {
		return &declared.FileError{File: st.place.File, Line: st.place.Line, Err: err}
	}
	return nil
}

// first says that a statement makes an object, rather than adding to one.
func (r *reader) first(st declaration) bool {
	c := sqltext.Cursor{Tokens: st.c.Tokens}
	if !c.Skip("create") {
		return false
	}
	c.Skip("or", "replace")
	for _, w := range []string{"index", "unique", "trigger", "constraint", "rule", "policy", "statistics"} {
		if c.Peek(w) {
			return false
		}
	}
	return true
}

// schema gives the element of a schema, which need not be declared itself.
func (r *reader) schema(name string) *element.Element {
	if s := r.schemas[name]; s != nil {
		return s
	}
	s := &element.Element{Type: "schema", Key: name, Firm: true}
	r.schemas[name] = s
	r.d.Root.Add(s)
	return s
}

// qualified splits a name into its schema and itself; public is where bare names go.
func qualified(names []string) (schema, name string, err error) {
	switch len(names) {
	case 1:
		return "public", names[0], nil
	case 2:
		return names[0], names[1], nil
	}
	return "", "", fmt.Errorf("a name is expected that has a schema and itself, not %d parts", len(names))
}

// name reads a qualified name.
func (st declaration) name() (schema, name string, err error) {
	names := st.c.QualifiedName(Dialect)
	if len(names) == 0 {
		return "", "", fmt.Errorf("a name is expected%s", st.found())
	}
	return qualified(names)
}

func (st declaration) found() string {
	if !st.c.More() {
		return " at the end"
	}
	return fmt.Sprintf(" where %q stands", clip(st.c.Tokens[st.c.At].Text))
}

// put adds an object to its schema, or to the database when schema is empty.
func (r *reader) put(st declaration, schema string, e *element.Element) error {
	e.Firm = true
	id := ID(schema, e)
	if r.objects[id] != nil {
		return fmt.Errorf("the %s is declared twice", id)
	}
	r.objects[id] = e
	if relation(e) {
		name := ident(schema, e.Key)
		if other := r.owners[name]; other != "" {
			return fmt.Errorf("%s is declared as a %s already", name, strings.Fields(other)[0])
		}
		r.owners[name] = id
	}
	r.belongs(st, id)
	for _, t := range st.Before {
		if old, ok := declared.Formerly(t.Text); ok {
			r.d.Formerly[id] = old
		}
	}
	if schema == "" {
		r.d.Root.Add(e)
	} else {
		r.schema(schema).Add(e)
	}
	return nil
}

// belongs notes that a statement is one of an object's.
func (r *reader) belongs(st declaration, id string) {
	r.d.Places[id] = append(r.d.Places[id], st.place)
}

// relation says that an element shares one space of names with tables.
func relation(e *element.Element) bool {
	return e.Type == "table" || e.Type == "view" || e.Type == "sequence"
}

// ID gives the identity of an object: its type and its whole name.
func ID(schema string, e *element.Element) string {
	if schema == "" {
		return e.Type + " " + ident(e.Key)
	}
	if routine(e.Type) {
		return e.Type + " " + ident(schema) + "." + e.Key
	}
	return e.Type + " " + ident(schema, e.Key)
}

func routine(typ string) bool {
	return typ == "function" || typ == "procedure" || typ == "aggregate" || typ == "operator"
}

// sub gives the identity of a part of an object.
func sub(id string, e *element.Element) string { return id + "/" + e.Type + " " + e.Key }

// relationOf gives the table, view or sequence of a name.
func (r *reader) relationOf(st declaration) (*element.Element, string, error) {
	schema, name, err := st.name()
	if err != nil {
		return nil, "", err
	}
	id := r.owners[ident(schema, name)]
	if id == "" {
		return nil, "", fmt.Errorf("no file declares %s", ident(schema, name))
	}
	return r.objects[id], id, nil
}

// The acts on elements have short names here.
var (
	kid        = shape.Kid
	kids       = shape.Kids
	sortedKids = shape.SortedKids
	setText    = shape.SetText
	setTrue    = shape.SetTrue
	has        = shape.Has
	textOf     = shape.Text
	clip       = shape.Clip
	sameProps  = shape.SameProps
)
