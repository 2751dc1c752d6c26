package cli

import (
	"context"
	"strings"

	"oakenchest/cli/screen"
	"oakenchest/core/workspace"
)

// tellBehind says which environments lack work of the workspace's branch, and by what. What
// can't be found out is not told: the command itself has done its work.
func (a *App) tellBehind(ctx context.Context, w *workspace.Workspace) {
	if a.JSON || a.Quiet || w.Offline || len(w.Manifest.Environments) == 0 {
		return
	}
	list, err := a.mover(w).WhoIsBehind(ctx, w.Branch)
	if err != nil {
		return
	}
	for _, b := range list {
		if len(a.mover(w).Landscape(ctx).Into(b.Environment.Name)) > 0 {
			continue // work comes to it by promotion, when it is time
		}
		a.Note("%s lacks %s of %s: %s. %s", b.Environment.Name, screen.Count(len(b.Lacks), "commit"), b.Branch, labelsOf(b.Lacks, 3),
			a.bringing(ctx, w, b.Environment.Name))
	}
}

// bringing says what brings to an environment what it lacks: a promotion, where moves lead to
// it, since it takes nothing else.
func (a *App) bringing(ctx context.Context, w *workspace.Workspace, name string) string {
	if moves := a.mover(w).Landscape(ctx).Into(name); len(moves) > 0 {
		return "It comes by promotion: oaken promote " + moves[0].From + " " + name + "."
	}
	return "oaken deploy " + name + " brings it."
}

// tellCaptured says what was captured into the workspace and is not committed yet.
func (a *App) tellCaptured(w *workspace.Workspace) {
	list, err := w.Captures()
	if err != nil || a.JSON || a.Quiet {
		return
	}
	for _, c := range list {
		a.Note("What %s holds was captured; oaken commit records it, %s as a whole.", c.Environment, strings.Join(c.Folders, " and "))
	}
}
