package chest

import (
	"context"

	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// Recorded reports whether any commit holds a content at a path. What cannot be read counts as not
// holding it.
func (c *Chest) Recorded(ctx context.Context, path string, content content.Digest) (held bool, err error) {
	err = c.View(ctx, func(r ledger.Records) error {
		touches, err := r.Touches(path)
		if err != nil {
			return err
		}
		broad, err := r.Broad()
		if err != nil {
			return err
		}
		for _, t := range touches {
			if t.Path == path && !t.Gone {
				broad = append(broad, t.Commit)
			}
		}
		for _, commit := range broad {
			if f, err := c.At(commit.Tree, path); err == nil && f.Mode != Folder && f.Digest == content {
				held = true
				return nil
			}
		}
		return nil
	})
	return held, Explain(err)
}
