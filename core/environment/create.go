package environment

import (
	"context"

	"oakenchest/core/fault"
)

// Create makes what a target names, empty. undo removes it again; it is given also when it was there already, and does
// nothing then.
func Create(ctx context.Context, h Host, target string) (undo func(context.Context) error, err error) {
	s, rest, err := split(target)
	if err != nil {
		return nil, err
	}
	if rest, err = h.expand(target, rest); err != nil {
		return nil, err
	}
	if s.Create == nil {
		return createFile(h, rest)
	}
	return s.Create(ctx, h, rest)
}

// Drop removes what a target names, with all that it holds.
func Drop(ctx context.Context, h Host, target string) error {
	s, rest, err := split(target)
	if err == nil {
		rest, err = h.expand(target, rest)
	}
	if err != nil {
		return err
	}
	if s.Drop == nil {
		return fault.New(fault.Refused, "Remove it by hand.", "A target of the sort %s is not removed.", s.Scheme)
	}
	return s.Drop(ctx, h, rest)
}
