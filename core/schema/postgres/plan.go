package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// What a plan consists of; see package step.
type (
	Step      = step.Step
	Save      = step.Save
	Effect    = step.Effect
	RowsError = step.RowsError
)

// The effects of a step, the least first.
const (
	Instant  = step.Instant
	Locks    = step.Locks
	Scans    = step.Scans
	Rewrites = step.Rewrites
	Loses    = step.Loses
)

var counted = step.Counted

// Wanted is what a database is to hold.
type Wanted struct {
	// Root is the whole: what is tracked and what is not.
	Root *element.Element
	// Columns are those of views; see Catalog.
	Columns map[string][]string
	// Renamed, when set, is the live database after its renames; the catalog that is
	// planned from must be its Live.
	Renamed *Renamed
	// Fill gives values for columns that are to take no null, by SCHEMA.TABLE.COLUMN:
	// SQL expressions over the row.
	Fill map[string]string
	// Due says which data steps come with the plan.
	Due step.Due
	// Counting asks for what would be lost; nil asks for each thing by itself.
	Counting *step.Counting
	// Online asks for steps that keep others out for no longer than they must, where there
	// are such; they run after the transaction.
	Online bool
}

// planner computes the steps from a live database to a wanted one.
type planner struct {
	ctx        context.Context
	conn       *pgx.Conn
	live, want map[string]node
	wantList   []object
	liveCat    *Catalog
	wanted     Wanted
	counting   *step.Counting
	deps       *graph
	renamed    *Renamed
	user       string              // who deploys
	down       map[string]bool     // live things that are dropped, to be made again when they are wanted
	retyped    map[string]bool     // columns whose type changes
	taken      map[string][]string // live things that go with another, without a statement
	heirs      map[string][]object // live tables by the name of what they inherit from
	reset      map[string]bool     // columns of heirs whose own default must be set again
	freed      map[string]bool     // tables that leave the one above, by identity
	gone       map[string]bool     // what is dropped by the steps so far
	inherits   map[string]bool     // wanted columns that come from above, of tables that come under another
	steps      []Step
	late       []Step // drops of what a fill reads
	fills      []Step // of materialized views, in their order
	last       []Step
	after      []Step
	err        error
}

// node is an object or a part of one, by identity.
type node struct {
	o    object
	e    *element.Element
	part bool
}

func nodes(root *element.Element) (map[string]node, []object) {
	out := map[string]node{}
	list := objects(root)
	for _, o := range list {
		id := o.id()
		out[id] = node{o, o.e, false}
		if o.e.Type == "schema" {
			continue
		}
		for _, k := range o.e.Children {
			out[sub(id, k)] = node{o, k, true}
			if k.Type == "column" && has(k, "default") {
				out[sub(id, k)+".default"] = node{o, k, true}
			}
		}
	}
	return out, list
}

// Plan gives the steps that turn the live database into the wanted one, in order. It
// reads the live one to say what would be lost, and refuses what its rows do not allow.
func Plan(ctx context.Context, conn *pgx.Conn, live *Catalog, want Wanted) ([]Step, error) {
	if live.Root.Sum() == want.Root.Sum() {
		if want.Renamed != nil {
			return want.Renamed.Steps, nil
		}
		return nil, nil
	}
	if want.Counting != nil && big(ctx, conn) {
		want.Counting.Rehearse()
		again := want
		_, _ = plan(ctx, conn, live, again)
		want.Counting.Ask(func(condition string) string { return "count(*) filter (where " + condition + ")" },
			func(query string, n int) ([]int64, error) {
				out := make([]int64, n)
				at := make([]any, n)
				for i := range out {
					at[i] = &out[i]
				}
				return out, conn.QueryRow(ctx, query).Scan(at...)
			})
	}
	return plan(ctx, conn, live, want)
}

// big reports whether a table has so many rows that it is worth asking it once for everything.
func big(ctx context.Context, conn *pgx.Conn) (yes bool) {
	err := conn.QueryRow(ctx, "select exists (select from pg_catalog.pg_class where relkind in ('r', 'm') and (reltuples > 100000 or "+
		"relpages > 5000))").Scan(&yes)
	return yes && err == nil
}

// plan is Plan, for a rehearsal or in earnest.
func plan(ctx context.Context, conn *pgx.Conn, live *Catalog, want Wanted) ([]Step, error) {
	p := &planner{renamed: want.Renamed, counting: want.Counting, ctx: ctx, conn: conn, liveCat: live, wanted: want,
		down: map[string]bool{}, retyped: map[string]bool{}, taken: map[string][]string{}, heirs: map[string][]object{},
		reset: map[string]bool{}, freed: map[string]bool{}, inherits: map[string]bool{}, gone: map[string]bool{}}
	p.live, _ = nodes(live.Root)
	p.want, p.wantList = nodes(want.Root)
	p.family(want.Root)
	p.renameAttached()
	p.whatGoes()
	p.keepNames()
	if len(p.down)+len(p.retyped) > 0 {
		at := conn
		if p.renamed != nil {
			at = p.renamed.conn
		}
		var err error
		if p.deps, err = depend(ctx, at, live); err != nil {
			return nil, err
		}
		p.spread()
		p.dropAll()
		p.dropLater()
	}
	if err := conn.QueryRow(ctx, "select current_user::text").Scan(&p.user); err != nil {
		return nil, EngineError(err)
	}
	p.makeAll()
	if p.err != nil {
		return nil, p.err
	}
	steps := slices.Concat(p.steps, p.late, p.fills, p.last, p.after)
	if want.Due.Between {
		step.Tighten(steps)
	}
	if p.renamed != nil {
		steps = append(slices.Clone(p.renamed.Steps), steps...)
	}
	slices.SortStableFunc(steps, func(a, b Step) int { // what is committed first, comes first
		switch {
		case a.Before == b.Before:
			return 0
		case a.Before:
			return -1
		}
		return 1
	})
	return steps, nil
}

// ids lists a map's keys, sorted.
func ids[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for id := range m {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// whatGoes finds what is dropped because it is not wanted, or can't be altered.
func (p *planner) whatGoes() {
	for _, id := range ids(p.live) {
		l := p.live[id]
		w, stays := p.want[id]
		switch {
		case strings.HasSuffix(id, ".default") && l.e.Type == "column":
			continue
		case !stays && l.part && l.e.Type == "column" && l.o.e.Type == "view":
		case !stays && l.part && has(l.e, "inherited"):
		case !stays && l.part && (l.e.Type == "value" || l.e.Type == "attribute"):
		case !stays && l.e.Type == "schema" && len(l.e.Props) == 0 && l.e.Key == "public":
			p.down[id] = true
		case !stays:
			p.down[id] = true
		case l.part:
			if p.mustRemake(l, w) {
				p.down[id] = true
			} else if l.e.Type == "column" && retypes(l.e, w.e) {
				p.retyped[id] = true
			}
		case p.mustReplace(l.o, w.o):
			p.down[id] = true
		}
	}
}

// retypes says that a column's type or collation changes.
func retypes(l, w *element.Element) bool {
	return textOf(l, "type") != textOf(w, "type") || textOf(l, "collate") != textOf(w, "collate")
}

// mustRemake says that a part can't be altered and must be dropped and made again.
func (p *planner) mustRemake(l, w node) bool {
	if l.e.Type == "column" {
		return textOf(l.e, "generated") != textOf(w.e, "generated") && has(w.e, "generated") ||
			has(l.e, "inherited") != has(w.e, "inherited") && has(w.e, "generated")
	}
	if onlyUnvalidated(l, w) {
		return false
	}
	return textOf(l.e, "definition") != textOf(w.e, "definition") || textOf(l.e, "attached to") != textOf(w.e, "attached to") &&
		has(l.e, "attached to") && !p.freed[l.o.id()]
}

// mustReplace says that an object can't be altered and must be dropped and made again.
func (p *planner) mustReplace(l, w object) bool {
	differs := func(names ...string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return textOf(l.e, n) != textOf(w.e, n) })
	}
	switch l.e.Type {
	case "table":
		return differs("partition by", "of", "server")
	case "view":
		if differs("materialized", "using") {
			return true
		}
		return differs("definition", "names") && (has(l.e, "materialized") || !p.appends(l.id()))
	case "function", "procedure":
		return differs("returns", "arguments")
	case "type":
		if textOf(l.e, "sort") == "base" && !differs("sort") {
			return differs("definition") && settable(textOf(l.e, "definition"), textOf(w.e, "definition")) == nil
		}
		if differs("sort", "definition") {
			return true
		}
		switch textOf(l.e, "sort") {
		case "enum":
			return !extendsEnum(l.e, w.e)
		case "domain":
			return differs("type", "collate")
		}
		return false
	case "sequence", "schema", "extension", "text-search-configuration", "operator-family":
		return differs("definition")
	}
	return differs("definition", "arguments")
}

// appends says that a view's wanted columns begin with those that it has.
func (p *planner) appends(id string) bool {
	have, want := p.liveCat.Columns[id], p.wanted.Columns[id]
	return len(want) >= len(have) && slices.Equal(have, want[:len(have)])
}

// spread finds what else must go for a while: all that stands on what goes.
func (p *planner) spread() {
	queue := append(ids(p.down), ids(p.retyped)...)
	for len(queue) > 0 {
		id := queue[0]
		queue = queue[1:]
		n := p.live[id]
		soft := p.retyped[id] && !p.down[id]
		for _, e := range p.standing(id, n) {
			if add := p.reach(id, e, soft); add != "" && !slices.Contains(queue, add) {
				queue = append(queue, add)
			}
		}
	}
	for id := range p.down {
		base := p.live[id].e.Type == "type" && textOf(p.live[id].e, "sort") == "base"
		for _, e := range p.standing(id, p.live[id]) {
			if e.soft || base && slices.ContainsFunc(p.deps.on[e.id], func(o edge) bool { return o.id == id }) {
				p.taken[e.id] = append(p.taken[e.id], id)
			}
		}
	}
}

// standing lists what stands on a thing: on the object itself and all its parts.
func (p *planner) standing(id string, n node) []edge {
	out := slices.Clone(p.deps.on[id])
	if n.part && n.e.Type == "column" && n.o.e.Type == "table" && !strings.HasSuffix(id, ".default") {
		return append(out, p.below(n.o, n.e.Key)...)
	}
	if n.part || n.e == nil || n.e.Type == "schema" {
		return out
	}
	for _, k := range n.e.Children {
		part := sub(id, k)
		for _, e := range p.deps.on[part] {
			if owner := p.live[e.id]; owner.o.e != n.e {
				out = append(out, e)
			}
		}
	}
	return out
}

// below lists what stands on the columns that tables below inherit from one.
func (p *planner) below(o object, column string) []edge {
	var out []edge
	for _, child := range p.heirs[o.name()] {
		id := sub(child.id(), &element.Element{Type: "column", Key: column})
		if _, known := p.live[id]; known {
			out = append(out, edge{id, true})
		}
		for _, e := range p.deps.on[id] {
			out = append(out, edge{e.id, e.soft})
		}
		out = append(out, p.below(child, column)...)
	}
	return out
}

// reach decides what becomes of something that stands on what goes or, with retyped,
// changes its type. It gives the identity to follow, if any.
func (p *planner) reach(from string, e edge, retyped bool) string {
	d, known := p.live[e.id]
	if !known || p.down[e.id] {
		return ""
	}
	source := p.live[from]
	typeLike := !source.part && (source.e.Type == "type" || source.e.Type == "collation")
	switch {
	case d.e.Type == "schema":
		return ""
	case d.part && strings.HasSuffix(e.id, ".default") && retyped:
		return "" // altered with its column
	case d.part && d.e.Type == "column" && !strings.HasSuffix(e.id, ".default"):
		switch {
		case has(d.e, "generated"):
			p.down[e.id] = true
			return e.id
		case typeLike && p.wants(e.id):
			if p.retyped[e.id] {
				return ""
			}
			p.retyped[e.id] = true
			return e.id
		}
		return ""
	case retyped && d.part && (d.e.Type == "index" || d.e.Type == "constraint" || d.e.Type == "statistics" && !has(d.e, "target")):
		return "" // the engine builds them again itself
	case retyped && !d.part && d.e.Type == "sequence":
		return ""
	case d.e.Type == "sequence" && e.soft && p.wants(e.id):
		p.add(d, "set the sequence free", Instant, "alter sequence "+d.o.name()+" owned by none")
		return ""
	case d.o.e.Type == "table" && !d.part && (source.e.Type == "type" && !source.part || source.e.Type == "table" && p.wants(from)):
		if source.e.Type == "table" { // a partition or heir of a table that is made again
			p.down[e.id] = true
			return e.id
		}
		return ""
	}
	p.down[e.id] = true
	return e.id
}

// wants says that a thing is in the wanted tree.
func (p *planner) wants(id string) bool { _, ok := p.want[id]; return ok }

// at gives the address of a node.
func at(n node) element.Address {
	var a element.Address
	if n.o.schema != "" {
		a = a.Below(element.Step{Type: "schema", Key: n.o.schema})
	}
	a = a.Below(element.Step{Type: n.o.e.Type, Key: n.o.e.Key})
	if n.part {
		a = a.Below(element.Step{Type: n.e.Type, Key: n.e.Key})
	}
	return a
}

func (p *planner) add(n node, what string, effect Effect, statements ...string) {
	if len(statements) > 0 {
		p.steps = append(p.steps, Step{Address: at(n), What: what, Effect: effect, Statements: statements})
	}
}

// count runs a query that gives one number on the live database.
func (p *planner) count(query string) int64 {
	if p.err != nil {
		return 0
	}
	var n int64
	if err := p.conn.QueryRow(p.ctx, query).Scan(&n); err != nil {
		p.err = EngineError(err)
	}
	return n
}

// rows counts the rows of a table that a condition chooses.
func (p *planner) rows(table, where string) int64 {
	if p.err != nil {
		return 0
	}
	n, err := p.counting.Rows(table, where, func(query string) (int64, error) { return p.count(query), p.err })
	if err != nil {
		p.fail(err)
	}
	return n
}

// FamilyError says that a table can't come under another as it is declared: its columns
// stay its own.
type FamilyError struct{ Table, Above, Column string }

// Error says which column is in the way.
func (e *FamilyError) Error() string {
	return fmt.Sprintf("table %s is to inherit from %s, and has the column %s already, which stays its own", e.Table, e.Above, e.Column)
}

// fail keeps the first reason why there is no plan.
func (p *planner) fail(err error) {
	if p.err == nil {
		p.err = err
	}
}

// Empty says that a database holds nothing of people.
func Empty(root *element.Element) bool {
	for _, e := range root.Children {
		if e.Type != "schema" || e.Key != "public" || len(e.Children) > 0 {
			return false
		}
	}
	return true
}

// Build gives the steps that make what is declared in a database without anything but,
// perhaps, the schema public.
func Build(d *Declared, live *element.Element) []Step {
	have, _ := nodes(d.Root)
	var out []Step
	last := ""
	for _, st := range creation(d.Root, nil) {
		id := st.id
		n, known := have[id]
		for !known {
			i := max(strings.LastIndexByte(id, '.'), strings.LastIndexByte(id, '/'))
			if i < 0 {
				break
			}
			id = id[:i]
			n, known = have[id]
		}
		own := n.o.id()
		if own == "schema public" && st.id == own && schemaOf(live, "public") != nil {
			continue
		}
		if st.late {
			last = ""
			out = append(out, Step{Address: at(node{n.o, n.o.e, false}), What: "fill the materialized view", Effect: Scans,
				Statements: []string{st.sql}, AfterRows: true})
			continue
		}
		if k := len(out) - 1; k >= 0 && own == last {
			out[k].Statements = append(out[k].Statements, st.sql)
			continue
		}
		last = own
		what := "create the " + sortWords(n.o.e)
		if st.id != own && st.id != own+".shell" {
			what = "complete the " + sortWords(n.o.e)
		}
		out = append(out, Step{Address: at(node{n.o, n.o.e, false}), What: what, Effect: Instant, Statements: []string{st.sql}})
	}
	if schemaOf(d.Root, "public") == nil && schemaOf(live, "public") != nil {
		out = append(out, Step{Address: element.Address{}.Below(element.Step{Type: "schema", Key: "public"}), What: "drop the schema",
			Effect: Instant, Statements: []string{"drop schema if exists public"}})
	}
	return out
}
