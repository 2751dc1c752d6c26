package cli

import (
	"github.com/bmatcuk/doublestar/v4"
	"github.com/spf13/cobra"

	"oakenchest/core/ledger"
	"oakenchest/core/workspace"
)

func newLock(a *App) *cobra.Command {
	var reason string
	var fresh bool
	cmd := &cobra.Command{
		Use:   "lock ADDRESS...",
		Short: "Reserve artifacts before editing them",
		Long: `Reserve files, folders or single objects for yourself in this workspace, all or none.
Files whose policy requires a lock become writable. An object is an address such as
database::table:feeding: on a shared database it tells the others that you are at
work on it. The lock ends when you commit what it covers, or with oaken unlock.`,
		Example:           "  oaken lock exhibit/reef.glb\n  oaken lock database::table:feeding\n  oaken lock exhibit/sounds -m \"mixing the surf anew\"",
		GroupID:           groupDaily,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withAddresses(cmd.Context(), args, fresh, func(w *workspace.Workspace, paths []string) error {
				if err := w.Lock(cmd.Context(), paths, reason); err != nil {
					return err
				}
				if a.json {
					unmerged := []string{}
					for _, p := range paths {
						if !workspace.IsObject(p) && !w.Merges(p) {
							unmerged = append(unmerged, p)
						}
					}
					a.printJSON(map[string]any{"schema": "oaken.lock/1", "locked": paths, "holder": w.Person, "workspace": w.Name, "unmerged": unmerged})
					return nil
				}
				for _, p := range paths {
					a.say("%s is locked for %s in %s.", a.paint(strong, p), w.Person, w.Name)
					if !workspace.IsObject(p) && !w.Merges(p) {
						a.say("  Its kind can't be merged: two edits at once mean that one is lost.")
					}
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVarP(&reason, "message", "m", "", "say why: `TEXT`")
	cmd.Flags().BoolVar(&fresh, "new", false, "lock an object that is still to come")
	return cmd
}

func newUnlock(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "unlock ADDRESS...",
		Short:             "Give locks back",
		Example:           "  oaken unlock exhibit/reef.glb",
		GroupID:           groupDaily,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeLocks,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withAddresses(cmd.Context(), args, true, func(w *workspace.Workspace, paths []string) error {
				if err := w.Unlock(cmd.Context(), paths); err != nil {
					return err
				}
				if a.json {
					a.printJSON(map[string]any{"schema": "oaken.unlock/1", "unlocked": paths})
					return nil
				}
				for _, p := range paths {
					a.say("%s is free.", a.paint(strong, p))
				}
				return nil
			})
		},
	}
}

func newLocks(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "locks [PATTERN]",
		Short:             "List who holds what, where, since when",
		Example:           "  oaken locks\n  oaken locks 'exhibit/**'",
		GroupID:           groupDaily,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 && !doublestar.ValidatePattern(args[0]) {
				return usage(cmd, "%q is not a well-formed pattern.", args[0])
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				all, err := w.Chest.Locks(cmd.Context())
				if err != nil {
					return err
				}
				var locks []ledger.Lock
				for _, l := range all {
					if len(args) == 1 {
						if ok, _ := doublestar.Match(args[0], l.Address); !ok {
							continue
						}
					}
					locks = append(locks, l)
				}
				switch {
				case a.json:
					a.printJSON(map[string]any{"schema": "oaken.locks/1", "locks": locksJSON(locks)})
				case len(locks) == 0:
					a.say("Nothing is locked.")
				default:
					a.table(a.Out, "", lockRows(locks))
				}
				return nil
			})
		},
	}
}

func locksJSON(locks []ledger.Lock) []any {
	out := []any{}
	for _, l := range locks {
		out = append(out, map[string]any{"address": l.Address, "holder": l.Holder, "workspace": l.Workspace, "since": stamp(l.Since), "reason": l.Reason})
	}
	return out
}

func lockRows(locks []ledger.Lock) [][]cell {
	var rows [][]cell
	for _, l := range locks {
		reason := ""
		if l.Reason != "" {
			reason = oneLine(firstLine(l.Reason), 60)
		}
		rows = append(rows, []cell{{l.Address, plain}, {l.Holder, strong}, {l.Workspace, faint}, {"since " + clock(l.Since), plain}, {reason, plain}})
	}
	return rows
}

func (a *App) showLocksIn(title string, locks []ledger.Lock) {
	if len(locks) == 0 || a.quiet {
		return
	}
	a.say("%s", title)
	a.table(a.Out, "  ", lockRows(locks))
}
