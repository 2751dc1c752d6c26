package locking

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// IsObject says that an address names an element rather than a file or folder.
func IsObject(address string) bool { return strings.Contains(address, "::") }

// ObjectAddress gives the whole address of an element that a person named, as it is in
// the workspace or in the base: table:feeding may stand for the only one of that name
// in any schema. An element that is nowhere is refused, unless fresh says that it is
// still to come.
func (r *Rules) ObjectAddress(ctx context.Context, text string, fresh bool) (string, error) {
	a, err := element.ParseAddress(text)
	if err != nil || len(a.Steps) == 0 {
		return "", fault.New(fault.Usage, "Write PATH::type:key, as oaken inspect does.", "%q is no address of an object.", text)
	}
	a.Property = ""
	var found []element.Address
	for _, s := range []state.State{r.In.Work(), r.In.BaseState()} {
		art, err := r.Reader().Read(ctx, s, a.Path)
		if err != nil {
			continue
		}
		found = occurrences(art.Reading.Root, a)
		if len(found) == 1 {
			return found[0].String(), nil
		}
		if len(found) > 1 {
			return "", fault.New(fault.Usage, "Name it with its schema: "+found[0].String()+".", "%s could be any of %d objects.",
				text, len(found))
		}
	}
	if fresh {
		return a.String(), nil
	}
	return "", fault.New(fault.Usage,
		"Check the spelling; oaken inspect "+fault.Word(a.Path)+" shows what there is. For an object that is still to come, add --new.",
		"There is no %s.", text)
}

// occurrences finds the elements that an address may mean: the one itself, or those in
// schemas whose own address ends like it.
func occurrences(root *element.Element, a element.Address) []element.Address {
	if root.Find(a.Steps) != nil {
		return []element.Address{a}
	}
	var out []element.Address
	for _, s := range root.Children {
		if s.Type == "schema" && s.Find(a.Steps) != nil {
			full := element.Address{Path: a.Path}.Below(element.Step{Type: s.Type, Key: s.Key})
			for _, st := range a.Steps {
				full = full.Below(st)
			}
			out = append(out, full)
		}
	}
	return out
}

// changedObjects gives the addresses of what differs between base and workspace in the
// artifacts of paths, for those that somebody has locked an object in.
func (r *Rules) changedObjects(ctx context.Context, locks []ledger.Lock, paths []string) ([]string, error) {
	units := map[string]bool{}
	for _, l := range locks {
		if path, _, object := strings.Cut(l.Address, "::"); object {
			units[path] = true
		}
	}
	var chosen []string
	for _, p := range paths {
		if u := r.Reader().Unit(p); units[u] {
			chosen = append(chosen, u)
			delete(units, u)
		}
	}
	if len(chosen) == 0 {
		return nil, nil
	}
	diffs, err := r.Reader().Compare(ctx, r.In.BaseState(), r.In.Work(), chosen)
	var out []string
	for _, d := range diffs {
		for _, c := range d.Changes {
			out = append(out, c.Address.String())
		}
	}
	return out, err
}

// checkInside refuses, in artifacts that must be locked and of which this workspace holds the locks of some
// objects alone, changes of anything else.
func (r *Rules) checkInside(ctx context.Context, locks []ledger.Lock, paths []string) error {
	guard := r.Guard(ctx, locks)
	var mine []ledger.Lock
	for _, l := range locks {
		if IsObject(l.Address) && r.Holds(l) {
			mine = append(mine, l)
		}
	}
	paths = slices.DeleteFunc(slices.Clone(paths), func(p string) bool {
		return !guard.inside[r.Reader().Unit(p)] || r.Covered(guard.locks, p) ||
			!guard.Required(p, func() []byte { return Head(r.Disk.Local(p)) })
	})
	objects, err := r.changedObjects(ctx, mine, paths)
	if err != nil {
		return err
	}
	for _, o := range objects {
		if !slices.ContainsFunc(mine, func(l ledger.Lock) bool { return chest.Reaches(l, o) }) {
			path, _, _ := strings.Cut(o, "::")
			return fault.New(fault.Refused,
				"Nothing was recorded. Take that change back with oaken restore "+fault.Word(o)+", or lock the whole: oaken lock "+
					fault.Word(path)+".",
				"%s was changed, and what you hold the lock of in %s is not that.", o, path)
		}
	}
	return nil
}

// checkObjectLocks refuses changes of objects that somebody else has locked.
func (r *Rules) checkObjectLocks(ctx context.Context, locks []ledger.Lock, paths []string) error {
	objects, err := r.changedObjects(ctx, locks, paths)
	if err != nil {
		return err
	}
	for _, o := range objects {
		for _, l := range locks {
			if IsObject(l.Address) && !r.Holds(l) && chest.Reaches(l, o) {
				return chest.LockInTheWay(l, l.Address,
					"Nothing was recorded. Ask "+l.Holder+", or take your change of it back: oaken restore "+fault.Word(o)+".")
			}
		}
	}
	return nil
}

// Objects gives the addresses of what chosen changes change, in artifacts in which
// somebody has locked an object.
func (r *Rules) Objects(ctx context.Context, chosen []disk.Change) ([]string, error) {
	locks, err := r.Chest.Locks(ctx)
	if err != nil {
		return nil, err
	}
	paths := make([]string, len(chosen))
	for i, c := range chosen {
		paths[i] = c.Path
	}
	return r.changedObjects(ctx, locks, paths)
}
