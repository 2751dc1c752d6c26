package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
	"oakenchest/core/schema/step"
)

// Declared is a schema as a folder of SQL files declares it.
type Declared struct {
	Root *element.Element
	// Formerly gives the old names that files declare with `-- formerly: NAME`:
	// of tables by their name, of columns by TABLE.COLUMN, all in small letters.
	Formerly map[string]string
	// Fill gives values, as SQL, for columns that are to take no null, by TABLE.COLUMN.
	Fill map[string]string
	// Due says which data steps come with a plan.
	Due step.Due
	// Counting asks for what would be lost; nil asks for each thing by itself.
	Counting *step.Counting
	objects  map[string][]declared.Place // by sort and name of the owner, small letters
}

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
	d := &Declared{Formerly: map[string]string{}, objects: map[string][]declared.Place{}}
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
			return nil, &declared.FileError{File: s.file, Line: s.line, Err: engineError(err)}
		}
		owner := ownerID(s.head, all)
		d.objects[owner] = append(d.objects[owner], declared.Place{File: s.file, From: s.from, To: s.to, Line: s.line})
		if s.head.sort == "table" {
			d.formerNames(s)
		}
	}
	for _, s := range all {
		if s.head.sort != "view" {
			continue
		}
		if _, err := db.ExecContext(ctx, "explain select * from "+ident(s.head.name)); err != nil {
			return nil, &declared.FileError{File: s.file, Line: s.line, Err: engineError(err)}
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
	for _, name := range declared.Names(files) {
		text := string(files[name])
		parts, err := statements(text)
		if err != nil {
			return nil, fmt.Errorf("%s, %w", name, err)
		}
		for _, s := range parts {
			h, err := parseHead(s.tokens)
			if err != nil {
				return nil, &declared.FileError{File: name, Line: s.line, Err: err}
			}
			all = append(all, declaration{s, h, name, text[s.from:s.to]})
		}
	}
	slices.SortStableFunc(all, func(a, b declaration) int { return loadOrder[a.head.sort] - loadOrder[b.head.sort] })
	return all, nil
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

// formerNames reads the comments that say what a table or its columns were
// called. One before the column list is the table's; one after a column's
// definition, on its last line, is the column's.
func (d *Declared) formerNames(s declaration) {
	table := strings.ToLower(s.head.name)
	depth, column, start := 0, "", false
	for _, t := range s.tokens {
		switch {
		case t.sort == comment:
			old, ok := declared.Formerly(t.text)
			if !ok {
				continue
			}
			old = strings.ToLower(old)
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

// dialect takes declared statements apart to write them anew.
var dialect = &sqltext.Dialect{Quote: '"', Fold: true}

// Update gives the files that differ when the declared schema becomes want; see
// declared.Update.
func (d *Declared) Update(files map[string][]byte, want *element.Element) map[string][]byte {
	have, wanted := byID(d.Root), byID(want)
	same := func(id string) bool { return have[id] != nil && have[id].Sum() == wanted[id].Sum() }
	return declared.Update(dialect, files, d.objects, written(want), same, declared.Texts(written(d.Root)), func(text string) bool {
		rest, err := statements(text)
		return err == nil && len(rest) == 0
	})
}

// Anew writes all files of want, in place of those that can't be read together.
func Anew(files map[string][]byte, want *element.Element) map[string][]byte {
	return declared.Anew(files, written(want))
}

func byID(root *element.Element) map[string]*element.Element {
	out := map[string]*element.Element{}
	for _, e := range root.Children {
		out[objectID(e.Type, e.Key)] = e
	}
	return out
}

// written lists the objects that have files.
func written(want *element.Element) []declared.Object {
	var out []declared.Object
	for _, e := range want.Children {
		out = append(out, declared.Object{ID: objectID(e.Type, e.Key), File: FileFor(e), Text: func() string { return SQL(e) }})
	}
	return out
}
