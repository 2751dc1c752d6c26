// Package lookalike finds things that two teams seem to have made twice, under different
// names: an arrival date here, a date received there. It judges by the words of the names
// (their forms, meanings, abbreviations, in any order), by what sort of value they hold, by
// where they lie, by what lies beside them and by what uses them.
//
// It guesses: a score says how much speaks for it, and the reasons are given, so that
// people can decide. How often it is right is measured on a labelled set
// (docs/pipeline.md).
package lookalike

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Thing is an element that somebody added.
type Thing struct {
	// Lane is the team's, Address where the element is.
	Lane, Address string
	// Type and Key are the element's; Holds says what sort of value it has, as the artifact
	// writes it: "varchar(20)", "date". Empty for what is no value.
	Type, Key, Holds string
	// Within are the names of the elements that it lies in, the outermost first; Beside
	// those of its neighbours; Users those of what uses it.
	Within, Beside, Users []string
}

// Pair is two things that seem to be one.
type Pair struct {
	One, Other Thing
	// Score says how much speaks for it, from 0 to 1.
	Score float64
	// Why lists the reasons, the strongest first.
	Why []string
}

// Likely is the score from which on a pair is shown unless something else is asked for.
const Likely = 0.62

// Find gives the pairs of things of different lanes with at least a score, the likeliest
// first. Things with one address are one thing, and no pair.
func Find(things []Thing, least float64) []Pair {
	var out []Pair
	for i, a := range things {
		for _, b := range things[i+1:] {
			if a.Lane == b.Lane || a.Address == b.Address || a.Type != b.Type {
				continue
			}
			if p := Compare(a, b); p.Score >= least {
				out = append(out, p)
			}
		}
	}
	slices.SortFunc(out, func(x, y Pair) int {
		return cmp.Or(cmp.Compare(y.Score, x.Score), strings.Compare(x.One.Address, y.One.Address),
			strings.Compare(x.Other.Address, y.Other.Address))
	})
	return out
}

// How much each side of a pair speaks for it.
const (
	wordsWeigh  = .60
	holdsWeigh  = .13
	withinWeigh = .19
	besideWeigh = .04
	usersWeigh  = .04
)

// Compare judges one pair.
func Compare(a, b Thing) Pair {
	p := Pair{One: a, Other: b}
	named, said := compareNames(a.Key, b.Key)
	held, how := compareHolds(a.Holds, b.Holds)
	in, where := compareWithin(a.Within, b.Within)
	beside, use := overlap(a.Beside, b.Beside), overlap(a.Users, b.Users)
	score := wordsWeigh*named + holdsWeigh*held + withinWeigh*in + besideWeigh*beside + usersWeigh*use
	switch {
	case named < .35: // without a common meaning the rest is chance
		score *= .5
	case ordinary(a.Key) && ordinary(b.Key) && in < .8: // a name here, a title there: of what?
		score *= .7
	case in < .3 && len(a.Within) > 0:
		score *= .85
	}
	if held < .2 { // a date is no number
		score *= .75
	}
	p.Score = min(score, 1)
	p.Why = append(p.Why, said...)
	if how != "" && held >= .5 {
		p.Why = append(p.Why, how)
	}
	if where != "" {
		p.Why = append(p.Why, where)
	}
	if beside > .3 {
		p.Why = append(p.Why, "their neighbours have names in common")
	}
	if use > 0 {
		p.Why = append(p.Why, "the same things use them")
	}
	return p
}

// ordinary reports whether a name consists of words alone that many things have.
func ordinary(name string) bool {
	for _, w := range words(name) {
		if weightOf(w) > .6 {
			return false
		}
	}
	return true
}

// compareNames tells how far two names say the same: each word is matched with the one of
// the other that is most like it, and what is left over counts against it.
func compareNames(a, b string) (score float64, why []string) {
	x, y := words(a), words(b)
	if strings.EqualFold(a, b) {
		return 1, []string{"the same name"}
	}
	if strings.Join(x, "") == strings.Join(y, "") {
		return 1, []string{"the same name, written otherwise"}
	}
	type match struct {
		i, j int
		sim  float64
		why  string
	}
	var all []match
	for i, v := range x {
		for j, w := range y {
			if sim, why := alike(v, w); sim > 0 {
				all = append(all, match{i, j, sim, why})
			}
		}
	}
	slices.SortStableFunc(all, func(p, q match) int {
		return cmp.Compare(q.sim*(weightOf(x[q.i])+weightOf(y[q.j])), p.sim*(weightOf(x[p.i])+weightOf(y[p.j])))
	})
	usedX, usedY := map[int]bool{}, map[int]bool{}
	matched, total := 0.0, 0.0
	inOrder, lastJ := true, -1
	var matches []match
	for _, m := range all {
		if usedX[m.i] || usedY[m.j] {
			continue
		}
		usedX[m.i], usedY[m.j] = true, true
		matches = append(matches, m)
		w := weightOf(x[m.i]) + weightOf(y[m.j])
		if m.sim < .9 { // two words for one meaning weigh as the heavier
			w = 2 * max(weightOf(x[m.i]), weightOf(y[m.j]))
		}
		matched += m.sim * w
		total += w
	}
	leftX, leftY := 0.0, 0.0 // the weightiest words that the other has not
	against := 1.0
	for i, v := range x {
		if usedX[i] {
			continue
		}
		total += weightOf(v)
		leftX = max(leftX, weightOf(v))
		for j, w := range y {
			if !usedY[j] && opposed(v, w) {
				against = .5 // from and until, the smallest and the largest
			}
		}
	}
	for j, v := range y {
		if !usedY[j] {
			total += weightOf(v)
			leftY = max(leftY, weightOf(v))
		}
	}
	if min(leftX, leftY) > .6 { // each says something that the other does not
		against = min(against, .8)
	}
	if total == 0 || matched == 0 {
		return 0, nil
	}
	slices.SortFunc(matches, func(p, q match) int { return p.i - q.i })
	for _, m := range matches {
		inOrder = inOrder && m.j > lastJ
		lastJ = m.j
		if m.sim < 1 {
			why = append(why, fmt.Sprintf("%s and %s: %s", x[m.i], y[m.j], m.why))
		}
	}
	if len(why) == 0 && inOrder {
		var common []string
		for _, m := range matches {
			common = append(common, x[m.i])
		}
		why = append(why, "both say "+strings.Join(common, " and "))
	}
	if !inOrder {
		why = append(why, "the words stand in another order")
	}
	return against * matched / total, why
}

// families are sorts of values that go together.
var families = []struct {
	name  string
	words []string
}{
	{"yes or no", []string{"bool", "boolean", "bit", "flag", "checkbox", "yesno"}},
	{"times", []string{"date", "time", "timestamp", "timestamptz", "datetime", "day", "calendar"}},
	{"numbers", []string{"int", "integer", "smallint", "bigint", "tinyint", "numeric", "decimal", "number", "real", "double", "float",
		"money", "serial"}},
	{"texts", []string{"text", "varchar", "char", "character", "string", "clob", "memo", "nvarchar", "choice", "enum"}},
	{"content", []string{"blob", "bytea", "binary", "image", "file"}},
}

// familyOf gives the family of a sort of value, -1 for none.
func familyOf(holds string) int {
	for _, w := range words(holds) {
		for i, f := range families {
			if slices.Contains(f.words, w) {
				return i
			}
		}
	}
	return -1
}

// compareHolds tells how far two sorts of values go together. What is not known speaks
// neither for nor against.
func compareHolds(a, b string) (float64, string) {
	x, y := familyOf(a), familyOf(b)
	switch {
	case x < 0 || y < 0:
		return .6, ""
	case x == y && strings.EqualFold(a, b):
		return 1, "both hold " + families[x].name
	case x == y:
		return .85, "both hold " + families[x].name
	case families[x].name == "texts" || families[y].name == "texts":
		return .5, "" // anything can be kept as text
	case families[x].name == "yes or no" && families[y].name == "numbers" || families[x].name == "numbers" &&
		families[y].name == "yes or no":
		return .4, ""
	}
	return .1, ""
}

// compareWithin tells how far two things lie in the same place.
func compareWithin(a, b []string) (float64, string) {
	if len(a) == 0 && len(b) == 0 {
		return .7, ""
	}
	if len(a) == 0 || len(b) == 0 {
		return .1, ""
	}
	x, y := a[len(a)-1], b[len(b)-1]
	if x == y {
		return 1, "both in " + x
	}
	score, _ := compareNames(x, y)
	if score >= .5 {
		return .8 * score, fmt.Sprintf("%s and %s are alike too", x, y)
	}
	return .2 * score, ""
}

// overlap tells what share of two lists is common, names compared by their words.
func overlap(a, b []string) float64 {
	if len(a) == 0 || len(b) == 0 {
		return 0
	}
	common := 0
	for _, x := range a {
		if slices.ContainsFunc(b, func(y string) bool { return strings.EqualFold(x, y) }) {
			common++
		}
	}
	return float64(2*common) / float64(len(a)+len(b))
}
