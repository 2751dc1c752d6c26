package chest

import (
	"context"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/ledger"
)

// sight remembers what the records answered, until something is done to them from here: a command asks for the
// same few things again and again. Commits never change and are remembered always; all else only where somebody
// who ends soon has asked for it, since others work meanwhile. It answers single questions alone: who asks
// several that have to agree takes a view.
type sight struct {
	mu      sync.Mutex // guards what follows
	commits map[ledger.ID]ledger.Commit
	at      map[branchEnd]ledger.ID // of commits that were asked for by branch and depth

	brief      bool // the rest may be remembered
	branches   map[string]ledger.Branch
	notices    map[string][]ledger.Notice
	edits      map[string][]ledger.Edit
	workspaces []ledger.Workspace
	locks      []ledger.Lock
	leases     []ledger.Lease
	// whole says which of the lists were asked for.
	wholeCrowd, wholeLocks, wholeLeases bool
}

// mostRemembered bounds how many commits are remembered.
const mostRemembered = 1 << 16

// Brief lets the chest remember for the length of one command what it is asked for: the newest commits of some
// branches, one commit, and what is left for a workspace to read are asked for at once.
func (c *Chest) Brief(ctx context.Context, base ledger.ID, branches []string, workspace string) error {
	s := &c.sight
	return c.View(ctx, func(r ledger.Records) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.brief = true
		s.branches, s.notices, s.edits = map[string]ledger.Branch{}, map[string][]ledger.Notice{}, map[string][]ledger.Edit{}
		for _, name := range slices.Compact(branches) {
			if b, err := r.Branch(name); err == nil {
				s.branches[name] = b
			}
		}
		for _, id := range append(s.tips(), base) {
			if _, known := s.commits[id]; known || id == (ledger.ID{}) {
				continue
			}
			if k, err := r.Commit(id); err == nil {
				s.remember(k)
			}
		}
		list, err := r.Notices(workspace)
		s.notices[workspace] = list
		return err
	})
}

func (s *sight) tips() (out []ledger.ID) {
	for _, b := range s.branches {
		out = append(out, b.Tip)
	}
	return out
}

// company asks for everybody's workspaces, what is edited in the actor's, leases, and all locks when those are
// wanted, at once; false when nothing but commits may be remembered.
func (c *Chest) company(ctx context.Context, locks bool) (bool, error) {
	s := &c.sight
	s.mu.Lock()
	known := s.wholeCrowd && (s.wholeLocks || !locks)
	brief := s.brief
	s.mu.Unlock()
	if !brief || known {
		return brief, nil
	}
	err := c.View(ctx, func(r ledger.Records) (err error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.workspaces, err = r.Workspaces(); err != nil {
			return err
		}
		if s.edits[c.Actor.Workspace], err = r.EditsOf(c.Actor.Workspace); err != nil {
			return err
		}
		if s.leases, err = r.Leases(); err != nil {
			return err
		}
		if s.wholeCrowd, s.wholeLeases = true, true; locks {
			if s.locks, err = r.Locks(); err != nil {
				return err
			}
			s.wholeLocks = true
		}
		return nil
	})
	return true, err
}

// drop forgets what may have changed: something was done. Who works where is told by other ways.
func (s *sight) drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.branches, s.notices = map[string]ledger.Branch{}, map[string][]ledger.Notice{}
	s.locks, s.leases = nil, nil
	s.wholeLocks, s.wholeLeases = false, false
}

// acted is drop, after an act that published commits: where their branches are then is known.
func (s *sight) acted(commits []ledger.Commit) {
	s.mu.Lock()
	known := s.branches
	s.mu.Unlock()
	s.drop()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range commits {
		s.remember(k)
		if b, is := known[k.Branch]; is && s.brief {
			b.Tip = k.ID
			s.branches[k.Branch] = b
		}
	}
}

// dropCrowd forgets who works where.
func (s *sight) dropCrowd() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.workspaces, s.edits, s.wholeCrowd = nil, map[string][]ledger.Edit{}, false
}

// told takes in what a workspace has told of itself.
func (s *sight) told(w ledger.Workspace, edits []ledger.Edit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, known := s.edits[w.Name]; !known || !s.wholeCrowd {
		return
	}
	s.edits[w.Name] = slices.Clone(edits)
	s.workspaces = slices.DeleteFunc(s.workspaces, func(o ledger.Workspace) bool { return o.Name == w.Name })
	s.workspaces = append(s.workspaces, w)
	slices.SortFunc(s.workspaces, func(a, b ledger.Workspace) int { return strings.Compare(a.Name, b.Name) })
}

// remember takes a commit in.
func (s *sight) remember(k ledger.Commit) {
	if s.commits == nil || len(s.commits) > mostRemembered {
		s.commits, s.at = map[ledger.ID]ledger.Commit{}, map[branchEnd]ledger.ID{}
	}
	s.commits[k.ID] = k
	s.at[branchEnd{k.Branch, k.Depth}] = k.ID
}

func (s *sight) commit(id ledger.ID) (ledger.Commit, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k, ok := s.commits[id]
	return k, ok
}

func (s *sight) commitAt(e branchEnd) (ledger.Commit, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id, ok := s.at[e]
	return s.commits[id], ok
}

func (s *sight) branch(name string) (ledger.Branch, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b, ok := s.branches[name]
	return b, ok
}

// keepBranch remembers a branch that was asked for.
func (s *sight) keepBranch(b ledger.Branch) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.brief {
		s.branches[b.Name] = b
	}
}

func (s *sight) keepCommit(k ledger.Commit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.remember(k)
}

// ofWorkspace gives what a map holds for a workspace.
func ofWorkspace[V any](s *sight, m *map[string][]V, workspace string) ([]V, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, ok := (*m)[workspace]
	return slices.Clone(list), ok
}

// lists gives copies of what the company is.
func (s *sight) lists() (workspaces []ledger.Workspace, locks []ledger.Lock, leases []ledger.Lease) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.workspaces), slices.Clone(s.locks), slices.Clone(s.leases)
}

// lease gives a lease as it was seen.
func (s *sight) lease(name string) (ledger.Lease, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.leases {
		if l.Name == name {
			return l, true
		}
	}
	return ledger.Lease{Name: name}, s.wholeLeases
}

// Stale says that something was done to the chest by other ways than this: what was remembered is asked for again.
func (c *Chest) Stale() { c.sight.drop() }
