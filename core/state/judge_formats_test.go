package state

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// format writes papers, and says what they are once an outside parser has read them.
type format struct {
	name, file string
	// lists, remarks and beside say what it can hold.
	lists, remarks, beside bool
	// markless says that the outside parser takes no byte-order mark.
	markless bool
	write    func(*paper, style) string
	// means gives what an outside parser has to read.
	means func(*paper) any
}

// style is how one base document is laid out.
type style struct {
	indent string
	flow   bool
}

var formats = []format{
	{"yaml", "x.yaml", true, true, true, false, writeYAML, data},
	{"toml", "x.toml", true, true, true, false, writeTOML, data},
	{"json", "x.json", true, false, false, true, writeJSON, data},
	{"ini", "x.ini", false, true, false, false, writeINI, entries},
	{"sql", "database/x.sql", false, true, true, false, writeSQL, entries},
	{"xml", "x.xml", true, true, true, false, writeXML, elements},
}

// entries gives what a paper means where every value is a text.
func entries(p *paper) any {
	out := map[string]any{}
	for _, s := range p.sections {
		in := map[string]any{}
		for _, e := range s.entries {
			in[e.key] = e.value
		}
		out[s.name] = in
	}
	return out
}

// scalar gives the value that a text stands for in formats of data.
func scalar(s string) any {
	if n, err := strconv.Atoi(s); err == nil {
		return float64(n)
	}
	return s
}

func data(p *paper) any {
	out := map[string]any{}
	for _, s := range p.sections {
		in := map[string]any{}
		for _, e := range s.entries {
			in[e.key] = scalar(e.value)
		}
		if len(s.words) > 0 {
			list := []any{}
			for _, w := range s.words {
				list = append(list, w)
			}
			in["words"] = list
		}
		var things, lamps []any
		for _, t := range s.things {
			things = append(things, map[string]any{"id": t.name, "one": scalar(t.fields[0]), "two": scalar(t.fields[1])})
		}
		for _, l := range s.loose {
			lamps = append(lamps, map[string]any{"lamp": l.props[0], "tint": scalar(l.props[1]), "watt": scalar(l.props[2])})
		}
		if len(things) > 0 {
			in["things"] = things
		}
		if len(lamps) > 0 {
			in["lamps"] = lamps
		}
		out[s.name] = in
	}
	return out
}

// unordered puts the objects of lists in one order: where new ones stand is another question.
func unordered(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, x := range v {
			if list, ok := x.([]any); ok && len(list) == 0 {
				continue // none at all
			}
			out[k] = unordered(x)
		}
		return out
	case []any:
		texts, objects := []string{}, false
		for _, x := range v {
			if _, ok := x.(map[string]any); ok {
				objects = true
			}
			texts = append(texts, fmt.Sprint(x))
		}
		if objects {
			slices.Sort(texts)
			return texts
		}
	}
	return v
}

func writeYAML(p *paper, st style) string {
	var b strings.Builder
	value := func(s string, quoted bool) string {
		if _, err := strconv.Atoi(s); err != nil && quoted {
			return `"` + s + `"`
		}
		return s
	}
	remark := func(indent, text string) {
		if text != "" {
			b.WriteString(indent + "# " + text + "\n")
		}
	}
	for _, s := range p.sections {
		remark("", s.remark)
		b.WriteString(s.name + ":\n")
		for _, e := range s.entries {
			remark(st.indent, e.remark)
			b.WriteString(st.indent + e.key + ": " + value(e.value, e.quoted))
			if e.beside != "" {
				b.WriteString("  # " + e.beside)
			}
			b.WriteString("\n")
		}
		if len(s.words) > 0 && st.flow {
			b.WriteString(st.indent + "words: [" + strings.Join(s.words, ", ") + "]\n")
		} else if len(s.words) > 0 {
			b.WriteString(st.indent + "words:\n")
			for _, w := range s.words {
				b.WriteString(st.indent + "- " + w + "\n")
			}
		}
		if len(s.things) > 0 {
			b.WriteString(st.indent + "things:\n")
			for _, t := range s.things {
				remark(st.indent, t.remark)
				if st.flow {
					fmt.Fprintf(&b, "%s- {id: %s, one: %s, two: %s}\n", st.indent, t.name, t.fields[0], t.fields[1])
				} else {
					fmt.Fprintf(&b, "%s- id: %s\n%s  one: %s\n%s  two: %s\n", st.indent, t.name, st.indent, t.fields[0],
						st.indent, t.fields[1])
				}
			}
		}
		if len(s.loose) > 0 {
			b.WriteString(st.indent + "lamps:\n")
			for _, l := range s.loose {
				fmt.Fprintf(&b, "%s- lamp: %s\n%s  tint: %s\n%s  watt: %s\n", st.indent, l.props[0], st.indent, l.props[1],
					st.indent, l.props[2])
			}
		}
		b.WriteString("\n")
	}
	return b.String()
}

func writeTOML(p *paper, st style) string {
	var b strings.Builder
	value := func(s string, single bool) string {
		if _, err := strconv.Atoi(s); err == nil {
			return s
		}
		if single {
			return "'" + s + "'"
		}
		return `"` + s + `"`
	}
	remark := func(text string) {
		if text != "" {
			b.WriteString("# " + text + "\n")
		}
	}
	for _, s := range p.sections {
		remark(s.remark)
		b.WriteString("[" + s.name + "]\n")
		for _, e := range s.entries {
			remark(e.remark)
			b.WriteString(e.key + " = " + value(e.value, e.quoted))
			if e.beside != "" {
				b.WriteString(" # " + e.beside)
			}
			b.WriteString("\n")
		}
		if len(s.words) > 0 {
			words := make([]string, len(s.words))
			for i, w := range s.words {
				words[i] = `"` + w + `"`
			}
			if st.flow {
				b.WriteString("words = [" + strings.Join(words, ", ") + "]\n")
			} else {
				b.WriteString("words = [\n  " + strings.Join(words, ",\n  ") + ",\n]\n")
			}
		}
		for _, t := range s.things {
			b.WriteString("\n")
			remark(t.remark)
			fmt.Fprintf(&b, "[[%s.things]]\nid = %q\none = %s\ntwo = %s\n", s.name, t.name, value(t.fields[0], false),
				value(t.fields[1], false))
		}
		for _, l := range s.loose {
			fmt.Fprintf(&b, "\n[[%s.lamps]]\nlamp = %q\ntint = %s\nwatt = %s\n", s.name, l.props[0], value(l.props[1], false),
				value(l.props[2], false))
		}
		b.WriteString("\n")
	}
	return b.String()
}

func writeJSON(p *paper, st style) string {
	var parts []string
	js := func(v any) string { out, _ := json.Marshal(v); return string(out) }
	nl, in := "\n", st.indent
	if st.flow {
		nl, in = "", ""
	}
	for _, s := range p.sections {
		var members []string
		for _, e := range s.entries {
			members = append(members, js(e.key)+": "+js(scalar(e.value)))
		}
		if len(s.words) > 0 {
			members = append(members, `"words": `+js(s.words))
		}
		if len(s.things) > 0 {
			var things []string
			for _, t := range s.things {
				things = append(things, fmt.Sprintf(`{"id": %q, "one": %s, "two": %s}`, t.name, js(scalar(t.fields[0])),
					js(scalar(t.fields[1]))))
			}
			members = append(members, `"things": [`+nl+in+in+in+strings.Join(things, ","+nl+in+in+in)+nl+in+in+"]")
		}
		if len(s.loose) > 0 {
			var lamps []string
			for _, l := range s.loose {
				lamps = append(lamps, fmt.Sprintf(`{"lamp": %q, "tint": %s, "watt": %s}`, l.props[0], js(scalar(l.props[1])),
					js(scalar(l.props[2]))))
			}
			members = append(members, `"lamps": [`+strings.Join(lamps, ", ")+`]`)
		}
		parts = append(parts, js(s.name)+": {"+nl+in+in+strings.Join(members, ","+nl+in+in)+nl+in+"}")
	}
	return "{" + nl + in + strings.Join(parts, ","+nl+in) + nl + "}\n"
}

func writeINI(p *paper, _ style) string {
	var b strings.Builder
	remark := func(text string) {
		if text != "" {
			b.WriteString("; " + text + "\n")
		}
	}
	for _, s := range p.sections {
		remark(s.remark)
		b.WriteString("[" + s.name + "]\n")
		for _, e := range s.entries {
			remark(e.remark)
			sign := "="
			if e.quoted {
				sign = " = "
			}
			b.WriteString(e.key + sign + e.value + "\n")
		}
		b.WriteString("\n")
	}
	return b.String()
}

func writeSQL(p *paper, _ style) string {
	var b strings.Builder
	for _, s := range p.sections {
		if s.remark != "" {
			b.WriteString("-- " + s.remark + "\n")
		}
		b.WriteString("create table " + s.name + " (\n")
		for i, e := range s.entries {
			if e.remark != "" {
				b.WriteString("  -- " + e.remark + "\n")
			}
			typ := "text"
			if e.quoted {
				typ = "TEXT"
			}
			b.WriteString("  " + e.key + " " + typ + " default '" + e.value + "'")
			if i < len(s.entries)-1 {
				b.WriteString(",")
			}
			if e.beside != "" {
				b.WriteString(" -- " + e.beside)
			}
			b.WriteString("\n")
		}
		b.WriteString(");\n\n")
	}
	return b.String()
}

func writeXML(p *paper, st style) string {
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\"?>\n<project>\n")
	in := st.indent
	remark := func(indent, text string) {
		if text != "" {
			b.WriteString(indent + "<!-- " + text + " -->\n")
		}
	}
	for _, s := range p.sections {
		remark(in, s.remark)
		fmt.Fprintf(&b, "%s<section name=\"%s\">\n", in, s.name)
		for _, e := range s.entries {
			remark(in+in, e.remark)
			if e.quoted {
				fmt.Fprintf(&b, "%s%s<entry key='%s'>%s</entry>", in, in, e.key, e.value)
			} else {
				fmt.Fprintf(&b, "%s%s<entry key=\"%s\">%s</entry>", in, in, e.key, e.value)
			}
			if e.beside != "" {
				b.WriteString(" <!-- " + e.beside + " -->")
			}
			b.WriteString("\n")
		}
		for _, w := range s.words {
			fmt.Fprintf(&b, "%s%s<word>%s</word>\n", in, in, w)
		}
		for _, t := range s.things {
			remark(in+in, t.remark)
			fmt.Fprintf(&b, "%s%s<thing id=\"%s\" one=\"%s\" two=\"%s\"/>\n", in, in, t.name, t.fields[0], t.fields[1])
		}
		for _, l := range s.loose {
			fmt.Fprintf(&b, "%s%s<lamp make=\"%s\" tint=\"%s\" watt=\"%s\"/>\n", in, in, l.props[0], l.props[1], l.props[2])
		}
		b.WriteString(in + "</section>\n")
	}
	b.WriteString("</project>\n")
	return b.String()
}

// elements gives sections by name, and what is in each by tag and key.
func elements(p *paper) any {
	out := map[string]any{}
	for _, s := range p.sections {
		in := map[string]any{}
		words := []any{}
		for _, e := range s.entries {
			in["entry "+e.key] = e.value
		}
		for _, w := range s.words {
			words = append(words, w)
		}
		for _, t := range s.things {
			in["thing "+t.name] = t.fields[0] + " " + t.fields[1]
		}
		lamps := []string{}
		for _, l := range s.loose {
			lamps = append(lamps, fmt.Sprint(l.props))
		}
		slices.Sort(lamps)
		in["words"], in["lamps"] = words, lamps
		out[s.name] = in
	}
	return out
}

// folded gives what an outside parser read in the form of means.
func (f format) folded(v any) any {
	if f.name != "xml" {
		return unordered(v)
	}
	attr := func(e map[string]any, name string) string { return fmt.Sprint(e["attributes"].(map[string]any)[name]) }
	out := map[string]any{}
	for _, s := range v.(map[string]any)["kids"].([]any) {
		sec := s.(map[string]any)
		in, words, lamps := map[string]any{}, []any{}, []string{}
		for _, k := range sec["kids"].([]any) {
			e := k.(map[string]any)
			switch e["tag"] {
			case "entry":
				in["entry "+attr(e, "key")] = e["text"]
			case "thing":
				in["thing "+attr(e, "id")] = attr(e, "one") + " " + attr(e, "two")
			case "lamp":
				lamps = append(lamps, fmt.Sprint([3]string{attr(e, "make"), attr(e, "tint"), attr(e, "watt")}))
			default:
				words = append(words, e["text"])
			}
		}
		slices.Sort(lamps)
		in["words"], in["lamps"] = words, lamps
		out[attr(sec, "name")] = in
	}
	return out
}

// sorted gives what is meant in the form of folded.
func (f format) sorted(v any) any {
	if f.name == "xml" {
		return v
	}
	return unordered(v)
}
