package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
)

// Declared is a schema as a folder of SQL files declares it, as it is written.
type Declared struct {
	Root *element.Element
	// Formerly gives the old names that files declare with `-- formerly: NAME`, by
	// the identity of a thing as ID and sub give it.
	Formerly map[string]string
	// Places tells where each object's statements stand, by its identity.
	Places map[string][]declared.Place
}

// ID gives the identity of an object.
func ID(e *element.Element) string { return e.Type + " " + ident(e.Key) }

func sub(id string, e *element.Element) string { return id + "/" + e.Type + " " + e.Key }

// Parse reads declared files without an engine.
func Parse(files declared.Files) (*Declared, error) {
	r := newReader(false)
	var later []declaration
	for _, name := range declared.Names(files) {
		text := string(files[name])
		list, err := Dialect.Statements(text)
		if err != nil {
			return nil, fmt.Errorf("%s, %w", name, err)
		}
		mode, session := "", ""
		for _, s := range list {
			st := declaration{Statement: s, c: &sqltext.Cursor{Tokens: sqltext.Meaning(s.Tokens)}, text: text,
				place: whole(text, declared.Place{File: name, From: s.From, To: s.To, Line: s.Line})}
			if st.c.Skip("set", "sql_mode", "=") {
				mode = Dialect.Unquote(st.c.Next().Text)
				later = append(later, st)
				continue
			}
			if said, ok := sessionSaid(st.c); ok {
				session = said
				later = append(later, st)
				continue
			}
			st.mode, st.session = mode, session
			if st.adds() {
				later = append(later, st)
				continue
			}
			if err := r.create(st); err != nil {
				return nil, &declared.FileError{File: name, Line: s.Line, Err: err}
			}
		}
	}
	for _, st := range later {
		if st.c.At > 0 { // a mode belongs to whatever its file declares
			r.belongToFile(st)
			continue
		}
		if err := r.attach(st); err != nil {
			return nil, &declared.FileError{File: st.place.File, Line: st.place.Line, Err: err}
		}
	}
	return r.d, nil
}

// whole stretches a place over the lines that set and take back what ends its
// statement.
func whole(text string, p declared.Place) declared.Place {
	before := strings.TrimRight(text[:p.From], " \t\r\n")
	line := before[strings.LastIndexByte(before, '\n')+1:]
	after := strings.TrimLeft(text[p.To:], " \t\r\n")
	const word = "delimiter "
	if strings.HasPrefix(strings.ToLower(line), word) && strings.HasPrefix(strings.ToLower(after), word+";") {
		p.From = len(before) - len(line)
		p.To = len(text) - len(after) + len(word) + 1
	}
	return p
}

// declaration is one statement of a file.
type declaration struct {
	sqltext.Statement
	c     *sqltext.Cursor
	text  string // of the whole file
	place declared.Place
	mode  string // the sql_mode that the file says before it
	// session is the character set and collation of the session that the file says before it
	session string
}

// adds says that a statement adds something to a table.
func (st declaration) adds() bool {
	if st.c.Peek("alter") {
		return true
	}
	if !st.c.Peek("create") {
		return false
	}
	for _, t := range st.c.Tokens[1:min(len(st.c.Tokens), 10)] {
		switch {
		case t.Is("trigger"), t.Is("index"):
			return true
		case t.Is("table"), t.Is("view"), t.Is("function"), t.Is("procedure"), t.Is("event"), t.Is("sequence"):
			return false
		}
	}
	return false
}

// reader builds elements from statements.
type reader struct {
	d       *Declared
	objects map[string]*element.Element
	flat    func([]sqltext.Token) string
	engine  bool // the text is the engine's own
}

func newReader(engine bool) *reader {
	r := &reader{d: &Declared{Root: &element.Element{Type: "database"}, Formerly: map[string]string{},
		Places: map[string][]declared.Place{}}, objects: map[string]*element.Element{}, flat: flat, engine: engine}
	if engine {
		r.flat = engineFlat
	}
	return r
}

func (r *reader) belongToFile(st declaration) {
	for _, id := range slices.Sorted(mapKeys(r.d.Places)) {
		if ps := r.d.Places[id]; len(ps) > 0 && ps[0].File == st.place.File {
			r.d.Places[id] = append([]declared.Place{st.place}, ps...)
			return
		}
	}
}

func (r *reader) put(st declaration, e *element.Element) error {
	e.Firm = true
	id := ID(e)
	if r.objects[id] != nil {
		return fmt.Errorf("the %s is declared twice", id)
	}
	for _, typ := range []string{"table", "view", "sequence"} {
		if e.Type != typ && (e.Type == "table" || e.Type == "view" || e.Type == "sequence") && r.objects[typ+" "+ident(e.Key)] != nil {
			return fmt.Errorf("%s is declared as a %s already", ident(e.Key), typ)
		}
	}
	r.objects[id] = e
	r.d.Places[id] = append(r.d.Places[id], st.place)
	for _, t := range st.Before {
		if old, ok := declared.Formerly(t.Text); ok {
			r.d.Formerly[id] = old
		}
	}
	r.d.Root.Add(e)
	return nil
}

// name reads a name; one of another database can't be declared.
func (st declaration) name() (string, error) {
	names := st.c.QualifiedName(Dialect)
	if len(names) != 1 {
		return "", fmt.Errorf("a name without a database is expected%s", st.found())
	}
	return names[0], nil
}

func (st declaration) found() string {
	if !st.c.More() {
		return " at the end"
	}
	return fmt.Sprintf(" where %q stands", clip(st.c.Tokens[st.c.At].Text))
}

// heading are the options between CREATE and what is made.
type heading struct{ definer, algorithm, security string }

func (r *reader) heading(c *sqltext.Cursor) heading {
	var h heading
	c.Skip("create")
	c.Skip("or", "replace")
	for {
		switch {
		case c.Skip("algorithm", "="):
			h.algorithm = strings.ToLower(c.Next().Text)
		case c.Skip("definer", "="):
			h.definer = Dialect.NameOf(c.Next())
			if c.Skip("@") {
				h.definer += "@" + Dialect.NameOf(c.Next())
			} else if c.Skip("(", ")") {
				h.definer = ""
			} else if c.More() && strings.HasPrefix(c.Tokens[c.At].Text, "@") {
				h.definer += c.Next().Text
			}
		case c.Skip("sql", "security"):
			h.security = strings.ToLower(c.Next().Text)
		case c.Skip("aggregate"):
		default:
			return h
		}
	}
}

func (r *reader) create(st declaration) error {
	c := st.c
	h := r.heading(c)
	for _, k := range []struct {
		word string
		read func(*reader, declaration, heading) error
	}{{"table", (*reader).table}, {"view", (*reader).view}, {"sequence", (*reader).sequence}, {"function", (*reader).function},
		{"procedure", (*reader).procedure}, {"event", (*reader).event}} {
		if c.Skip(k.word) {
			c.Skip("if", "not", "exists")
			return k.read(r, st, h)
		}
	}
	return fmt.Errorf("%q makes nothing that can be declared", clip(flat(c.Tokens)))
}

// attach reads what adds to a table: CREATE INDEX, CREATE TRIGGER, ALTER TABLE ... ADD.
func (r *reader) attach(st declaration) error {
	c := st.c
	if c.Skip("alter", "table") {
		name, err := st.name()
		if err != nil {
			return err
		}
		e, err := r.tableNamed(st, name)
		if err != nil {
			return err
		}
		for _, part := range sqltext.Commas(c.Rest()) {
			pc := &sqltext.Cursor{Tokens: part}
			if !pc.Skip("add") {
				return fmt.Errorf("%q can't be declared", clip(flat(part)))
			}
			if err := r.item(e, pc.Rest()); err != nil {
				return err
			}
		}
		return nil
	}
	h := r.heading(c)
	if c.Skip("trigger") {
		return r.trigger(st, h)
	}
	sort := ""
	for _, w := range []string{"unique", "fulltext", "spatial"} {
		if c.Skip(w) {
			sort = w + " "
		}
	}
	c.Skip("index")
	c.Skip("if", "not", "exists")
	name := Dialect.NameOf(c.Next())
	how := ""
	if c.Skip("using") {
		how = " using " + strings.ToLower(c.Next().Text)
	}
	if !c.Skip("on") {
		return fmt.Errorf("\"on\" and a table are expected%s", st.found())
	}
	table, err := st.name()
	if err != nil {
		return err
	}
	e, err := r.tableNamed(st, table)
	if err != nil {
		return err
	}
	return addPart(e, "index", name, sort+"key "+ident(name)+" "+r.flat(c.Rest())+how)
}

func (r *reader) tableNamed(st declaration, name string) (*element.Element, error) {
	id := "table " + ident(name)
	e := r.objects[id]
	if e == nil {
		return nil, fmt.Errorf("no file declares the table %s", ident(name))
	}
	r.d.Places[id] = append(r.d.Places[id], st.place)
	return e, nil
}

func addPart(e *element.Element, typ, key, definition string) error {
	if key == "" {
		key = definition
	}
	if kid(e, typ, key) != nil {
		return fmt.Errorf("the %s %s is declared twice", typ, key)
	}
	e.Add(&element.Element{Type: typ, Key: key, Firm: true, Gist: clip(definition),
		Props: []element.Prop{{Name: "definition", Value: element.TextValue(definition)}}})
	return nil
}
