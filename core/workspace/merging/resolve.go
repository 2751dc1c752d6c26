package merging

import (
	"context"
	"os"
	"slices"

	"oakenchest/core/choice"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Open lists what is open in the merge under way.
func (w *Work) Open(ctx context.Context) (*Pending, []element.Conflict, error) {
	p, err := w.Pending()
	if err != nil || p == nil {
		return nil, nil, err
	}
	m, err := w.Compute(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return p, m.Conflicts, nil
}

// Sides gives the two states of the merge under way.
func (w *Work) Sides() (mine, theirs state.State, err error) {
	p, err := w.Pending()
	if err != nil || p == nil {
		return nil, nil, err
	}
	_, mine, theirs, err = w.States(p)
	return mine, theirs, err
}

// Decision settles one conflict.
type Decision struct {
	Conflict element.Conflict
	Keep     element.Keep
	// Value is used with KeepValue.
	Value string
}

// Decide settles conflicts one by one, all or none, and gives what is left open.
func (w *Work) Decide(ctx context.Context, list []Decision) (left []element.Conflict, err error) {
	p, _, err := w.Open(ctx)
	if err != nil || p == nil {
		return nil, err
	}
	var all []element.Conflict
	for _, d := range list {
		all = append(all, d.Conflict)
	}
	edited, err := w.editedSince(ctx, p, all)
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		if slices.Contains(edited, d.Conflict.Address.Path) {
			return nil, editedByHand(d.Conflict)
		}
		s, err := choice.Make(d.Conflict, d.Keep, d.Value)
		if err != nil {
			return nil, err
		}
		p.Settled = append(p.Settled, s)
	}
	m, err := w.Compute(ctx, p)
	if err != nil {
		return nil, err
	}
	return m.Conflicts, w.Apply(ctx, p, m)
}

func editedByHand(c element.Conflict) error {
	return fault.New(fault.Refused,
		"Settle the whole artifact as it now stands with oaken resolve "+fault.Word(c.Address.Path)+" --keep mine.",
		"%s was edited by hand since the merge.", c.Address.Path)
}

// Resolve settles the conflict at an address, all of an artifact or folder when the
// address is a path, or all whose addresses or paths fit a pattern, and gives what was
// settled and what is left open. value is used with KeepValue.
func (w *Work) Resolve(ctx context.Context, text string, keep element.Keep, value string) (settled, left []element.Conflict, err error) {
	meant, whole, err := choice.Meant(text)
	if err != nil {
		return nil, nil, err
	}
	p, open, err := w.Open(ctx)
	if err != nil {
		return nil, nil, err
	}
	if p == nil {
		return nil, nil, fault.New(fault.Usage, "oaken merge and oaken revert can leave conflicts.",
			"Nothing is being merged, so there is no conflict to resolve.")
	}
	if settled = meant(open); len(settled) == 0 {
		if open, err = w.settledBefore(ctx, p); err != nil {
			return nil, nil, err
		}
		settled = meant(open)
	}
	if len(settled) == 0 {
		return nil, nil, fault.New(fault.Usage, "oaken conflicts lists the addresses that are open.", "No conflict is open at %s.", text)
	}
	edited, err := w.editedSince(ctx, p, settled)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range settled {
		if slices.Contains(edited, c.Address.Path) {
			if keep != element.KeepMine || !whole {
				return nil, nil, editedByHand(c)
			}
			p.AsIs = append(p.AsIs, c.Address.Path)
			continue
		}
		s, err := choice.Make(c, keep, value)
		if err != nil {
			return nil, nil, err
		}
		p.Settled = append(p.Settled, s)
	}
	m, err := w.Compute(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return settled, m.Conflicts, w.Apply(ctx, p, m)
}

// settledBefore lists the conflicts of a merge that were settled already, to be settled in
// another way: the last choice counts.
func (w *Work) settledBefore(ctx context.Context, p *Pending) ([]element.Conflict, error) {
	if len(p.Settled) == 0 {
		return nil, nil
	}
	fresh := *p
	fresh.Settled = nil
	m, err := w.Compute(ctx, &fresh)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(m.Conflicts, func(c element.Conflict) bool {
		return !slices.ContainsFunc(p.Settled, func(s choice.Made) bool { return s.Address == c.Address.String() })
	}), nil
}

// editedSince lists the artifacts among conflicts whose files are not as the
// merge left them.
func (w *Work) editedSince(ctx context.Context, p *Pending, conflicts []element.Conflict) ([]string, error) {
	_, mine, _, err := w.States(p)
	if err != nil {
		return nil, err
	}
	files, err := mine.Files(ctx)
	if err != nil {
		return nil, err
	}
	expected := map[string]string{}
	for _, f := range files {
		expected[f.Path] = disk.Hex(f.Digest)
	}
	for path, d := range p.Written {
		expected[path] = d
	}
	var out []string
	for path, want := range expected {
		unit := w.Reader().Unit(path)
		if !slices.ContainsFunc(conflicts, func(c element.Conflict) bool { return c.Address.Path == unit || c.Address.Path == path }) {
			continue
		}
		got := ""
		if info, err := os.Lstat(w.Disk.Local(path)); err == nil && info.Mode().IsRegular() {
			d, _, err := disk.DigestFile(w.Disk.Local(path))
			if err != nil {
				return nil, err
			}
			got = disk.Hex(d)
		}
		if got != want && !slices.Contains(out, unit) {
			out = append(out, unit)
		}
	}
	return out, nil
}
