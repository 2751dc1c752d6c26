package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newRelocate(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "relocate LOCATION",
		Short: "Bring the chest to another folder or to a server, or say where it is now",
		Long: `Bring the chest to LOCATION, a folder that is new or empty, with all that it holds:
from inside of a workspace to a folder that a team shares, from one drive to another. Every
file is read again in the new place before the old one goes. Nobody can commit meanwhile;
they wait. The other workspaces find the chest by themselves, as long as they reach both.

LOCATION may be the address of a project that is to be, at a server where you have signed in. Ids
stay; who is named in the chest has an account there afterwards, and waits for an invitation.

When LOCATION holds this chest already, because a drive is called otherwise here or the
folder was moved by hand, nothing is copied: this workspace alone looks for it there.`,
		Example: "  oaken relocate /shared/chests/exhibit\n  oaken relocate /mnt/team/chests/exhibit\n" +
			"  oaken relocate https://chest.example.org/exhibit",
		GroupID:           groupCare,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				r, err := w.Relocate(cmd.Context(), a.at(args[0]))
				if err != nil {
					return err
				}
				a.EndProgress()
				if a.JSON {
					a.print(result.RelocatedOf(r))
					return nil
				}
				if !r.Moved {
					a.Say("This workspace looks for its chest in %s now.", r.To)
					return nil
				}
				a.Say("The chest is in %s now, %s, each file proven after it was copied.", r.To, element.SizeText(r.Bytes))
				a.Say("  Others open it with oaken open %s; workspaces that look in %s are led there.", r.To, r.From)
				a.tellSharing(w.Place())
				a.tellAccounts(r)
				return nil
			})
		},
	}
}

// tellAccounts says who of those who are named in a chest can't sign in yet.
func (a *App) tellAccounts(r *workspace.Relocated) {
	for _, p := range r.People {
		switch {
		case p.Account == "":
			a.Say("  %s can be no account's name; what is theirs stays under it.", p.Name)
		case p.New:
			a.Say("  %s has an account now: oaken people invite %s", p.Name, fault.Word(p.Account))
		case p.Account != p.Name:
			a.Say("  %s is %s there.", p.Name, p.Account)
		}
	}
}
