package all

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"oakenchest/core/environment"
	"oakenchest/core/schema/step"
)

// column and relation are what a life has declared.
type column struct {
	name, typ string
	required  bool
	formerly  string
}

type relation struct {
	name, formerly string
	columns        []column
}

// life is a database that changes at random, with rows in it.
type life struct {
	t       *testing.T
	e       engine
	r       *rand.Rand
	target  string
	run     func(string)
	tables  []relation
	fill    map[string]string
	dataDue string // the data step of this move; empty for none
	names   int
	held    environment.Files
	nextID  int

	moves, steps, lossy, refused, backs int
}

// lifeTypes are types with what values of them are written as.
var lifeTypes = map[string]map[string][]string{
	"PostgreSQL": {"integer": {"1", "-20", "300000"}, "bigint": {"1", "5000000000"},
		"text": {"'reef'", "''", "'12'", "'a longer text'", "'2026-01-02'"}, "character varying(8)": {"'kelp'", "'7'", "'12345678'"},
		"character varying(3)": {"'bay'", "'5'", "''"},
		"numeric(8,2)":         {"1.25", "-3", "99999.99"}, "numeric(8,4)": {"1.2345", "2"}, "double precision": {"0.1", "2", "1e12"},
		"date": {"'2026-01-02'"}, "timestamp without time zone": {"'2026-01-02 03:04:05.678'", "'2026-01-02'"},
		"boolean": {"true", "false"}},
	"MariaDB": {"int(11)": {"1", "-20", "300000"}, "bigint(20)": {"1", "5000000000"},
		"text": {"'reef'", "''", "'12'", "'a longer text'", "'2026-01-02'"}, "varchar(8)": {"'kelp'", "'7'", "'12345678'"},
		"varchar(3)":   {"'bay'", "'5'", "''"},
		"decimal(8,2)": {"1.25", "-3", "99999.99"}, "decimal(8,4)": {"1.2345", "2"}, "double": {"0.1", "2", "1e12"}, "float": {"0.5",
			"16777216"}, "date": {"'2026-01-02'"}, "datetime": {"'2026-01-02 03:04:05'"}, "datetime(3)": {"'2026-01-02 03:04:05.678'",
			"'2026-01-02'"}},
	"SQLite": {"integer": {"1", "-20", "'five'", "1.5"}, "text": {"'reef'", "''", "'12'", "'007'"}, "real": {"0.1", "2", "'x'"},
		"numeric": {"1", "1.5", "'a'"}, "varchar(5)": {"'kelp'", "'1.0'"}, "blob": {"x'00ff'", "5", "'5'"}},
}

func (l *life) fresh(prefix string) string { l.names++; return prefix + strconv.Itoa(l.names) }

func (l *life) anyType() string {
	types := keysOf(lifeTypes[l.e.name])
	return types[l.r.IntN(len(types))]
}

func keysOf[V any](m map[string]V) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func (l *life) value(typ string) string {
	list := lifeTypes[l.e.name][typ]
	return list[l.r.IntN(len(list))]
}

func (l *life) sqlName(table string) string {
	if l.e.name == "PostgreSQL" {
		return "public." + table
	}
	return table
}

// files writes what is declared.
func (l *life) files() environment.Files {
	out := environment.Files{}
	for _, r := range l.tables {
		var b strings.Builder
		if r.formerly != "" {
			b.WriteString("-- formerly: " + r.formerly + "\n")
		}
		fmt.Fprintf(&b, "create table %s (\n  id integer not null,\n", l.sqlName(r.name))
		for _, c := range r.columns {
			fmt.Fprintf(&b, "  %s %s", c.name, c.typ)
			if c.required {
				b.WriteString(" not null")
			}
			b.WriteString(",")
			if c.formerly != "" {
				b.WriteString(" -- formerly: " + c.formerly)
			}
			b.WriteString("\n")
		}
		if l.e.name == "PostgreSQL" {
			b.WriteString("  constraint key_of_" + r.name + " primary key (id)\n);\n")
			out["public/tables/"+r.name+".sql"] = []byte(b.String())
			continue
		}
		b.WriteString("  primary key (id)\n);\n")
		out["tables/"+r.name+".sql"] = []byte(b.String())
	}
	if l.dataDue != "" {
		out["data-steps/now.sql"] = []byte(l.dataDue)
	}
	return out
}

// clone gives the tables for a change that may be refused.
func (l *life) clone() (out []relation) {
	for _, r := range l.tables {
		r.formerly, r.columns = "", slices.Clone(r.columns)
		for i := range r.columns {
			r.columns[i].formerly = ""
		}
		out = append(out, r)
	}
	return out
}

// change makes one or several changes to what is declared, and says what they are.
func (l *life) change() string {
	l.tables, l.fill, l.dataDue = l.clone(), map[string]string{}, ""
	var said []string
	touched := map[string]bool{}
	for range 1 + l.r.IntN(3) {
		t := &l.tables[l.r.IntN(len(l.tables))]
		n := l.r.IntN(12)
		if touched[t.name] && n > 3 { // one of the harder ones for each table
			continue
		}
		touched[t.name] = true
		at := 0
		if len(t.columns) > 0 {
			at = l.r.IntN(len(t.columns))
		} else if n > 1 {
			n = 0
		}
		switch n {
		case 0, 1:
			c := column{name: l.fresh("c"), typ: l.anyType()}
			if l.r.IntN(3) == 0 {
				c.required = true
				l.fill[strings.TrimPrefix(l.sqlName(t.name), "")+"."+c.name] = l.value(c.typ)
			}
			t.columns = slices.Insert(t.columns, l.r.IntN(len(t.columns)+1), c)
			said = append(said, "add "+c.name)
		case 2, 3:
			if t.columns[at].formerly == "" {
				said = append(said, "drop "+t.columns[at].name)
				t.columns = slices.Delete(t.columns, at, at+1)
			}
		case 4, 5:
			c := &t.columns[at]
			c.formerly, c.name = c.name, l.fresh("n")
			said = append(said, "rename "+c.formerly)
		case 6, 7, 8:
			t.columns[at].typ = l.anyType()
			said = append(said, "retype "+t.columns[at].name+" "+t.columns[at].typ)
		case 9:
			said = append(said, "rename table "+t.name)
			t.formerly, t.name = t.name, l.fresh("t")
			touched[t.name] = true
		case 10: // a step that overwrites, and says nothing of a way back
			c := t.columns[at]
			if l.dataDue == "" && t.formerly == "" && c.formerly == "" {
				l.dataDue = fmt.Sprintf("-- run: %s\nupdate %s set %s = %s where id %% 2 = 0;\ndelete from %s where id %% 7 = 3;\n",
					[]string{"before", "after"}[l.r.IntN(2)], t.name, c.name, l.value(c.typ), t.name)
				if l.tables[0].name == "" || c.required { // its type may change in the same move
					break
				}
				said = append(said, "overwrite "+c.name)
			}
		case 11: // a column is moved to a new one by a step
			c := t.columns[at]
			if l.dataDue == "" && t.formerly == "" && c.formerly == "" {
				to := column{name: l.fresh("m"), typ: c.typ, required: c.required}
				t.columns[at] = to
				l.dataDue = fmt.Sprintf("update %s set %s = %s;\n-- check:\nselect id from %s where %s is null and %s is not null;\n"+
					"-- back:\nupdate %s set %s = %s;\n", t.name, to.name, c.name, t.name, to.name, c.name, t.name, c.name, to.name)
				said = append(said, "move "+c.name+" to "+to.name)
			}
		}
	}
	return strings.Join(said, ", ")
}

// rows gives all values: table, id, column → text; null as it is written.
func (l *life) rows(d environment.Driver, tables []relation) map[string]map[string]map[string]string {
	l.t.Helper()
	var names []string
	for _, r := range tables {
		names = append(names, r.name)
	}
	files, err := d.(environment.RowsKeeper).Rows(l.t.Context(), names)
	if err != nil {
		l.t.Fatal(err)
	}
	out := map[string]map[string]map[string]string{}
	for name, data := range files {
		table := strings.TrimSuffix(name[strings.LastIndexByte(name, '/')+1:], ".csv")
		marked := strings.ReplaceAll(string(data), `""`, "\x01") // an empty text is none at all to the reader
		list, err := csv.NewReader(strings.NewReader(marked)).ReadAll()
		if err != nil {
			l.t.Fatal(err)
		}
		out[table] = map[string]map[string]string{}
		for _, row := range list[1:] {
			values := map[string]string{}
			for i, v := range row {
				values[list[0][i]] = v
			}
			out[table][values["id"]] = values
		}
	}
	return out
}

func (l *life) insert(tables []relation) {
	r := tables[l.r.IntN(len(tables))]
	l.nextID++
	names, values := []string{"id"}, []string{strconv.Itoa(l.nextID)}
	for _, c := range r.columns {
		if c.required || l.r.IntN(4) > 0 {
			names, values = append(names, c.name), append(values, l.value(c.typ))
		}
	}
	l.run("insert into " + r.name + " (" + strings.Join(names, ", ") + ") values (" + strings.Join(values, ", ") + ")")
}

func (l *life) open() environment.Driver {
	d, err := environment.Open(context.Background(), environment.Host{}, l.target, environment.Settings{Fill: l.fill})
	if err != nil {
		l.t.Fatal(err)
	}
	return d
}

// move changes the database, looks at every value, and takes the change back, or not.
func (l *life) move(seed string) {
	ctx := l.t.Context()
	was := l.clone()
	what := l.change()
	is := l.files()
	l.moves++
	d := l.open()
	defer func() { d.Close() }()
	before := l.rows(d, was)
	fail := func(format string, args ...any) {
		l.t.Helper()
		l.t.Fatalf("%s, move %d: %s\n%s", seed, l.moves, what, fmt.Sprintf(format, args...))
	}
	past := &environment.Past{Held: l.held}
	if l.dataDue != "" {
		past.Steps.Due = []string{"data-steps/now.sql"}
	}
	p, err := d.Plan(ctx, is, past)
	var gone string
	if err == nil {
		gone = l.t.TempDir()
		if len(p.Loses()) > 0 {
			l.lossy++
		}
		if p.Save != nil && p.Keeps() {
			if err := p.Save(ctx, gone); err != nil {
				fail("%v", err)
			}
		}
		var kept environment.Files
		if kept, err = p.Before(ctx); err != nil {
			fail("%v", err)
		}
		p.Token = fmt.Sprint("move ", l.moves)
		if err = p.Apply(ctx, nil); err == nil || !p.Whole() && !environment.NothingDone(err) {
			l.came(d, p, kept, gone, was, is, before, fail, err)
			return
		}
	}
	l.refused++ // nothing is changed then
	l.tables = was
	if now := l.rows(d, was); fmt.Sprint(now) != fmt.Sprint(before) {
		fail("refused (%v), and the rows are others", err)
	}
}

// came looks at what a change left, and takes it back sometimes; always when it broke off.
func (l *life) came(d environment.Driver, p *environment.Plan, kept environment.Files, gone string, was []relation, is environment.Files,
	before map[string]map[string]map[string]string, fail func(string, ...any), broke error) {
	ctx := l.t.Context()
	l.steps += len(p.Steps)
	first := l.nextID
	if broke == nil {
		l.same(l.rows(d, l.tables), before, was, fail)
		if l.r.IntN(2) == 0 {
			l.held = without(is, "data-steps/now.sql")
			return
		}
		for range l.r.IntN(3) {
			l.insert(l.tables)
		}
	}
	lost, err := environment.ReadFolder(gone)
	if err != nil {
		fail("%v", err)
	}
	back := &environment.Past{Lost: lost, Held: is, Steps: p.Undoing(kept)}
	if broke != nil { // the database knows how far it came
		back.Steps = environment.DataSteps{Undo: true, Tokens: []string{p.Token}}
	}
	for range 4 {
		var q *environment.Plan
		if q, err = d.Plan(ctx, kept, back); err == nil {
			if err = q.Apply(ctx, nil); err != nil {
				fail("back: %v", err)
			}
			l.steps += len(q.Steps)
			break
		}
		var need *step.RowsError
		if !errors.As(err, &need) {
			fail("back: %v", err)
		}
		if strings.Contains(need.Reason, "not all of its values") && l.nextID > first { // rows that came since are in the way
			for _, r := range l.tables {
				l.run("delete from " + r.name + " where id > " + strconv.Itoa(first))
			}
			first = l.nextID
			continue
		}
		key := strings.NewReplacer(`"`, "", "`", "").Replace(need.Table + "." + need.Column)
		l.fill[key] = l.filling(was, key)
		d.Close()
		d = l.open()
	}
	if err != nil {
		fail("back: %v", err)
	}
	l.backs++
	l.tables = was
	after := l.rows(d, was)
	for table, rows := range before {
		for id, values := range rows {
			if got := after[table][id]; fmt.Sprint(got) != fmt.Sprint(values) {
				fail("%s %s was %v and is %v after it was taken back\n%s", table, id, values, got, planText(p))
			}
		}
	}
}

func (l *life) filling(tables []relation, key string) string {
	for _, r := range tables {
		for _, c := range r.columns {
			if key == l.sqlName(r.name)+"."+c.name {
				return l.value(c.typ)
			}
		}
	}
	return "null"
}

// same holds the rows after a change against those before, where nothing was to change.
func (l *life) same(now, before map[string]map[string]map[string]string, was []relation, fail func(string, ...any)) {
	for _, r := range l.tables {
		old := r.name
		if r.formerly != "" {
			old = r.formerly
		}
		i := slices.IndexFunc(was, func(w relation) bool { return w.name == old })
		if i < 0 || strings.Contains(l.dataDue, " "+r.name+" ") {
			continue
		}
		for id, values := range before[old] {
			for _, c := range r.columns {
				name := c.name
				if c.formerly != "" {
					name = c.formerly
				}
				k := slices.IndexFunc(was[i].columns, func(w column) bool { return w.name == name })
				if k >= 0 && was[i].columns[k].typ == c.typ && now[r.name][id][c.name] != values[name] {
					fail("%s %s, %s: %q became %q", r.name, id, c.name, values[name], now[r.name][id][c.name])
				}
			}
		}
	}
}

func without(files environment.Files, name string) environment.Files {
	return environment.With(files, environment.Files{name: nil})
}

func planText(p *environment.Plan) string {
	var b strings.Builder
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "%s %s [%s] %s\n  %s\n", s.Address, s.What, s.Effect, s.Loss, strings.Join(s.Statements, ";\n  "))
	}
	return b.String()
}

// TestLivesLoseNothing changes databases with rows at random: columns and tables come, go, get
// other names and types in which values become others, data steps overwrite and move. Each value
// is looked at before, after, and when the change was taken back. OAKEN_LIFE says how many moves,
// OAKEN_SEED where chance begins.
func TestLivesLoseNothing(t *testing.T) {
	moves, seed := 25, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("OAKEN_LIFE")); err == nil {
		moves, seed = n, rand.Uint64N(1e9)
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	for _, e := range engines {
		t.Run(e.name, func(t *testing.T) {
			l := &life{t: t, e: e, r: rand.New(rand.NewPCG(seed, 7))}
			for ; l.moves < moves && !t.Failed(); seed++ {
				t.Run("life", func(t *testing.T) { // its database goes with it
					l.t, l.r = t, rand.New(rand.NewPCG(seed, 7))
					l.begin()
					for range 25 {
						l.move(fmt.Sprintf("OAKEN_SEED=%d", seed))
					}
				})
			}
			t.Logf("%d moves, %d steps, %d with losses, %d refused, %d taken back", l.moves, l.steps, l.lossy, l.refused, l.backs)
		})
	}
}

// begin makes a database with three tables and rows.
func (l *life) begin() {
	l.target, l.run = l.e.make(l.t)
	l.tables, l.fill, l.dataDue, l.names = nil, nil, "", 0
	for range 3 {
		r := relation{name: l.fresh("t")}
		for range 1 + l.r.IntN(4) {
			r.columns = append(r.columns, column{name: l.fresh("c"), typ: l.anyType()})
		}
		l.tables = append(l.tables, r)
	}
	d := l.open()
	defer d.Close()
	l.held = l.files()
	if l.e.name == "PostgreSQL" {
		l.held["public/schema.sql"] = []byte("create schema public;\n")
	}
	deployAll(l.t, d, l.held)
	for range 40 {
		l.insert(l.tables)
	}
}
