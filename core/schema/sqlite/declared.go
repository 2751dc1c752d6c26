package sqlite

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
)

// Declared is a schema as a folder of SQL files declares it.
type Declared struct {
	Root *element.Element
	// Formerly gives the old names that files declare with `-- formerly: NAME`:
	// of tables by their name, of columns by TABLE.COLUMN, all in small letters.
	Formerly map[string]string
	objects  map[string][]place // by sort and name of the owner, small letters
}

// place is where a statement stands.
type place struct {
	file     string
	from, to int
}

// FileError says what is wrong with a declared file.
type FileError struct {
	File string
	Line int
	Err  error
}

// Error writes `FILE, line N: what`.
func (e *FileError) Error() string { return fmt.Sprintf("%s, line %d: %v", e.File, e.Line, e.Err) }

// Unwrap gives the cause.
func (e *FileError) Unwrap() error { return e.Err }

// declaration is one statement of a file.
type declaration struct {
	statement
	head head
	file string
	sql  string
}

var loadOrder = map[string]int{"table": 0, "view": 1, "index": 2, "trigger": 3}

// Load lets the engine itself read the declared files, in a scratch database,
// and reads the schema back from its catalog. Only CREATE statements may be
// declared, each object once.
func Load(ctx context.Context, files map[string][]byte) (*Declared, error) {
	d := &Declared{Formerly: map[string]string{}, objects: map[string][]place{}}
	all, err := declarations(files)
	if err != nil {
		return nil, err
	}
	db, err := Scratch()
	if err != nil {
		return nil, err
	}
	defer db.Close()
	for _, s := range all {
		if _, err := db.ExecContext(ctx, s.sql); err != nil {
			return nil, &FileError{s.file, s.line, engineError(err)}
		}
		owner := ownerID(s.head, all)
		d.objects[owner] = append(d.objects[owner], place{s.file, s.from, s.to})
		if s.head.sort == "table" {
			d.formerNames(s)
		}
	}
	for _, s := range all {
		if s.head.sort != "view" {
			continue
		}
		if _, err := db.ExecContext(ctx, "explain select * from "+ident(s.head.name)); err != nil {
			return nil, &FileError{s.file, s.line, engineError(err)}
		}
	}
	if d.Root, err = Read(ctx, db); err != nil {
		return nil, err
	}
	// The engine's catalog sorts by name; files keep their own order of columns
	// because the catalog keeps the text of each table.
	return d, nil
}

// engineError takes the driver's ornaments off the engine's message.
func engineError(err error) error {
	text := strings.TrimPrefix(err.Error(), "SQL logic error: ")
	if i := strings.LastIndex(text, " ("); i > 0 && strings.HasSuffix(text, ")") {
		text = text[:i]
	}
	return fmt.Errorf("SQLite says: %s", text)
}

func declarations(files map[string][]byte) ([]declaration, error) {
	var all []declaration
	for _, name := range sortedNames(files) {
		text := string(files[name])
		parts, err := statements(text)
		if err != nil {
			return nil, fmt.Errorf("%s, %w", name, err)
		}
		for _, s := range parts {
			h, err := parseHead(s.tokens)
			if err != nil {
				return nil, &FileError{name, s.line, err}
			}
			all = append(all, declaration{s, h, name, text[s.from:s.to]})
		}
	}
	slices.SortStableFunc(all, func(a, b declaration) int { return loadOrder[a.head.sort] - loadOrder[b.head.sort] })
	return all, nil
}

func sortedNames(files map[string][]byte) []string {
	var names []string
	for name, data := range files {
		if data != nil && strings.EqualFold(path.Ext(name), ".sql") {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func objectID(sort, name string) string { return sort + " " + strings.ToLower(name) }

// ownerID names the table or view that a statement belongs to.
func ownerID(h head, all []declaration) string {
	if h.on == "" {
		return objectID(h.sort, h.name)
	}
	for _, d := range all {
		if d.head.on == "" && strings.EqualFold(d.head.name, h.on) {
			return objectID(d.head.sort, d.head.name)
		}
	}
	return objectID("table", h.on)
}

const formerly = "formerly:"

// formerNames reads the comments that say what a table or its columns were
// called. One before the column list is the table's; one after a column's
// definition, on its last line, is the column's.
func (d *Declared) formerNames(s declaration) {
	table := strings.ToLower(s.head.name)
	depth, column, start := 0, "", false
	for _, t := range s.tokens {
		switch {
		case t.sort == comment:
			text := strings.TrimSpace(strings.Trim(strings.TrimPrefix(t.text, "--"), "/* \t\r"))
			if !strings.HasPrefix(strings.ToLower(text), formerly) {
				continue
			}
			old := strings.ToLower(strings.Trim(strings.TrimSpace(text[len(formerly):]), "\"`[]"))
			if depth == 0 || column == "" {
				d.Formerly[table] = old
			} else {
				d.Formerly[table+"."+column] = old
			}
		case t.is("("):
			depth++
			start = start || depth == 1
		case t.is(")"):
			depth--
		case t.is(",") && depth == 1:
			start = true
		case start && depth == 1:
			column, start = strings.ToLower(t.name()), false
		}
	}
}

// FileFor gives the usual file of an object: `tables/NAME.sql`.
func FileFor(object *element.Element) string {
	return object.Type + "s/" + partfile.Safe(object.Key) + ".sql"
}

// Update gives the files that differ when the declared schema becomes want:
// only objects that change are written anew; a file with nothing left is nil.
func (d *Declared) Update(files map[string][]byte, want *element.Element) map[string][]byte {
	out := map[string][]byte{}
	current := func(name string) []byte {
		if data, ok := out[name]; ok {
			return data
		}
		return files[name]
	}
	have := map[string]*element.Element{}
	for _, e := range d.Root.Children {
		have[objectID(e.Type, e.Key)] = e
	}
	taken := map[string]bool{}
	for name := range files {
		taken[strings.ToLower(name)] = true
	}
	edits := map[string][]edit{}
	for _, e := range want.Children {
		id := objectID(e.Type, e.Key)
		old := have[id]
		delete(have, id)
		switch {
		case old == nil:
			name := FileFor(e)
			if taken[strings.ToLower(name)] {
				name = partfile.Names(taken).Take(strings.TrimSuffix(name, ".sql"), ".sql", e.Type+e.Key)
			}
			taken[strings.ToLower(name)] = true
			out[name] = []byte(SQL(e))
		case old.Sum() != e.Sum():
			for i, p := range d.objects[id] {
				text := ""
				if i == 0 {
					text = strings.TrimSuffix(SQL(e), "\n")
				}
				edits[p.file] = append(edits[p.file], edit{p, text})
			}
		}
	}
	for id := range have {
		for _, p := range d.objects[id] {
			edits[p.file] = append(edits[p.file], edit{p, ""})
		}
	}
	for name, list := range edits {
		out[name] = splice(current(name), list)
	}
	return out
}

type edit struct {
	place
	text string
}

// splice carries out edits of one file; nil when no statement is left. Comments
// before a statement stay.
func splice(data []byte, list []edit) []byte {
	slices.SortFunc(list, func(a, b edit) int { return b.from - a.from })
	text := string(data)
	for _, e := range list {
		rest := text[e.to:]
		if e.text == "" {
			rest = strings.TrimLeft(rest, "\r\n")
		}
		text = text[:e.from] + e.text + rest
	}
	if rest, err := statements(text); err == nil && len(rest) == 0 {
		return nil
	}
	return []byte(strings.TrimRight(text, "\n") + "\n")
}
