package cli

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
)

func newPeople(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "people",
		Short: "Look after the people of a server",
		Long: `Look after the people of a server: let somebody in, say who is there, make tokens for automation,
end an account. Everybody may look; administrators change.

The server is that of the workspace that you are in, or the only one at which you have signed in;
--server names another.`,
		Example: "  oaken people invite Tarek\n  oaken people list",
		GroupID: groupTeam,
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },

		ValidArgsFunction: cobra.NoFileCompletions,
	}
	cmd.PersistentFlags().StringVar(&a.server, "server", "", "the `ADDRESS` of the server that is meant")
	_ = cmd.RegisterFlagCompletionFunc("server", a.completeServers)
	cmd.AddCommand(newPeopleList(a), newPeopleAdd(a), newPeopleInvite(a), newPeopleShow(a), newPeopleEnd(a), newPeopleToken(a),
		newPeopleGroup(a))
	return cmd
}

// atServer makes a call to the server that is meant.
func (a *App) atServer(ctx context.Context, call string, body, into any) (server string, err error) {
	if server, err = a.serverOf(ctx, a.server); err != nil {
		return "", err
	}
	calls, err := a.callerAt(server)
	if err != nil {
		return "", err
	}
	defer calls.Close()
	return server, chest.Explain(calls.AskOnce(ctx, wire.API+"/"+call, body, into))
}

// completePeople proposes the people of the server.
func (a *App) completePeople(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var list []wire.Person
	var out []string
	if _, err := a.atServer(cmd.Context(), wire.CallPeople, struct{}{}, &list); err == nil {
		for _, p := range list {
			if p.Ended.IsZero() {
				out = append(out, p.Name)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func newPeopleList(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "list",
		Short:             "List the people of a server",
		Example:           "  oaken people list",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var list []wire.Person
			server, err := a.atServer(cmd.Context(), wire.CallPeople, struct{}{}, &list)
			if err != nil {
				return err
			}
			out := result.PeopleOf(server, list)
			if a.JSON {
				a.print(out)
				return nil
			}
			var rows [][]screen.Cell
			for i, p := range out.People {
				says, tone := p.Standing, map[string]screen.Tone{"active": screen.Good, "invited": screen.Warm,
					"ended": screen.Faint}[p.Standing]
				if p.Administrator && p.Standing != "ended" {
					says += ", administrator"
				}
				seen := "never here"
				if !list[i].Seen.IsZero() {
					seen = "last here " + a.when(list[i].Seen)
				}
				if p.Standing == "ended" {
					seen = "since " + a.when(list[i].Ended)
				}
				rows = append(rows, []screen.Cell{screen.Strong.Cell(p.Person), tone.Cell(says), screen.Plain.Cell(strings.Join(p.Groups,
					", ")),
					screen.Faint.Cell(seen)})
			}
			a.Table(a.Out, "", rows)
			return nil
		},
	}
}

// when writes a time for people.
func (a *App) when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func newPeopleAdd(a *App) *cobra.Command {
	var administrator bool
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Make an account for somebody, or make somebody an administrator",
		Long: `Make an account for somebody, who gets a secret by an invitation. With --administrator, or
--administrator=false, say of somebody whether they look after people and the server.`,
		Example:           "  oaken people add Ysolde\n  oaken people add Tarek --administrator",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completePeople,
		RunE: func(cmd *cobra.Command, args []string) error {
			call, done := wire.PersonCall{Name: args[0]}, "added"
			if cmd.Flags().Changed("administrator") {
				call.Administrator = &administrator
				done = map[bool]string{true: "administrator", false: "no-administrator"}[administrator]
			}
			if _, err := a.atServer(cmd.Context(), wire.CallPeople+"/add", call, &struct{}{}); err != nil {
				return err
			}
			if a.JSON {
				a.print(result.AccountChanged{Person: args[0], Done: done})
				return nil
			}
			switch done {
			case "added":
				a.Say("%s has an account. Next: oaken people invite %s", a.Paint(screen.Strong, args[0]), fault.Word(args[0]))
			case "administrator":
				a.Say("%s is an administrator.", a.Paint(screen.Strong, args[0]))
			default:
				a.Say("%s is no administrator any more.", a.Paint(screen.Strong, args[0]))
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&administrator, "administrator", false, "they look after people and the server")
	return cmd
}

func newPeopleInvite(a *App) *cobra.Command {
	var administrator bool
	var lasts string
	cmd := &cobra.Command{
		Use:   "invite [NAME]",
		Short: "Let somebody in, with an invitation that can be used once",
		Long: `Let somebody in: the invitation can be used once, and lasts for a week. Whoever uses it chooses a
secret, and without NAME also the name. For somebody who has forgotten the secret it gives a new
one; every session of theirs ends then.`,
		Example:           "  oaken people invite Tarek\n  oaken people invite --lasts 1d",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completePeople,
		RunE: func(cmd *cobra.Command, args []string) error {
			call := wire.PersonCall{}
			if len(args) == 1 {
				call.Name = args[0]
			}
			if administrator {
				call.Administrator = &administrator
			}
			var err error
			if lasts != "" {
				if call.Lasts, err = service.Length(lasts); err != nil {
					return err
				}
			}
			var in wire.Invited
			server, err := a.atServer(cmd.Context(), wire.CallInvite, call, &in)
			if err != nil {
				return err
			}
			if a.JSON {
				a.print(result.Invitation{Invitation: in.Invitation, Server: server, Person: call.Name, Ends: result.Time(in.Ends)})
				return nil
			}
			who := "Somebody"
			if call.Name != "" {
				who = call.Name
			}
			a.Say("%s comes in, once and until %s, with:", a.Paint(screen.Strong, who), a.when(in.Ends))
			a.Say("  oaken login %s --invitation %s", server, in.Invitation)
			return nil
		},
	}
	cmd.Flags().BoolVar(&administrator, "administrator", false, "they look after people and the server")
	cmd.Flags().StringVar(&lasts, "lasts", "", "how long it can be used, a `TIME` such as 2d")
	_ = cmd.RegisterFlagCompletionFunc("lasts", cobra.NoFileCompletions)
	return cmd
}

func newPeopleShow(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "show NAME",
		Short:             "Show an account with its sessions and tokens",
		Example:           "  oaken people show Tarek",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completePeople,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			var list []wire.Person
			if _, err := a.atServer(ctx, wire.CallPeople, struct{}{}, &list); err != nil {
				return err
			}
			var sessions []wire.Session
			if _, err := a.atServer(ctx, wire.CallSessions, wire.PersonCall{Name: args[0]}, &sessions); err != nil {
				return err
			}
			for _, p := range list {
				if strings.EqualFold(p.Name, args[0]) {
					a.showAccount(p, sessions)
				}
			}
			return nil
		},
	}
}

func (a *App) showAccount(p wire.Person, sessions []wire.Session) {
	out := result.AccountShownOf(p, sessions)
	if a.JSON {
		a.print(out)
		return
	}
	what := out.Standing
	if p.Administrator {
		what += ", administrator"
	}
	a.Say("%s  %s, since %s", a.Paint(screen.Strong, p.Name), what, a.when(p.Since))
	if len(p.Groups) > 0 {
		a.Say("  groups  %s", strings.Join(p.Groups, ", "))
	}
	var rows [][]screen.Cell
	for i, s := range out.Sessions {
		what, ends := "session on "+s.Machine, "last used "+a.when(sessions[i].Used)
		if s.Purpose != "" {
			what, ends = "token for "+s.Purpose, "until "+a.when(sessions[i].Ends)
			if s.Rights == "look" {
				what += ", looks alone"
			}
			if s.Project != "" {
				what += ", in " + s.Project + " alone"
			}
		}
		rows = append(rows, []screen.Cell{screen.Faint.Cell(strconv.FormatInt(s.Number, 10)), screen.Plain.Cell(what),
			screen.Faint.Cell(ends)})
	}
	a.Table(a.Out, "  ", rows)
}

func newPeopleEnd(a *App) *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "end NAME",
		Short: "End an account, and say what is left of it",
		Long: `End an account: every session and token of it ends at once. What the person has is listed: locks,
unsent and parked work, bookings, planned promotions. With --to NAME, parked work becomes that
person's, and locks are free. Unsent work lies on the person's machine. Commits stay as they are.`,
		Example:           "  oaken people end Tarek\n  oaken people end Tarek --to Imke",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completePeople,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !a.yes && a.Keys != nil && !a.JSON && !a.Ask("End the account of "+args[0]+"?") {
				return fault.New(fault.Refused, "Run it again when you are sure.", "Nothing was changed.")
			}
			var out wire.Ended
			if _, err := a.atServer(cmd.Context(), wire.CallEnd, wire.PersonCall{Name: args[0], To: to}, &out); err != nil {
				return err
			}
			a.showEnded(result.AccountEndedOf(out, to))
			return nil
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "hand over to the person `NAME`")
	_ = cmd.RegisterFlagCompletionFunc("to", a.completePeople)
	return cmd
}

func (a *App) showEnded(e result.AccountEnded) {
	if a.JSON {
		a.print(e)
		return
	}
	a.Say("The account of %s has ended; every session and token of it has.", a.Paint(screen.Strong, e.Person))
	if len(e.Projects) == 0 {
		a.Say("  Nothing is left of it to take over.")
		return
	}
	for _, p := range e.Projects {
		say := func(n int, what, then string) {
			if n > 0 {
				a.Say("  %s: %s; %s", p.Project, screen.Count(n, what), then)
			}
		}
		locks, parked := "oaken unlock --force ADDRESS frees one", "oaken people end --to NAME hands it over"
		if e.To != "" {
			locks, parked = "free now", e.To+" has it now"
		}
		say(len(p.Locks), "lock", locks)
		say(len(p.Parked), "parked piece", parked)
		for _, u := range p.Unsent {
			a.Say("  %s: %s unsent in %s, on %s; only there", p.Project, screen.Count(u.Commits, "commit"), u.Workspace, u.Machine)
		}
		for _, b := range p.Bookings {
			a.Say("  %s: a booking of %s; oaken book %s --end ends it", p.Project, b.Environment, fault.Word(b.Environment))
		}
		for _, b := range p.Planned {
			a.Say("  %s: promotion %d into %s is planned; oaken promote --cancel %d calls it off", p.Project, b.Number, b.Environment,
				b.Number)
		}
	}
}

func newPeopleToken(a *App) *cobra.Command {
	var purpose, until, person, project string
	var looks bool
	var revoke int64
	cmd := &cobra.Command{
		Use:   "token",
		Short: "Make a token for automation, or end one",
		Long: `Make a token, by which a program acts for you: it has a purpose, an end, and, with --looks and
--project, fewer rights than you. It is shown once. --revoke ends a session or token by its number,
at once; oaken people show lists them. Administrators do so for others, with --person.`,
		Example: "  oaken people token --for \"nightly signals\" --until 2027-06-30 --looks\n  oaken people token --revoke 4",
		Args:    cobra.NoArgs, ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if revoke != 0 {
				return a.revoke(cmd.Context(), person, revoke)
			}
			call := wire.TokenCall{Name: person, Purpose: purpose, ReadsOnly: looks, Project: project}
			if until == "" {
				return usage(cmd, "A token has an end: --until DAY.")
			}
			var err error
			if call.Ends, err = service.Time(until, a.Now()); err != nil {
				return err
			}
			var in wire.LoggedIn
			if _, err := a.atServer(cmd.Context(), wire.CallToken, call, &in); err != nil {
				return err
			}
			if a.JSON {
				a.print(result.Token{Token: in.Token, Person: in.Person})
				return nil
			}
			a.Say("%s", in.Token)
			a.Note("It acts for %s until %s, and is not shown again. A program signs in with: oaken login ADDRESS --token", in.Person,
				a.when(call.Ends))
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&purpose, "for", "", "what it is for, `TEXT`")
	f.StringVar(&until, "until", "", "the day, or `TIME`, on which it ends")
	f.StringVar(&person, "person", "", "of the person `NAME`; yours without it")
	f.StringVar(&project, "project", "", "for the project `NAME` alone")
	f.BoolVar(&looks, "looks", false, "it may look, and change nothing")
	f.Int64Var(&revoke, "revoke", 0, "end the session or token `NUMBER`")
	cmd.MarkFlagsMutuallyExclusive("revoke", "for")
	cmd.MarkFlagsMutuallyExclusive("revoke", "until")
	_ = cmd.RegisterFlagCompletionFunc("person", a.completePeople)
	for _, name := range []string{"for", "until", "project", "revoke"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	return cmd
}

func (a *App) revoke(ctx context.Context, person string, number int64) error {
	if person == "" {
		server, err := a.serverOf(ctx, a.server)
		if err != nil {
			return err
		}
		who, err := a.signedAt(server)
		if err != nil {
			return err
		}
		person = who.Person
	}
	if _, err := a.atServer(ctx, wire.CallRevoke, wire.TokenCall{Name: person, Number: number}, &struct{}{}); err != nil {
		return err
	}
	if a.JSON {
		a.print(result.AccountChanged{Person: person, Done: "revoked"})
		return nil
	}
	a.Say("It has ended.")
	return nil
}

func newPeopleGroup(a *App) *cobra.Command {
	var out bool
	cmd := &cobra.Command{
		Use:   "group [GROUP [NAME ...]]",
		Short: "List groups, or put people into one",
		Long: `List groups, or put people into one, which is made when it is missing. --out takes them out of it;
without people it takes the group away.`,
		Args:    cobra.ArbitraryArgs,
		Example: "  oaken people group\n  oaken people group artists Tarek Ysolde\n  oaken people group artists Tarek --out",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completePeople(cmd, args, word)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				if _, err := a.atServer(cmd.Context(), wire.CallGroups+"/put", wire.GroupCall{Name: args[0], People: args[1:], Out: out},
					&struct{}{}); err != nil {
					return err
				}
			}
			var list []wire.Group
			server, err := a.atServer(cmd.Context(), wire.CallGroups, struct{}{}, &list)
			if err != nil {
				return err
			}
			if a.JSON {
				a.print(result.GroupsOf(server, list))
				return nil
			}
			if len(list) == 0 {
				a.Say("There is no group. oaken people group GROUP NAME makes one.")
			}
			var rows [][]screen.Cell
			for _, g := range list {
				rows = append(rows, []screen.Cell{screen.Strong.Cell(g.Name), screen.Plain.Cell(strings.Join(g.People, ", "))})
			}
			a.Table(a.Out, "", rows)
			return nil
		},
	}
	cmd.Flags().BoolVar(&out, "out", false, "take them out of it")
	return cmd
}
