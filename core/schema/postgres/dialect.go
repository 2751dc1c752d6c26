package postgres

import (
	"strings"

	"oakenchest/core/schema/sqltext"
)

// Dialect is how PostgreSQL writes SQL (its documentation, "Lexical Structure"). The
// words are those that pg_get_keywords() gives as not unreserved.
var Dialect = &sqltext.Dialect{Quote: '"', Fold: true, Dollar: true, Nested: true, Reserved: sqltext.Words(`
	all analyse analyze and any array as asc asymmetric authorization between bigint binary bit boolean both case cast char character check coalesce
	collate collation column concurrently constraint create cross current_catalog current_date current_role current_schema current_time current_timestamp
	current_user dec decimal default deferrable desc distinct do else end except exists extract false fetch float for foreign freeze from full grant
	greatest group grouping having ilike in initially inner inout int integer intersect interval into is isnull join json json_array json_arrayagg
	json_exists json_object json_objectagg json_query json_scalar json_serialize json_table json_value lateral leading least left like limit localtime
	localtimestamp merge_action national natural nchar none normalize not notnull null nullif numeric offset on only or order out outer overlaps overlay
	placing position precision primary real references returning right row select session_user setof similar smallint some substring symmetric system_user
	table tablesample then time timestamp to trailing treat trim true union unique user using values varchar variadic verbose when where window with
	xmlattributes xmlconcat xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot xmlserialize xmltable`)}

func ident(names ...string) string { return Dialect.Names(names...) }

func literal(s string) string { return Dialect.String(s) }

func flat(ts []sqltext.Token) string { return Dialect.Flat(ts) }

// dollarQuote writes a text between $$ marks, whose tag does not occur in it.
func dollarQuote(s string) string {
	tag := "$$"
	for strings.Contains(s, tag) || strings.HasSuffix(s, "$") && tag == "$$" || strings.HasSuffix(s, tag[:len(tag)-1]) {
		if tag == "$$" {
			tag = "$_$"
		} else {
			tag = "$_" + tag[1:]
		}
	}
	return tag + s + tag
}
