package declared

import (
	"slices"
	"strings"

	"oakenchest/core/schema/sqltext"
)

// keep writes an object anew in statements that people have written: what did not change
// stays as it is, comments, cases and order included. old are those statements, was and now
// say in the usual form what they declared and what is wanted. It gives a text for each of
// old, empty for one that goes; ok is false when they can't be laid beside each other.
func keep(d *sqltext.Dialect, old []string, was, now string) (out []string, ok bool) {
	wasStatements, ok1 := identified(d, was)
	nowStatements, ok2 := identified(d, now)
	if !ok1 || !ok2 {
		return nil, false
	}
	place, written := map[string]int{}, map[string]named{}
	for i, text := range old {
		list, ok := identified(d, text)
		if !ok || len(list) != 1 {
			return nil, false
		}
		if _, twice := place[list[0].id]; twice {
			return nil, false
		}
		place[list[0].id], written[list[0].id] = i, list[0]
	}
	out = make([]string, len(old))
	last, laid := -1, false
	var more []string
	for _, n := range nowStatements {
		i, there := place[n.id]
		if !there {
			more = append(more, n.text)
			continue
		}
		last = max(last, i)
		at := slices.IndexFunc(wasStatements, func(w named) bool { return w.id == n.id })
		switch {
		case at >= 0 && d.Flat(wasStatements[at].tokens) == d.Flat(n.tokens):
			out[i] = old[i]
		default:
			out[i] = n.text
			if at < 0 {
				continue
			}
			if text, ok := keepList(d, written[n.id], wasStatements[at], n); ok {
				out[i], laid = text, true
			}
		}
	}
	for id, i := range place { // what people wrote in a statement of its own, and the usual form within another
		if laid && out[i] == "" && !slices.ContainsFunc(wasStatements, func(w named) bool { return w.id == id }) {
			out[i] = old[i]
		}
	}
	if last < 0 {
		return nil, false
	}
	if len(more) > 0 {
		out[last] = strings.Join(append([]string{out[last]}, more...), "\n")
	}
	return out, true
}

// named is a statement with what it is about.
type named struct {
	id     string
	text   string
	tokens []sqltext.Token // their places are those in text
}

// identified cuts a text into statements, no two about the same.
func identified(d *sqltext.Dialect, text string) ([]named, bool) {
	list, err := d.Statements(text)
	if err != nil {
		return nil, false
	}
	var out []named
	for _, s := range list {
		n := named{text: text[s.From:s.To]}
		if n.tokens, err = d.Scan(n.text); err != nil {
			return nil, false
		}
		n.id = identity(d, n.tokens)
		if slices.ContainsFunc(out, func(o named) bool { return o.id == n.id }) {
			return nil, false
		}
		out = append(out, n)
	}
	return out, true
}

// skipped are words that say nothing about what a statement is about.
var skipped = sqltext.Words("or replace if not exists unique temporary temp concurrently only")

// identity gives what a statement is about: `create table care.tank`.
func identity(d *sqltext.Dialect, ts []sqltext.Token) string {
	var words []string
	for _, t := range sqltext.Meaning(ts) {
		if t.Is("(") || t.Is("as") || t.Is("is") || t.Is("on") && len(words) > 2 || t.Is("using") || t.Is(";") {
			break
		}
		if t.Is(".") && len(words) > 0 { // the schema that it stands in
			words = words[:len(words)-1]
			continue
		}
		if word := strings.ToLower(t.Text); t.Sort != sqltext.Word || !skipped[word] {
			words = append(words, d.NameOf(t))
		}
	}
	return strings.ToLower(strings.Join(words, " "))
}

// part is an item in the list of a statement, such as a column of a table.
type part struct {
	key string
	// lead is what stands before it since the item before: space, comments. trail are the
	// comments behind it on its line.
	lead, body, trail string
	flat              string
}

// list is a statement with the items of its first parenthesis.
type list struct {
	head, tail string // up to the parenthesis, and from what stands before its end
	parts      []part
}

// keepList writes a table with the columns and constraints that are wanted.
func keepList(d *sqltext.Dialect, old, was, now named) (string, bool) {
	o, ok1 := listOf(d, old)
	w, ok2 := listOf(d, was)
	n, ok3 := listOf(d, now)
	if !ok1 || !ok2 || !ok3 || !beside(o, w, n) {
		return "", false
	}
	head, tail := o.head, o.tail
	if w.head != n.head {
		head = n.head
	}
	if strings.TrimSpace(w.tail) != strings.TrimSpace(n.tail) {
		tail = o.tail[:len(o.tail)-len(strings.TrimLeft(o.tail, " \t\r\n"))] + strings.TrimLeft(n.tail, " \t\r\n")
	}
	var b strings.Builder
	b.WriteString(head)
	open := false // a comment runs to the end of the line
	wanted := slices.DeleteFunc(slices.Clone(n.parts), func(p part) bool { return o.find(p.key) == nil && w.find(p.key) != nil })
	for i, p := range wanted {
		body, lead, trail := p.body, o.fresh(i), ""
		if had := o.find(p.key); had != nil {
			lead, trail = had.lead, had.trail
			if before := w.find(p.key); before != nil && before.flat == p.flat {
				body = had.body
			}
		}
		if open && !strings.Contains(lead, "\n") {
			b.WriteByte('\n')
		}
		b.WriteString(lead + body)
		if i < len(wanted)-1 {
			b.WriteByte(',')
		}
		b.WriteString(trail)
		open = strings.Contains(trail, "--") || strings.Contains(trail, "#")
	}
	if open && !strings.HasPrefix(strings.TrimLeft(tail, " \t\r"), "\n") {
		b.WriteByte('\n')
	}
	b.WriteString(tail)
	return b.String(), true
}

// beside reports whether a table as people wrote it can be laid beside its usual forms. A
// constraint that people wrote within a column stands by itself in the usual form: it has to
// stay, and no column may change that was written in another way than the usual one.
func beside(o, w, n *list) bool {
	for _, p := range o.parts {
		if w.find(p.key) == nil {
			return false
		}
	}
	within := false
	for _, p := range w.parts {
		if o.find(p.key) != nil {
			continue
		}
		within = true
		if stays := n.find(p.key); stays == nil || stays.flat != p.flat {
			return false
		}
	}
	for _, p := range w.parts {
		had, is := o.find(p.key), n.find(p.key)
		if within && had != nil && (is == nil || is.flat != p.flat) && had.flat != p.flat {
			return false
		}
	}
	return true
}

func (l *list) find(key string) *part {
	for i := range l.parts {
		if l.parts[i].key == key {
			return &l.parts[i]
		}
	}
	return nil
}

// fresh gives the space before a new item.
func (l *list) fresh(i int) string {
	for _, p := range l.parts {
		if at := strings.LastIndexByte(p.lead, '\n'); at >= 0 && strings.TrimSpace(p.lead[at:]) == "" {
			return p.lead[at:]
		}
	}
	if i == 0 {
		return ""
	}
	return " "
}

// constraints are words that begin an item which is no column.
var constraints = sqltext.Words("constraint primary unique foreign check exclude key index like fulltext spatial period")

// listOf takes the statement of a table apart; false for other statements.
func listOf(d *sqltext.Dialect, s named) (*list, bool) {
	meaning := sqltext.Meaning(s.tokens)
	if len(meaning) < 3 || !meaning[0].Is("create") ||
		!slices.ContainsFunc(meaning[1:min(len(meaning), 4)], func(t sqltext.Token) bool { return t.Is("table") }) {
		return nil, false
	}
	open := slices.IndexFunc(s.tokens, func(t sqltext.Token) bool { return t.Is("(") })
	if open < 0 {
		return nil, false
	}
	depth, end := 0, -1
	for i := open; i < len(s.tokens) && end < 0; i++ {
		switch {
		case s.tokens[i].Is("("):
			depth++
		case s.tokens[i].Is(")"):
			if depth--; depth == 0 {
				end = i
			}
		}
	}
	if end < 0 || slices.ContainsFunc(s.tokens[:open], func(t sqltext.Token) bool { return t.Is("as") }) {
		return nil, false
	}
	l := &list{head: s.text[:s.tokens[open].To]}
	at := s.tokens[open].To // where what belongs to no item yet begins
	items := sqltext.Commas(s.tokens[open+1 : end])
	for i, ts := range items {
		if i > 0 { // comments behind the comma, on its line
			for len(ts) > 0 && ts[0].Sort == sqltext.Comment && !strings.Contains(s.text[at:ts[0].From], "\n") {
				l.parts[i-1].trail += s.text[at:ts[0].To]
				at, ts = ts[0].To, ts[1:]
			}
		}
		inner := sqltext.Meaning(ts)
		if len(inner) == 0 {
			return nil, false
		}
		first, last := inner[0], inner[len(inner)-1]
		p := part{lead: s.text[at:first.From], body: s.text[first.From:last.To], flat: d.Flat(ts)}
		at = last.To
		for _, t := range ts {
			if t.Sort == sqltext.Comment && t.From >= last.To {
				p.trail += s.text[at:t.To]
				at = t.To
			}
		}
		p.key = "column " + strings.ToLower(d.NameOf(first))
		if first.Sort == sqltext.Word && constraints[strings.ToLower(first.Text)] {
			p.key = p.flat
			if first.Is("constraint") && len(inner) > 1 {
				p.key = "constraint " + strings.ToLower(d.NameOf(inner[1]))
			}
		}
		if l.find(p.key) != nil {
			return nil, false
		}
		l.parts = append(l.parts, p)
		if comma := strings.IndexByte(s.text[at:], ','); i < len(items)-1 && comma >= 0 && strings.TrimSpace(s.text[at:at+comma]) == "" {
			at += comma + 1
		} else if i < len(items)-1 {
			return nil, false
		}
	}
	l.tail = s.text[at:]
	return l, len(l.parts) > 0
}
