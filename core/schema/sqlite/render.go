package sqlite

import (
	"slices"
	"strings"

	"oakenchest/core/element"
)

// columnClauses are the properties of a column in the order in which they are written.
var columnClauses = []string{"primary key", "not null", "unique", "default", "collate", "check", "references", "generated"}

// columnText writes a column without its name: `integer not null default 0`.
func columnText(col *element.Element) string {
	var parts []string
	if t := col.Prop("type").Text(); t != "" {
		parts = append(parts, t)
	}
	for _, name := range columnClauses {
		v := col.Prop(name)
		switch {
		case v.IsAbsent():
		case v.Sort() == element.Bool:
			parts = append(parts, name)
		case name == "generated":
			parts = append(parts, "generated always as "+v.Text())
		default:
			parts = append(parts, name+" "+v.Text())
		}
	}
	for _, p := range col.Props {
		if strings.HasPrefix(p.Name, "clause") {
			parts = append(parts, p.Value.Text())
		}
	}
	return strings.Join(parts, " ")
}

func columnSQL(col *element.Element) string {
	return strings.TrimSuffix(ident(col.Key)+" "+columnText(col), " ")
}

// TableSQL writes a table's CREATE statement, one column a line, without
// indexes and triggers; name stands in place of its own.
func tableSQL(table *element.Element, name string) string {
	if module := table.Prop("module"); !module.IsAbsent() {
		return "create virtual table " + ident(name) + " using " + module.Text()
	}
	var lines []string
	for _, c := range kidsOf(table, "column") {
		lines = append(lines, "  "+columnSQL(c))
	}
	for _, c := range sortedKids(table, "constraint") {
		text := c.Prop("definition").Text()
		if n := c.Prop("name"); !n.IsAbsent() {
			text = "constraint " + ident(n.Text()) + " " + text
		}
		lines = append(lines, "  "+text)
	}
	var options []string
	for _, o := range []string{"strict", "without rowid"} {
		if table.Prop(o).Text() == "true" {
			options = append(options, o)
		}
	}
	end := "\n)"
	if len(options) > 0 {
		end += " " + strings.Join(options, ", ")
	}
	return "create table " + ident(name) + " (\n" + strings.Join(lines, ",\n") + end
}

func sortedKids(e *element.Element, typ string) []*element.Element {
	kids := kidsOf(e, typ)
	slices.SortFunc(kids, func(a, b *element.Element) int { return strings.Compare(a.Key, b.Key) })
	return kids
}

// SQL writes a table or view with its indexes and triggers as the text of a
// file: one statement style, the same bytes for the same element.
func SQL(object *element.Element) string {
	var out []string
	if object.Type == "table" {
		out = append(out, tableSQL(object, object.Key)+";\n")
	} else {
		out = append(out, object.Prop("definition").Text()+";\n")
	}
	for _, typ := range []string{"index", "trigger"} {
		for _, k := range sortedKids(object, typ) {
			out = append(out, k.Prop("definition").Text()+";\n")
		}
	}
	return strings.Join(out, "\n")
}
