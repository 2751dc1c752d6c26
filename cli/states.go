package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/core/pipeline"
	"oakenchest/core/service"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// asked is where what a person wrote is understood.
func (a *App) asked(w *workspace.Workspace) service.Desk {
	return service.Desk{Workspace: w, Folder: a.folder(), Mover: func() *pipeline.Mover { return a.mover(w) }}
}

// completeStates offers branches, releases and environments.
func (a *App) completeStates(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	out := []string{"work"}
	a.quietly(cmd, func(w *workspace.Workspace) {
		branches, _ := w.Chest.Branches(cmd.Context())
		for _, b := range branches {
			out = append(out, b.Name)
		}
		releases, _ := w.Chest.Releases(cmd.Context())
		for _, r := range releases {
			out = append(out, "release:"+r.Name)
		}
		for _, e := range w.Manifest.Environments {
			out = append(out, "env:"+e.Name)
		}
	})
	return out, cobra.ShellCompDirectiveDefault
}

// completeBranches offers branches.
func (a *App) completeBranches(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		branches, _ := w.Chest.Branches(cmd.Context())
		for _, b := range branches {
			out = append(out, b.Name)
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeEnvironments offers environments.
func (a *App) completeEnvironments(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		for _, e := range w.Manifest.Environments {
			out = append(out, e.Name)
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeConflicts offers the addresses of open conflicts.
func (a *App) completeConflicts(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		to, _ := cmd.Flags().GetString("to")
		from, _ := cmd.Flags().GetString("from")
		c, err := a.clashOf(cmd.Context(), w, to, from)
		if err != nil {
			return
		}
		for _, x := range c.open {
			out = append(out, x.Address.String())
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeLocks offers this workspace's locks.
func (a *App) completeLocks(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		locks, _ := w.Chest.Locks(cmd.Context())
		for _, l := range locks {
			if l.Holder == w.Person && l.Workspace == w.Name {
				out = append(out, l.Address)
			}
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completePaths lets the shell offer files.
func completePaths(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveDefault
}

// completeAddresses lets the shell offer files, and behind :: the elements in one.
func (a *App) completeAddresses(cmd *cobra.Command, _ []string, text string) ([]string, cobra.ShellCompDirective) {
	if !strings.Contains(text, "::") {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		path, inside, _ := strings.Cut(text, "::")
		p, err := w.ProjectPath(a.folder(), path)
		if err != nil {
			return
		}
		for _, s := range []state.State{w.Work(), w.BaseState()} {
			if out = service.Elements(cmd.Context(), w.Reader(), s, p+"::"+inside); len(out) > 0 {
				break
			}
		}
		for i := range out {
			out[i] = path + strings.TrimPrefix(out[i], p)
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// completeFolders lets the shell offer folders.
func completeFolders(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveFilterDirs
}

// quietly opens the workspace for a completion; without one there is nothing to offer.
func (a *App) quietly(cmd *cobra.Command, fn func(*workspace.Workspace)) {
	if w, err := a.open(cmd.Context()); err == nil {
		defer w.Close()
		fn(w)
	}
}
