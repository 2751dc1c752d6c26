package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newHealth(a *App) *cobra.Command {
	var repair, giveUp bool
	var other string
	cmd := &cobra.Command{
		Use:   "health",
		Short: "Check every byte and record of the chest",
		Long: `Check every byte and record of the chest: each stored chunk against its digest,
each commit against its id, each file of each commit. Damage is listed with the
versions of artifacts that it touches. --repair takes good copies from this
workspace where it has them, and with --from from another chest.

--give-up ends what an interrupted command had begun to do to the files and what can't be
finished, as far as it came; oaken changes then shows how far that is.`,
		Example:           "  oaken health\n  oaken health --repair --from /backup/exhibit\n  oaken health --give-up",
		GroupID:           groupCare,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if giveUp {
				return a.giveUp(cmd.Context())
			}
			if other != "" {
				if !repair {
					return usage(cmd, "--from needs --repair.")
				}
				other = a.at(other)
			}
			run := a.look
			if repair {
				run = a.with
			}
			opened := false
			err := run(cmd.Context(), func(w *workspace.Workspace) error {
				opened = true
				x, mended, err := w.Health(cmd.Context(), repair, other)
				if err != nil {
					return err
				}
				return a.finding(x, mended, repair)
			})
			if !opened && err != nil { // the chest may say more
				if x, failed := workspace.ExamineChest(cmd.Context(), a.host(), a.folder()); failed == nil && len(x.Findings) > 0 {
					return a.finding(x, 0, repair)
				}
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&repair, "repair", false, "store good copies from this workspace anew")
	cmd.Flags().StringVar(&other, "from", "", "take good copies from the chest at `LOCATION` too, such as a copy kept elsewhere")
	_ = cmd.MarkFlagDirname("from")
	cmd.Flags().BoolVar(&giveUp, "give-up", false, "end what an interrupted command had begun and can't be finished")
	cmd.MarkFlagsMutuallyExclusive("give-up", "repair")
	return cmd
}

// giveUp ends what an interrupted command had begun.
func (a *App) giveUp(ctx context.Context) error {
	w, err := a.open(ctx)
	if err != nil {
		return err
	}
	if err := w.Claim(ctx); err != nil && w.Unfinished == nil {
		return errors.Join(err, w.Close())
	}
	kept := ""
	if w.Unfinished != nil {
		kept, err = w.GiveUp()
	}
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	if a.JSON {
		a.print(result.GivenUp{Kept: kept})
		return nil
	}
	if kept == "" {
		a.Say("Nothing that was begun is left unfinished.")
		return nil
	}
	a.Say("What was begun is ended as far as it came; the record of it is in %s. oaken changes shows how far that is.", kept)
	return nil
}

// finding shows an examination, and gives the error that ends the call.
func (a *App) finding(x *chest.Examination, mended int, repair bool) error {
	a.EndProgress()
	left := touched(x)
	if a.JSON {
		a.print(result.HealthOf(x, mended))
	} else {
		a.showHealth(x, mended)
	}
	switch {
	case left == 0 && (repair && mended > 0 || len(x.Findings) == 0):
		return nil
	case a.JSON:
		return &damageFound{}
	}
	return fault.New(fault.Damaged, healthHint(repair), "The chest is damaged: %s, %s touched.", screen.Count(len(x.Findings), "finding"),
		touchedText(left))
}

// damageFound ends a call with status 6 when its output has said why.
type damageFound struct{}

func (*damageFound) Error() string { return "damage was found" }

func healthHint(repair bool) string {
	if repair {
		return "Bring the files named back from a copy of the chest; everything else in it can be read."
	}
	return "Try oaken health --repair, or bring the files named back from a copy of the chest."
}

// touched counts the versions that can't be read.
func touched(x *chest.Examination) int {
	n := 0
	for _, f := range x.Findings {
		n += len(f.Touches)
	}
	return n
}

func (a *App) showHealth(x *chest.Examination, mended int) {
	for _, f := range x.Findings {
		a.Say("%s  %s", a.Paint(screen.Bad, f.Where), f.Reason)
		for i, t := range f.Touches {
			if i == 8 {
				a.Say("    and %d more", len(f.Touches)-i)
				break
			}
			a.Say("    touches %s", t)
		}
	}
	if mended > 0 {
		a.Say("%s mended from this workspace.", screen.Count(mended, "version"))
	}
	looked := fmt.Sprintf("%s of bytes, %s, %s", element.SizeText(x.Bytes), screen.Count(x.Commits, "commit"),
		fmt.Sprintf("%d versions of files", x.Files))
	if len(x.Findings) == 0 {
		a.Say("The chest is whole: %s checked.", looked)
	} else {
		a.Say("Checked: %s.", looked)
	}
}

func touchedText(n int) string {
	if n == 1 {
		return "1 version of an artifact"
	}
	return fmt.Sprintf("%d versions of artifacts", n)
}
