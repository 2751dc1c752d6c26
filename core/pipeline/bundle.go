package pipeline

import (
	"context"
	"errors"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// BundleStage is how a planned release stands in one environment.
type BundleStage struct {
	Environment string
	// Complete says that all of its items are there whole.
	Complete bool
	// Lacks lists items that are not there, or not whole; More lists those that came there and are not of it, since the
	// last environment that has it all.
	Lacks, More []string
}

// BundleView is a planned release, shown against each environment.
type BundleView struct {
	ledger.Bundle
	Items  []ItemView
	Stages []BundleStage
	// Unknown lists items of which there is no work.
	Unknown []string
}

// Bundles lists the releases that are planned; with all those that shipped or were dropped too.
func (m *Mover) Bundles(ctx context.Context, all bool) ([]ledger.Bundle, error) {
	list, err := m.Project.Chest.Bundles(ctx)
	if !all {
		list = slices.DeleteFunc(list, func(b ledger.Bundle) bool { return !b.Ended.IsZero() })
	}
	return list, err
}

// bundle gives a planned release by its name.
func (m *Mover) bundle(ctx context.Context, name string) (b ledger.Bundle, ok bool, err error) {
	list, err := m.Bundles(ctx, false)
	i := slices.IndexFunc(list, func(b ledger.Bundle) bool { return b.Name == name })
	if err != nil || i < 0 {
		return b, false, err
	}
	return list[i], true, nil
}

// PlanRelease writes down which items a release is to have: a new one, or one that is planned, whose items are added to
// and taken from.
func (m *Mover) PlanRelease(ctx context.Context, name string, add, remove []string, text string) (*BundleView, error) {
	if err := chest.CheckName(name); err != nil {
		return nil, fault.New(fault.Usage, "Give it another name.", "A release can't be called %s: %w.", name, err)
	}
	b, there, err := m.bundle(ctx, name)
	if err != nil {
		return nil, err
	}
	if !there {
		releases, err := m.Project.Chest.Releases(ctx)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(releases, func(r ledger.Release) bool { return r.Name == name }) {
			return nil, fault.New(fault.Refused, "Give it another name.", "There is a release %s already.", name)
		}
		if len(add) == 0 {
			return nil, fault.New(fault.Usage, "Name its items: oaken release plan "+fault.Word(name)+" --item KEY.",
				"No release %s is planned.", name)
		}
		b = ledger.Bundle{Name: name}
	}
	for _, key := range remove {
		if !slices.Contains(b.Items, key) {
			return nil, fault.New(fault.Usage, "oaken release plan "+fault.Word(name)+" shows it.", "%s is no item of %s.", key, name)
		}
	}
	items := slices.DeleteFunc(append(slices.Clone(b.Items), add...), func(key string) bool { return slices.Contains(remove, key) })
	slices.Sort(items)
	b.Items, b.Person, b.Time = slices.Compact(items), m.Project.Person, m.Now()
	if text != "" {
		b.Text = text
	}
	if err := m.Project.Chest.PlanRelease(ctx, b); err != nil {
		return nil, err
	}
	return m.Bundle(ctx, name)
}

// DropBundle plans a release no longer.
func (m *Mover) DropBundle(ctx context.Context, name string) error {
	b, there, err := m.bundle(ctx, name)
	if err != nil {
		return err
	}
	if !there {
		return m.noBundle(ctx, name)
	}
	b.Ended, b.Outcome = m.Now(), ledger.BundleDropped
	return m.Project.Chest.PlanRelease(ctx, b)
}

func (m *Mover) noBundle(ctx context.Context, name string) error {
	if all, err := m.Bundles(ctx, true); err == nil {
		for _, b := range all {
			if b.Name == name && b.Outcome == ledger.BundleReleased {
				return fault.New(fault.Refused, "oaken release list shows it, and oaken history release:"+name+" what it has.",
					"%s is planned no more: it was released on %s.", name, b.Ended.Local().Format("2006-01-02 15:04"))
			}
		}
	}
	return fault.New(fault.Usage, "oaken release plan lists those that are.", "No release %s is planned.", name)
}

// Bundle shows a planned release against each environment.
func (m *Mover) Bundle(ctx context.Context, name string) (*BundleView, error) {
	b, there, err := m.bundle(ctx, name)
	if err != nil {
		return nil, err
	}
	if !there {
		return nil, m.noBundle(ctx, name)
	}
	all, err := m.Items(ctx)
	if err != nil {
		return nil, err
	}
	out := &BundleView{Bundle: b}
	for _, key := range b.Items {
		if i := slices.IndexFunc(all.Items, func(v ItemView) bool { return v.Key == key }); i >= 0 {
			out.Items = append(out.Items, all.Items[i])
		} else {
			out.Unknown = append(out.Unknown, key)
		}
	}
	for i, e := range all.Environments {
		s := BundleStage{Environment: e.Name, Lacks: slices.Clone(out.Unknown)}
		for _, v := range out.Items {
			if v.Cells[i].State != ItemThere {
				s.Lacks = append(s.Lacks, v.Key)
			}
		}
		s.Complete = len(s.Lacks) == 0 && len(b.Items) > 0
		for _, v := range all.Items {
			if v.Cells[i].Has > 0 && !slices.Contains(b.Items, v.Key) && !liveHas(all, v) {
				s.More = append(s.More, v.Key)
			}
		}
		out.Stages = append(out.Stages, s)
	}
	return out, nil
}

// liveHas reports whether an item is live everywhere already: then it is of an earlier release.
func liveHas(all *ItemsView, v ItemView) bool {
	any := false
	for i, e := range all.Environments {
		if e.Tier != manifest.Live {
			continue
		}
		any = true
		if v.Cells[i].State != ItemThere {
			return false
		}
	}
	return any
}

// gist says on a line what a planned release is for, or else what it has.
func (v *BundleView) gist() string {
	if v.Text != "" {
		return v.Text
	}
	return strings.Join(v.Bundle.Items, ", ")
}

// Notes writes what a planned release brings, from the messages of its work: Markdown (CommonMark).
func (v *BundleView) Notes() string {
	var b strings.Builder
	b.WriteString("# " + v.Name + "\n")
	if v.Text != "" {
		b.WriteString("\n" + v.Text + "\n")
	}
	for _, item := range v.Items {
		b.WriteString("\n## " + item.Key + "\n\n")
		for _, c := range item.Work {
			first, rest, _ := strings.Cut(strings.TrimSpace(c.Message), "\n")
			b.WriteString("- " + first + " (" + c.Author + ", " + label(c) + ")\n")
			for line := range strings.SplitSeq(strings.TrimSpace(rest), "\n") {
				if line != "" {
					b.WriteString("  " + strings.TrimSpace(line) + "\n")
				}
			}
		}
	}
	for _, key := range v.Unknown {
		b.WriteString("\n## " + key + "\n\nNo work for it is known.\n")
	}
	return b.String()
}

// ItemsOf gives the items of a planned release.
func (m *Mover) ItemsOf(ctx context.Context, name string) ([]string, error) {
	b, there, err := m.bundle(ctx, name)
	if err == nil && !there {
		err = m.noBundle(ctx, name)
	}
	return b.Items, err
}

// shipped makes releases of those that were planned and are live now, and gives their names.
func (m *Mover) shipped(ctx context.Context, env manifest.Environment, c ledger.Commit) (names []string, err error) {
	if env.Tier != manifest.Live {
		return nil, nil
	}
	list, err := m.Bundles(ctx, false)
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, b := range list {
		v, err := m.Bundle(ctx, b.Name)
		if err != nil {
			return names, err
		}
		i := slices.IndexFunc(v.Stages, func(s BundleStage) bool { return s.Environment == env.Name })
		if i < 0 || !v.Stages[i].Complete {
			continue
		}
		w := m.Project
		err = w.Chest.AddRelease(ctx, ledger.Release{Name: b.Name, Commit: c.ID, Author: w.Person, Time: m.Now(),
			Comment: v.gist() + "\n\n" + v.Notes()})
		if err == nil {
			b.Ended, b.Outcome = m.Now(), ledger.BundleReleased
			err = w.Chest.PlanRelease(ctx, b)
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		names = append(names, b.Name)
	}
	return names, errors.Join(errs...)
}
