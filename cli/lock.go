package cli

import (
	"context"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newLock(a *App) *cobra.Command {
	var o workspace.LockOptions
	var fresh, waive bool
	var lasts string
	cmd := &cobra.Command{
		Use:   "lock ADDRESS...",
		Short: "Reserve artifacts before editing them",
		Long: `Reserve files, folders, patterns or single elements for yourself in this workspace,
all or none. Before that it is made sure that your copy is the newest; who else has
changed the same on another branch, or edits it now, is told at once. Files that need
a lock become writable. An element is an address such as exhibit/reef.glb::node:Lamp:
others can then lock the rest of the artifact, element by element, and not the whole.

The lock ends when you commit what it covers, with oaken unlock, or at its end (--for):
from then on others may take it over. --take-over also takes the locks of a workspace
that has given no sign of life for long. --waive lets you edit without the lock: what
you edit is contested, and stays out of commits until you have it.`,
		Example: "  oaken lock exhibit/reef.glb --for 2h\n  oaken lock exhibit/reef.glb::node:Lamp -m \"a warmer light\"\n" +
			"  oaken lock 'exhibit/sounds/**/*.wav'\n  oaken lock database::table:feeding",
		GroupID:           groupDaily,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(cmd *cobra.Command, args []string) error {
			if lasts != "" {
				var err error
				if o.For, err = service.Length(lasts); err != nil {
					return usage(cmd, "--for takes a time such as 2h, 30m or 1d, not %q.", lasts)
				}
			}
			return a.withAddresses(cmd.Context(), args, fresh, func(w *workspace.Workspace, paths []string) error {
				if waive {
					return a.waive(cmd.Context(), w, paths)
				}
				l, err := w.Lock(cmd.Context(), paths, o)
				if err != nil {
					return err
				}
				return a.showLocked(cmd.Context(), w, paths, l)
			})
		},
	}
	f := cmd.Flags()
	f.StringVarP(&o.Reason, "message", "m", "", "say why: `TEXT`")
	f.StringVar(&lasts, "for", "", "let it end after `TIME`, such as 2h or 1d")
	f.BoolVar(&o.TakeSilent, "take-over", false, "take over the locks of workspaces without sign of life")
	f.BoolVar(&waive, "waive", false, "edit without the lock, and keep that out of commits")
	f.BoolVar(&fresh, "new", false, "lock an element that is still to come")
	cmd.MarkFlagsMutuallyExclusive("waive", "for")
	cmd.MarkFlagsMutuallyExclusive("waive", "take-over")
	return cmd
}

func (a *App) waive(ctx context.Context, w *workspace.Workspace, paths []string) error {
	if err := w.Waive(ctx, paths); err != nil {
		return err
	}
	locks, err := w.Chest.LocksNear(ctx, paths)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Locked{
			Locked: []string{}, Holder: w.Person, Workspace: w.Name, Unmerged: []string{}, Locks: []result.Lock{}, Taken: []result.Lock{},
			LaidOut:  []string{},
			Overlaps: []result.Overlap{}, Waived: paths,
		})
		return nil
	}
	for _, p := range paths {
		by := ""
		for _, l := range locks {
			if chest.Reaches(l, p) {
				by = ", which is locked by " + chest.HolderText(l)
			}
		}
		a.Say("You edit %s without its lock%s.", a.Paint(screen.Strong, p), by)
		a.Say("  It stays out of commits until you have the lock: oaken lock %s.", p)
	}
	return nil
}

func (a *App) showLocked(ctx context.Context, w *workspace.Workspace, paths []string, l *workspace.Locked) error {
	changes, err := w.Glance(ctx, paths)
	if err != nil {
		return err
	}
	_ = w.AnnounceAt(ctx, paths, changes) // the next command tells it
	warnings, err := w.Warnings(ctx, paths, changes)
	if err != nil {
		return err
	}
	if a.JSON {
		unmerged := []string{}
		for _, p := range paths {
			if !workspace.IsObject(p) && !w.Merges(p) {
				unmerged = append(unmerged, p)
			}
		}
		a.print(result.Locked{
			Locked: paths, Holder: w.Person, Workspace: w.Name, Unmerged: unmerged, Locks: result.LocksOf(l.Locks, nil, nil),
			Taken:   result.LocksOf(l.Taken, nil, nil),
			Brought: result.BroughtOf(l.Brought), Clash: l.Clash != nil, LaidOut: result.List(l.LaidOut),
			Overlaps: result.OverlapsOf(warnings), Waived: []string{},
		})
		return nil
	}
	for _, t := range l.Taken {
		a.Say("Taken over: %s, which was locked by %s. %s is told.", t.Address, chest.HolderText(t), t.Holder)
	}
	for _, p := range l.LaidOut {
		a.Say("%s was brought into this workspace, which holds a part of the project.", p)
	}
	if l.Brought != nil {
		a.Say("%s came in first: this workspace is at %s now.", screen.Count(l.Brought.Commits, "newer commit"), workspace.Label(w.Base))
		for _, d := range l.Newer {
			a.Say("  %s  %s", d.Path, a.Paint(screen.Faint, d.Kind))
			for _, c := range d.Changes[:min(len(d.Changes), 5)] {
				text, _ := changeText(c, func(_ string, v element.Value) string { return v.String() })
				a.Say("    %s  %s", strings.TrimPrefix(c.Address.String(), d.Path+"::"), text)
			}
			if n := len(d.Changes) - 5; n > 0 {
				a.Say("    … and %s", screen.Count(n, "more change"))
			}
		}
	}
	for _, k := range l.Locks {
		until := ""
		if !k.Ends.IsZero() {
			until = " until " + screen.Clock(k.Ends)
		}
		a.Say("%s is locked for %s in %s%s.", a.Paint(screen.Strong, k.Address), w.Person, w.Name, until)
		if !workspace.IsObject(k.Address) && !k.Pattern && !w.Merges(k.Address) {
			a.Say("  Its kind can't be merged: two edits at once mean that one is lost.")
		}
	}
	if l.Clash != nil {
		a.Say("%s Commit it: it is then unsent, and the conflicts are laid open to be settled.", a.Paint(screen.Bad, l.Clash.Error()))
	}
	a.showWarnings(warnings)
	return nil
}

func newUnlock(a *App) *cobra.Command {
	var force bool
	var reason string
	cmd := &cobra.Command{
		Use:   "unlock ADDRESS...",
		Short: "Give locks back",
		Long: `Give locks back. --force ends the lock of somebody else, with a reason; the former
holder finds a notice. Who may do so is said in oaken.toml, under [team].`,
		Example:           "  oaken unlock exhibit/reef.glb\n  oaken unlock exhibit/reef.glb --force -m \"Imke is on leave until Monday\"",
		GroupID:           groupDaily,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeLocks,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withAddresses(cmd.Context(), args, true, func(w *workspace.Workspace, paths []string) error {
				freed, err := w.Unlock(cmd.Context(), paths, force, reason)
				if err != nil {
					return err
				}
				edited, err := w.EditedUnder(cmd.Context(), freed)
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Unlocked{Unlocked: paths, Freed: result.LocksOf(freed, nil, nil), Edited: result.List(edited)})
					return nil
				}
				for _, l := range freed {
					told := ""
					if l.Workspace != w.Name {
						told = " " + l.Holder + " is told."
					}
					a.Say("%s is free.%s", a.Paint(screen.Strong, l.Address), told)
				}
				for _, p := range edited {
					a.Say("  %s is edited here and not committed: take the lock again before you commit it.", p)
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&force, "force", false, "end the lock of somebody else")
	cmd.Flags().StringVarP(&reason, "message", "m", "", "say why: `TEXT`")
	return cmd
}

func newLocks(a *App) *cobra.Command {
	var mine, stale bool
	cmd := &cobra.Command{
		Use:   "locks [PATTERN]",
		Short: "List who holds what, where, since when",
		Long: `List who holds what, in which workspace, since when and until when. Locks that have
ended, and those of workspaces without sign of life, come first: they may be taken
over. A lock under which something is edited and not published says so.`,
		Example:           "  oaken locks\n  oaken locks 'exhibit/**'\n  oaken locks --stale",
		GroupID:           groupDaily,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 && !doublestar.ValidatePattern(args[0]) {
				return usage(cmd, "%q is not a well-formed pattern.", args[0])
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				asked := service.LocksAsked{Mine: mine, Stale: stale}
				if len(args) == 1 {
					asked.Pattern = args[0]
				}
				locks, err := a.asked(w).Locks(cmd.Context(), asked, a.Now())
				if err != nil {
					return err
				}
				switch {
				case a.JSON:
					a.print(locks.Result())
				case len(locks.List) == 0 && asked.All():
					a.Say("Nothing is locked.")
				case len(locks.List) == 0:
					a.Say("No such lock is held.")
				default:
					a.Table(a.Out, "", lockRows(locks.List, &locks.Judge, locks.Crowd))
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&mine, "mine", false, "list this workspace's own alone")
	cmd.Flags().BoolVar(&stale, "stale", false, "list those that may be taken over alone")
	return cmd
}

func lockRows(locks []ledger.Lock, j *chest.Judge, crowd *chest.Crowd) [][]screen.Cell {
	var rows [][]screen.Cell
	for _, l := range locks {
		reason := ""
		if l.Reason != "" {
			reason = screen.OneLine(screen.FirstLine(l.Reason), 60)
		}
		span := "since " + screen.Clock(l.Since)
		if !l.Ends.IsZero() {
			span += ", until " + screen.Clock(l.Ends)
		}
		note, t := "", screen.Warm
		if crowd != nil && crowd.Unpublished(l) {
			note = "edited, not published"
		}
		if j != nil {
			switch j.Of(l) {
			case chest.Ended:
				note, t = "has ended: may be taken over", screen.Good
			case chest.Silent:
				note, t = "no sign of life since "+screen.Clock(j.LastSign(l))+": may be taken over", screen.Good
			}
		}
		rows = append(rows, []screen.Cell{screen.Plain.Cell(l.Address), screen.Strong.Cell(l.Holder), screen.Faint.Cell(l.Workspace),
			screen.Plain.Cell(span), t.Cell(note), screen.Plain.Cell(reason)})
	}
	return rows
}

func (a *App) showLocksIn(title string, locks []ledger.Lock, j *chest.Judge, crowd *chest.Crowd) {
	if len(locks) == 0 || a.Quiet {
		return
	}
	a.Say("%s", title)
	const most = 20
	a.Table(a.Out, "  ", lockRows(locks[:min(len(locks), most)], j, crowd))
	if n := len(locks) - most; n > 0 {
		a.Say("  … and %s; oaken locks lists them.", screen.Count(n, "more lock"))
	}
}
