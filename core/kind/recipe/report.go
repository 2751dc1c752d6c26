package recipe

import (
	"cmp"
	"slices"

	"oakenchest/core/element"
)

// Report tells how rules fitted a document.
type Report struct {
	Path     string
	Elements int
	// Unkeyed counts elements without a key that have siblings of their type, by type.
	Unkeyed []Count
	// Twice lists keys that siblings share, and that therefore count for nothing.
	Twice []string
	// Rules tells how many elements each rule chose.
	Rules []Use
	// Noise counts the properties and children that are left out.
	Noise int

	unkeyed map[string]int
	uses    map[*Rule]int
	seen    map[string]bool
}

// Count is a number of elements of a type.
type Count struct {
	Type   string
	Number int
}

// Use is a rule and the number of elements that it chose.
type Use struct {
	Rule     *Rule
	Elements int
}

func newReport(path string) *Report {
	return &Report{Path: path, unkeyed: map[string]int{}, uses: map[*Rule]int{}, seen: map[string]bool{}}
}

// look counts the last element of a line, and the rules that chose it.
func (r *Report) look(line []*element.Element, chosen []*Rule) {
	e := line[len(line)-1]
	r.Elements++
	for _, rule := range chosen {
		r.uses[rule]++
	}
	siblings := map[string]int{}
	for _, c := range e.Children {
		siblings[c.Type]++
	}
	for _, c := range e.Children {
		if c.Key == "" && siblings[c.Type] > 1 {
			r.unkeyed[c.Type]++
		}
	}
}

// twice notes a key that siblings share.
func (r *Report) twice(line []*element.Element, key string) {
	where := ""
	for _, e := range line[:len(line)-1] {
		step := e.Type
		if e.Key != "" {
			step = element.Step{Type: e.Type, Key: e.Key}.String()
		}
		where += step + "/"
	}
	name := where + element.Step{Type: line[len(line)-1].Type, Key: key}.String()
	if !r.seen[name] {
		r.seen[name] = true
		r.Twice = append(r.Twice, name)
	}
}

func (r *Report) finish(rules *rules) {
	for typ, n := range r.unkeyed {
		r.Unkeyed = append(r.Unkeyed, Count{typ, n})
	}
	slices.SortFunc(r.Unkeyed, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Number, a.Number), cmp.Compare(a.Type, b.Type))
	})
	slices.Sort(r.Twice)
	for _, rule := range rules.all {
		r.Rules = append(r.Rules, Use{rule, r.uses[rule]})
	}
}
