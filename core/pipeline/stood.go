package pipeline

import (
	"context"
	"fmt"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// mostEarlier is how many of the states that a stage held before are looked at.
const mostEarlier = 10

// foundElsewhere looks whether an environment holds another commit than the chest knows:
// what its branch became, what another one holds, or, for a stage, what it held before.
// A database that was restored from a copy would else look as if all that came since had
// been taken away by hand. It is refused where another state is nearer to what is there
// than the known one, and nobody has said which it stood on. nil means none.
func (c *capturing) foundElsewhere(ctx context.Context) (*ledger.Commit, error) {
	switch {
	case c.o.StoodOn != nil && len(c.got.Edits) == 0:
		return c.o.StoodOn, nil
	case c.o.StoodOn != nil || c.o.Mine || !c.known || len(c.got.Edits) == 0 || len(c.got.Unseen) > 0:
		return nil, nil
	}
	stage := c.isStage(ctx)
	candidates, err := c.otherStates(ctx, stage)
	if err != nil {
		return nil, err
	}
	known, err := c.distance(c.have)
	if err != nil {
		return nil, err
	}
	near, nearest := known, ledger.Commit{}
	for _, x := range candidates {
		files, err := holding(ctx, c.m.Project.CommitState(x, label(x)), c.Environment)
		if err != nil {
			return nil, err
		}
		n, err := c.distance(files)
		if err != nil {
			return nil, err
		}
		if n < near {
			near, nearest = n, x
		}
	}
	if nearest.Depth == 0 {
		return nil, nil
	}
	exact, err := c.m.holds(ctx, c.Environment, c.driver, nearest)
	if err != nil {
		return nil, err
	}
	onward, err := c.m.lacks(ctx, nearest, c.record.Commit)
	if err != nil {
		return nil, err
	}
	if exact && (stage || len(onward) == 0) {
		return &nearest, nil
	}
	return nil, c.whichItStoodOn(nearest, near, known)
}

func (c *capturing) whichItStoodOn(other ledger.Commit, near, known int) error {
	name := c.Environment.Name
	how := fmt.Sprintf("in %s", objectCount(near))
	if near == 0 {
		how = "in nothing"
	}
	return fault.New(fault.Refused,
		fmt.Sprintf("If it was brought to that, from a copy or by hand, say oaken capture %s --stood-on %s. If somebody has changed all "+
			"of it, say --stood-on %s.", name, label(other), label(c.record.Commit)),
		"%s was known to hold %s, and differs from that in %s; from %s it differs %s. Which of the two it stood on can't be told; "+
			"nothing was captured.", name, label(c.record.Commit), objectCount(known), label(other), how)
}

func objectCount(n int) string {
	if n == 1 {
		return "1 object"
	}
	return fmt.Sprintf("%d objects", n)
}

// isStage says that an environment takes work from others, so that nobody develops in it.
func (c *capturing) isStage(ctx context.Context) bool {
	l := c.m.rules(ctx)
	env, err := c.m.environment(l, c.Environment.Name)
	return err == nil && (env.Tier.Rank() > manifest.Development.Rank() || len(l.Into(env.Name)) > 0)
}

// otherStates lists the commits that the environment may hold instead of the known one.
func (c *capturing) otherStates(ctx context.Context, stage bool) (out []ledger.Commit, err error) {
	m := c.m
	add := func(x ledger.Commit) error {
		if x.Depth == 0 {
			return nil
		}
		for _, o := range append(out, c.record.Commit) {
			if same, err := m.Project.SameIn(c.Environment.Folders(), o.Tree, x.Tree); err != nil || same {
				return err
			}
		}
		out = append(out, x)
		return nil
	}
	if err := add(c.tip); err != nil {
		return nil, err
	}
	l := m.rules(ctx)
	for _, e := range append(l.Later(c.Environment.Name), l.Manifest.Environments...) {
		if e.Name == c.Environment.Name {
			continue
		}
		r, known, err := m.Project.Chest.Record(ctx, e.Name)
		if err == nil && known {
			err = add(r.Commit)
		}
		if err != nil {
			return nil, err
		}
	}
	if !stage {
		return out, nil
	}
	earlier, err := m.earlier(ctx, c.Environment.Name, mostEarlier)
	for _, x := range earlier {
		if err == nil {
			err = add(x)
		}
	}
	return out, err
}

// distance counts the objects in which what the environment holds differs from files.
func (c *capturing) distance(files environment.Files) (n int, err error) {
	for _, s := range c.Environment.Sites() {
		f, err := c.m.folderOf(s.Into, s.Target)
		if err != nil {
			return 0, err
		}
		was, is := environment.Inside(files, s.Into), environment.Inside(c.got.Files, s.Into)
		a, err1 := f.read(was)
		b, err2 := f.read(is)
		if err1 != nil || err2 != nil { // then by file
			n += len(edits(was, is))
			continue
		}
		n += len(differing(a, b))
	}
	return n, nil
}
