package postgres

import (
	"slices"
	"strings"

	"oakenchest/core/element"
)

// alter plans what changes an object that stays: itself, and those of its parts that
// its own statement makes.
func (p *planner) alter(id string, l, w object) {
	switch w.e.Type {
	case "table":
		p.alterTable(l, w)
		p.validations(l, w)
	case "view":
		p.alterView(l, w)
	case "sequence":
		p.alterSequence(l, w)
	case "function", "procedure":
		if !sameProps(l.e, w.e, plainProp) {
			p.add(node{w, w.e, false}, "replace the "+w.e.Type, Instant, w.routineSQL("or replace "))
		}
	case "type":
		p.alterType(l, w)
	case "extension":
		p.alterExtension(l, w)
	case "text-search-configuration":
		p.alterMappings(l, w)
	}
	p.alterHangings(l, w)
}

// plainProp says that a property is told by CREATE itself.
func plainProp(name string) bool {
	return name != "comment" && name != "owner" && !strings.HasPrefix(name, "grant to ") && name != "enabled" && name != "index comment"
}

func (p *planner) alterView(l, w object) {
	n := node{w, w.e, false}
	if has(w.e, "materialized") {
		if o := optionChanges(textOf(l.e, "with"), textOf(w.e, "with")); len(o) > 0 {
			p.add(n, "change the options", Locks, prefixed("alter materialized view "+w.name()+" ", o)...)
		}
		return
	}
	if textOf(l.e, "definition") != textOf(w.e, "definition") || textOf(l.e, "names") != textOf(w.e, "names") {
		p.add(n, "replace the view", Locks, w.viewSQL("or replace ", true))
	} else if o := optionChanges(textOf(l.e, "with"), textOf(w.e, "with")); len(o) > 0 {
		p.add(n, "change the options", Locks, prefixed("alter view "+w.name()+" ", o)...)
	}
	for _, c := range columnsOf(l.e, w.e) {
		lc, wc := orEmpty(kid(l.e, "column", c)), orEmpty(kid(w.e, "column", c))
		p.alterDefault(node{w, named(wc, c), true}, "alter view "+w.name()+" alter column "+ident(c)+" ", lc, wc)
	}
}

func prefixed(with string, list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = with + s
	}
	return out
}

func orEmpty(e *element.Element) *element.Element {
	if e == nil {
		return &element.Element{}
	}
	return e
}

// named is an element that surely has type and key of a column.
func named(e *element.Element, key string) *element.Element {
	c := *e
	c.Type, c.Key = "column", key
	return &c
}

// columnsOf lists the names of the columns of both.
func columnsOf(a, b *element.Element) []string {
	var out []string
	for _, e := range []*element.Element{b, a} {
		for _, c := range kids(e, "column") {
			if !slices.Contains(out, c.Key) {
				out = append(out, c.Key)
			}
		}
	}
	return out
}

// optionChanges gives SET and RESET for what differs in two lists of options.
func optionChanges(from, to string) []string {
	have, want := optionMap(from), optionMap(to)
	var set, reset []string
	for _, name := range ids(want) {
		if have[name] != want[name] {
			set = append(set, name+"="+want[name])
		}
	}
	for _, name := range ids(have) {
		if _, ok := want[name]; !ok {
			reset = append(reset, name)
		}
	}
	var out []string
	if len(set) > 0 {
		out = append(out, "set ("+strings.Join(set, ", ")+")")
	}
	if len(reset) > 0 {
		out = append(out, "reset ("+strings.Join(reset, ", ")+")")
	}
	return out
}

func optionMap(list string) map[string]string {
	out := map[string]string{}
	ts, err := Dialect.Scan(list)
	if err != nil || len(ts) == 0 {
		return out
	}
	for _, item := range commaTexts(ts) {
		name, v, _ := strings.Cut(item, "=")
		out[strings.TrimSpace(name)] = strings.TrimSpace(v)
	}
	return out
}

func (p *planner) alterSequence(l, w object) {
	if sameProps(l.e, w.e, plainProp) {
		return
	}
	var parts []string
	if has(l.e, "unlogged") != has(w.e, "unlogged") {
		parts = append(parts, "alter sequence "+w.name()+map[bool]string{true: " set unlogged", false: " set logged"}[has(w.e, "unlogged")])
	}
	text := ""
	add := func(name, words, usual string) {
		if from, to := textOf(l.e, name), textOf(w.e, name); from != to {
			if to == "" {
				text += " " + usual
			} else {
				text += " " + words + " " + to
			}
		}
	}
	add("as", "as", "as bigint")
	add("increment", "increment by", "increment by 1")
	add("min", "minvalue", "no minvalue")
	add("max", "maxvalue", "no maxvalue")
	if from, to := textOf(l.e, "start"), textOf(w.e, "start"); from != to {
		if to == "" {
			typ := textOf(w.e, "as")
			if typ == "" {
				typ = "bigint"
			}
			low, high := limits(typ, textOf(w.e, "increment"))
			to = low
			if has(w.e, "min") {
				to = textOf(w.e, "min")
			}
			if strings.HasPrefix(textOf(w.e, "increment"), "-") {
				to = high
				if has(w.e, "max") {
					to = textOf(w.e, "max")
				}
			}
		}
		text += " start with " + to
	}
	add("cache", "cache", "cache 1")
	if has(l.e, "cycle") != has(w.e, "cycle") {
		text += map[bool]string{true: " cycle", false: " no cycle"}[has(w.e, "cycle")]
	}
	if text != "" {
		parts = append(parts, "alter sequence "+w.name()+text)
	}
	p.add(node{w, w.e, false}, "change the sequence", Instant, parts...)
}

func (p *planner) alterExtension(l, w object) {
	n := node{w, w.e, false}
	if s := textOf(w.e, "schema"); s != textOf(l.e, "schema") && s != "" {
		p.add(n, "move the extension", Locks, "alter extension "+w.name()+" set schema "+ident(s))
	}
	if v := textOf(w.e, "version"); v != textOf(l.e, "version") && v != "" {
		p.add(n, "update the extension", Locks, "alter extension "+w.name()+" update to "+literal(v))
	}
}

func (p *planner) alterMappings(l, w object) {
	var out []string
	spec := "alter text search configuration " + w.name()
	for _, pr := range l.e.Props {
		if kind, ok := strings.CutPrefix(pr.Name, "mapping "); ok && !has(w.e, pr.Name) {
			out = append(out, spec+" drop mapping for "+ident(kind))
		}
	}
	for _, pr := range w.e.Props {
		kind, ok := strings.CutPrefix(pr.Name, "mapping ")
		switch {
		case !ok || textOf(l.e, pr.Name) == pr.Value.Text():
		case has(l.e, pr.Name):
			out = append(out, spec+" alter mapping for "+ident(kind)+" with "+pr.Value.Text())
		default:
			out = append(out, spec+" add mapping for "+ident(kind)+" with "+pr.Value.Text())
		}
	}
	p.add(node{w, w.e, false}, "change the mappings", Instant, out...)
}

// alterHangings plans what every object can have: comments, owner, rights, states.
func (p *planner) alterHangings(l, w object) {
	n := node{w, w.e, false}
	p.comment(n, "comment on "+w.spec()+" is ", l.e, w.e)
	if v := textOf(w.e, "owner"); v != textOf(l.e, "owner") && v != "" {
		p.add(n, "change the owner", Instant, "alter "+w.spec()+" owner to "+ident(v))
	}
	p.rights(n, w, "", l.e, w.e)
	if w.e.Type == "event-trigger" && textOf(l.e, "enabled") != textOf(w.e, "enabled") {
		p.add(n, "switch the event trigger", Instant, "alter event trigger "+w.name()+" "+stateWord(textOf(w.e, "enabled")))
	}
	own := w.id()
	for _, wk := range w.e.Children {
		lk := kid(l.e, wk.Type, wk.Key)
		id := sub(own, wk)
		if lk == nil && wk.Type == "column" && has(wk, "inherited") || w.e.Type == "view" && wk.Type == "column" {
			lk = orEmpty(lk)
		}
		if lk == nil || p.down[id] || w.e.Type == "schema" {
			continue
		}
		kn := node{w, wk, true}
		if commentable[wk.Type] {
			p.comment(kn, "comment on "+w.partSpec(wk)+" is ", lk, wk)
		}
		p.alterPart(kn, w, lk, wk)
	}
	for _, lk := range l.e.Children { // what no element is left for
		if w.e.Type != "schema" && kid(w.e, lk.Type, lk.Key) == nil && lk.Type == "column" &&
			(has(lk, "inherited") || l.e.Type == "view") && !p.down[sub(own, lk)] {
			kn := node{w, lk, true}
			p.comment(kn, "comment on "+w.partSpec(lk)+" is ", lk, &element.Element{})
			p.rights(kn, w, ident(lk.Key), lk, &element.Element{})
		}
	}
}

func stateWord(state string) string {
	if s := enabledWords[state]; s != "" {
		return s
	}
	return "enable"
}

func (p *planner) comment(n node, head string, l, w *element.Element) {
	from, to := textOf(l, "comment"), textOf(w, "comment")
	switch {
	case from == to:
	case to == "":
		p.add(n, "take the comment away", Instant, head+"null")
	default:
		p.add(n, "change the comment", Instant, head+literal(to))
	}
}

// alterPart plans states, targets and rights of a part that stays.
func (p *planner) alterPart(n node, w object, lk, wk *element.Element) {
	if from, to := textOf(lk, "enabled"), textOf(wk, "enabled"); from != to && (wk.Type == "trigger" || wk.Type == "rule") {
		p.add(n, "switch the "+wk.Type, Locks, "alter "+sortWords(w.e)+" "+w.name()+" "+stateWord(to)+" "+wk.Type+" "+ident(wk.Key))
	}
	if from, to := textOf(lk, "target"), textOf(wk, "target"); from != to {
		if to == "" {
			to = "-1"
		}
		p.add(n, "change the statistics target", Instant, "alter statistics "+w.statisticsName(wk)+" set statistics "+to)
	}
	if parent := textOf(wk, "attached to"); parent != "" && textOf(lk, "attached to") == "" && !p.freed[w.id()] {
		p.add(n, "attach the index", Locks, "alter index "+parent+" attach partition "+ident(w.schema, wk.Key))
	}
	for _, e := range []*element.Element{wk, lk} {
		for _, pr := range e.Props {
			column, ok := strings.CutPrefix(pr.Name, "statistics ")
			if !ok || textOf(lk, pr.Name) == textOf(wk, pr.Name) || e == lk && has(wk, pr.Name) {
				continue
			}
			to := textOf(wk, pr.Name)
			if to == "" {
				to = "-1"
			}
			p.add(n, "change the statistics target", Instant,
				"alter index "+ident(w.schema, wk.Key)+" alter column "+column+" set statistics "+to)
		}
	}
	if wk.Type == "column" {
		p.rights(n, w, ident(wk.Key), lk, wk)
	}
}

// rights plans the grants that differ.
func (p *planner) rights(n node, w object, column string, l, wanted *element.Element) {
	var out []string
	for _, pr := range l.Props {
		who, ok := strings.CutPrefix(pr.Name, "grant to ")
		if !ok || textOf(wanted, pr.Name) == pr.Value.Text() {
			continue
		}
		role := ident(who)
		if who == "public" {
			role = who
		}
		all := "all"
		if column != "" {
			all = "all (" + column + ")"
		}
		if pr.Value.Text() == "nothing" {
			if !has(wanted, pr.Name) {
				out = append(out, "grant "+map[bool]string{true: "execute",
					false: "usage"}[routine(w.e.Type)]+" on "+w.grantSpec()+" to "+role)
			}
			continue
		}
		out = append(out, "revoke "+all+" on "+w.grantSpec()+" from "+role)
	}
	for _, pr := range wanted.Props {
		who, ok := strings.CutPrefix(pr.Name, "grant to ")
		if ok && textOf(l, pr.Name) != pr.Value.Text() {
			out = append(out, w.grantSQL(who, pr.Value.Text(), column)...)
		}
	}
	p.add(n, "change who may use it", Instant, out...)
}
