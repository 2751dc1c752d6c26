package pipeline

import (
	"context"
	"errors"
	"slices"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// unknownTo finds the objects of an environment that no commit knows and that would be
// otherwise after it: what somebody changed there since it was known to hold its record, a
// colleague's view, an index that was made by hand. Of an environment without a record, it
// is everything there. The addresses are those of the project, sorted.
func (m *Mover) unknownTo(ctx context.Context, env manifest.Environment, target environment.Files) ([]string, error) {
	record := environment.Files{}
	r, known, err := m.Project.Chest.Record(ctx, env.Name)
	if err == nil && known {
		record, err = holding(ctx, m.Project.CommitState(r.Commit, label(r.Commit)), env)
	}
	if err != nil {
		return nil, err
	}
	drifted, err := m.apartIn(ctx, env, record)
	if err != nil || len(drifted) == 0 {
		return nil, err
	}
	changed, err := m.apartIn(ctx, env, target)
	var out []string
	for _, name := range drifted {
		if slices.Contains(changed, name) {
			out = append(out, name)
		}
	}
	return out, err
}

// apartIn lists the objects in which what an environment holds differs from files. A target
// that is to be made yet holds nothing.
func (m *Mover) apartIn(ctx context.Context, env manifest.Environment, files environment.Files) (out []string, err error) {
	for _, s := range env.Sites() {
		names, err := m.apartAt(ctx, env.Name, s, environment.Inside(files, s.Into))
		if err != nil {
			return nil, err
		}
		out = append(out, names...)
	}
	slices.Sort(out)
	return out, nil
}

// apartAt is apartIn for one target, and files below its folder.
func (m *Mover) apartAt(ctx context.Context, name string, s manifest.Site, files environment.Files) (out []string, err error) {
	d, err := m.reach(ctx, name, s)
	if err != nil {
		return nil, err
	}
	got, err := whole(ctx, d, files)
	if err = errors.Join(err, d.Close()); errors.Is(err, environment.ErrMissing) {
		return nil, nil
	}
	if err != nil || len(got.Edits) == 0 {
		return nil, err
	}
	f, err := m.folderOf(s.Into, s.Target)
	if err != nil {
		return nil, err
	}
	a, err1 := f.read(files)
	b, err2 := f.read(got.Files)
	if err1 != nil || err2 != nil { // then by file
		for name := range got.Edits {
			out = append(out, s.Into+"/"+name)
		}
		return out, nil
	}
	for _, name := range differing(a, b) {
		o, ok := b.objects[name]
		if !ok {
			o = a.objects[name]
		}
		switch {
		case len(o.steps) == 1 && o.e.Type == "schema" && len(o.e.Props) == 0: // it comes with what is in it
		default:
			out = append(out, f.address(o))
		}
	}
	return out, nil
}

// Obstacles tells everything that stands in the way of carrying a deployment out.
func (m *Mover) Obstacles(ctx context.Context, d *Deployment, o DeployOptions) (out []error) {
	if err := m.mayPass(ctx, d.Environment, o.Reason, "deploy to it"); err != nil {
		out = append(out, err)
	}
	if err := d.overUnknown(o); err != nil {
		out = append(out, err)
	}
	if err := d.losing(o); err != nil {
		out = append(out, err)
	}
	return out
}

// Stands gives all that stands in the way of carrying a deployment out as one error, and notes
// the attempt; nil for nothing.
func (m *Mover) Stands(ctx context.Context, d *Deployment, o DeployOptions) error {
	err := together(m.Obstacles(ctx, d, o))
	m.attempted(ctx, d.Environment.Name, ActionDeploy, err)
	return err
}

// overUnknown refuses to change what no commit knows.
func (d *Deployment) overUnknown(o DeployOptions) error {
	if len(d.Unknown) == 0 || o.ReplaceDrift {
		return nil
	}
	name := d.Environment.Name
	return fault.New(fault.Refused,
		"Nothing was changed. Keep it with oaken capture "+fault.Word(name)+" or oaken drift "+fault.Word(name)+
			" --keep BRANCH; or replace it with --replace-drift, which keeps it in the chest for oaken rollback.",
		"%s has what no commit knows, and this would change it: %s.", name, firstOf(d.Unknown, 5))
}

// losing refuses the loss of data that nobody has consented to.
func (d *Deployment) losing(o DeployOptions) error {
	lost := d.Plan.Loses()
	if len(lost) == 0 || o.AllowLoss {
		return nil
	}
	hint := "Nothing was changed. Run it again with --allow-loss if that is meant; what is lost is saved first."
	if slices.ContainsFunc(d.Plan.Steps, func(s environment.Step) bool { return s.Loss != "" && strings.Contains(s.What, "drop") }) {
		hint += " What has another name now keeps its values: write -- formerly: OLD behind it."
	}
	return fault.New(fault.Refused, hint, "Bringing %s to %s would lose data: %s.",
		d.Environment.Name, d.Label, strings.Join(lost, "; "))
}

// firstOf writes the first of some names.
func firstOf(names []string, most int) string {
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + objectCount(len(names)-most) + " more"
	}
	return listAnd(names)
}

// together makes one error of all that stands in the way.
func together(list []error) error {
	if len(list) < 2 {
		for _, err := range list {
			return err
		}
		return nil
	}
	var said, do []string
	for _, err := range list {
		said = append(said, strings.TrimSuffix(err.Error(), "."))
		if hint := fault.HintOf(err); hint != "" && !slices.Contains(do, hint) {
			do = append(do, hint)
		}
	}
	return fault.New(fault.CodeOf(list[0]), strings.Join(do, "\n"), "%s.", strings.Join(said, "; and "))
}
