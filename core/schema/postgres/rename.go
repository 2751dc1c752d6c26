package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/element"
)

// Renamed is a live database as it will be after its renames.
type Renamed struct {
	// Steps are the renames.
	Steps []Step
	// Live is the catalog with the new names.
	Live *Catalog
	// tables and columns give the names that there are still, by the new ones: of
	// tables by their whole name, of columns by identity.
	tables, columns map[string]string
	conn            *pgx.Conn // where the renames are done already
}

// renameable are the sorts of objects that can be renamed.
var renameable = map[string]bool{"table": true, "view": true, "sequence": true, "type": true, "function": true, "procedure": true}

// Renames plans what files declare with `-- formerly:` and the live database still has
// under the old name. The scratch database, which must be empty, is made like the live
// one and the renames are done there, so that the engine itself says what all that
// names them looks like afterwards. It gives nil when there is nothing to rename.
func Renames(ctx context.Context, live *Catalog, want *element.Element, formerly map[string]string,
	scratch func() (*pgx.Conn, error)) (*Renamed, error) {
	have, _ := nodes(live.Root)
	wanted, _ := nodes(want)
	r := &Renamed{tables: map[string]string{}, columns: map[string]string{}}
	var columns []string
	for _, id := range ids(formerly) {
		w, ok := wanted[id]
		switch {
		case !ok:
		case w.part:
			columns = append(columns, id)
		default:
			r.object(w, formerly[id], have, wanted)
		}
	}
	for _, id := range columns {
		if wanted[id].e.Type == "value" {
			r.value(wanted[id], formerly[id], have)
			continue
		}
		r.column(id, wanted[id], formerly[id], have)
	}
	if len(r.Steps) == 0 {
		return nil, nil
	}
	conn, err := scratch()
	if err != nil {
		return nil, err
	}
	if _, err := Load(ctx, conn, &Declared{Root: live.Root}); err != nil {
		return nil, err
	}
	for _, s := range r.Steps {
		if err := runStep(ctx, conn, s); err != nil {
			return nil, err
		}
	}
	r.conn = conn
	r.Live, err = Read(ctx, conn)
	return r, err
}

// object plans the rename of a table or the like.
func (r *Renamed) object(w node, old string, have, wanted map[string]node) {
	if !renameable[w.e.Type] {
		return
	}
	schema, name := w.o.schema, old
	if s, n, ok := strings.Cut(old, "."); ok {
		schema, name = strings.Trim(s, `"`), strings.Trim(n, `"`)
	}
	e := *w.e
	key := name
	if routine(e.Type) {
		_, args := splitRoutine(e.Key)
		key = ident(name) + args
	}
	e.Key = key
	before := object{schema, &e}
	if _, there := have[w.o.id()]; there {
		return
	}
	l, there := have[before.id()]
	if !there { // it has that name already; another may have the former one now
		return
	}
	var out []string
	if schema != w.o.schema {
		out = append(out, "alter "+l.o.spec()+" set schema "+ident(w.o.schema))
	}
	fresh := w.e.Key
	if routine(e.Type) {
		fresh, _ = splitRoutine(w.e.Key)
	} else {
		fresh = ident(fresh)
	}
	if name != "" && key != w.e.Key {
		moved := object{w.o.schema, l.e}
		out = append(out, "alter "+moved.spec()+" rename to "+fresh)
	}
	r.tables[w.o.name()] = l.o.name()
	r.Steps = append(r.Steps, Step{Address: at(w), What: "rename " + l.o.name(), Effect: Locks, Statements: out})
}

// column plans the rename of a column.
func (r *Renamed) column(id string, w node, old string, have map[string]node) {
	table, renamed := r.tables[w.o.name()]
	if !renamed {
		table = w.o.name()
	}
	l, there := have["table "+table]
	if !there || kid(l.e, "column", w.e.Key) != nil || kid(l.e, "column", old) == nil {
		return
	}
	r.columns[id] = old
	r.Steps = append(r.Steps, Step{Address: at(w), What: "rename the column " + ident(old), Effect: Locks,
		Statements: []string{"alter table " + w.o.name() + " rename column " + ident(old) + " to " + ident(w.e.Key)}})
}

// value plans that a value of an enum gets another name.
func (r *Renamed) value(w node, old string, have map[string]node) {
	typ, renamed := r.tables[w.o.name()]
	if !renamed {
		typ = w.o.name()
	}
	l, there := have["type "+typ]
	if !there || kid(l.e, "value", w.e.Key) != nil || kid(l.e, "value", old) == nil {
		return
	}
	r.Steps = append(r.Steps, Step{Address: at(w), What: "rename the value " + old, Effect: Locks,
		Statements: []string{"alter type " + w.o.name() + " rename value " + literal(old) + " to " + literal(w.e.Key)}})
}

// tableNow is the name by which a table can be asked for its rows before the renames.
func (p *planner) tableNow(o object) string {
	if p.renamed != nil {
		if old, ok := p.renamed.tables[o.name()]; ok {
			return old
		}
	}
	return o.name()
}

// columnNow is the same for a column.
func (p *planner) columnNow(o object, c *element.Element) string {
	if p.renamed != nil {
		if old, ok := p.renamed.columns[sub(o.id(), c)]; ok {
			return ident(old)
		}
	}
	return ident(c.Key)
}
