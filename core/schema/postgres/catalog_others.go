package postgres

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// fields writes NAME = value pairs between commas.
type fields []string

func (f *fields) add(name, v string) {
	if v != "" {
		*f = append(*f, name+" = "+v)
	}
}

func (f fields) String() string { return strings.Join(f, ", ") }

func (b *builder) typ(r row) error {
	e := &element.Element{Type: "type", Key: r.s(2)}
	switch r.s(3) {
	case "e":
		setText(e, "sort", "enum")
		e.Ordered = true
		b.values[r.s(0)] = e
	case "c":
		setText(e, "sort", "composite")
	case "d":
		setText(e, "sort", "domain")
		setText(e, "type", small(r.s(7)))
		setText(e, "collate", r.s(10))
		setText(e, "default", small(r.s(9)))
		setTrue(e, "not null", r.is(8))
		e.Gist = "domain over " + r.s(7)
	case "r":
		setText(e, "sort", "range")
		var f fields
		f.add("subtype", small(r.s(11)))
		f.add("subtype_opclass", r.s(12))
		f.add("collation", r.s(33))
		f.add("canonical", r.s(13))
		f.add("subtype_diff", r.s(14))
		f.add("multirange_type_name", r.s(15))
		setText(e, "definition", f.String())
	default:
		if r.s(32) != "t" {
			return nil // a shell
		}
		setText(e, "sort", "base")
		setText(e, "definition", baseType(r))
	}
	o := b.add("pg_type", r.s(0), r.s(1), e, r.s(5), r.s(6))
	if rel := r.s(4); rel != "0" {
		b.rels[rel] = o
	}
	return nil
}

func baseType(r row) string {
	var f fields
	for i, name := range []string{"input", "output", "receive", "send", "typmod_in", "typmod_out", "analyze"} {
		f.add(name, r.s(16+i))
	}
	f.add("subscript", r.s(34))
	length := r.s(23)
	if length == "-1" {
		length = "variable"
	}
	f.add("internallength", length)
	if r.is(24) {
		f = append(f, "passedbyvalue")
	}
	f.add("alignment", map[string]string{"c": "char", "s": "int2", "i": "int4", "d": "double"}[r.s(25)])
	f.add("storage", storages[r.s(26)])
	if c := r.s(27); c != "U" {
		f.add("category", literal(c))
	}
	if r.is(28) {
		f.add("preferred", "true")
	}
	if r[9] != nil {
		f.add("default", literal(r.s(9)))
	}
	f.add("element", r.s(29))
	if d := r.s(30); d != "," {
		f.add("delimiter", literal(d))
	}
	if r.is(31) {
		f.add("collatable", "true")
	}
	return f.String()
}

func (b *builder) enumValue(r row) error {
	if e := b.values[r.s(0)]; e != nil {
		e.Add(&element.Element{Type: "value", Key: r.s(1), Firm: true})
		e.Gist = fmt.Sprintf("enum of %d values", len(e.Children))
	}
	return nil
}

func (b *builder) routine(r row) error {
	sql := r.s(4)
	if r.s(3) == "a" {
		sql = aggregateSQL(r)
	}
	e, err := b.parse(sql)
	if err != nil {
		return err
	}
	if v := textOf(e, "sql body"); v != "" {
		e.Set("sql body", element.TextValue(Dialect.Small(v)))
	}
	b.add("pg_proc", r.s(0), r.s(1), e, r.s(5), r.s(6))
	return nil
}

func aggregateSQL(r row) string {
	var f fields
	proc := func(name string, i int) {
		if v := r.s(i); v != "-" {
			f.add(name, v)
		}
	}
	modify := map[string]string{"r": "read_only", "s": "shareable", "w": "read_write"}
	usual := "r"
	if r.s(9) != "n" {
		usual = "w"
	}
	proc("sfunc", 10)
	f.add("stype", r.s(23))
	if v := r.s(24); v != "0" {
		f.add("sspace", v)
	}
	proc("finalfunc", 11)
	if r.is(18) {
		f = append(f, "finalfunc_extra")
	}
	if v := r.s(20); r.s(11) != "-" && v != usual {
		f.add("finalfunc_modify", modify[v])
	}
	proc("combinefunc", 12)
	proc("serialfunc", 13)
	proc("deserialfunc", 14)
	if r[27] != nil {
		f.add("initcond", literal(r.s(27)))
	}
	proc("msfunc", 15)
	proc("minvfunc", 16)
	f.add("mstype", r.s(25))
	if v := r.s(26); v != "0" {
		f.add("msspace", v)
	}
	proc("mfinalfunc", 17)
	if r.is(19) {
		f = append(f, "mfinalfunc_extra")
	}
	if v := r.s(21); r.s(17) != "-" && v != usual {
		f.add("mfinalfunc_modify", modify[v])
	}
	if r[28] != nil {
		f.add("minitcond", literal(r.s(28)))
	}
	if v := r.s(22); v != "" {
		schema, op, _ := cutOperator(v)
		f.add("sortop", "operator("+schema+"."+op+")")
	}
	if r.s(9) == "h" {
		f = append(f, "hypothetical")
	}
	f.add("parallel", map[string]string{"s": "safe", "r": "restricted"}[r.s(29)])
	args := r.s(7)
	if args == "" {
		args = "*"
	}
	return "create aggregate " + ident(r.s(1), r.s(2)) + "(" + args + ") (" + f.String() + ")"
}

// cutOperator parts schema.operator.
func cutOperator(s string) (schema, op string, ok bool) {
	i := strings.LastIndexByte(s, '.')
	return s[:max(i, 0)], s[i+1:], i >= 0
}

func (b *builder) operator(r row) error {
	left, right := small(r.s(3)), small(r.s(4))
	var f fields
	f.add("leftarg", left)
	f.add("rightarg", right)
	f.add("function", r.s(5))
	for i, name := range []string{"commutator", "negator"} {
		if v := r.s(6 + i); v != "" {
			schema, op, _ := cutOperator(v)
			f.add(name, "operator("+schema+"."+op+")")
		}
	}
	f.add("restrict", r.s(8))
	f.add("join", r.s(9))
	if r.is(10) {
		f = append(f, "hashes")
	}
	if r.is(11) {
		f = append(f, "merges")
	}
	for _, side := range []*string{&left, &right} {
		if *side == "" {
			*side = "none"
		}
	}
	e := &element.Element{Type: "operator", Key: r.s(2) + "(" + left + ", " + right + ")"}
	setText(e, "definition", f.String())
	b.add("pg_operator", r.s(0), r.s(1), e, r.s(12), "")
	return nil
}

func (b *builder) family(r row) error {
	e := &element.Element{Type: "operator-family", Key: r.s(2) + " using " + r.s(3)}
	setText(e, "definition", "create operator family "+ident(r.s(1), r.s(2))+" using "+ident(r.s(3)))
	b.add("pg_opfamily", r.s(0), r.s(1), e, r.s(4), "")
	return nil
}

func (b *builder) class(r row) error {
	e := &element.Element{Type: "operator-class", Key: r.s(2) + " using " + r.s(3)}
	text := "create operator class " + ident(r.s(1), r.s(2))
	if r.is(5) {
		text += " default"
	}
	text += " for type " + r.s(6) + " using " + ident(r.s(3)) + " family " + ident(r.s(7), r.s(8)) + " as "
	if v := r.s(9); v != "" {
		text += "storage " + v
	} else {
		text += "storage " + r.s(6)
	}
	setText(e, "definition", text)
	b.add("pg_opclass", r.s(0), r.s(1), e, r.s(4), "")
	return nil
}

func (b *builder) member(r row) error {
	o, ok := b.objects[oid{r.s(0), r.s(1), "0"}]
	if !ok {
		return nil
	}
	text := small(r.s(2))
	if o.e.Type == "operator-class" {
		setText(o.e, "definition", textOf(o.e, "definition")+", "+text)
		return nil
	}
	o.e.Add(&element.Element{Type: "member", Key: text, Firm: true})
	return nil
}

func (b *builder) collation(r row) error {
	var f fields
	f.add("provider", map[string]string{"c": "libc", "i": "icu", "b": "builtin"}[r.s(3)])
	switch {
	case r[6] != nil:
		f.add("locale", literal(r.s(6)))
	case r.s(4) == r.s(5):
		f.add("locale", literal(r.s(4)))
	default:
		f.add("lc_collate", literal(r.s(4)))
		f.add("lc_ctype", literal(r.s(5)))
	}
	if !r.is(7) {
		f.add("deterministic", "false")
	}
	e := &element.Element{Type: "collation", Key: r.s(2)}
	setText(e, "definition", "create collation "+ident(r.s(1), r.s(2))+" ("+f.String()+")")
	b.add("pg_collation", r.s(0), r.s(1), e, r.s(8), "")
	return nil
}

func (b *builder) cast(r row) error {
	e := &element.Element{Type: "cast", Key: small(r.s(1) + " as " + r.s(2))}
	text := "create cast (" + e.Key + ")"
	switch r.s(5) {
	case "f":
		text += " with function " + r.s(3)
	case "i":
		text += " with inout"
	default:
		text += " without function"
	}
	text += map[string]string{"a": " as assignment", "i": " as implicit"}[r.s(4)]
	setText(e, "definition", text)
	b.add("pg_cast", r.s(0), "", e, "", "")
	return nil
}

func (b *builder) conversion(r row) error {
	e := &element.Element{Type: "conversion", Key: r.s(2)}
	words := "create conversion "
	if r.is(6) {
		words = "create default conversion "
	}
	setText(e, "definition", words+ident(r.s(1), r.s(2))+" for "+literal(r.s(3))+" to "+literal(r.s(4))+" from "+r.s(5))
	b.add("pg_conversion", r.s(0), r.s(1), e, r.s(7), "")
	return nil
}

func (b *builder) dictionary(r row) error {
	e := &element.Element{Type: "text-search-dictionary", Key: r.s(2)}
	text := "template = " + r.s(3)
	if v := r.s(4); v != "" {
		text += ", " + small(v)
	}
	setText(e, "definition", "create text search dictionary "+ident(r.s(1), r.s(2))+" ("+text+")")
	b.add("pg_ts_dict", r.s(0), r.s(1), e, r.s(5), "")
	return nil
}

func (b *builder) configuration(r row) error {
	e := &element.Element{Type: "text-search-configuration", Key: r.s(2)}
	setText(e, "definition", "create text search configuration "+ident(r.s(1), r.s(2))+" (parser = "+r.s(3)+")")
	b.add("pg_ts_config", r.s(0), r.s(1), e, r.s(4), "")
	return nil
}

func (b *builder) mapping(r row) error {
	if o, ok := b.objects[oid{"pg_ts_config", r.s(0), "0"}]; ok {
		setText(o.e, "mapping "+r.s(1), r.s(2))
	}
	return nil
}

func (b *builder) wrapper(r row) error {
	e := &element.Element{Type: "wrapper", Key: r.s(1)}
	text := "create foreign data wrapper " + ident(r.s(1))
	if v := r.s(2); v != "" {
		text += " handler " + v
	}
	if v := r.s(3); v != "" {
		text += " validator " + v
	}
	if v := serverOptions(r.s(4)); v != "" {
		text += " options (" + v + ")"
	}
	setText(e, "definition", text)
	b.add("pg_foreign_data_wrapper", r.s(0), "", e, r.s(5), r.s(6))
	return nil
}

// secret are the options of servers that are never written down.
var secret = []string{"password", "passwd", "passfile"}

func (b *builder) server(r row) error {
	e := &element.Element{Type: "server", Key: r.s(1)}
	text := "create server " + ident(r.s(1))
	if v := r.s(2); v != "" {
		text += " type " + literal(v)
	}
	if v := r.s(3); v != "" {
		text += " version " + literal(v)
	}
	text += " foreign data wrapper " + ident(r.s(4))
	if v := serverOptions(r.s(5)); v != "" {
		if slices.ContainsFunc(secret, func(s string) bool { return strings.Contains(strings.ToLower(v), s) }) {
			b.c.Untracked = append(b.c.Untracked, fmt.Sprintf("the server %s, whose options hold a password", ident(r.s(1))))
			return nil
		}
		text += " options (" + v + ")"
	}
	setText(e, "definition", text)
	b.add("pg_foreign_server", r.s(0), "", e, r.s(6), r.s(7))
	return nil
}

func (b *builder) eventTrigger(r row) error {
	e := &element.Element{Type: "event-trigger", Key: r.s(1)}
	text := "create event trigger " + ident(r.s(1)) + " on " + r.s(2)
	if v := r.s(4); v != "" {
		text += " when tag in (" + v + ")"
	}
	setText(e, "definition", text+" execute function "+r.s(3)+"()")
	setText(e, "enabled", enabledStates[r.s(5)])
	b.add("pg_event_trigger", r.s(0), "", e, r.s(6), "")
	return nil
}

func (b *builder) publication(r row) error {
	e := &element.Element{Type: "publication", Key: r.s(1)}
	text := "create publication " + ident(r.s(1))
	var what []string
	if v := r.s(9); v != "" {
		what = append(what, "table "+small(v))
	}
	if v := r.s(10); v != "" {
		what = append(what, "tables in schema "+v)
	}
	switch {
	case r.is(2):
		text += " for all tables"
	case len(what) > 0:
		text += " for " + strings.Join(what, ", ")
	}
	var list []string
	for i, name := range []string{"insert", "update", "delete", "truncate"} {
		if r.is(3 + i) {
			list = append(list, name)
		}
	}
	var with fields
	if len(list) < 4 {
		with.add("publish", literal(strings.Join(list, ", ")))
	}
	if r.is(7) {
		with.add("publish_via_partition_root", "true")
	}
	if len(with) > 0 {
		text += " with (" + with.String() + ")"
	}
	setText(e, "definition", text)
	b.add("pg_publication", r.s(0), "", e, r.s(8), "")
	return nil
}

func (b *builder) untracked(r row) error {
	b.c.Untracked = append(b.c.Untracked, r.s(0))
	return nil
}

// comment puts a comment at what it is about.
func (b *builder) comment(r row) error {
	class, number, column, text := r.s(0), r.s(1), r.s(2), element.TextValue(r.s(3))
	if column != "0" {
		if c := b.columns[oid{class, number, column}]; c != nil {
			c.Set("comment", text)
			if o := b.rels[number]; o.e.Type == "view" && kid(o.e, "column", c.Key) == nil {
				o.e.Add(c)
			}
		}
		return nil
	}
	key := oid{class, number, "0"}
	switch {
	case class == "pg_class" && b.rels[number].e != nil:
		b.rels[number].e.Set("comment", text)
	case class == "pg_class" && b.indexOf[number].e != nil:
		k := b.indexOf[number].e
		if k.Type == "constraint" {
			k.Set("index comment", text)
		} else {
			k.Set("comment", text)
		}
	case b.objects[key].e != nil:
		if e := b.objects[key].e; e.Type != "schema" || e.Key != "public" || r.s(3) != "standard public schema" {
			e.Set("comment", text)
		}
	case b.parts[key].e != nil:
		b.parts[key].e.Set("comment", text)
	}
	return nil
}

// finish gives the catalog.
func (b *builder) finish() (*Catalog, error) {
	b.c.Root = b.r.d.Root
	all := objects(b.c.Root)
	tables := map[string]*element.Element{}
	for _, o := range all {
		if o.e.Type == "table" {
			o.e.Gist = tableGist(o.e)
			tables[o.name()] = o.e.Clone()
		}
	}
	for _, o := range all {
		if o.e.Type == "table" {
			plainInherited(o.e, tables)
		}
	}
	gistOfSchemas(b.c.Root)
	slices.Sort(b.c.Untracked)
	return b.c, nil
}

// plainInherited drops what inherited columns have from the table above, and those
// that say nothing of their own. tables has all as the catalog has them.
func plainInherited(e *element.Element, tables map[string]*element.Element) {
	bare := map[string]bool{} // columns without a default
	for _, c := range kids(e, "column") {
		bare[c.Key] = !has(c, "default")
	}
	for _, c := range kids(e, "column") {
		if !has(c, "inherited") {
			continue
		}
		for _, name := range parents(e) {
			above := tables[name]
			if above == nil {
				continue
			}
			if pc := kid(above, "column", c.Key); pc != nil {
				for _, p := range pc.Props {
					if c.Prop(p.Name).String() == p.Value.String() && p.Name != "inherited" && p.Name != "comment" {
						c.Set(p.Name, element.Value{})
					}
				}
				if own := c.Prop("default"); own.IsAbsent() && has(pc, "default") && !has(pc, "generated") && bare[c.Key] {
					c.Set("default", element.TextValue("null"))
				}
			}
		}
	}
	e.Children = slices.DeleteFunc(e.Children, func(c *element.Element) bool {
		return c.Type == "column" && has(c, "inherited") && len(c.Props) == 1
	})
}

// parents gives the names of the tables that a table inherits from.
func parents(e *element.Element) []string {
	list := textOf(e, "inherits")
	if p := textOf(e, "partition of"); p != "" {
		list = p
	}
	ts, err := Dialect.Scan(list)
	if err != nil || len(ts) == 0 {
		return nil
	}
	var out []string
	for _, part := range sqltext.Commas(ts) {
		out = append(out, flat(part))
	}
	return out
}
