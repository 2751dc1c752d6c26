package chest

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// leastPrefix is the least number of characters that name a commit by its id.
const leastPrefix = 4

// ErrNoState says that a text names no state of the chest.
var ErrNoState = errors.New("no such state")

// Resolve gives the commit that a state names: BRANCH, BRANCH:NUMBER,
// release:NAME or the first characters of an id. ErrNoState is wrapped when it
// names none.
func (c *Chest) Resolve(ctx context.Context, state string) (ledger.Commit, error) {
	if k, known := c.resolved(state); known {
		return k, nil
	}
	var found ledger.Commit
	err := c.View(ctx, func(r ledger.Records) error {
		var err error
		found, err = resolve(r, state)
		return err
	})
	if err == nil {
		c.sight.keepCommit(found)
	}
	if errors.Is(err, ledger.ErrNotFound) {
		err = noState("States are work, BRANCH, BRANCH:NUMBER, release:NAME, env:NAME, parked:NAME, file:PATH or the first characters of "+
			"a commit's id; oaken history and oaken branch list them.",
			"%q names no state of this project.", state).Among(state, c.StateNames(ctx))
	}
	return found, Explain(err)
}

// resolved answers Resolve from what is remembered.
func (c *Chest) resolved(state string) (ledger.Commit, bool) {
	name, number, _ := cutLast(state, ':')
	if n, err := strconv.Atoi(number); err == nil {
		return c.sight.commitAt(branchEnd{name, n})
	}
	b, known := c.sight.branch(state)
	if !known {
		return ledger.Commit{}, false
	}
	return c.sight.commit(b.Tip)
}

// branchNames lists the branches, for proposals; none where they can't be read.
func (c *Chest) branchNames(ctx context.Context) (out []string) {
	branches, _ := c.Branches(ctx)
	for _, b := range branches {
		out = append(out, b.Name)
	}
	return out
}

// StateNames lists the names of states, for proposals.
func (c *Chest) StateNames(ctx context.Context) []string {
	out := append(c.branchNames(ctx), "work")
	releases, _ := c.Releases(ctx)
	for _, r := range releases {
		out = append(out, "release:"+r.Name)
	}
	return out
}

// noState is an error for people that is ErrNoState too.
func noState(hint, format string, args ...any) *fault.Error {
	e := fault.New(fault.Usage, hint, format, args...)
	e.Err = ErrNoState
	return e
}

func resolve(r ledger.Records, state string) (ledger.Commit, error) {
	if name, ok := strings.CutPrefix(state, "release:"); ok {
		named, err := r.Release(name)
		if err != nil {
			return ledger.Commit{}, err
		}
		return r.Commit(named.Commit)
	}
	name, number, numbered := cutLast(state, ':')
	if _, err := strconv.Atoi(number); err == nil { // no branch has such a name
		b, err := r.Branch(name)
		if err != nil {
			return ledger.Commit{}, err
		}
		return atDepth(r, b, number, state)
	}
	if b, err := r.Branch(state); err == nil {
		if b.Tip == (ledger.ID{}) {
			return ledger.Commit{}, fault.New(fault.Usage, "Commit something on it first.", "Branch %s has no commit yet.", state)
		}
		return r.Commit(b.Tip)
	} else if !errors.Is(err, ledger.ErrNotFound) {
		return ledger.Commit{}, err
	}
	if numbered {
		return ledger.Commit{}, ledger.ErrNotFound
	}
	if len(state) < leastPrefix {
		return ledger.Commit{}, ledger.ErrNotFound
	}
	found, err := r.CommitsByPrefix(strings.ToLower(state))
	switch {
	case err != nil:
		return ledger.Commit{}, err
	case len(found) == 0:
		return ledger.Commit{}, ledger.ErrNotFound
	case len(found) > 1:
		return ledger.Commit{}, fault.New(fault.Usage, "Write more characters of the id.", "%q begins the ids of several commits.", state)
	}
	return found[0], nil
}

func cutLast(s string, sep byte) (before, after string, found bool) {
	i := strings.LastIndexByte(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

// atDepth gives the numbered commit of a branch. What it does not hold itself lies below the commit that it was
// made from.
func atDepth(r ledger.Records, b ledger.Branch, number, state string) (ledger.Commit, error) {
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || b.Tip == (ledger.ID{}) {
		return ledger.Commit{}, ledger.ErrNotFound
	}
	if own, err := r.CommitAt(b.Name, n); !errors.Is(err, ledger.ErrNotFound) {
		return own, err
	}
	tip, err := r.Commit(b.Tip)
	if err != nil {
		return tip, err
	}
	if n > tip.Depth {
		return tip, noState("Name a lower number.", "%q names no state: branch %s has %d commits.", state, b.Name, tip.Depth)
	}
	for at := tip; ; {
		found, err := r.CommitAt(at.Branch, n)
		if !errors.Is(err, ledger.ErrNotFound) {
			return found, err
		}
		first, err := r.FirstOf(at.Branch)
		if err != nil || len(first.Parents) == 0 {
			return first, errors.Join(err, ledger.ErrNotFound)
		}
		if at, err = r.Commit(first.Parents[0]); err != nil {
			return at, err
		}
	}
}

// Commit gives a commit by its id, which the records themselves name: that it is
// missing is damage.
func (c *Chest) Commit(ctx context.Context, id ledger.ID) (found ledger.Commit, err error) {
	if k, known := c.sight.commit(id); known {
		return k, nil
	}
	if err = c.View(ctx, func(r ledger.Records) error { found, err = r.Commit(id); return err }); err == nil {
		c.sight.keepCommit(found)
	}
	if errors.Is(err, ledger.ErrNotFound) {
		err = fault.New(fault.Damaged, "Bring ledger.db back from a copy of the chest. Where it came from an older one: get a new workspace with oaken open, and "+
			"copy what you want to keep there; the workspace's files are as they were.",
			"The chest's ledger.db does not hold the commit %s, which is spoken of elsewhere.", id.Short())
	}
	return found, Explain(err)
}

// Branches gives all branches by name.
func (c *Chest) Branches(ctx context.Context) (out []ledger.Branch, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Branches(); return err })
	return out, Explain(err)
}

// Branch gives one branch.
func (c *Chest) Branch(ctx context.Context, name string) (b ledger.Branch, err error) {
	if b, known := c.sight.branch(name); known {
		return b, nil
	}
	if err = c.View(ctx, func(r ledger.Records) error { b, err = r.Branch(name); return err }); err == nil {
		c.sight.keepBranch(b)
	}
	if errors.Is(err, ledger.ErrNotFound) {
		err = fault.New(fault.Usage, "See the names with oaken branch, or make it with oaken branch "+fault.Word(name)+".",
			"There is no branch %s.", name).
			Among(name, c.branchNames(ctx))
	}
	return b, Explain(err)
}

// Deed tells of a commit what work it does again, and which works it takes back.
type Deed struct {
	Picks *ledger.Commit
	Takes []ledger.Commit
}

// DeedOf gives it.
func (c *Chest) DeedOf(ctx context.Context, id ledger.ID) (d Deed, err error) {
	err = c.View(ctx, func(r ledger.Records) error {
		picks, err := r.Picks()
		if err != nil {
			return err
		}
		if origin, ok := picks[id]; ok {
			first, err := r.Commit(origin)
			if err != nil {
				return err
			}
			d.Picks = &first
		}
		takings, err := r.Takings()
		if err != nil {
			return err
		}
		for _, t := range takings {
			if t.Commit != id {
				continue
			}
			work, err := r.Commit(t.Work)
			if err != nil {
				return err
			}
			d.Takes = append(d.Takes, work)
		}
		return nil
	})
	return d, Explain(err)
}

// AddBranch makes a branch with its tip at a commit.
func (c *Chest) AddBranch(ctx context.Context, b ledger.Branch) error {
	if err := CheckName(b.Name); err != nil {
		return err
	}
	_, err := c.do(ctx, MakeBranch{b})
	if errors.Is(err, ledger.ErrTaken) {
		err = branchTaken(b.Name)
	}
	return Explain(err)
}

func branchTaken(name string) error {
	return fault.New(fault.Refused, "Choose another name, or work on it with oaken go "+fault.Word(name)+".",
		"There is a branch %s already.", name)
}

// Releases gives all releases, the newest first.
func (c *Chest) Releases(ctx context.Context) (out []ledger.Release, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Releases(); return err })
	return out, Explain(err)
}

// AddRelease names a commit for good.
func (c *Chest) AddRelease(ctx context.Context, r ledger.Release) error {
	if err := CheckName(r.Name); err != nil {
		return err
	}
	_, err := c.do(ctx, NameRelease{r})
	if errors.Is(err, ledger.ErrTaken) {
		err = fault.New(fault.Refused, "A release never changes: choose another name.", "There is a release %s already.", r.Name)
	}
	return Explain(err)
}

// CheckName refuses names of branches and releases that could not be written in
// an address.
func CheckName(name string) error {
	reserved := map[string]bool{"work": true, "release": true, "env": true, "parked": true, "file": true}
	bad := name == "" || len(name) > 200 || strings.ContainsAny(name, ":\"'\\*?[]{}<>|") || strings.TrimSpace(name) != name ||
		strings.HasPrefix(name, "-") || strings.Contains(name, "//") || strings.HasPrefix(name, "/") || strings.HasSuffix(name, "/") ||
		strings.Contains(name, "..")
	for _, r := range name {
		bad = bad || r < ' ' || r == 0x7f
	}
	if bad || reserved[name] {
		return fault.New(fault.Usage, "Use letters, digits, spaces and - _ . / between them; work, release, env, parked and file are taken.", "%q can't be a name.", name)
	}
	return nil
}

// LastDeployment gives the newest deployment into an environment and when it
// was; ok is false when there was none.
func (c *Chest) LastDeployment(ctx context.Context, environment string) (d ledger.Deployment, ok bool, err error) {
	err = c.View(ctx, func(r ledger.Records) error { d, err = c.lastDeployment(r, environment); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return d, false, nil
	}
	d.Time = d.Time.Truncate(time.Millisecond)
	return d, err == nil, Explain(err)
}

// lastDeployment gives the newest deployment into an environment.
func (c *Chest) lastDeployment(r ledger.Records, environment string) (ledger.Deployment, error) {
	return LastDeployment(r, c.RecordName(environment), environment)
}

// LastDeployment gives the newest deployment into an environment, by the name under which its records are
// kept, or ErrNotFound. Of one that belongs to a workspace alone an older program kept them under the
// environment's own name.
func LastDeployment(r ledger.Stages, record, environment string) (ledger.Deployment, error) {
	d, err := r.LastDeployment(record)
	if !errors.Is(err, ledger.ErrNotFound) || record == environment || environment == "" {
		return d, err
	}
	list, err := r.Deployments(environment)
	if err != nil {
		return d, err
	}
	undone, err := r.AllUndone()
	if err != nil {
		return d, err
	}
	for _, d := range list {
		if _, is := undone[d.Number]; !is && environment+PersonalMark+d.Workspace == record {
			return d, nil
		}
	}
	return d, ledger.ErrNotFound
}
