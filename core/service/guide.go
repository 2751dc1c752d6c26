// Package service puts verbs together out of what core has, for any face: a command line, an editor, a server. What a
// verb answers is a type of package result.
package service

import (
	"context"
	"fmt"

	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/project"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// mostAdvice is how much advice is given at a time.
const mostAdvice = 3

// Guide says what to do next in a workspace, the most urgent first.
func Guide(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover) (result.Guide, error) {
	g := guide{w: w}
	s, err := w.Changes(ctx)
	if err != nil {
		return result.Guide{}, err
	}
	pending, open, err := w.Conflicts(ctx)
	if err != nil {
		return result.Guide{}, err
	}
	if pending != nil {
		g.underWay(pending.What, len(open))
	}
	g.others(s)
	g.here(s, pending != nil)
	if !w.Offline && len(g.out) < mostAdvice {
		if err := g.environments(ctx, m); err != nil {
			return result.Guide{}, err
		}
	}
	g.idle(s)
	return result.Guide{Advice: g.out[:min(len(g.out), mostAdvice)]}, nil
}

// GuideOutside says what to do next where no workspace is.
func GuideOutside() result.Guide {
	return result.Guide{Advice: []result.Advice{
		{Text: "This folder is under no control. Put it under control", Command: "oaken begin"},
		{Text: "Get a workspace of a project that others have", Command: "oaken open LOCATION"},
		{Text: "Try everything on sample data", Command: "oaken demo --bare reef"},
	}}
}

type guide struct {
	w   *workspace.Workspace
	out []result.Advice
}

func (g *guide) say(command, format string, args ...any) {
	g.out = append(g.out, result.Advice{Text: fmt.Sprintf(format, args...), Command: command})
}

// underWay is about a merge.
func (g *guide) underWay(what string, open int) {
	if open > 0 {
		g.say("oaken conflicts", "%s is under way, %s open. See them", what, is(open, "conflict"))
		g.say("oaken resolve ADDRESS --keep mine", "Settle each: mine, theirs, both or base")
		return
	}
	g.say("oaken commit", "%s is under way, and all of it is settled. Finish it", what)
}

// others is about what others have published, and what they have not had.
func (g *guide) others(s *workspace.Status) {
	switch {
	case g.w.Offline:
		g.say("oaken commit -m TEXT", "The chest is out of reach. Work on: what is committed stays here until it is back")
	case len(s.Waiting) > 0:
		g.say("oaken sync", "%s unsent. Publish", is(len(s.Waiting), "commit"))
	case s.Newer > 0:
		g.say("oaken sync", "%s newer on %s than here. Bring them in", is(s.Newer, "commit"), g.w.Branch)
	}
}

// here is about what was edited here.
func (g *guide) here(s *workspace.Status, merging bool) {
	edited, contested := 0, ""
	for _, c := range s.Changes {
		switch {
		case c.Noise:
		case c.State == workspace.Contested:
			contested = c.Path
		default:
			edited++
		}
	}
	if merging {
		return
	}
	if contested != "" {
		g.say("oaken lock "+fault.Word(contested), "%s is edited without its lock. Take it as soon as it is free", contested)
	}
	switch {
	case edited > 0 && g.w.Base.Depth == 0:
		g.say(`oaken commit -m "First state"`, "%s waiting for the first commit. Record them", is(edited, "file"))
	case edited > 0:
		g.say("oaken compare", "%s edited. See what is different inside", is(edited, "file"))
		g.say("oaken commit -m TEXT", "Record it, and publish it")
	}
	for _, l := range s.Mine {
		if edited == 0 && contested == "" {
			g.say("oaken unlock "+fault.Word(l.Address), "You hold the lock of %s, and nothing is edited. Edit it, or give it back",
				l.Address)
			break
		}
	}
}

// environments is about those that lack work of their branch.
func (g *guide) environments(ctx context.Context, m *pipeline.Mover) error {
	behind, err := m.WhoIsBehind(ctx, "")
	if err != nil {
		return err
	}
	for _, b := range behind {
		if n := len(b.Lacks); n > 0 && len(g.out) < mostAdvice {
			g.say("oaken deploy "+fault.Word(b.Environment.Name)+" --dry-run", "%s lacks %s of %s. See what would be done there",
				b.Environment.Name, many(n, "commit"), b.Branch)
		}
	}
	return nil
}

// idle is for when there is nothing else to do.
func (g *guide) idle(s *workspace.Status) {
	if len(g.out) > 0 || len(s.Changes) > 0 {
		return
	}
	g.say("oaken lock PATH", "Everything is committed, at %s. Before you edit what can't be merged", project.Label(g.w.Base))
	g.say("oaken branch NAME", "For work that others should not have yet")
	g.say("oaken history", "What was done so far")
}

func many(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func is(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return many(n, noun) + " are"
}
