package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// Catalog is the schema of a database in the engine's own normal form.
type Catalog struct {
	Root *element.Element
	// Columns gives the columns of each view with their types, by the view's
	// identity, in order: what CREATE OR REPLACE VIEW can't change.
	Columns map[string][]string
	// Untracked lists what the database has and is not read, one line each.
	Untracked []string
	// oids finds things in pg_depend, by identity.
	oids map[string]oid
	// alias finds what has another identity there: generated columns by their expression.
	alias map[oid]string
}

// oid is how pg_depend names a thing: its catalog, its number, its column.
type oid struct{ class, object, column string }

// Read reads the schema of a database. It takes one round trip in a transaction of
// its own, so that what it gives is one moment's.
func Read(ctx context.Context, conn *pgx.Conn) (*Catalog, error) {
	c, err := read(ctx, conn, "begin isolation level repeatable read read only;", "commit")
	if err != nil && !conn.IsClosed() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "rollback")
	}
	return c, err
}

// ReadInside reads the schema as the transaction that is open on conn has made it.
func ReadInside(ctx context.Context, conn *pgx.Conn) (*Catalog, error) {
	return read(ctx, conn, "select 1 where false;", "select 1 where false")
}

func read(ctx context.Context, conn *pgx.Conn, before, after string) (*Catalog, error) {
	b := newBuilder()
	var sql strings.Builder
	sql.WriteString(before + "set local search_path = ''; set local quote_all_identifiers = off;")
	for _, q := range catalogQueries {
		sql.WriteString(strings.ReplaceAll(q.sql, "%NS", ownSchema))
		sql.WriteString(";")
	}
	sql.WriteString(after)
	err := results(conn.PgConn().Exec(ctx, sql.String()), 3, func(query int, r row) error {
		if query >= len(catalogQueries) {
			return nil
		}
		return catalogQueries[query].add(b, r)
	})
	if err != nil {
		return nil, err
	}
	return b.finish()
}

// results walks over the rows of several statements; skip many give none.
func results(rr *pgconn.MultiResultReader, skip int, add func(query int, r row) error) (err error) {
	for n := -skip; rr.NextResult(); n++ {
		res := rr.ResultReader()
		for res.NextRow() {
			if err == nil && n >= 0 {
				err = add(n, res.Values())
			}
		}
		if _, e := res.Close(); e != nil && err == nil {
			err = e
		}
	}
	if e := rr.Close(); e != nil && err == nil {
		err = e
	}
	return err
}

// ownSchema is true of namespaces n that people made.
const ownSchema = `(n.nspname !~ '^pg_' and n.nspname not in ('information_schema', '` + LogSchema + `', '` + StepsSchema + `'))`

// row is a row of text values; nil stands for null.
type row [][]byte

func (r row) s(i int) string { return string(r[i]) }
func (r row) is(i int) bool  { return string(r[i]) == "t" }

// builder gathers a catalog.
type builder struct {
	r       *reader
	c       *Catalog
	objects map[oid]object // by class and number
	parts   map[oid]part
	values  map[string]*element.Element // of enums, by number
	idSeq   map[oid]sequenceRow         // sequences of identity columns, by column
	rels    map[string]object           // tables, views, sequences, composite types by number
	columns map[oid]*element.Element
	indexOf map[string]part // indexes by number
}

// part is an element inside an object.
type part struct {
	o object
	e *element.Element
}

func newBuilder() *builder {
	return &builder{r: newReader(), c: &Catalog{Columns: map[string][]string{}, oids: map[string]oid{}, alias: map[oid]string{}},
		objects: map[oid]object{}, parts: map[oid]part{}, values: map[string]*element.Element{},
		idSeq: map[oid]sequenceRow{}, rels: map[string]object{}, columns: map[oid]*element.Element{}, indexOf: map[string]part{}}
}

// add puts an object into the tree. right and comment come from its catalog row.
func (b *builder) add(class, number, schema string, e *element.Element, owner, acl string) object {
	e.Firm = true
	o := object{schema, e}
	id := o.id()
	key := oid{class, number, "0"}
	b.objects[key] = o
	b.c.oids[id] = key
	b.r.objects[id] = e
	if relation(e) {
		b.r.owners[ident(schema, e.Key)] = id
	}
	b.rightsOf(e, owner, acl, class)
	if schema == "" {
		b.r.d.Root.Add(e)
	} else {
		b.r.schema(schema).Add(e)
	}
	return o
}

// addPart puts a part into an object.
func (b *builder) addPart(class, number string, o object, e *element.Element) {
	e.Firm = true
	o.e.Add(e)
	key := oid{class, number, "0"}
	b.parts[key] = part{o, e}
	b.c.oids[sub(o.id(), e)] = key
}

// parse reads the text of a CREATE statement that the engine gave.
func (b *builder) parse(sql string) (*element.Element, error) {
	list, err := Dialect.Statements(sql)
	if err != nil || len(list) != 1 {
		return nil, fmt.Errorf("the definition %q can't be read: %w", clip(sql), err)
	}
	r := newReader()
	st := declaration{Statement: list[0], c: &sqltext.Cursor{Tokens: sqltext.Meaning(list[0].Tokens)}, text: sql}
	if err := r.create(st); err != nil {
		return nil, fmt.Errorf("the definition %q can't be read: %w", clip(sql), err)
	}
	for _, e := range r.objects {
		return e, nil
	}
	return nil, fmt.Errorf("the definition %q makes nothing", clip(sql))
}

// small writes an engine's text with key words in small letters, on one line.
func small(sql string) string {
	ts, err := Dialect.Scan(sql)
	if err != nil {
		return sql
	}
	return flat(ts)
}

// definition makes a part with a definition.
func definition(typ, key, sql string) *element.Element {
	text := small(strings.TrimSuffix(strings.TrimSpace(sql), ";"))
	return &element.Element{Type: typ, Key: key, Gist: clip(strings.TrimPrefix(text, "create ")),
		Props: []element.Prop{{Name: "definition", Value: element.TextValue(text)}}}
}

// rightsLetters are the rights of an access list (PostgreSQL, "Privileges").
var rightsLetters = map[byte]string{'r': "select", 'a': "insert", 'w': "update", 'd': "delete", 'D': "truncate", 'x': "references",
	't': "trigger", 'X': "execute", 'U': "usage",
	'C': "create", 'c': "connect", 'T': "temporary", 'm': "maintain", 's': "set", 'A': "alter system"}

// publicByDefault are the catalogs whose objects everybody may use unless it is taken away.
var publicByDefault = map[string]bool{"pg_proc": true, "pg_type": true, "pg_language": true}

// rightsOf reads an owner and an access list {who=letters/by,...} into properties.
func (b *builder) rightsOf(e *element.Element, owner, acl, class string) {
	setText(e, "owner", owner)
	if acl == "" {
		return
	}
	public := false
	for _, item := range arrayItems(acl) {
		i := strings.LastIndexByte(item, '=')
		who, letters := item[:max(i, 0)], item[i+1:]
		letters, _, _ = strings.Cut(letters, "/")
		who = strings.ReplaceAll(strings.Trim(who, `"`), `""`, `"`)
		if who == owner && owner != "" {
			continue
		}
		if who == "" {
			who, public = "public", true
		}
		var list []string
		for j := range len(letters) {
			if letters[j] == '*' {
				list[len(list)-1] += " with grant option"
			} else {
				list = append(list, rightsLetters[letters[j]])
			}
		}
		slices.Sort(list)
		if who == "public" && publicByDefault[class] && len(list) == 1 {
			continue // as everything of the sort has it
		}
		setText(e, "grant to "+who, strings.Join(list, ", "))
	}
	if !public && publicByDefault[class] {
		setText(e, "grant to public", "nothing")
	}
}

// arrayItems takes a one-dimensional array in the engine's text form apart.
func arrayItems(text string) []string {
	text = strings.TrimSuffix(strings.TrimPrefix(text, "{"), "}")
	var out []string
	var cur strings.Builder
	quoted, any := false, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			quoted, any = !quoted, true
		case c == '\\' && i+1 < len(text):
			i++
			cur.WriteByte(text[i])
		case c == ',' && !quoted:
			out = append(out, cur.String())
			cur.Reset()
			any = false
		default:
			cur.WriteByte(c)
			any = true
		}
	}
	if any || cur.Len() > 0 {
		out = append(out, cur.String())
	}
	return out
}

// options writes {a=b,c=d} as a list for WITH ( ).
func options(array, prefix string) string {
	var out []string
	for _, it := range arrayItems(array) {
		name, v, _ := strings.Cut(it, "=")
		if strings.HasPrefix(name, "pg_") {
			continue // a stamp that some builds of the engine put there for themselves
		}
		if !plainOption(v) {
			v = literal(v)
		}
		out = append(out, prefix+ident(name)+"="+v)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

func plainOption(v string) bool {
	for i, r := range v {
		if (r < '0' || r > '9') && (r < 'a' || r > 'z') && r != '_' && !(r == '.' && i > 0) {
			return false
		}
	}
	return v != "" && !Dialect.Reserved[v]
}

// serverOptions writes {a=b} as a list for OPTIONS ( ).
func serverOptions(array string) string {
	var out []string
	for _, it := range arrayItems(array) {
		name, v, _ := strings.Cut(it, "=")
		out = append(out, ident(name)+" "+literal(v))
	}
	return strings.Join(out, ", ")
}
