package postgres

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
)

// SQL writes an object as the text of its file: one statement style, columns one a
// line, the same bytes for the same element.
func (o object) SQL() string {
	var b strings.Builder
	for _, s := range o.statements(false) {
		if b.Len() > 0 && s.apart {
			b.WriteByte('\n')
		}
		b.WriteString(s.sql + ";\n")
	}
	return b.String()
}

// statement is one statement that makes a part of an object.
type statement struct {
	id    string // identity of what it makes
	sql   string
	apart bool // an empty line stands before it in a file
	late  bool // it can wait until everything else is there
	after []string
	self  string   // its own name, which is no need
	also  string   // text whose names it needs too
	above []string // tables whose columns must be finished before, because they are inherited
}

// columnText writes a column without its name: `integer not null default 0`.
func columnText(col *element.Element) string {
	parts := []string{textOf(col, "type")}
	if v := textOf(col, "options"); v != "" {
		parts = append(parts, "options ("+v+")")
	}
	if v := textOf(col, "collate"); v != "" {
		parts = append(parts, "collate "+v)
	}
	if v := textOf(col, "default"); v != "" {
		parts = append(parts, "default "+v)
	}
	if v := textOf(col, "generated"); v != "" {
		parts = append(parts, "generated always as "+v+" stored")
	}
	if v := textOf(col, "identity"); v != "" {
		parts = append(parts, identityText(v))
	}
	if has(col, "not null") {
		parts = append(parts, "not null")
	}
	return strings.TrimPrefix(strings.Join(parts, " "), " ")
}

// identityText writes "always (start 5)" as SQL.
func identityText(v string) string {
	how, options, _ := strings.Cut(v, " (")
	text := "generated " + how + " as identity"
	if options != "" {
		text += " (" + options
	}
	return text
}

// detached says that a part must be made after its table, because it may need
// things that need the table.
type detached func(e *element.Element) bool

// tableSQL writes CREATE TABLE with the columns and constraints that stand in it;
// apart leaves parts out.
func (o object) tableSQL(apart detached, withoutDefault detached) string {
	e := o.e
	var lines []string
	for _, c := range kids(e, "column") {
		if has(c, "inherited") {
			continue
		}
		if withoutDefault(c) {
			c = c.Clone()
			c.Set("default", element.Value{})
		}
		lines = append(lines, strings.TrimRight("  "+ident(c.Key)+" "+columnText(c), " "))
	}
	for _, c := range sortedKids(e, "constraint") {
		if !apart(c) {
			lines = append(lines, "  "+constraintText(c))
		}
	}
	words := "create table "
	if has(e, "unlogged") {
		words = "create unlogged table "
	}
	if has(e, "server") {
		words = "create foreign table "
	}
	head := words + o.name()
	body := "(\n" + strings.Join(lines, ",\n") + "\n)"
	switch {
	case has(e, "of"):
		head += " of " + textOf(e, "of")
		if len(lines) > 0 {
			head += " " + body
		}
	case has(e, "partition of"):
		head += " partition of " + textOf(e, "partition of")
		if len(lines) > 0 {
			head += " " + body
		}
		head += " " + textOf(e, "bound")
	case len(lines) == 0:
		head += " ()"
	default:
		head += " " + body
	}
	if v := textOf(e, "inherits"); v != "" {
		head += " inherits (" + v + ")"
	}
	if v := textOf(e, "partition by"); v != "" {
		head += " partition by " + v
	}
	if v := textOf(e, "using"); v != "" {
		head += " using " + ident(v)
	}
	if v := textOf(e, "server"); v != "" {
		head += " server " + ident(v)
	}
	if v := textOf(e, "options"); v != "" {
		head += " options (" + v + ")"
	}
	if v := textOf(e, "with"); v != "" {
		head += " with (" + v + ")"
	}
	if v := textOf(e, "tablespace"); v != "" {
		head += " tablespace " + ident(v)
	}
	return head
}

func constraintText(c *element.Element) string {
	if n := textOf(c, "name"); n != "" {
		return "constraint " + ident(n) + " " + textOf(c, "definition")
	}
	return textOf(c, "definition")
}

// viewSQL writes CREATE VIEW; or puts words after "create".
func (o object) viewSQL(or string, data bool) string {
	e := o.e
	text := "create " + or + "view " + o.name()
	if has(e, "materialized") {
		text = "create materialized view " + o.name()
	}
	if v := textOf(e, "names"); v != "" {
		text += " (" + v + ")"
	}
	if v := textOf(e, "using"); v != "" {
		text += " using " + ident(v)
	}
	if v := textOf(e, "with"); v != "" {
		text += " with (" + v + ")"
	}
	if v := textOf(e, "tablespace"); v != "" {
		text += " tablespace " + ident(v)
	}
	text += " as\n" + textOf(e, "definition")
	if !data {
		text += "\nwith no data"
	}
	return text
}

// sequenceText writes the options of a sequence.
func sequenceText(e *element.Element) string {
	var parts []string
	add := func(words, name string) {
		if v := textOf(e, name); v != "" {
			parts = append(parts, words+" "+v)
		}
	}
	add("as", "as")
	add("start with", "start")
	add("increment by", "increment")
	add("minvalue", "min")
	add("maxvalue", "max")
	add("cache", "cache")
	if has(e, "cycle") {
		parts = append(parts, "cycle")
	}
	return strings.Join(parts, " ")
}

func (o object) sequenceSQL() string {
	words := "create sequence "
	if has(o.e, "unlogged") {
		words = "create unlogged sequence "
	}
	return strings.TrimRight(words+o.name()+" "+sequenceText(o.e), " ")
}

// routineSQL writes CREATE FUNCTION or PROCEDURE.
func (o object) routineSQL(or string) string {
	e := o.e
	var b strings.Builder
	fmt.Fprintf(&b, "create %s%s %s(%s)\n", or, e.Type, o.name(), textOf(e, "arguments"))
	if v := textOf(e, "returns"); v != "" {
		fmt.Fprintf(&b, "returns %s\n", v)
	}
	if v := textOf(e, "language"); v != "" {
		b.WriteString("language " + ident(v))
	}
	if v := textOf(e, "attributes"); v != "" {
		b.WriteString(" " + v)
	}
	b.WriteByte('\n')
	for _, p := range e.Props {
		if name, ok := strings.CutPrefix(p.Name, "set "); ok {
			fmt.Fprintf(&b, "set %s to %s\n", name, p.Value.Text())
		}
	}
	switch {
	case has(e, "sql body"):
		b.WriteString(textOf(e, "sql body"))
	case has(e, "symbol"):
		fmt.Fprintf(&b, "as %s, %s", literal(textOf(e, "body")), literal(textOf(e, "symbol")))
	default:
		b.WriteString("as " + dollarQuote(textOf(e, "body")))
	}
	return b.String()
}

// typeSQL writes CREATE TYPE or DOMAIN.
func (o object) typeSQL() string {
	e := o.e
	switch textOf(e, "sort") {
	case "enum":
		var values []string
		for _, v := range kids(e, "value") {
			values = append(values, "  "+literal(v.Key))
		}
		if len(values) == 0 {
			return "create type " + o.name() + " as enum ()"
		}
		return "create type " + o.name() + " as enum (\n" + strings.Join(values, ",\n") + "\n)"
	case "composite":
		var lines []string
		for _, a := range kids(e, "attribute") {
			line := "  " + ident(a.Key) + " " + textOf(a, "type")
			if v := textOf(a, "collate"); v != "" {
				line += " collate " + v
			}
			lines = append(lines, line)
		}
		if len(lines) == 0 {
			return "create type " + o.name() + " as ()"
		}
		return "create type " + o.name() + " as (\n" + strings.Join(lines, ",\n") + "\n)"
	case "range":
		return "create type " + o.name() + " as range (" + textOf(e, "definition") + ")"
	case "base":
		return "create type " + o.name() + " (" + textOf(e, "definition") + ")"
	}
	text := "create domain " + o.name() + " as " + columnText(e)
	for _, c := range sortedKids(e, "constraint") {
		text += "\n  " + constraintText(c)
	}
	return text
}

// createSQL writes the statement that makes an object which is no table.
func (o object) createSQL(or string) string {
	switch e := o.e; e.Type {
	case "schema":
		return "create schema " + o.name()
	case "extension":
		text := "create extension " + o.name()
		if v := textOf(e, "schema"); v != "" {
			text += " with schema " + ident(v)
		}
		if v := textOf(e, "version"); v != "" {
			text += " version " + literal(v)
		}
		return text
	case "view":
		return o.viewSQL(or, true)
	case "sequence":
		return o.sequenceSQL()
	case "function", "procedure":
		return o.routineSQL(or)
	case "type":
		return o.typeSQL()
	case "aggregate":
		return "create aggregate " + o.name() + "(" + textOf(e, "arguments") + ") " + textOf(e, "definition")
	case "operator":
		return "create operator " + o.name() + " (" + textOf(e, "definition") + ")"
	}
	return textOf(o.e, "definition")
}
