package postgres

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

func (b *builder) namespace(r row) error {
	s := b.r.schema(r.s(1))
	o := object{"", s}
	key := oid{"pg_namespace", r.s(0), "0"}
	b.objects[key] = o
	b.c.oids[o.id()] = key
	b.r.objects[o.id()] = s
	acl := r.s(3)
	if s.Key == "public" && strings.HasSuffix(acl, "=U/pg_database_owner}") && strings.HasPrefix(acl, "{pg_database_owner=UC/") {
		acl = "" // as a new database has it
	}
	owner := r.s(2)
	if s.Key == "public" && owner == "pg_database_owner" {
		owner = ""
	}
	b.rightsOf(s, owner, acl, "pg_namespace")
	return nil
}

func (b *builder) extension(r row) error {
	e := &element.Element{Type: "extension", Key: r.s(1)}
	setText(e, "schema", r.s(2))
	b.add("pg_extension", r.s(0), "", e, "", "")
	return nil
}

// sequenceRow is a row of pg_sequence with names.
type sequenceRow struct {
	schema, name, typ                    string
	start, increment, min, max, cache    string
	cycle, unlogged                      bool
	ownerTable, ownerColumn, owner, acls string
}

// limits gives the default bounds of a sequence of a type.
func limits(typ, increment string) (lowest, highest string) {
	most := map[string]string{"smallint": "32767", "integer": "2147483647", "bigint": "9223372036854775807"}[typ]
	least := map[string]string{"smallint": "-32768", "integer": "-2147483648", "bigint": "-9223372036854775808"}[typ]
	if strings.HasPrefix(increment, "-") {
		return least, "-1"
	}
	return "1", most
}

// settle writes the options that differ from the engine's defaults.
func (s sequenceRow) settle(e *element.Element) {
	low, high := limits(s.typ, s.increment)
	start := s.min
	if strings.HasPrefix(s.increment, "-") {
		start = s.max
	}
	set := func(name, v, usual string) {
		if v != usual {
			setText(e, name, v)
		}
	}
	set("as", s.typ, "bigint")
	set("start", s.start, start)
	set("increment", s.increment, "1")
	set("min", s.min, low)
	set("max", s.max, high)
	set("cache", s.cache, "1")
	setTrue(e, "cycle", s.cycle)
}

func (b *builder) sequence(r row) error {
	s := sequenceRow{schema: r.s(1), name: r.s(2), unlogged: r.s(3) == "u", typ: r.s(4), start: r.s(5), increment: r.s(6), min: r.s(7),
		max: r.s(8), cache: r.s(9), cycle: r.is(10),
		owner: r.s(11), acls: r.s(12), ownerTable: r.s(14), ownerColumn: r.s(15)}
	if r.s(13) == "i" {
		b.idSeq[oid{"pg_class", s.ownerTable, s.ownerColumn}] = s
		return nil
	}
	e := &element.Element{Type: "sequence", Key: s.name}
	setTrue(e, "unlogged", s.unlogged)
	s.settle(e)
	e.Gist = sequenceText(e)
	o := b.add("pg_class", r.s(0), s.schema, e, s.owner, s.acls)
	b.rels[r.s(0)] = o
	if s.ownerTable != "" {
		b.idSeq[oid{"owned", s.ownerTable, s.ownerColumn}] = s
	}
	return nil
}

func (b *builder) relation(r row) error {
	kind := r.s(3)
	e := &element.Element{Type: "table", Key: r.s(2)}
	if kind == "v" || kind == "m" {
		e.Type = "view"
		setTrue(e, "materialized", kind == "m")
		text := strings.TrimSuffix(strings.TrimSpace(r.s(17)), ";")
		e.Set("definition", element.TextValue(Dialect.Small(text)))
		e.Gist = clip(strings.Join(strings.Fields(text), " "))
	}
	setTrue(e, "unlogged", r.s(4) == "u")
	setText(e, "using", r.s(12))
	setText(e, "of", r.s(14))
	if v := r.s(16); v != "" {
		setText(e, "partition of", r.s(20))
		setText(e, "bound", small(v))
	} else {
		setText(e, "inherits", r.s(20))
	}
	if kind == "p" {
		setText(e, "partition by", small(r.s(15)))
	}
	setText(e, "server", r.s(18))
	setText(e, "options", serverOptions(r.s(19)))
	with := options(r.s(5), "")
	if toast := options(r.s(6), "toast."); toast != "" {
		with = sortedList(strings.TrimPrefix(with+", "+toast, ", "))
	}
	setText(e, "with", with)
	setText(e, "tablespace", r.s(13))
	var security []string
	if r.is(9) {
		security = append(security, "enabled")
	}
	if r.is(10) {
		security = append(security, "forced")
	}
	setText(e, "row security", strings.Join(security, ", "))
	if kind == "r" || kind == "p" {
		setText(e, "replica identity", map[string]string{"f": "full", "n": "nothing"}[r.s(11)])
	}
	o := b.add("pg_class", r.s(0), r.s(1), e, r.s(7), r.s(8))
	b.rels[r.s(0)] = o
	return nil
}

var storages = map[string]string{"p": "plain", "e": "external", "m": "main", "x": "extended"}

func (b *builder) column(r row) error {
	o, ok := b.rels[r.s(0)]
	if !ok {
		return nil // of an extension
	}
	switch {
	case o.e.Type == "view":
		id := o.id()
		b.c.Columns[id] = append(b.c.Columns[id], ident(r.s(2))+" "+r.s(3)+" "+r.s(9))
		return b.viewColumn(o, r)
	case o.e.Type == "type":
		k := &element.Element{Type: "attribute", Key: r.s(2), Firm: true}
		setText(k, "type", small(r.s(3)))
		setText(k, "collate", r.s(9))
		o.e.Add(k)
		b.columns[oid{"pg_class", r.s(0), r.s(1)}] = k
		return nil
	}
	c := &element.Element{Type: "column", Key: r.s(2), Firm: true}
	inherited := !r.is(8) || has(o.e, "partition of") || has(o.e, "of")
	if !inherited {
		setText(c, "type", small(r.s(3)))
		setText(c, "collate", r.s(9))
	}
	setTrue(c, "inherited", inherited)
	if r.s(7) == "s" {
		if !inherited {
			setText(c, "generated", "("+small(r.s(5))+")")
		}
	} else if r[5] != nil {
		setText(c, "default", small(r.s(5)))
	}
	setTrue(c, "not null", r.is(4))
	if how := map[string]string{"a": "always", "d": "by default"}[r.s(6)]; how != "" {
		b.identity(o, c, how, oid{"pg_class", r.s(0), r.s(1)})
	}
	setText(c, "storage", storages[r.s(10)])
	setText(c, "compression", map[string]string{"p": "pglz", "l": "lz4"}[r.s(11)])
	setText(c, "statistics", r.s(12))
	setText(c, "set", options(r.s(13), ""))
	setText(c, "options", serverOptions(r.s(14)))
	if seq, ok := b.idSeq[oid{"owned", r.s(0), r.s(1)}]; ok {
		setText(c, "sequence", ident(seq.schema, seq.name))
	}
	b.rightsOf(c, "", r.s(15), "pg_attribute")
	c.Gist = columnText(c)
	o.e.Add(c)
	key := oid{"pg_class", r.s(0), r.s(1)}
	b.columns[key] = c
	id := sub(o.id(), c)
	b.c.oids[id] = key
	if r[16] != nil && r.s(7) == "s" {
		b.c.alias[oid{"pg_attrdef", r.s(16), "0"}] = id
	} else if r[16] != nil {
		b.c.oids[id+".default"] = oid{"pg_attrdef", r.s(16), "0"}
	}
	return nil
}

// viewColumn keeps what only a comment, a default or a right makes worth saying.
func (b *builder) viewColumn(o object, r row) error {
	c := &element.Element{Type: "column", Key: r.s(2), Firm: true}
	setText(c, "default", small(r.s(5)))
	setText(c, "statistics", r.s(12))
	b.rightsOf(c, "", r.s(15), "pg_attribute")
	b.columns[oid{"pg_class", r.s(0), r.s(1)}] = c
	if len(c.Props) > 0 {
		o.e.Add(c)
	}
	return nil
}

// identity says how a column is numbered, with the options that are not usual.
func (b *builder) identity(o object, c *element.Element, how string, column oid) {
	s, ok := b.idSeq[column]
	if !ok {
		setText(c, "identity", how)
		return
	}
	e := &element.Element{}
	s.settle(e)
	typ := textOf(c, "type")
	if textOf(e, "as") == typ || typ == "bigint" {
		e.Set("as", element.Value{})
	}
	text := strings.TrimSpace(sequenceText(e))
	if usual := clipName(o.e.Key, c.Key, "seq"); s.name != usual || s.schema != o.schema {
		text = strings.TrimSpace("sequence name " + ident(s.schema, s.name) + " " + text)
	}
	if text != "" {
		how += " (" + text + ")"
	}
	setText(c, "identity", how)
}

// clipName is the name that the engine makes of two names and a label, at most 63
// bytes (makeObjectName in its sources).
func clipName(a, b, label string) string {
	const most = 63
	over := len(label) + 1
	if b != "" {
		over++
	}
	for len(a)+len(b)+over > most {
		if len(a) > len(b) {
			a = a[:len(a)-1]
		} else {
			b = b[:len(b)-1]
		}
	}
	if b != "" {
		a += "_" + b
	}
	return a + "_" + label
}

func (b *builder) constraint(r row) error {
	if domain := r.s(2); domain != "0" {
		o, ok := b.objects[oid{"pg_type", domain, "0"}]
		if ok {
			k := &element.Element{Type: "constraint", Key: r.s(3), Props: []element.Prop{{Name: "name", Value: element.TextValue(r.s(3))},
				{Name: "definition", Value: element.TextValue(small(r.s(5)))}}}
			b.addPart("pg_constraint", r.s(0), o, k)
		}
		return nil
	}
	o, ok := b.rels[r.s(1)]
	if !ok {
		return nil
	}
	text := small(r.s(5))
	k := &element.Element{Type: "constraint", Key: r.s(3), Gist: clip(text),
		Props: []element.Prop{{Name: "name", Value: element.TextValue(r.s(3))}, {Name: "definition", Value: element.TextValue(text)}}}
	setText(k, "attached to", r.s(7))
	b.addPart("pg_constraint", r.s(0), o, k)
	if r[6] != nil && strings.Contains("pux", r.s(4)) {
		b.indexOf[r.s(6)] = part{o, k}
	}
	b.indexProperties(o, k, r.is(8), r.is(9))
	return nil
}

func (b *builder) indexProperties(o object, k *element.Element, clustered, replica bool) {
	if clustered {
		setText(o.e, "cluster on", k.Key)
	}
	if replica {
		setText(o.e, "replica identity", "using index "+ident(k.Key))
	}
}

func (b *builder) index(r row) error {
	o, ok := b.rels[r.s(1)]
	if !ok {
		return nil
	}
	k := definition("index", r.s(2), r.s(3))
	setText(k, "attached to", r.s(7))
	for item := range strings.SplitSeq(r.s(10), ",") {
		if n, target, ok := strings.Cut(item, " "); ok {
			setText(k, "statistics "+n, target)
		}
	}
	b.addPart("pg_class", r.s(0), o, k)
	b.indexOf[r.s(0)] = part{o, k}
	b.indexProperties(o, k, r.is(4), r.is(5))
	if !r.is(6) && r.s(9) != "I" {
		b.c.Untracked = append(b.c.Untracked, fmt.Sprintf("that the index %s is not valid: build it again", ident(o.schema, k.Key)))
	}
	if r[8] != nil {
		b.c.Untracked = append(b.c.Untracked, fmt.Sprintf("the tablespace of the index %s", ident(o.schema, k.Key)))
	}
	return nil
}

var enabledStates = map[string]string{"D": "disabled", "A": "always", "R": "replica"}

func (b *builder) trigger(r row) error {
	o, ok := b.rels[r.s(1)]
	if !ok {
		return nil
	}
	k := definition("trigger", r.s(2), r.s(3))
	setText(k, "enabled", enabledStates[r.s(4)])
	b.addPart("pg_trigger", r.s(0), o, k)
	return nil
}

func (b *builder) rule(r row) error {
	o, ok := b.rels[r.s(1)]
	if !ok {
		return nil
	}
	k := definition("rule", r.s(2), r.s(3))
	setText(k, "enabled", enabledStates[r.s(4)])
	b.addPart("pg_rewrite", r.s(0), o, k)
	return nil
}

func (b *builder) policy(r row) error {
	o, ok := b.rels[r.s(1)]
	if !ok {
		return nil
	}
	text := "create policy " + ident(r.s(2)) + " on " + o.name()
	if !r.is(3) {
		text += " as restrictive"
	}
	if cmd := map[string]string{"r": "select", "a": "insert", "w": "update", "d": "delete"}[r.s(4)]; cmd != "" {
		text += " for " + cmd
	}
	if who := r.s(5); who != "public" {
		text += " to " + who
	}
	if r[6] != nil {
		text += " using (" + r.s(6) + ")"
	}
	if r[7] != nil {
		text += " with check (" + r.s(7) + ")"
	}
	b.addPart("pg_policy", r.s(0), o, definition("policy", r.s(2), text))
	return nil
}

// sortedStatistics puts the columns in the definition of extended statistics by name,
// then expressions: their order means nothing, and the engine tells them as the columns
// stand in the table.
func sortedStatistics(sql string) string {
	ts, err := Dialect.Scan(sql)
	if err != nil {
		return sql
	}
	c := &sqltext.Cursor{Tokens: sqltext.Meaning(ts)}
	head := c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("on") })
	c.Skip("on")
	columns := commaTexts(c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("from") }))
	slices.SortStableFunc(columns, func(a, b string) int {
		switch x, y := strings.HasPrefix(a, "("), strings.HasPrefix(b, "("); {
		case x && !y:
			return 1
		case y && !x:
			return -1
		}
		return strings.Compare(a, b)
	})
	return flat(head) + " on " + strings.Join(columns, ", ") + " " + flat(c.Rest())
}

func (b *builder) statistics(r row) error {
	o, ok := b.rels[r.s(1)]
	if !ok {
		return nil
	}
	k := definition("statistics", r.s(2), sortedStatistics(r.s(4)))
	setText(k, "schema", r.s(3))
	setText(k, "target", r.s(5))
	b.addPart("pg_statistic_ext", r.s(0), o, k)
	return nil
}
