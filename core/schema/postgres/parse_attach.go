package postgres

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// attach reads a statement that adds something to an object of any file.
func (r *reader) attach(st declaration) error {
	c := st.c
	switch {
	case c.Skip("create"):
		c.Skip("or", "replace")
		return r.part(st)
	case c.Skip("comment", "on"):
		return r.comment(st)
	case c.Skip("alter", "table"), c.Skip("alter", "foreign", "table"), c.Skip("alter", "view"), c.Skip("alter", "materialized", "view"),
		c.Skip("alter", "sequence"):
		return r.alterRelation(st)
	case c.Peek("alter") && st.givesOwner():
		c.Skip("alter")
		return r.alterOwner(st)
	case c.Skip("alter", "index"):
		return r.alterIndex(st)
	case c.Skip("alter", "text", "search", "configuration"):
		return r.alterMapping(st)
	case c.Skip("alter", "operator", "family"):
		return r.alterFamily(st)
	case c.Skip("alter", "event", "trigger"):
		return r.alterEventTrigger(st)
	case c.Skip("alter", "statistics"):
		return r.alterStatistics(st)
	case c.Peek("grant"), c.Peek("revoke"):
		return r.grant(st)
	}
	return fmt.Errorf("%q declares nothing: only statements that create, comment on or grant can be declared", clip(flat(c.Tokens)))
}

// givesOwner says that a statement ends with OWNER TO role.
func (st declaration) givesOwner() bool {
	n := len(st.c.Tokens)
	return n > 3 && st.c.Tokens[n-3].Is("owner") && st.c.Tokens[n-2].Is("to")
}

// part reads CREATE INDEX, TRIGGER, RULE, POLICY and STATISTICS.
func (r *reader) part(st declaration) error {
	c := st.c
	c.Skip("unique")
	c.Skip("constraint")
	typ := strings.ToLower(c.Next().Text)
	c.Skip("concurrently")
	c.Skip("if", "not", "exists")
	e := &element.Element{Type: typ, Firm: true}
	if !c.Peek("on") {
		names := c.QualifiedName(Dialect)
		if len(names) == 0 {
			return fmt.Errorf("a name for the %s is expected%s", typ, st.found())
		}
		e.Key = names[len(names)-1]
		if typ == "statistics" && len(names) == 2 {
			setText(e, "schema", names[0])
		}
	}
	if e.Key == "" {
		return fmt.Errorf("the %s needs a name", typ)
	}
	before := map[string]string{"rule": "to", "statistics": "from"}[typ]
	if before == "" {
		before = "on"
	}
	c.Upto(func(c *sqltext.Cursor) bool { return c.Peek(before) })
	c.Skip(before)
	c.Skip("only")
	owner, id, err := r.relationOf(st)
	if err != nil {
		return err
	}
	if kid(owner, typ, e.Key) != nil {
		return fmt.Errorf("the %s %s is declared twice", typ, e.Key)
	}
	text := flat(st.c.Tokens)
	text = strings.Replace(strings.Replace(strings.Replace(text, " concurrently ", " ", 1), " if not exists ", " ", 1),
		"create or replace ", "create ", 1)
	if typ == "statistics" {
		text = sortedStatistics(text)
	}
	e.Set("definition", element.TextValue(text))
	e.Gist = clip(strings.TrimPrefix(text, "create "))
	owner.Add(e)
	r.belongs(st, id)
	r.d.at[sub(id, e)] = st.place
	return nil
}

// column finds a column, or makes one that stands for an inherited or a view's column.
func columnOf(owner *element.Element, name string) (*element.Element, error) {
	if k := kid(owner, "column", name); k != nil {
		return k, nil
	}
	if owner.Type == "table" && !has(owner, "partition of") && !has(owner, "inherits") && !has(owner, "of") {
		return nil, fmt.Errorf("%s has no column %s", owner.Key, name)
	}
	k := &element.Element{Type: "column", Key: name, Firm: true}
	setTrue(k, "inherited", owner.Type == "table")
	owner.Add(k)
	return k, nil
}

// alterRelation reads what ALTER TABLE, VIEW or SEQUENCE say beside CREATE.
func (r *reader) alterRelation(st declaration) error {
	c := st.c
	c.Skip("only")
	owner, id, err := r.relationOf(st)
	if err != nil {
		return err
	}
	r.belongs(st, id)
	for _, part := range sqltext.Commas(c.Rest()) {
		pc := &sqltext.Cursor{Tokens: part}
		if err := r.alterOne(owner, pc); err != nil {
			return err
		}
		if pc.More() {
			return fmt.Errorf("%q can't be declared", clip(flat(part)))
		}
	}
	return nil
}

func (r *reader) alterOne(owner *element.Element, c *sqltext.Cursor) error {
	enabled := func(kind, state string) error {
		name := Dialect.NameOf(c.Next())
		k := kid(owner, kind, name)
		if k == nil {
			return fmt.Errorf("%s has no %s %s", owner.Key, kind, name)
		}
		setText(k, "enabled", state)
		return nil
	}
	security := func(word string) {
		setText(owner, "row security", strings.TrimPrefix(textOf(owner, "row security")+", "+word, ", "))
	}
	switch {
	case c.Skip("add", "constraint"):
		name := Dialect.NameOf(c.Next())
		return addConstraint(owner, name, flat(c.Rest()))
	case c.Skip("add"):
		return addConstraint(owner, "", flat(c.Rest()))
	case c.Skip("alter", "column"):
		return alterColumn(owner, c)
	case c.Skip("alter", "constraint"):
		c.Rest()
	case c.Skip("owner", "to"):
		setText(owner, "owner", Dialect.NameOf(c.Next()))
	case c.Skip("owned", "by"):
		return r.ownedBy(owner, c)
	case c.Skip("enable", "row", "level", "security"):
		security("enabled")
	case c.Skip("force", "row", "level", "security"):
		security("forced")
	case c.Skip("replica", "identity"):
		setText(owner, "replica identity", flat(c.Rest()))
	case c.Skip("cluster", "on"):
		setText(owner, "cluster on", Dialect.NameOf(c.Next()))
	case c.Skip("enable", "always", "trigger"):
		return enabled("trigger", "always")
	case c.Skip("enable", "replica", "trigger"):
		return enabled("trigger", "replica")
	case c.Skip("disable", "trigger"):
		return enabled("trigger", "disabled")
	case c.Skip("enable", "always", "rule"):
		return enabled("rule", "always")
	case c.Skip("enable", "replica", "rule"):
		return enabled("rule", "replica")
	case c.Skip("disable", "rule"):
		return enabled("rule", "disabled")
	}
	return nil
}

func alterColumn(owner *element.Element, c *sqltext.Cursor) error {
	col, err := columnOf(owner, Dialect.NameOf(c.Next()))
	if err != nil {
		return err
	}
	switch {
	case c.Skip("set", "storage"):
		setText(col, "storage", strings.ToLower(c.Next().Text))
	case c.Skip("set", "compression"):
		setText(col, "compression", strings.ToLower(c.Next().Text))
	case c.Skip("set", "statistics"):
		setText(col, "statistics", flat(c.Rest()))
	case c.Skip("set", "default"):
		setText(col, "default", flat(c.Rest()))
	case c.Skip("set", "not", "null"):
		setTrue(col, "not null", true)
	case c.Skip("set"):
		setText(col, "set", flat(sqltext.Inside(c.Group())))
	case c.Skip("options"):
		setText(col, "options", flat(sqltext.Inside(c.Group())))
	}
	return nil
}

// ownedBy notes at a column which sequence goes with it.
func (r *reader) ownedBy(seq *element.Element, c *sqltext.Cursor) error {
	names := c.QualifiedName(Dialect)
	if len(names) < 2 {
		return fmt.Errorf("a sequence is owned by a column: TABLE.COLUMN")
	}
	schema, table, err := qualified(names[:len(names)-1])
	if err != nil {
		return err
	}
	owner := r.objects[r.owners[ident(schema, table)]]
	if owner == nil {
		return fmt.Errorf("no file declares %s", ident(schema, table))
	}
	col, err := columnOf(owner, names[len(names)-1])
	if err != nil {
		return err
	}
	for id, e := range r.objects {
		if e == seq {
			setText(col, "sequence", strings.TrimPrefix(id, "sequence "))
		}
	}
	return nil
}

// alterIndex reads ALTER INDEX parent ATTACH PARTITION child, and column statistics.
func (r *reader) alterIndex(st declaration) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	if st.c.Skip("attach", "partition") {
		childSchema, child, err := st.name()
		if err != nil {
			return err
		}
		k, id := r.index(childSchema, child)
		if k == nil {
			return fmt.Errorf("no file declares the index %s", ident(childSchema, child))
		}
		setText(k, "attached to", ident(schema, name))
		r.belongs(st, id)
		return nil
	}
	k, id := r.index(schema, name)
	if k == nil || !st.c.Skip("alter", "column") {
		return fmt.Errorf("%q can't be declared", clip(flat(st.c.Tokens)))
	}
	n := st.c.Next().Text
	st.c.Skip("set", "statistics")
	setText(k, "statistics "+n, flat(st.c.Rest()))
	r.belongs(st, id)
	return nil
}

// index finds an index, or the constraint that has one, by its name.
func (r *reader) index(schema, name string) (*element.Element, string) {
	s := r.schemas[schema]
	if s == nil {
		return nil, ""
	}
	for _, o := range s.Children {
		if o.Type != "table" && o.Type != "view" {
			continue
		}
		for _, typ := range []string{"index", "constraint"} {
			if k := kid(o, typ, name); k != nil {
				return k, ID(schema, o)
			}
		}
	}
	return nil, ""
}

func (r *reader) alterMapping(st declaration) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	id := ID(schema, &element.Element{Type: "text-search-configuration", Key: name})
	e := r.objects[id]
	if e == nil || !st.c.Skip("add", "mapping", "for") {
		return fmt.Errorf("%q can't be declared", clip(flat(st.c.Tokens)))
	}
	kinds := st.c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("with") })
	st.c.Skip("with")
	with := flat(st.c.Rest())
	for _, k := range sqltext.Commas(kinds) {
		setText(e, "mapping "+Dialect.NameOf(k[0]), with)
	}
	r.belongs(st, id)
	return nil
}

func (r *reader) alterFamily(st declaration) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	st.c.Skip("using")
	method := Dialect.NameOf(st.c.Next())
	id := ID(schema, &element.Element{Type: "operator-family", Key: name + " using " + method})
	e := r.objects[id]
	if e == nil || !st.c.Skip("add") {
		return fmt.Errorf("%q can't be declared", clip(flat(st.c.Tokens)))
	}
	for _, m := range sqltext.Commas(st.c.Rest()) {
		e.Add(&element.Element{Type: "member", Key: flat(m), Firm: true})
	}
	r.belongs(st, id)
	return nil
}

func (r *reader) alterEventTrigger(st declaration) error {
	e := r.objects[ID("", &element.Element{Type: "event-trigger", Key: Dialect.NameOf(st.c.Next())})]
	if e == nil {
		return fmt.Errorf("no file declares that event trigger")
	}
	switch {
	case st.c.Skip("disable"):
		setText(e, "enabled", "disabled")
	case st.c.Skip("enable", "replica"):
		setText(e, "enabled", "replica")
	case st.c.Skip("enable", "always"):
		setText(e, "enabled", "always")
	default:
		return fmt.Errorf("%q can't be declared", clip(flat(st.c.Tokens)))
	}
	r.belongs(st, ID("", e))
	return nil
}

func (r *reader) alterStatistics(st declaration) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	k, id := r.statistics(schema, name)
	if k == nil || !st.c.Skip("set", "statistics") {
		return fmt.Errorf("%q can't be declared", clip(flat(st.c.Tokens)))
	}
	setText(k, "target", flat(st.c.Rest()))
	r.belongs(st, id)
	return nil
}

// statistics finds extended statistics by their own schema and name.
func (r *reader) statistics(schema, name string) (*element.Element, string) {
	for id, o := range r.objects {
		if k := kid(o, "statistics", name); k != nil {
			own, _, _ := strings.Cut(strings.TrimPrefix(id, o.Type+" "), ".")
			if s := textOf(k, "schema"); s == schema || s == "" && own == ident(schema) {
				return k, id
			}
		}
	}
	return nil, ""
}
