package pipeline

import (
	"context"
	"os"

	"oakenchest/core/check"
	"oakenchest/core/landscape"
	"oakenchest/core/manifest"
	"oakenchest/core/trust"
)

// mayRun refuses what nobody has agreed to. All that a deployment runs is asked for before it begins: half of it done would
// leave the environment in doubt.
func (m *Mover) mayRun(ctx context.Context, wishes []trust.Wish) error {
	if m.Trust == nil || len(wishes) == 0 {
		return nil
	}
	return m.Trust.Allow(ctx, wishes...)
}

// runsAfter lists the commands that must pass after a deployment to an environment.
func (m *Mover) runsAfter(ctx context.Context, env manifest.Environment) (out []trust.Wish) {
	if m.elsewhere(ctx, env.Name) { // they are run there
		return nil
	}
	for _, a := range m.aftersOf(ctx, env) {
		out = append(out, trust.Command(trust.After, a.Name, a.Command))
	}
	return out
}

// runs lists the commands of a promotion: those of its gates, and those that must pass after it.
func (m *Mover) runs(ctx context.Context, l *landscape.Landscape, p *Promotion) (out []trust.Wish) {
	if m.elsewhere(ctx, p.To.Name) {
		return nil
	}
	for _, r := range p.Gates {
		if r.Verdict == ToBeRun {
			g, _ := l.Manifest.Pipeline.Gate(r.Name)
			out = append(out, trust.Command(trust.Gate, g.Name, g.Command))
		}
	}
	return append(out, m.runsAfter(ctx, p.To)...)
}

// variables are those that commands get: all of a person's, and of a server's what anybody may know.
func (m *Mover) variables() []string {
	if m.At != nil {
		return check.Plain()
	}
	return os.Environ()
}
