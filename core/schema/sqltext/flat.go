package sqltext

import "strings"

// Flat writes tokens on one line: white space becomes one space, comments go, and
// bare words are in small letters where the dialect reads them so.
func (d *Dialect) Flat(ts []Token) string {
	var b strings.Builder
	ts = Meaning(ts)
	for i, t := range ts {
		if i > 0 && spaced(ts[i-1], t) {
			b.WriteByte(' ')
		}
		b.WriteString(d.plain(t))
	}
	return b.String()
}

// plain writes a token in the one style.
func (d *Dialect) plain(t Token) string {
	switch {
	case t.Sort == Word && d.Fold:
		return strings.ToLower(t.Text)
	case t.Sort == Word && d.Keywords[strings.ToLower(t.Text)]:
		return strings.ToLower(t.Text)
	case t.Sort == Quoted && d.Bare:
		return d.Name(d.NameOf(t))
	}
	return t.Text
}

func spaced(before, t Token) bool {
	switch {
	case t.Is(",") || t.Is(")") || before.Is("(") || t.Is(";"):
		return false
	case before.Is(","):
		return true
	}
	return before.To < t.From
}

// Small writes a text in small letters but for its names in quotes, strings and
// comments, and leaves all white space as it is. It is for text that an engine
// wrote, where every bare word in capitals is a key word.
func (d *Dialect) Small(sql string) string {
	ts, err := d.Scan(sql)
	if err != nil {
		return sql
	}
	var b strings.Builder
	at := 0
	for _, t := range ts {
		b.WriteString(sql[at:t.From])
		b.WriteString(d.plain(t))
		at = t.To
	}
	b.WriteString(sql[at:])
	return b.String()
}
