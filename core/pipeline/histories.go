package pipeline

import (
	"context"
	"fmt"
	"slices"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/owed"
	"oakenchest/core/state"
)

// compareHistories finds out which work each side has and the other has not.
func (m *Mover) compareHistories(ctx context.Context, l *landscape.Landscape, p *Promotion) error {
	err := owed.View(ctx, m.Project.Chest, l, func(book *owed.Book) (err error) {
		r := book.Arrived
		if c, ok := book.Standing[p.To.Name]; ok {
			p.Standing = &c
		}
		p.onto = book.Tip(p.Branch)
		if lane, ok := l.Manifest.Pipeline.Lane(p.Lane); ok {
			if p.owes, err = book.OfLive(lane); err != nil {
				return err
			}
		}
		var standing ledger.Commit
		if p.Standing != nil {
			standing = *p.Standing
		}
		if p.Ahead, err = r.Missing(p.Source, standing); err != nil {
			return err
		}
		if p.Moving, err = r.Missing(standing, p.Source); err != nil {
			return err
		}
		if err := m.ownBranch(l, r, p, standing); err != nil {
			return err
		}
		p.Firsts = map[ledger.ID]ledger.Commit{}
		for _, c := range slices.Concat(p.Ahead, p.Moving) {
			if first := r.First(c); first.ID != c.ID {
				p.Firsts[c.ID] = first
			}
		}
		return nil
	})
	if err != nil || !p.beside {
		return err
	}
	return m.besideBranch(ctx, p)
}

// ownBranch finds out what part the branch of To plays: it is to be made, it stands where
// From's does, or it takes the work in by a merge.
func (m *Mover) ownBranch(l *landscape.Landscape, r *arrival.Reader, p *Promotion, standing ledger.Commit) error {
	p.Lost = p.Ahead
	switch {
	case p.Branch == "":
		return nil
	case p.onto.Depth == 0 && p.Standing == nil:
		p.fresh, p.begins = true, p.Source
		return nil
	case p.onto.Depth == 0: // the branch begins with what To holds
		p.onto, p.begins = standing, standing
	case p.Branch == p.Source.Branch || p.Branch == l.Manifest.BranchOf(p.From):
		p.shared = true
		return m.sharedBranch(r, p, standing)
	}
	kept, err := r.Missing(p.onto, standing)
	if err != nil {
		return err
	}
	p.Lost = p.Lost[:0:0]
	for _, c := range p.Ahead { // what the branch has is merged with, and stays
		if slices.ContainsFunc(kept, func(k ledger.Commit) bool { return r.Root(k.ID) == r.Root(c.ID) }) {
			p.Lost = append(p.Lost, c)
		}
	}
	if p.open, err = r.Missing(p.onto, p.Source); err != nil {
		return err
	}
	waiting, err := r.Missing(standing, p.onto)
	for _, c := range waiting {
		if !slices.ContainsFunc(p.Moving, func(k ledger.Commit) bool { return r.Root(k.ID) == r.Root(c.ID) }) {
			p.Moving = append(p.Moving, c)
		}
		p.Waiting = append(p.Waiting, c)
	}
	slices.SortFunc(p.Moving, ledger.Older)
	return err
}

// sharedBranch finds out what To gets when both ends take their work from one branch. Where
// To has work that From has not, it keeps that: it gets the first commit of the branch that
// has just the work of both, or, when there is none, a merge of what the two hold, which
// lies beside the branch.
func (m *Mover) sharedBranch(r *arrival.Reader, p *Promotion, standing ledger.Commit) error {
	tip := p.onto
	p.onto, p.Branch = ledger.Commit{}, ""
	if len(p.Ahead) == 0 || p.Standing == nil {
		return nil
	}
	p.Lost = nil
	both, err := r.MissingOf(ledger.Commit{}, []ledger.Commit{p.Source, standing})
	if err != nil {
		return err
	}
	first, ok, err := r.FirstWith(tip, both)
	if err != nil {
		return err
	}
	if ok {
		all, err := r.Missing(ledger.Commit{}, first)
		if err != nil {
			return err
		}
		all = slices.DeleteFunc(slices.Clone(all), r.IsSettled)
		if len(all) == len(slices.DeleteFunc(both, r.IsSettled)) {
			p.onto = first
			return nil
		}
	}
	p.onto, p.beside = standing, true
	p.open, err = r.Missing(standing, p.Source)
	return err
}

// besideBranch gives a merge that no branch has its place.
func (m *Mover) besideBranch(ctx context.Context, p *Promotion) error {
	line, fresh, err := m.Project.Chest.Line(ctx, p.To.Name, p.onto)
	p.Branch = line.Name
	if fresh {
		p.begins = p.onto
	}
	return err
}

// allWork takes in everything that From has.
func (m *Mover) allWork(ctx context.Context, p *Promotion) error {
	p.Chosen = p.Moving
	if p.Branch == "" || p.fresh {
		if p.tree = p.Source.Tree; p.onto.Depth > 0 { // the branch has the work of both
			p.tree = p.onto.Tree
		}
		return nil
	}
	w := m.Project
	p.tree = p.onto.Tree
	if len(p.open) == 0 { // the branch has all of that work, by whatever way
		return nil
	}
	b, err := w.Blend(ctx, p.onto, p.Source, p.choices.settle)
	if err != nil {
		return err
	}
	p.tree = b.Tree
	if b.Merged == nil {
		return nil
	}
	p.Conflicts, p.Settled = b.Merged.Conflicts, p.choices.counted()
	p.drafts = []chest.Draft{{Branch: p.Branch, Tip: p.onto.ID, Merged: p.Source.ID, Tree: b.Tree, Author: w.Person, Workspace: w.Name,
		Time: m.Now(), Settled: len(p.Settled) > 0,
		Message: fmt.Sprintf("%s from %s to %s", label(p.Source), p.From.Name, p.To.Name)}}
	if len(p.Conflicts) > 0 {
		return nil
	}
	return m.bySettlers(ctx, p)
}

// bySettlers makes those who settled something the authors of just that: the merge has what
// the first of them chose, and each other one's choices are a commit on it.
func (m *Mover) bySettlers(ctx context.Context, p *Promotion) error {
	who := people(p.Settled)
	if len(who) == 0 {
		return nil
	}
	merge := p.drafts[0]
	p.drafts = nil
	some := *p.choices
	some.only, some.used = map[string]bool{}, map[string]bool{}
	for i, person := range who {
		some.only[person] = true
		b, err := m.Project.Blend(ctx, p.onto, p.Source, some.settle)
		if err != nil {
			return err
		}
		own := slices.DeleteFunc(slices.Clone(p.Settled), func(x ledger.Chosen) bool { return x.Person != person })
		d := merge
		d.Tree, d.Author, d.Message = b.Tree, person, merge.Message+settledText(own)
		if i > 0 {
			d.Merged, d.Settled = ledger.ID{}, false
			d.Message = "Settled in " + merge.Message + settledText(own)
		}
		p.drafts = append(p.drafts, d)
	}
	return nil
}

// whatChanges compares what To holds by the records with what it is to hold.
func (m *Mover) whatChanges(ctx context.Context, p *Promotion) ([]state.Difference, error) {
	before := m.Project.TreeState(content.Digest{}, "nothing")
	if p.Standing != nil {
		before = m.Project.CommitState(*p.Standing, label(*p.Standing))
	}
	return m.Project.Reader().Compare(ctx, before, p.state(m, p.label()), p.To.Folders())
}
