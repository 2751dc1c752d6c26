package unsent

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/state"
)

// Draft is an unsent commit as it is to be published.
type Draft struct {
	Commit
	// Onto is the tree that it comes to on top of what was published before it.
	Onto content.Digest
}

// Publication is how unsent commits go on top of a branch's newest commit.
type Publication struct {
	// Tip is that newest commit.
	Tip    ledger.Commit
	Drafts []Draft
	// Final is the tree that the workspace comes to.
	Final     content.Digest
	Artifacts []state.Combined
	// Conflicts counts what says that they can't, First is the address of the first.
	Conflicts int
	First     string

	project *project.Project
}

// Plan puts the commits, which stand on base, on top of a tip: as they are when it is the base, else each merged with
// what others have published. What was published already, by a command that was killed, is left out. Contents go into
// the chest.
func (l *List) Plan(ctx context.Context, in *project.Project, base, tip ledger.Commit) (*Publication, error) {
	p := &Publication{Tip: tip, Final: tip.Tree, project: in}
	done, err := published(ctx, in, base, tip)
	if err != nil {
		return nil, err
	}
	before, left := base.Tree, l.Commits
	for len(left) > 0 && done[left[0].key()] {
		before, left = left[0].tree(), left[1:]
	}
	for _, c := range left {
		files, err := p.onTop(ctx, before, c.tree())
		if err != nil || p.Conflicts > 0 {
			return p, err
		}
		tree, err := in.AmendNow(ctx, p.Final, files) // the next one is merged with it
		if err != nil {
			return nil, err
		}
		// Where others did the same, it is a commit all the same: nobody's work goes unsaid.
		p.Drafts = append(p.Drafts, Draft{c, tree})
		before, p.Final = c.tree(), tree
	}
	return p, nil
}

// onTop gives what one commit changes on top of what the plan has come to.
func (p *Publication) onTop(ctx context.Context, before, after content.Digest) ([]project.Incoming, error) {
	var out []project.Incoming
	if before == p.Final {
		pairs, err := p.project.Chest.Diff(before, after)
		for _, d := range pairs {
			f := d.Is
			f.Path = d.Path
			out = append(out, project.Incoming{File: f})
		}
		return out, chest.Explain(err)
	}
	m, err := p.project.Reader().Merge(ctx, p.project.TreeState(before, "base"), p.project.TreeState(p.Final, "newer"),
		p.project.TreeState(after, "held"), nil)
	if err != nil {
		return nil, err
	}
	if len(m.Conflicts) > 0 {
		p.Conflicts, p.First = len(m.Conflicts), m.Conflicts[0].Address.String()
		return nil, nil
	}
	p.Artifacts = state.AlsoCombined(p.Artifacts, m.Artifacts)
	return project.IncomingOf(m.Edits), nil
}

// published tells which commits of this workspace are in the chest already: a command was killed between publishing
// them and noting so.
func published(ctx context.Context, in *project.Project, base, tip ledger.Commit) (map[string]bool, error) {
	out := map[string]bool{}
	if tip.ID == base.ID {
		return out, nil
	}
	err := in.Chest.Ancestors(ctx, tip.ID, func(c ledger.Commit) (bool, error) {
		if c.Workspace == in.Name {
			out[Commit{Author: c.Author, Message: c.Message, Time: c.Time}.key()] = true
		}
		return c.Generation > base.Generation, nil
	})
	return out, err
}

// Release refuses to publish what others have locked since, and gives the locks that end with each draft. mine tells
// which are this workspace's.
func (p *Publication) Release(ctx context.Context, mine func(ledger.Lock) bool) ([][]string, error) {
	locks, err := p.project.Chest.Locks(ctx)
	if err != nil {
		return nil, err
	}
	set := chest.NewLockSet(locks)
	own := slices.DeleteFunc(slices.Clone(locks), func(l ledger.Lock) bool { return !mine(l) })
	out := make([][]string, len(p.Drafts))
	for i, d := range p.Drafts {
		for _, path := range d.Paths {
			for _, l := range append(set.Over(path), own...) {
				switch {
				case !mine(l):
					return nil, chest.LockInTheWay(l, path, "It is unsent until then. Ask "+l.Holder+", then run oaken sync.")
				case !d.KeepLocks && !slices.Contains(out[i], l.Address) && p.lies(l, path):
					out[i] = append(out[i], l.Address)
				}
			}
		}
	}
	return out, nil
}

// lies reports whether a lock is that of a path, of an element in it, or of the artifact that it belongs to.
func (p *Publication) lies(l ledger.Lock, path string) bool {
	return l.Address == path || strings.HasPrefix(l.Address, path+"::") || p.project.Reader().Unit(path) == l.Address
}
