package pipeline

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
)

// EndFresh drops the database that a branch was given, when the work of the branch is done. What it
// holds that no commit knows, and rows, are lost only with consent, and saved first; saved is the
// folder, empty for none.
func (m *Mover) EndFresh(ctx context.Context, name string, allowLoss bool) (saved string, err error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return "", err
	}
	if err := m.onlyThere(ctx, name); err != nil {
		return "", err
	}
	done, err := m.Project.Chest.Deployments(ctx, name)
	if err != nil {
		return "", err
	}
	if !slices.ContainsFunc(done, func(d chest.Deployed) bool { return d.Account != nil && d.Account.Action == ActionBranch }) ||
		len(env.Also) > 0 {
		return "", fault.New(fault.Refused, "Remove it with the tools of the engine, if that is meant.",
			"The database of %s was not made for a branch, so it is not dropped.", name)
	}
	release, err := m.Project.Chest.Reserve(ctx, name)
	if err != nil {
		return "", err
	}
	defer release()
	if saved, err = m.leave(ctx, name, allowLoss); err != nil {
		return "", err
	}
	return saved, environment.Drop(ctx, m.Host, env.Target)
}

// leave looks at what would be lost with an environment, and saves it.
func (m *Mover) leave(ctx context.Context, name string, allowLoss bool) (saved string, err error) {
	env, d, err := m.open(ctx, name)
	if errors.Is(err, environment.ErrMissing) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer d.Close()
	held, err := m.heldBy(ctx, env)
	if err != nil {
		return "", err
	}
	got, err := whole(ctx, d, environment.Inside(held, env.Into))
	if err != nil {
		return "", err
	}
	if len(got.Edits) > 0 && !allowLoss {
		return "", fault.New(fault.Refused, "Capture it first: oaken capture "+fault.Word(name)+". Or consent with --allow-loss.",
			"%s holds what no commit knows: %s.", name, strings.Join(namesOf(got.Edits, 3), ", "))
	}
	p, err := d.Plan(ctx, environment.Files{}, nil)
	if err != nil {
		return "", err
	}
	if len(p.Loses()) == 0 {
		return "", nil
	}
	if !allowLoss {
		return "", fault.New(fault.Refused, "Run it again with --allow-loss if that is meant; what is lost is saved first.",
			"Dropping the database of %s would lose data: %s.", name, strings.Join(p.Loses(), ", "))
	}
	saved = filepath.Join(m.Desk.SavesRows(), m.Now().UTC().Format("2006-01-02T150405.000Z"), name)
	return saved, p.Save(ctx, saved)
}

// namesOf gives some names of files, sorted, and how many more there are.
func namesOf(files environment.Files, most int) (out []string) {
	for name := range files {
		out = append(out, name)
	}
	slices.Sort(out)
	if len(out) > most {
		out = append(out[:most], "and more")
	}
	return out
}
