package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/service"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// elements parts the arguments of a call into addresses of elements, with paths
// of the project, and the rest.
func (a *App) elements(w *workspace.Workspace, args []string) (elements []element.Address, rest []string, err error) {
	for _, arg := range args {
		if !strings.Contains(arg, "::") {
			rest = append(rest, arg)
			continue
		}
		e, err := element.ParseAddress(arg)
		if err != nil {
			return nil, nil, fault.New(fault.Usage, "Write PATH::type:key or PATH::type:key.property, as oaken compare does.", "That is no address: %w.", err)
		}
		if e.Path, err = w.ProjectPath(a.folder(), e.Path); err != nil {
			return nil, nil, err
		}
		elements = append(elements, e)
	}
	return elements, rest, nil
}

// stateOf gives the state that a person wrote.
func (a *App) stateOf(ctx context.Context, w *workspace.Workspace, text string) (state.State, error) {
	if text == "work" {
		return w.Work(), nil
	}
	if name, ok := strings.CutPrefix(text, "env:"); ok {
		return a.mover(w).State(ctx, name)
	}
	if name, ok := strings.CutPrefix(text, "file:"); ok {
		return a.fileState(name)
	}
	if name, ok := strings.CutPrefix(text, "parked:"); ok {
		p, err := w.FindParked(ctx, name)
		if err != nil {
			return nil, err
		}
		return w.ParkedState(ctx, p)
	}
	c, err := w.CommitOf(ctx, text)
	if err != nil {
		return nil, err
	}
	return w.CommitState(c, text), nil
}

// fileState is a file on disk as a state of its own.
func (a *App) fileState(name string) (state.State, error) {
	full := a.at(name)
	info, err := os.Stat(full)
	if err != nil || info.IsDir() {
		return nil, fault.New(fault.Usage, "Check the path after file:.", "There is no file %s.", name)
	}
	s := state.Memory{Name: "file:" + name, Contents: map[string][]byte{}}
	s.Contents[filepath.Base(full)], err = os.ReadFile(full)
	return s, err
}

// commitOf gives the commit that a person wrote.
func (a *App) commitOf(ctx context.Context, w *workspace.Workspace, text string) (ledger.Commit, error) {
	if text == "work" || strings.HasPrefix(text, "env:") || strings.HasPrefix(text, "file:") || strings.HasPrefix(text, "parked:") {
		return ledger.Commit{}, fault.New(fault.Usage, "Name a branch, BRANCH:NUMBER, a release or a commit's id.", "%s is not recorded in the chest.", text)
	}
	return w.CommitOf(ctx, text)
}

// isState reports whether a word of a call names a state; when it names a path
// as well, it is a state, and ./PATH names the path.
func (a *App) isState(ctx context.Context, w *workspace.Workspace, text string) (bool, error) {
	if text == "work" || strings.HasPrefix(text, "env:") || strings.HasPrefix(text, "file:") || strings.HasPrefix(text, "parked:") || strings.HasPrefix(text, "release:") {
		return true, nil
	}
	_, err := w.CommitOf(ctx, text)
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, chest.ErrNoState) && !strings.Contains(text, ":"):
		return false, nil
	}
	return false, err
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
