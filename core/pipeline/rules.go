package pipeline

import (
	"context"

	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// rules gives the landscape as it counts: as it was committed, so that an edit of
// oaken.toml opens no gate; until moves are committed, as it is edited.
func (m *Mover) rules(ctx context.Context) *landscape.Landscape {
	w := m.Workspace
	if data, err := state.ReadFile(w.BaseState(), manifest.Name); err == nil {
		if committed, err := w.ReadManifest(data); err == nil && len(committed.Pipeline.Moves) > 0 {
			return landscape.Of(committed)
		}
	}
	return landscape.Of(w.Manifest)
}

// Landscape gives the landscape as it counts.
func (m *Mover) Landscape(ctx context.Context) *landscape.Landscape { return m.rules(ctx) }

// mayControl refuses people who do not control an environment that somebody controls.
func (m *Mover) mayControl(l *landscape.Landscape, env manifest.Environment, what string) error {
	declared, err := l.Manifest.Environment(env.Name)
	if err != nil || len(declared.Controllers) == 0 || l.Manifest.Team.Plays(m.Workspace.Person, declared.Controllers) {
		return nil
	}
	return fault.New(fault.Refused, "Ask them to do it, or to approve it with oaken approve "+env.Name+".", "%s controls %s, so %s can't %s.", listAnd(declared.Controllers), env.Name, m.Workspace.Person, what)
}

// mayOverride refuses people who have no right to pass a gate that is shut.
func (m *Mover) mayOverride(l *landscape.Landscape, reason string) error {
	if len(l.Manifest.Pipeline.MayOverride) == 0 {
		return fault.New(fault.Refused, "Name people or roles under may-override in [pipeline] of oaken.toml, and commit that.", "Nobody may override gates in this project.")
	}
	if !l.Manifest.Team.Plays(m.Workspace.Person, l.Manifest.Pipeline.MayOverride) {
		return fault.New(fault.Refused, "They can do it: "+listAnd(l.Manifest.Pipeline.MayOverride)+".", "%s may not override gates.", m.Workspace.Person)
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
	if _, before, err := m.Workspace.Chest.LastDeployment(ctx, env.Name); err != nil || !before {
		return err
	}
	if reason != "" {
		return m.mayOverride(l, reason)
	}
	return fault.New(fault.Refused, "Run oaken promote "+moves[0].From+" "+env.Name+". Who may override gates can deploy with --reason TEXT.", "%s takes work by promotion alone.", env.Name)
}

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
