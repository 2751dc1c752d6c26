package sqlite

import (
	"strings"
)

// keywords are written small, and followed by a space before a parenthesis.
var keywords = func() map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(`abort action after all alter always and as asc autoincrement before begin between by cascade case cast check collate column
		conflict constraint create cross current current_date current_time current_timestamp deferrable deferred delete desc distinct do each else end escape except
		exists fail filter following for foreign from full generated glob group groups having if ignore immediate in index indexed initially inner insert instead
		intersect into is isnull join key last left like limit match materialized natural no not nothing notnull null nulls of offset on or order others outer over
		partition preceding primary raise range recursive references regexp replace restrict returning right rollback row rows select set stored strict table temp
		temporary then ties to trigger unbounded union unique update using values view virtual when where window with without rowid`) {
		m[w] = true
	}
	return m
}()

func keyword(t token) bool { return t.sort == word && keywords[strings.ToLower(t.text)] }

// breaks start a line of a query or a trigger's body.
var breaks = map[string]bool{"select": true, "from": true, "where": true, "group": true, "having": true, "order": true, "limit": true,
	"union": true, "except": true,
	"intersect": true, "values": true, "set": true, "begin": true, "end": true, "left": true, "inner": true, "cross": true, "join": true,
	"for": true, "when": true, "window": true}

// flat writes tokens on one line in the normal form.
func flat(ts []token) string { return layout(meaning(ts), false) }

// tall writes tokens in the normal form with a line for each clause.
func tall(ts []token) string { return layout(meaning(ts), true) }

func layout(ts []token, lines bool) string {
	var b strings.Builder
	depth, inBody, cases := 0, false, 0
	for i, t := range ts {
		text := t.text
		if keyword(t) {
			text = strings.ToLower(text)
		} else if t.sort == quoted {
			text = ident(t.name())
		}
		if t.is("case") {
			cases++
		}
		breaking := lines && depth == 0 && cases == 0 && keyword(t) && breaks[text] &&
			!(i > 0 && ts[i-1].is("left") || i > 0 && ts[i-1].is("inner") || i > 0 && ts[i-1].is("cross"))
		if t.is("end") && cases > 0 {
			cases--
			breaking = false
		}
		switch {
		case i == 0:
		case lines && inBody && ts[i-1].is(";"), lines && i > 0 && ts[i-1].is("begin") && inBody:
			b.WriteString("\n")
			if !t.is("end") {
				b.WriteString("  ")
			}
		case breaking:
			b.WriteString("\n")
			if inBody && !t.is("end") {
				b.WriteString("    ")
			}
		case spaced(ts, i):
			b.WriteByte(' ')
		}
		if t.is("begin") && depth == 0 {
			inBody = true
		}
		if t.is("(") {
			depth++
		} else if t.is(")") {
			depth--
		}
		b.WriteString(text)
	}
	return b.String()
}

// spaced says whether a space stands before token i.
func spaced(ts []token, i int) bool {
	t, before := ts[i], ts[i-1]
	switch {
	case t.is(",") || t.is(")") || t.is(";") || t.is(".") || before.is("(") || before.is("."):
		return false
	case t.is("("):
		return before.sort == mark || keyword(before)
	case before.is("-") || before.is("+") || before.is("~"):
		if i == 1 {
			return false
		}
		sign := ts[i-2]
		return !(sign.sort == mark && !sign.is(")") || keyword(sign) && !sign.is("end") && !sign.is("null"))
	}
	return true
}

// ident writes a name, in quotes where it needs them.
func ident(name string) string {
	bare := name != "" && !keywords[strings.ToLower(name)]
	for i, r := range name {
		letter := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		bare = bare && (letter || i > 0 && r >= '0' && r <= '9')
	}
	if bare {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}
