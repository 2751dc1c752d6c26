package landscape

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/manifest"
)

// Finding is something that is wrong with a landscape.
type Finding struct {
	// Where is the environment, lane, move or gate that it is about.
	Where string
	// What says what is wrong, Do what would mend it: sentences.
	What, Do string
	// Grave findings keep work from moving as it should; the others are worth a thought.
	Grave bool
}

// checker gathers findings.
type checker struct {
	*Landscape
	known *Targets
	out   []Finding
}

// Targets is what is known of targets beside how they are written.
type Targets struct {
	// Place gives the place that a target is, whatever way it is written; KindOf the kind of artifact that it holds,
	// empty for files of any kind.
	Place  func(target string) string
	KindOf func(target string) string
}

func (c *checker) grave(where, what, do string) {
	c.out = append(c.out, Finding{Where: where, What: what, Do: do, Grave: true})
}

func (c *checker) doubt(where, what, do string) {
	c.out = append(c.out, Finding{Where: where, What: what, Do: do})
}

// Check finds what is wrong: names that nothing has, stages that nothing leads to or on
// from, circles, stages that two control, lanes whose people meet too late, and lanes that
// nothing leads back to.
// known is nil where nothing is known of targets.
func (l *Landscape) Check(known *Targets) []Finding {
	c := &checker{Landscape: l, known: known}
	c.names()
	c.targets()
	c.kinds()
	c.gates()
	c.unused()
	c.times()
	c.paths()
	c.circles()
	c.control()
	c.meetings()
	c.wayBack()
	return c.out
}

// names finds names that nothing has, and those that two have.
func (c *checker) names() {
	p := c.Manifest.Pipeline
	known := func(name string) bool { _, err := c.Manifest.Environment(name); return err == nil }
	seen := map[string]bool{}
	for _, m := range p.Moves {
		name := m.From + " → " + m.To
		for _, e := range []string{m.From, m.To} {
			if !known(e) {
				c.grave(name, "There is no environment "+e+".", "Declare it with oaken env add, or correct the move.")
			}
		}
		if m.From == m.To {
			c.grave(name, "The move leads to where it begins.", "Take it out.")
		}
		if seen[name] {
			c.grave(name, "The move is declared twice.", "Keep one of the two.")
		}
		seen[name] = true
		c.gatesKnown(name, m.Gates)
	}
	for _, e := range c.Manifest.Environments {
		if _, ok := p.Lane(e.Lane); e.Lane != "" && !ok {
			c.grave(e.Name, "There is no lane "+e.Lane+".", "Declare it under [[pipeline.lane]].")
		}
		if e.Tier == "" && len(c.on[e.Name])+len(c.into[e.Name]) > 0 {
			c.doubt(e.Name, "It has no tier.", "Give it one of "+tiers()+".")
		}
		c.gatesKnown(e.Name, e.Gates)
	}
	c.twice("lane", len(p.Lanes), func(i int) string { return p.Lanes[i].Name })
	c.twice("gate", len(p.Gates), func(i int) string { return p.Gates[i].Name })
	for _, f := range p.Freezes {
		for _, e := range f.Environments {
			if !known(e) {
				c.grave("freeze", "It names "+e+", and there is no such environment.", "Correct the name.")
			}
		}
	}
}

func tiers() string {
	var out []string
	for _, t := range manifest.Tiers {
		out = append(out, string(t))
	}
	return strings.Join(out, ", ")
}

func (c *checker) gatesKnown(where string, gates []string) {
	for _, g := range gates {
		if _, ok := c.Manifest.Pipeline.Gate(g); !ok {
			c.grave(where, "There is no gate "+g+".", "Declare it under [[pipeline.gate]].")
		}
	}
}

func (c *checker) twice(what string, n int, name func(int) string) {
	seen := map[string]bool{}
	for i := range n {
		if seen[name(i)] {
			c.grave(what+" "+name(i), "Two have that name.", "Rename one of them.")
		}
		seen[name(i)] = true
	}
}

// targets finds environments that are one and the same place.
func (c *checker) targets() {
	at := map[string]string{}
	for _, e := range c.Manifest.Environments {
		for _, s := range e.Sites() {
			place := s.Target
			if c.known != nil {
				place = c.known.Place(place)
			}
			if other := at[place]; other != "" && other != e.Name {
				c.grave(e.Name, fmt.Sprintf("It is the same place as %s: %s.", other, s.Target),
					"Give each environment a target of its own.")
			}
			at[place] = e.Name
		}
	}
}

// kinds finds databases that would be compared as mere text.
func (c *checker) kinds() {
	if c.known == nil {
		return
	}
	for _, e := range c.Manifest.Environments {
		for _, s := range e.Sites() {
			kind := c.known.KindOf(s.Target)
			if kind == "" {
				continue
			}
			a, ok := c.Manifest.Declared(s.Into)
			switch do := "Declare it in oaken.toml: [[artifact]] path = \"" + s.Into + "\", kind = \"" + kind + "\"."; {
			case !ok:
				c.grave(e.Name, "The folder "+s.Into+" is not declared as a database, so its files are compared as mere text.", do)
			case a.Kind != kind:
				c.grave(e.Name, fmt.Sprintf("The folder %s is declared as %s, and its target holds a %s.", s.Into, a.Kind, kind), do)
			}
		}
	}
}

// unused finds gates that no move uses, and those that bear a name which every move has already.
func (c *checker) unused() {
	used := map[string]bool{}
	for _, m := range c.Manifest.Pipeline.Moves {
		for _, g := range c.Gates(m) {
			used[g] = true
		}
	}
	for _, g := range c.Manifest.Pipeline.Gates {
		switch {
		case BuiltIn(g.Name):
			c.grave("gate "+g.Name, "Every move has a gate of that name already.", "Give it another name.")
		case !used[g.Name]:
			c.doubt("gate "+g.Name, "No move uses it.", "Name it under gates of a move or of an environment, or take it out.")
		}
	}
}

// times finds freezes that end before they begin, and windows that never open.
func (c *checker) times() {
	for i, f := range c.Manifest.Pipeline.Freezes {
		if f.Backwards() {
			c.grave(fmt.Sprintf("freeze %d", i+1), fmt.Sprintf("It ends on %s, before it begins on %s.", f.Until, f.From),
				"Correct one of the two.")
		}
	}
	for i, w := range c.Manifest.Pipeline.Windows {
		where := fmt.Sprintf("window %d", i+1)
		if w.Never() {
			c.grave(where, "It never opens: it ends when it begins.", "Correct from or until.")
		}
		for _, name := range w.Environments {
			if _, err := c.Manifest.Environment(name); err != nil {
				c.grave(where, "It names "+name+", and there is no such environment.", "Correct the name.")
			}
		}
	}
	for _, a := range c.Manifest.Pipeline.Afters {
		for _, name := range a.Environments {
			if _, err := c.Manifest.Environment(name); err != nil {
				c.grave("after "+a.Name, "It names "+name+", and there is no such environment.", "Correct the name.")
			}
		}
	}
	for _, name := range c.Outside() {
		if e, err := c.Manifest.Environment(name); err != nil || e.Tier != "" || e.Lane != "" {
			continue // of one that belongs to the pipeline it is told that nothing leads there
		}
		c.doubt(name, "It is outside of the pipeline: no move leads to it or on from it.", "Declare a move, if it is a part of it.")
	}
}

// gates finds gates that nobody can open.
func (c *checker) gates() {
	for _, g := range c.Manifest.Pipeline.Gates {
		if g.Approvals == 0 || len(g.By) == 0 {
			continue
		}
		people := map[string]bool{}
		for _, name := range g.By {
			if role, ok := c.Manifest.Team.Roles[name]; ok {
				for _, p := range role {
					people[p] = true
				}
				continue
			}
			people[name] = true
		}
		if len(people) < g.Approvals {
			c.grave("gate "+g.Name, fmt.Sprintf("It asks for %d approvals, and only %d can give one.", g.Approvals, len(people)),
				"Ask for fewer, or name more people or roles under by.")
		}
	}
	for _, name := range c.Manifest.Pipeline.MayOverride {
		if role, ok := c.Manifest.Team.Roles[name]; ok && len(role) == 0 {
			c.doubt("may-override", "Nobody has the role "+name+".", "Name people under [team.roles].")
		}
	}
}

// paths finds stages that nothing leads to, and those that lead nowhere.
func (c *checker) paths() {
	if c.Free() {
		if len(c.Staged()) > 1 {
			c.doubt("pipeline", "No moves are declared, so everything may go everywhere.", "Declare them under [[pipeline.move]].")
		}
		return
	}
	live := false
	for _, e := range c.Staged() {
		live = live || e.Tier == manifest.Live
		begins := e.Tier == manifest.Development || e.Tier == ""
		if len(c.into[e.Name]) == 0 && !begins {
			c.grave(e.Name, "No move leads to it.", "Declare one under [[pipeline.move]], or make it a development environment.")
		}
		if len(c.on[e.Name]) == 0 && e.Tier != manifest.Live {
			c.grave(e.Name, "No move leads on from it, so work ends there.", "Declare one under [[pipeline.move]].")
		}
		if e.Tier != manifest.Live && len(c.on[e.Name]) > 0 && !c.leadsTo(e.Name, manifest.Live) {
			c.doubt(e.Name, "No path leads from it to a live environment.", "Declare the moves that are missing.")
		}
	}
	if !live {
		c.doubt("pipeline", "No environment is live.", "Give the one that people use tier = \"live\".")
	}
}

// leadsTo reports whether a path leads from an environment to one of a tier.
func (c *checker) leadsTo(name string, t manifest.Tier) bool {
	return slices.ContainsFunc(c.Later(name), func(e manifest.Environment) bool { return e.Tier == t })
}

// circles finds moves that lead back to where they begin, and those to an earlier tier.
func (c *checker) circles() {
	told := map[string]bool{}
	for _, e := range c.Manifest.Environments {
		if !c.reached(e.Name)[e.Name] || told[e.Name] {
			continue
		}
		var on []string
		for _, o := range c.Manifest.Environments {
			if c.reached(e.Name)[o.Name] && c.reached(o.Name)[e.Name] {
				on = append(on, o.Name)
				told[o.Name] = true
			}
		}
		c.grave(strings.Join(on, ", "), "Moves lead round in a circle.", "Moves lead forward only; oaken backfill brings work back.")
	}
	for _, m := range c.Manifest.Pipeline.Moves {
		from, err1 := c.Manifest.Environment(m.From)
		to, err2 := c.Manifest.Environment(m.To)
		if err1 == nil && err2 == nil && from.Tier.Rank() >= 0 && to.Tier.Rank() >= 0 && to.Tier.Rank() < from.Tier.Rank() {
			c.grave(m.From+" → "+m.To, fmt.Sprintf("The move goes back, from %s to %s.", from.Tier, to.Tier),
				"Moves lead forward only; oaken backfill brings work back.")
		}
	}
}

// control finds stages that two control, or nobody.
func (c *checker) control() {
	for _, e := range c.Staged() {
		switch {
		case len(e.Controllers) > 1:
			c.grave(e.Name, "Two control it: "+strings.Join(e.Controllers, " and ")+".",
				"Name one person, or one role under [team.roles]; those who decide in their stead go under on-call.")
		case len(e.Controllers) == 0 && e.Tier.Rank() >= manifest.Tier("test").Rank():
			c.doubt(e.Name, "Nobody is said to control it.", "Name who decides under controllers.")
		}
	}
}

// meetings finds lanes whose people, or whose work, meet only where others test.
func (c *checker) meetings() {
	for _, l := range c.Manifest.Pipeline.Lanes {
		people := len(l.Developers)
		places := 0
		met := false
		for _, e := range c.Members(l.Name) {
			if e.Tier == manifest.Development {
				places++
			}
			met = met || e.Tier == manifest.Integration || c.leadsTo(e.Name, manifest.Integration)
		}
		if n := max(people, places); n > 1 && !met {
			c.grave("lane "+l.Name, fmt.Sprintf("%d develop in it, and no integration environment is where their work meets.", n),
				"Add one, so that collisions surface there and not at the testers'.")
		}
	}
	for _, e := range c.Staged() {
		if e.Tier.Rank() < manifest.Tier("acceptance").Rank() && e.Tier.Rank() > manifest.Integration.Rank() &&
			len(c.lanesInto(e.Name)) > 1 && e.Lane == "" {
			c.doubt(e.Name, "Several lanes meet there first: "+strings.Join(c.lanesInto(e.Name), ", ")+".",
				"Let them meet in an integration environment before.")
		}
	}
}

// lanesInto lists the lanes whose environments lead straight to one.
func (c *checker) lanesInto(name string) []string {
	var out []string
	for _, m := range c.into[name] {
		if e, err := c.Manifest.Environment(m.From); err == nil && e.Lane != "" && !slices.Contains(out, e.Lane) {
			out = append(out, e.Lane)
		}
	}
	return out
}

// wayBack finds lanes that what reaches live on another path can't be brought back to.
func (c *checker) wayBack() {
	for _, l := range c.Manifest.Pipeline.Lanes {
		members := c.Members(l.Name)
		if len(members) == 0 {
			c.doubt("lane "+l.Name, "No environment is in it.", "Give those of the lane lane = \""+l.Name+"\".")
			continue
		}
		branch := l.Branch
		for _, e := range members {
			if branch == "" {
				branch = e.Branch
			}
		}
		if branch == "" {
			c.grave("lane "+l.Name, "No way leads back from live to it: it has no branch that work could be merged into.",
				"Give the lane a branch.")
		}
	}
}
