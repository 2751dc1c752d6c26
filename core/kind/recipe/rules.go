package recipe

import (
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/manifest"
)

// Rule is a rule of a recipe, ready to be asked.
type Rule struct {
	manifest.ElementRule
	// Recipe is the name of the recipe that it stands in.
	Recipe string

	steps    []string // the last one first
	anchored bool
}

// rules are those that apply to one document.
type rules struct {
	all    []*Rule
	byType map[string][]*Rule // by the last step, in order; those of any type under *
	data   bool               // the document is data, whose elements are called by their keys
	report *Report            // nil when nobody asks
}

func newRules(recipes []manifest.Recipe, data bool) *rules {
	r := &rules{data: data, byType: map[string][]*Rule{}}
	for _, rec := range recipes {
		for _, e := range rec.Elements {
			steps := strings.Split(strings.Trim(e.At, "/"), "/")
			slices.Reverse(steps)
			r.all = append(r.all, &Rule{ElementRule: e, Recipe: rec.Name, steps: steps, anchored: strings.HasPrefix(e.At, "/")})
		}
	}
	for _, rule := range r.all {
		last := rule.steps[0]
		if strings.HasPrefix(last, "*") {
			last = "*"
		}
		r.byType[last] = append(r.byType[last], rule)
	}
	return r
}

// structural are types of data kinds that say nothing of an element; its key does.
var structural = map[string]bool{"object": true, "list": true, "section": true}

// NameProperty holds the name that an element of a data kind has in its file where a recipe gives it
// another key: a rule never hides a name.
const NameProperty = "(name)"

// nameOf gives the name by which steps call an element.
func (r *rules) nameOf(e *element.Element) string {
	if !r.data || !structural[e.Type] {
		return e.Type
	}
	if name := e.Prop(NameProperty); !name.IsAbsent() {
		return name.Text()
	}
	if e.Key != "" {
		return e.Key
	}
	return e.Type
}

// at gives the rules for the last element of a line from the root down, in the
// order of the recipes.
func (r *rules) at(line []*element.Element) []*Rule {
	e := line[len(line)-1]
	var out []*Rule
	for _, name := range []string{r.nameOf(e), "*"} {
		for _, rule := range r.byType[name] {
			if r.fits(rule.steps, line, rule.anchored) {
				out = append(out, rule)
			}
		}
	}
	if len(r.byType["*"]) > 0 && len(out) > 1 {
		slices.SortStableFunc(out, func(a, b *Rule) int { return slices.Index(r.all, a) - slices.Index(r.all, b) })
	}
	return out
}

// fits compares steps, the last one first, with a line of elements from its end.
func (r *rules) fits(steps []string, line []*element.Element, anchored bool) bool {
	if len(steps) == 0 {
		return !anchored || len(line) == 0
	}
	if steps[0] == "**" {
		for n := len(line); n >= 0; n-- {
			if r.fits(steps[1:], line[:n], anchored) {
				return true
			}
		}
		return false
	}
	if len(line) == 0 {
		return false
	}
	e := line[len(line)-1]
	return stepFits(steps[0], r.nameOf(e)) && r.fits(steps[1:], line[:len(line)-1], anchored)
}

// stepFits compares a step with a name: * stands for any, *:NAME for NAME with any
// prefix or none.
func stepFits(step, name string) bool {
	if local, any := strings.CutPrefix(step, "*:"); any {
		return name == local || strings.HasSuffix(name, ":"+local)
	}
	return step == "*" || step == name
}

// said is what the rules say of one element.
type said struct {
	key      []string
	ordered  *bool
	noise    []string
	embedded map[string]string
}

func (r *rules) say(line []*element.Element) said {
	var s said
	for _, rule := range r.at(line) {
		if s.key == nil {
			s.key = rule.Key
		}
		if s.ordered == nil {
			s.ordered = rule.Ordered
		}
		s.noise = append(s.noise, rule.Noise...)
		for name, how := range rule.Embedded {
			if s.embedded == nil {
				s.embedded = map[string]string{}
			}
			if s.embedded[name] == "" {
				s.embedded[name] = how
			}
		}
	}
	return s
}

// keyOf gives the key that properties make; empty when one is missing.
func (r *rules) keyOf(e *element.Element, names []string) string {
	parts := make([]string, len(names))
	for i, name := range names {
		v := r.lookUp(e, name)
		if v.IsAbsent() || v.String() == "" {
			return ""
		}
		parts[i] = v.String()
	}
	return strings.Join(parts, " ")
}

// lookUp gives a property, or that of a child behind /; a child that has only
// text stands for its text.
func (r *rules) lookUp(e *element.Element, name string) element.Value {
	if v := e.Prop(name); !v.IsAbsent() {
		return v
	}
	step, rest, deeper := strings.Cut(name, "/")
	for _, c := range e.Children {
		switch {
		case r.nameOf(c) != step:
		case deeper:
			return r.lookUp(c, rest)
		default:
			return c.Prop("text")
		}
	}
	return element.Value{}
}
