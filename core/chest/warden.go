package chest

import (
	"context"
	"strings"

	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// Warden is asked before the first branch moves, whatever moves it: a commit, a merge, a
// review, a promotion. What it refuses is not published. It also tells whose an environment is.
type Warden interface {
	// RecordName gives the name under which records of an environment are kept: its own, or,
	// where each workspace has one for itself, one for the workspace.
	RecordName(environment string) string
	// MayMove looks at what leads from the tree of the branch's newest commit to another.
	MayMove(ctx context.Context, from, to content.Digest) error
}

// Allowed asks the warden about drafts, each on the one before, that are to be published.
func (c *Chest) Allowed(ctx context.Context, drafts ...Draft) error {
	if c.Warden == nil || len(drafts) == 0 || drafts[0].Branch != FirstBranch || drafts[0].Tip == (ledger.ID{}) {
		return nil
	}
	tip, err := c.Commit(ctx, drafts[0].Tip)
	if err != nil {
		return err
	}
	return c.Warden.MayMove(ctx, tip.Tree, drafts[len(drafts)-1].Tree)
}

// RecordName gives the name under which the records of an environment are kept.
func (c *Chest) RecordName(environment string) string {
	if c.Warden == nil {
		return environment
	}
	return c.Warden.RecordName(environment)
}

// PersonalMark stands in a record's name between an environment and the workspace that it
// belongs to.
const PersonalMark = "@"

// plainName gives the name that a record's environment has here: of this workspace's own
// without the workspace.
func (c *Chest) plainName(recorded string) string {
	if name, _, personal := strings.Cut(recorded, PersonalMark); personal && c.RecordName(name) == recorded {
		return name
	}
	return recorded
}
