package pipeline

import (
	"context"
	"errors"
	"reflect"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// rules gives the landscape as it counts: as the first branch has it, so that neither an
// edit of oaken.toml nor a commit on a branch of one's own opens a gate. Until that branch
// declares moves, what the workspace was brought from counts, and until that does, what it
// has.
func (m *Mover) rules(ctx context.Context) *landscape.Landscape {
	w := m.Project
	if tip, err := m.tipOf(ctx, chest.FirstBranch); err == nil && tip.Depth > 0 {
		if m.ruled != nil && m.ruledBy == tip.ID {
			return m.ruled
		}
		l, err := m.declaredIn(w.CommitState(tip, label(tip)))
		if m.unread = err; l != nil {
			m.ruled, m.ruledBy = l, tip.ID
			return l
		}
	}
	if l, _ := m.declaredIn(m.Desk.BaseState()); l != nil {
		return l
	}
	return landscape.Of(w.Manifest)
}

// declaredIn gives the landscape of a state; nil when it declares no moves. Where it can't be
// read nobody knows what it declares, and err says so.
func (m *Mover) declaredIn(s state.State) (*landscape.Landscape, error) {
	data, err := state.ReadFile(s, manifest.Name)
	if errors.Is(err, kind.ErrNoFile) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	read, err := m.Project.ReadManifest(data)
	if err != nil || len(read.Pipeline.Moves) == 0 {
		return nil, err
	}
	return landscape.Of(read), nil
}

// readable refuses while the rules that count can't be read: nobody can tell then what they
// let pass.
func (m *Mover) readable() error {
	if m.unread == nil {
		return nil
	}
	return fault.New(fault.Refused, "Mend oaken.toml on branch "+chest.FirstBranch+" first.",
		"The rules of this project count as branch %s has them, and can't be read there: %w", chest.FirstBranch, m.unread)
}

// Landscape gives the landscape as it counts.
func (m *Mover) Landscape(ctx context.Context) *landscape.Landscape { return m.rules(ctx) }

// Other reports that the workspace declares another landscape than the one that counts.
func (m *Mover) Other(ctx context.Context) bool {
	l := m.rules(ctx)
	return !reflect.DeepEqual(l.Manifest.Pipeline, m.Project.Manifest.Pipeline) ||
		!reflect.DeepEqual(l.Manifest.Environments, m.Project.Manifest.Environments)
}

// environment gives an environment as a landscape has it, or, where that does not name it, as
// the workspace has it.
func (m *Mover) environment(l *landscape.Landscape, name string) (manifest.Environment, error) {
	if env, err := l.Manifest.Environment(name); err == nil {
		return env, nil
	}
	return m.Project.Manifest.Environment(name)
}

// declaration gives an environment as it counts: as the rules have it, target, folders and
// all; one that a branch makes for itself as the workspace has it.
func (m *Mover) declaration(ctx context.Context, name string) (manifest.Environment, error) {
	return m.environment(m.rules(ctx), name)
}

// counting gives the manifest that says what of a folder an environment holds: that of the
// rules, where these speak of the folder.
func (m *Mover) counting(ctx context.Context, into string) *manifest.Manifest {
	l := m.rules(ctx)
	if slices.ContainsFunc(l.Manifest.Environments, func(e manifest.Environment) bool { return slices.Contains(e.Folders(), into) }) {
		return l.Manifest
	}
	return m.Project.Manifest
}

// reader compares what an environment holds, by the kinds and recipes that count.
func (m *Mover) reader(ctx context.Context, env manifest.Environment) *state.Reader {
	return m.Project.ReaderBy(m.counting(ctx, env.Into))
}

// mayControl refuses people who do not control an environment that somebody controls.
func (m *Mover) mayControl(l *landscape.Landscape, env manifest.Environment, what string) error {
	if err := m.readable(); err != nil {
		return err
	}
	declared, err := l.Manifest.Environment(env.Name)
	if err != nil || len(declared.Controllers) == 0 || l.Manifest.Team.Plays(m.Project.Person, declared.Deciders()) {
		return nil
	}
	return fault.New(fault.Refused, "Ask them to do it, or to approve it with oaken approve "+fault.Word(env.Name)+".",
		"%s controls %s, so %s can't %s.", listAnd(declared.Controllers), env.Name, m.Project.Person, what)
}

// mayOverride refuses people who have no right to pass a gate that is shut.
func (m *Mover) mayOverride(l *landscape.Landscape, reason string) error {
	if err := m.readable(); err != nil {
		return err
	}
	if len(l.Manifest.Pipeline.MayOverride) == 0 {
		return fault.New(fault.Refused, "Name people or roles under may-override in [pipeline] of oaken.toml, and commit that.",
			"Nobody may override gates in this project.")
	}
	if !l.Manifest.Team.Plays(m.Project.Person, l.Manifest.Pipeline.MayOverride) {
		return fault.New(fault.Refused, "They can do it: "+listAnd(l.Manifest.Pipeline.MayOverride)+".", "%s may not override gates.",
			m.Project.Person)
	}
	if reason == "" {
		return fault.New(fault.Usage, "Say why with --reason TEXT; it stays on the record.", "An override needs a reason.")
	}
	return nil
}

// direct refuses a deployment that would go round the gates: into an environment that
// moves lead to, once something has been deployed there.
func (m *Mover) direct(ctx context.Context, env manifest.Environment, reason string) error {
	l := m.rules(ctx)
	moves := l.Into(env.Name)
	if len(moves) == 0 {
		return nil
	}
	if _, before, err := m.Project.Chest.LastDeployment(ctx, env.Name); err != nil || !before {
		return err
	}
	if reason != "" {
		return m.mayOverride(l, reason)
	}
	return fault.New(fault.Refused,
		"Run oaken promote "+fault.Word(moves[0].From)+" "+fault.Word(env.Name)+". Who may override gates can deploy with --reason TEXT.",
		"%s takes work by promotion alone.", env.Name)
}

// mayPass refuses what changes an environment past the pipeline.
func (m *Mover) mayPass(ctx context.Context, env manifest.Environment, reason, what string) error {
	if err := m.direct(ctx, env, reason); err != nil {
		return err
	}
	return m.mayControl(m.rules(ctx), env, what)
}

// names lists one end of moves.
func names(moves []manifest.Move, which func(manifest.Move) string) []string {
	var out []string
	for _, m := range moves {
		out = append(out, which(m))
	}
	return out
}

func beginning(m manifest.Move) string { return m.From }
func end(m manifest.Move) string       { return m.To }

// listAnd writes names as a sentence does.
func listAnd(names []string) string {
	switch n := len(names); n {
	case 0:
		return ""
	case 1:
		return names[0]
	default:
		out := names[0]
		for _, s := range names[1 : n-1] {
			out += ", " + s
		}
		return out + " and " + names[n-1]
	}
}

// labels writes the addresses of commits.
func labels(list []ledger.Commit, most int) string {
	var out []string
	for i, c := range list {
		if i == most {
			out = append(out, "others")
			break
		}
		out = append(out, label(c))
	}
	return listAnd(out)
}
