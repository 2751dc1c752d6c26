package postgres

import (
	"strings"

	"oakenchest/core/element"
)

// statements gives all statements that make an object: its own first, then its
// parts. With apart set, what could stand in a circle of things that need each other
// has statements of its own: foreign keys, checks and defaults that call routines,
// keys of partitioned tables.
func (o object) statements(apart bool) []statement {
	w := &writer{o: o, id: o.id(), apart: apart}
	e := o.e
	switch e.Type {
	case "schema":
		w.own(o.createSQL(""))
	case "table":
		w.table()
	case "view":
		sql := o.viewSQL("", !apart || !has(e, "materialized"))
		w.own(sql)
		if apart && has(e, "materialized") {
			w.more(w.id+"/data", "refresh materialized view "+o.name())
			w.out[len(w.out)-1].late = true
		}
	default:
		w.own(o.createSQL(""))
	}
	w.columns()
	w.parts()
	w.properties()
	return w.out
}

// writer gathers the statements of one object.
type writer struct {
	o     object
	id    string
	apart bool
	out   []statement
}

func (w *writer) own(sql string) { w.out = append(w.out, statement{id: w.id, sql: sql}) }

func (w *writer) more(id, sql string) { w.out = append(w.out, statement{id: id, sql: sql}) }

// block is more with an empty line before it in a file.
func (w *writer) block(id, sql string) {
	w.out = append(w.out, statement{id: id, sql: sql, apart: true})
}

// calls says that an expression calls something that is no part of the engine, as
// far as its text tells: a name with a schema before a parenthesis, or an operator in
// its long form.
func calls(expr string) bool {
	ts, err := Dialect.Scan(expr)
	if err != nil {
		return true
	}
	for i := 2; i+1 < len(ts); i++ {
		if ts[i+1].Is("(") && ts[i-1].Is(".") && !ts[i-2].Is("pg_catalog") {
			return true
		}
		if ts[i].Is("operator") && ts[i+1].Is("(") {
			return true
		}
	}
	return len(ts) > 1 && ts[0].Is("operator")
}

func (w *writer) detach(c *element.Element) bool {
	if !w.apart {
		return false
	}
	def := textOf(c, "definition")
	key := strings.HasPrefix(def, "primary key") || strings.HasPrefix(def, "unique") || strings.HasPrefix(def, "exclude")
	return strings.HasPrefix(def, "foreign key") || strings.HasSuffix(def, " not valid") || key && has(w.o.e, "partition by") || calls(def)
}

func (w *writer) table() {
	late := func(c *element.Element) bool { return w.apart && has(c, "default") && calls(textOf(c, "default")) }
	w.own(w.o.tableSQL(w.detach, late))
	for _, c := range kids(w.o.e, "column") {
		if late(c) && !has(c, "inherited") {
			w.more(sub(w.id, c)+".default",
				"alter table only "+w.o.name()+" alter column "+ident(c.Key)+" set default "+textOf(c, "default"))
		}
	}
	for _, c := range sortedKids(w.o.e, "constraint") {
		if w.detach(c) {
			w.more(sub(w.id, c), w.o.addConstraint(c, false))
		}
	}
}

// addConstraint writes ALTER TABLE ... ADD; only leaves partitions alone.
func (o object) addConstraint(c *element.Element, only bool) string {
	words := "alter table "
	if has(o.e, "server") {
		words = "alter foreign table "
	}
	if only {
		words += "only "
	}
	return words + o.name() + " add " + constraintText(c)
}

// columns writes what CREATE can't say of columns.
func (w *writer) columns() {
	table := "alter " + sortWords(w.o.e) + " "
	if w.o.e.Type == "table" {
		table += "only "
	}
	table += w.o.name()
	for _, c := range kids(w.o.e, "column") {
		for _, sql := range columnExtras(c, has(c, "inherited") || w.o.e.Type == "view") {
			w.more(sub(w.id, c), table+" alter column "+ident(c.Key)+" "+sql)
		}
		if seq := textOf(c, "sequence"); seq != "" {
			w.more(sub(w.id, c)+".sequence", "alter sequence "+seq+" owned by "+w.o.name()+"."+ident(c.Key))
		}
	}
}

// columnExtras gives the actions of ALTER COLUMN for what the column's own text
// does not say.
func columnExtras(c *element.Element, inherited bool) []string {
	var out []string
	if inherited {
		if v := textOf(c, "default"); v != "" {
			out = append(out, "set default "+v)
		}
		if has(c, "not null") {
			out = append(out, "set not null")
		}
	}
	for _, name := range []string{"storage", "compression", "statistics"} {
		if v := textOf(c, name); v != "" {
			out = append(out, "set "+name+" "+v)
		}
	}
	if v := textOf(c, "set"); v != "" {
		out = append(out, "set ("+v+")")
	}
	return out
}

var enabledWords = map[string]string{"disabled": "disable", "always": "enable always", "replica": "enable replica"}

// parts writes indexes, statistics, triggers, rules and policies, and members.
func (w *writer) parts() {
	e := w.o.e
	for _, typ := range []string{"index", "constraint", "statistics", "trigger", "rule", "policy"} {
		for _, k := range sortedKids(e, typ) {
			id := sub(w.id, k)
			if typ != "constraint" {
				w.block(id, textOf(k, "definition"))
			}
			if parent := textOf(k, "attached to"); parent != "" {
				w.more(id+".attached", "alter index "+parent+" attach partition "+ident(w.o.schema, k.Key))
			}
			if state := enabledWords[textOf(k, "enabled")]; state != "" {
				w.more(id, "alter table "+w.o.name()+" "+state+" "+typ+" "+ident(k.Key))
			}
			if v := textOf(k, "target"); v != "" {
				w.more(id, "alter statistics "+w.o.statisticsName(k)+" set statistics "+v)
			}
			for _, p := range k.Props {
				if n, ok := strings.CutPrefix(p.Name, "statistics "); ok {
					w.more(id, "alter index "+ident(w.o.schema, k.Key)+" alter column "+n+" set statistics "+p.Value.Text())
				}
			}
		}
	}
	for _, m := range sortedKids(e, "member") {
		w.more(sub(w.id, m), "alter "+w.o.spec()+" add "+m.Key)
	}
}

func (o object) statisticsName(k *element.Element) string {
	if s := textOf(k, "schema"); s != "" {
		return ident(s, k.Key)
	}
	return ident(o.schema, k.Key)
}

// properties writes what hangs on the object itself, and all comments and rights.
func (w *writer) properties() {
	e := w.o.e
	for _, p := range e.Props {
		for _, sql := range w.o.propertySQL(p.Name, p.Value.Text()) {
			w.more(w.id+"."+p.Name, sql)
		}
	}
	if v := textOf(e, "comment"); v != "" {
		w.block(w.id+".comment", "comment on "+w.o.spec()+" is "+literal(v))
	}
	for _, k := range e.Children {
		if v := textOf(k, "comment"); v != "" {
			if _, own := commentable[k.Type]; own {
				w.block(sub(w.id, k)+".comment", "comment on "+w.o.partSpec(k)+" is "+literal(v))
			}
		}
	}
	w.rights(w.id, e, "")
	for _, c := range kids(e, "column") {
		w.rights(sub(w.id, c), c, ident(c.Key))
	}
}

// commentable are the sorts of parts that can have a comment.
var commentable = map[string]bool{"column": true, "constraint": true, "index": true, "trigger": true, "rule": true, "policy": true,
	"statistics": true, "attribute": true}

// partSpec names a part as COMMENT ON does.
func (o object) partSpec(k *element.Element) string {
	switch k.Type {
	case "column", "attribute":
		return "column " + o.name() + "." + ident(k.Key)
	case "index":
		return "index " + ident(o.schema, k.Key)
	case "statistics":
		return "statistics " + o.statisticsName(k)
	case "constraint":
		if o.e.Type == "type" {
			return "constraint " + ident(k.Key) + " on domain " + o.name()
		}
	}
	return k.Type + " " + ident(k.Key) + " on " + o.name()
}

// propertySQL writes the statements for a property that CREATE can't say.
func (o object) propertySQL(name, v string) []string {
	table := "alter " + sortWords(o.e) + " " + o.name()
	switch name {
	case "row security":
		var out []string
		if strings.Contains(v, "enabled") {
			out = append(out, table+" enable row level security")
		}
		if strings.Contains(v, "forced") {
			out = append(out, table+" force row level security")
		}
		return out
	case "replica identity":
		return []string{table + " replica identity " + v}
	case "cluster on":
		return []string{table + " cluster on " + ident(v)}
	case "enabled":
		return []string{"alter event trigger " + o.name() + " " + enabledWords[v]}
	}
	if kinds, ok := strings.CutPrefix(name, "mapping "); ok {
		return []string{"alter text search configuration " + o.name() + " add mapping for " + ident(kinds) + " with " + v}
	}
	return nil
}

// rights writes owner and grants; column is set for those of one column.
func (w *writer) rights(id string, e *element.Element, column string) {
	if v := textOf(e, "owner"); v != "" && column == "" {
		w.block(id+".owner", "alter "+w.o.spec()+" owner to "+ident(v))
	}
	apart := true
	for _, p := range e.Props {
		who, ok := strings.CutPrefix(p.Name, "grant to ")
		if !ok {
			continue
		}
		for _, sql := range w.o.grantSQL(who, p.Value.Text(), column) {
			w.out = append(w.out, statement{id: id + ".grants", sql: sql, apart: apart})
			apart = false
		}
	}
}

// grantSQL writes what gives a role its rights on the object, or on one column.
func (o object) grantSQL(who, rights, column string) []string {
	on := o.grantSpec()
	role := ident(who)
	if who == "public" {
		role = who
	}
	if rights == "nothing" {
		return []string{"revoke all on " + on + " from " + role}
	}
	var plain, passing []string
	for r := range strings.SplitSeq(rights, ", ") {
		r, passes := strings.CutSuffix(r, " with grant option")
		if column != "" {
			r += " (" + column + ")"
		}
		if passes {
			passing = append(passing, r)
		} else {
			plain = append(plain, r)
		}
	}
	var out []string
	if len(plain) > 0 {
		out = append(out, "grant "+strings.Join(plain, ", ")+" on "+on+" to "+role)
	}
	if len(passing) > 0 {
		out = append(out, "grant "+strings.Join(passing, ", ")+" on "+on+" to "+role+" with grant option")
	}
	return out
}

// grantSpec names the object as GRANT does.
func (o object) grantSpec() string {
	switch o.e.Type {
	case "table", "view":
		return "table " + o.name()
	case "aggregate":
		return strings.Replace(o.spec(), "aggregate", "function", 1)
	case "type":
		return "type " + o.name()
	case "wrapper":
		return "foreign data wrapper " + o.name()
	case "server":
		return "foreign server " + o.name()
	}
	return o.spec()
}
