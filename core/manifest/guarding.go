package manifest

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
)

// Some parts of a manifest guard what people share: targets, folders and filters of the
// environments of the pipeline, lanes, moves, gates, freezes, roles, the rules of reviews and
// locks, and the kinds and recipes that decide what "agree" means. They count as the first
// branch has them, and change there only by those who may.

// MayChangeRules reports whether a person may change the parts that guard. founder is who
// began the project, who may until somebody is named.
func (t Team) MayChangeRules(person, founder string) bool {
	if len(t.MayRule) == 0 {
		return founder == "" || person == founder
	}
	return t.Plays(person, t.MayRule)
}

// guards writes down the parts that guard, by name. about says which environments count.
func (m *Manifest) guards(about map[string]bool) map[string]string {
	out := map[string]string{}
	set := func(name string, v any) {
		data, err := json.Marshal(v)
		if text := string(data); err == nil && text != "null" && text != "[]" && text != "{}" && text != `""` {
			out[name] = text
		}
	}
	folders := map[string]bool{}
	for _, e := range m.Environments {
		if !about[e.Name] {
			continue
		}
		set("environment "+e.Name, []any{e.Sites(), e.Tier, e.Lane, e.Branch, e.Deciders(), e.Gates, e.RunsAtServer()})
		for _, f := range e.Folders() {
			folders[f] = true
		}
	}
	for _, a := range m.Artifacts {
		if folders[a.Path] {
			set("kind and filters of "+a.Path, a)
		}
	}
	for _, l := range m.Pipeline.Lanes {
		set("lane "+l.Name, []any{l.Branch, l.Developers})
	}
	for _, v := range m.Pipeline.Moves {
		set("move "+v.From+" → "+v.To, []any{v.Gates, true})
	}
	for _, g := range m.Pipeline.Gates {
		set("gate "+g.Name, g)
	}
	for i, f := range m.Pipeline.Freezes {
		set(fmt.Sprintf("freeze %d", i+1), f)
	}
	for i, w := range m.Pipeline.Windows {
		set(fmt.Sprintf("window %d", i+1), w)
	}
	for _, a := range m.Pipeline.Afters {
		set("after "+a.Name, a)
	}
	for _, mask := range m.Masks {
		set("mask of "+mask.Column, mask)
	}
	for name, people := range m.Team.Roles {
		set("role "+name, people)
	}
	set("may-override", m.Pipeline.MayOverride)
	set("may-end-bookings", m.Pipeline.MayEndBookings)
	set("owed-limit", m.Pipeline.OwedLimit)
	set("may-rule", m.Team.MayRule)
	set("may-free-locks", m.Team.MayFreeLocks)
	set("reviews", m.Review)
	set("locks", m.Locks)
	if len(folders) > 0 {
		set("recipes", m.Recipes)
	}
	return out
}

// RuleChange is a guarding part that two manifests have otherwise.
type RuleChange struct {
	Name string
	// How is added, removed or edited.
	How string
}

// RulesThatChange lists the parts that guard, and that another manifest has otherwise,
// sorted by name. Environments count when this one names them, or when a move of one of the
// two touches them: one that a branch makes for itself is free.
func (m *Manifest) RulesThatChange(to *Manifest) []RuleChange {
	about := map[string]bool{}
	for _, e := range m.Environments {
		about[e.Name] = true
	}
	for _, x := range []*Manifest{m, to} {
		for _, v := range x.Pipeline.Moves {
			about[v.From], about[v.To] = true, true
		}
	}
	was, is := m.guards(about), to.guards(about)
	var out []RuleChange
	all := maps.Clone(was)
	maps.Copy(all, is)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		before, had := was[name]
		after, has := is[name]
		switch {
		case !had:
			out = append(out, RuleChange{name, "added"})
		case !has:
			out = append(out, RuleChange{name, "removed"})
		case before != after:
			out = append(out, RuleChange{name, "edited"})
		}
	}
	return out
}
