package workspace

import (
	"context"
	"os"
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// Conflicts lists what is open in the merge under way.
func (w *Workspace) Conflicts(ctx context.Context) (*Pending, []element.Conflict, error) {
	p, err := w.Pending()
	if err != nil || p == nil {
		return nil, nil, err
	}
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return p, m.Conflicts, nil
}

// MergeSides gives the two states of the merge under way.
func (w *Workspace) MergeSides() (mine, theirs state.State, err error) {
	p, err := w.Pending()
	if err != nil || p == nil {
		return nil, nil, err
	}
	_, mine, theirs, err = w.states(p)
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
func (w *Workspace) Decide(ctx context.Context, list []Decision) (left []element.Conflict, err error) {
	p, _, err := w.Conflicts(ctx)
	if err != nil || p == nil {
		return nil, err
	}
	var all []element.Conflict
	for _, d := range list {
		all = append(all, d.Conflict)
	}
	edited, err := w.editedSince(p, all)
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		if slices.Contains(edited, d.Conflict.Address.Path) {
			return nil, editedByHand(d.Conflict)
		}
		s, err := settle(d.Conflict, d.Keep, d.Value)
		if err != nil {
			return nil, err
		}
		p.Settled = append(p.Settled, s)
	}
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, err
	}
	return m.Conflicts, w.apply(ctx, p, m)
}

func editedByHand(c element.Conflict) error {
	return fault.New(fault.Refused, "Settle the whole artifact as it now stands with oaken resolve "+c.Address.Path+" --keep mine.", "%s was edited by hand since the merge.", c.Address.Path)
}

// FitsAddress gives a test for addresses that a person wrote with * for any text within a
// step, ** for any text at all and ? for any sign; nil when there is none of these.
func FitsAddress(pattern string) func(address string) bool {
	if !strings.ContainsAny(pattern, "*?") {
		return nil
	}
	var form strings.Builder
	form.WriteString("^")
	for i := 0; i < len(pattern); i++ {
		switch {
		case strings.HasPrefix(pattern[i:], "**"):
			form.WriteString(".*")
			i++
		case pattern[i] == '*':
			form.WriteString("[^/]*")
		case pattern[i] == '?':
			form.WriteString("[^/]")
		default:
			form.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		}
	}
	re, err := regexp.Compile("(?s)" + form.String() + "$")
	if err != nil { // a half of a letter
		return func(string) bool { return false }
	}
	return re.MatchString
}

// Resolve settles the conflict at an address, all of an artifact or folder when the
// address is a path, or all whose addresses or paths fit a pattern, and gives what was
// settled and what is left open. value is used with KeepValue.
func (w *Workspace) Resolve(ctx context.Context, text string, keep element.Keep, value string) (settled, left []element.Conflict, err error) {
	fits := FitsAddress(text)
	var address element.Address
	if fits == nil {
		if address, err = element.ParseAddress(text); err != nil {
			return nil, nil, fault.New(fault.Usage, "oaken conflicts lists the addresses.", "That is no address: %w.", err)
		}
	}
	p, open, err := w.Conflicts(ctx)
	if err != nil {
		return nil, nil, err
	}
	if p == nil {
		return nil, nil, fault.New(fault.Usage, "oaken merge and oaken revert can leave conflicts.", "Nothing is being merged, so there is no conflict to resolve.")
	}
	meant := func(list []element.Conflict) (out []element.Conflict) {
		for _, c := range list {
			if fits != nil {
				if fits(c.Address.String()) || fits(c.Address.Path) {
					out = append(out, c)
				}
			} else if c.Address.String() == address.String() || address.Whole() && state.Under([]string{address.Path}, c.Address.Path) {
				out = append(out, c)
			}
		}
		return out
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
	edited, err := w.editedSince(p, settled)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range settled {
		if slices.Contains(edited, c.Address.Path) {
			if keep != element.KeepMine || fits == nil && !address.Whole() {
				return nil, nil, editedByHand(c)
			}
			p.AsIs = append(p.AsIs, c.Address.Path)
			continue
		}
		s, err := settle(c, keep, value)
		if err != nil {
			return nil, nil, err
		}
		p.Settled = append(p.Settled, s)
	}
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return settled, m.Conflicts, w.apply(ctx, p, m)
}

// settledBefore lists the conflicts of a merge that were settled already, to be settled in
// another way: the last choice counts.
func (w *Workspace) settledBefore(ctx context.Context, p *Pending) ([]element.Conflict, error) {
	if len(p.Settled) == 0 {
		return nil, nil
	}
	fresh := *p
	fresh.Settled = nil
	m, err := w.compute(ctx, &fresh)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(m.Conflicts, func(c element.Conflict) bool {
		return !slices.ContainsFunc(p.Settled, func(s settledConflict) bool { return s.Address == c.Address.String() })
	}), nil
}

func settle(c element.Conflict, keep element.Keep, value string) (settledConflict, error) {
	s := settledConflict{Address: c.Address.String(), Keep: string(keep)}
	if !slices.Contains(c.Allows, keep) {
		words := ""
		for i, k := range c.Allows {
			if i > 0 {
				words += ", "
			}
			words += string(k)
		}
		return s, fault.New(fault.Usage, "It can be settled with "+words+".", "%s can't be settled with %s.", c.Address, keep)
	}
	if keep == element.KeepValue {
		sample := c.Mine.Value
		if sample.IsAbsent() {
			sample = c.Theirs.Value
		}
		if _, err := element.ParseLike(sample, value); err != nil {
			return s, fault.New(fault.Usage, "Write a value like "+sample.String()+".", "%s can't be set: %w.", c.Address, err)
		}
		s.Sort, s.Value = sortName(sample), value
	}
	return s, nil
}

// editedSince lists the artifacts among conflicts whose files are not as the
// merge left them.
func (w *Workspace) editedSince(p *Pending, conflicts []element.Conflict) ([]string, error) {
	_, mine, _, err := w.states(p)
	if err != nil {
		return nil, err
	}
	files, err := mine.Files(context.Background())
	if err != nil {
		return nil, err
	}
	expected := map[string]string{}
	for _, f := range files {
		expected[f.Path] = hexOf(f.Digest)
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
		if info, err := os.Lstat(w.local(path)); err == nil && info.Mode().IsRegular() {
			d, _, err := digestFile(w.local(path))
			if err != nil {
				return nil, err
			}
			got = hexOf(d)
		}
		if got != want && !slices.Contains(out, unit) {
			out = append(out, unit)
		}
	}
	return out, nil
}

func restoreValue(s settledConflict) element.Value {
	if s.Sort == "" {
		return element.Value{}
	}
	v, err := element.ParseLike(sampleOf(s.Sort), s.Value)
	if err != nil {
		return element.TextValue(s.Value)
	}
	return v
}

// sampleOf gives a value of a sort by its name; `list of numbers` for a list.
func sampleOf(sort string) element.Value {
	switch sort {
	case "number":
		return element.IntValue(0)
	case "bool":
		return element.BoolValue(true)
	case "numbers":
		return element.ListValue(element.IntValue(0))
	case "texts":
		return element.ListValue(element.TextValue(""))
	}
	return element.TextValue("")
}

func sortName(v element.Value) string {
	switch v.Sort() {
	case element.Number:
		return "number"
	case element.Bool:
		return "bool"
	case element.List:
		if items := v.Items(); len(items) > 0 && items[0].Sort() == element.Number {
			return "numbers"
		}
		return "texts"
	}
	return "text"
}
