package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/service/result"
)

// loginOptions are the choices of login.
type loginOptions struct {
	name, invitation, authorities string
	token, change                 bool
}

func newLogin(a *App) *cobra.Command {
	var o loginOptions
	cmd := &cobra.Command{
		Use:   "login ADDRESS|ENV",
		Short: "Sign in at a server, or let the server in at a target",
		Long: `Sign in at a server, with your name and your secret, once on each machine. The secret is typed
unseen, or comes as a line of standard input. What is kept here is no secret but a session, in the
system's keyring where there is one, else in a file that you alone can read.

With an invitation you choose your secret: four words that nobody would put together are good. For
automation, --token takes a token from standard input; oaken people token makes one.
--change-secret gives you another secret; your sessions on other machines end.

With the name of an environment that runs at the server, an administrator gives the server what
${NAME} stands for in its targets. The server keeps it, for those targets just as they are written,
and gives it to nobody; oaken logout ENV has it forgotten.`,
		Example: "  oaken login https://chest.example.org\n  oaken login https://chest.example.org --invitation oaken-invitation-…\n" +
			"  oaken login https://chest.example.org --token < token\n  oaken login live",
		GroupID:           groupTeam,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeServersAndEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if isEnvironment(args[0]) && a.serverHere() != "" {
				if cmd.Flags().NFlag() > 0 && (o != loginOptions{}) {
					return usage(cmd, "The options of login are for addresses.")
				}
				return a.loginTo(cmd.Context(), args[0])
			}
			return a.login(cmd.Context(), args[0], o)
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.name, "name", "", "your `NAME`; asked for without it")
	f.StringVar(&o.invitation, "invitation", "", "the `INVITATION` that somebody gave you")
	f.StringVar(&o.authorities, "ca", "", "a PEM `FILE` of certificates that vouch for the server")
	f.BoolVar(&o.token, "token", false, "take a token for automation from standard input")
	f.BoolVar(&o.change, "change-secret", false, "choose another secret")
	cmd.MarkFlagsMutuallyExclusive("token", "invitation", "change-secret")
	_ = cmd.MarkFlagFilename("ca")
	for _, name := range []string{"name", "invitation"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	return cmd
}

// completeServersAndEnvironments proposes those, and the environments of the project.
func (a *App) completeServersAndEnvironments(cmd *cobra.Command, args []string, to string) ([]string, cobra.ShellCompDirective) {
	list, what := a.completeServers(cmd, args, to)
	if a.serverHere() != "" {
		more, _ := a.completeEnvironments(cmd, args, to)
		list = append(list, more...)
	}
	return list, what
}

// completeServers proposes the servers at which somebody has signed in.
func (a *App) completeServers(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	list, _ := a.logins().Servers()
	slices.Sort(list)
	return list, cobra.ShellCompDirectiveNoFileComp
}

// lines reads standard input by the line, where there is no terminal.
func (a *App) lines() *bufio.Reader {
	if a.input == nil {
		in := a.Input
		if in == nil {
			in = strings.NewReader("")
		}
		a.input = bufio.NewReader(in)
	}
	return a.input
}

// line asks for a line, or reads it from standard input.
func (a *App) line(prompt string) (string, error) {
	if a.Keys != nil {
		fmt.Fprint(a.Err, prompt)
		text, err := bufio.NewReader(a.Keys).ReadString('\n')
		return strings.TrimSpace(text), err
	}
	text, err := a.lines().ReadString('\n')
	if text = strings.TrimRight(text, "\r\n"); text != "" || err == nil {
		return text, nil
	}
	return "", err
}

// secret asks for a secret, unseen, or reads it from standard input.
func (a *App) secret(prompt string) (string, error) {
	text, err := "", error(nil)
	if a.Unseen != nil {
		text, err = a.Unseen(prompt)
	} else {
		text, err = a.line("")
	}
	if errors.Is(err, io.EOF) || err == nil && text == "" {
		return "", fault.New(fault.Usage, "Type it when you are asked, or give it as a line of standard input.", "There is no secret.")
	}
	return text, err
}

// newSecret asks for a secret twice, where somebody types it.
func (a *App) newSecret() (string, error) {
	text, err := a.secret("Choose a secret: ")
	if err != nil || a.Unseen == nil {
		return text, err
	}
	again, err := a.secret("Once more: ")
	if err == nil && again != text {
		err = fault.New(fault.Usage, "Run the command again.", "The two are not the same.")
	}
	return text, err
}

func (a *App) login(ctx context.Context, address string, o loginOptions) error {
	at, err := remote.ParseServer(address)
	if err != nil {
		return err
	}
	who := remote.Signed{}
	if o.authorities != "" {
		who.Authorities = a.at(o.authorities)
	}
	if o.change {
		return a.changeSecret(ctx, at)
	}
	calls, err := remote.NewCaller(at, who)
	if err != nil {
		return err
	}
	defer calls.Close()
	var hello wire.Hello
	if err := a.greet(ctx, calls, at, &hello); err != nil {
		return err
	}
	var in wire.LoggedIn
	switch {
	case o.token:
		in, err = a.loginByToken(ctx, at, who)
	default:
		in, err = a.loginByName(ctx, calls, o)
	}
	if err != nil {
		return chest.Explain(err)
	}
	who.Token, who.Person, who.ID = in.Token, in.Person, in.ID
	if err := a.logins().Keep(at, who); err != nil {
		return err
	}
	if a.JSON {
		a.print(result.SignedIn{Servers: []result.SignedInAt{{Server: at, Person: in.Person, Standing: "signed-in",
			Administrator: in.Administrator}}})
		return nil
	}
	a.Say("You are %s at %s.", a.Paint(screen.Strong, in.Person), at)
	return a.sayProjects(ctx, at, who)
}

// greet makes sure that there is a server.
func (a *App) greet(ctx context.Context, calls *remote.Caller, at string, hello *wire.Hello) error {
	err := calls.Get(ctx, wire.API, hello)
	if errors.Is(err, ledger.ErrAway) || err == nil && hello.Server != "oaken" {
		return fault.New(fault.Unreachable, "Check the address and the connection.", "No server of oaken answers at %s.", at)
	}
	return chest.Explain(err)
}

func (a *App) loginByName(ctx context.Context, calls *remote.Caller, o loginOptions) (in wire.LoggedIn, err error) {
	call, form := wire.CallLogin, wire.Login{Name: o.name, Invitation: o.invitation, Machine: a.host().Machine}
	if o.invitation != "" {
		var guest wire.LoggedIn
		if err := calls.Ask(ctx, wire.API+"/"+wire.CallJoin+"/look", form, &guest); err != nil {
			return in, err
		}
		if form.Name == "" {
			form.Name = guest.Person
		}
	}
	if form.Name == "" {
		if form.Name, err = a.line("Your name, as others are to see it: "); err != nil && !errors.Is(err, io.EOF) {
			return in, err
		}
	}
	if o.invitation != "" {
		call = wire.CallJoin
		form.Secret, err = a.newSecret()
	} else {
		form.Secret, err = a.secret("Your secret: ")
	}
	if err != nil {
		return in, err
	}
	return in, calls.AskOnce(ctx, wire.API+"/"+call, form, &in)
}

func (a *App) loginByToken(ctx context.Context, at string, who remote.Signed) (in wire.LoggedIn, err error) {
	text, err := a.secret("The token: ")
	if err != nil {
		return in, err
	}
	who.Token = strings.TrimSpace(text)
	calls, err := remote.NewCaller(at, who)
	if err != nil {
		return in, err
	}
	defer calls.Close()
	var s wire.Session
	if err := calls.Ask(ctx, wire.API+"/"+wire.CallWho, struct{}{}, &s); err != nil {
		return in, err
	}
	return wire.LoggedIn{Token: who.Token, Person: s.Person, ID: s.ID}, nil
}

// sayProjects says what there is to open.
func (a *App) sayProjects(ctx context.Context, at string, who remote.Signed) error {
	calls, err := remote.NewCaller(at, who)
	if err != nil {
		return err
	}
	defer calls.Close()
	var list []wire.Project
	if err := calls.Ask(ctx, wire.API+"/"+wire.CallProjects, struct{}{}, &list); err != nil {
		return chest.Explain(err)
	}
	if len(list) == 0 {
		a.Say("  It has no project yet. In the folder of one: oaken begin --chest %s/NAME", at)
		return nil
	}
	for _, p := range list {
		a.Say("  oaken open %s/%s", at, p.Name)
	}
	return nil
}

func (a *App) changeSecret(ctx context.Context, at string) error {
	calls, err := a.callerAt(at)
	if err != nil {
		return err
	}
	defer calls.Close()
	now, err := a.secret("Your present secret: ")
	if err != nil {
		return err
	}
	next, err := a.newSecret()
	if err != nil {
		return err
	}
	if err := calls.AskOnce(ctx, wire.API+"/"+wire.CallSecret, wire.NewSecret{Now: now, Next: next}, &struct{}{}); err != nil {
		return chest.Explain(err)
	}
	if a.JSON {
		return a.who(ctx)
	}
	a.Say("Your secret is another one now; your sessions on other machines have ended.")
	return nil
}

func newLogout(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "logout [ADDRESS|ENV]",
		Short: "Sign out of a server",
		Long: `Sign out of a server: the session ends there, and is forgotten here. Without an address, of the
only one. Workspaces stay; what is unsent in them stays unsent until you sign in again.

With the name of an environment, the server forgets the secrets that it was given for it.`,
		Example:           "  oaken logout https://chest.example.org\n  oaken logout live",
		GroupID:           groupTeam,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeServersAndEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			named := ""
			if len(args) > 0 {
				named = args[0]
			}
			if named != "" && isEnvironment(named) && a.serverHere() != "" {
				return a.logoutOf(cmd.Context(), named)
			}
			at, err := a.serverOf(cmd.Context(), named)
			if err != nil {
				return err
			}
			calls, err := a.callerAt(at)
			if err != nil {
				return err
			}
			defer calls.Close()
			err = calls.AskOnce(cmd.Context(), wire.API+"/"+wire.CallLogout, struct{}{}, &struct{}{})
			if err != nil && !errors.Is(err, wire.ErrSignedOut) && !errors.Is(err, ledger.ErrAway) {
				return chest.Explain(err)
			}
			away := errors.Is(err, ledger.ErrAway)
			if err := a.logins().Forget(at); err != nil {
				return err
			}
			if a.JSON {
				a.print(result.SignedOut{Server: at})
				return nil
			}
			a.Say("You are signed out of %s.", at)
			if away {
				a.Note("The server does not answer, so that the session goes on there; an administrator ends it with oaken people token.")
			}
			return nil
		},
	}
}

// serverOf gives the server that is meant: the one that is named, that of the workspace, or the only one.
func (a *App) serverOf(ctx context.Context, named string) (string, error) {
	if named != "" {
		return remote.ParseServer(named)
	}
	if at := a.serverHere(); at != "" {
		return at, nil
	}
	list, err := a.logins().Servers()
	switch {
	case err != nil:
		return "", err
	case len(list) == 1:
		return list[0], nil
	case len(list) == 0:
		return "", fault.New(fault.Usage, "Sign in with oaken login ADDRESS.", "Nobody is signed in at a server on this machine.")
	}
	slices.Sort(list)
	return "", fault.New(fault.Usage, "Name one of "+strings.Join(list, ", ")+".", "It is not said which server is meant.")
}

func newWho(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "who",
		Short:             "Show who you are at servers",
		Long:              `Show at which servers you have signed in on this machine, under which name, and whether that holds.`,
		Example:           "  oaken who",
		GroupID:           groupTeam,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return a.who(cmd.Context()) },
	}
}

func (a *App) who(ctx context.Context) error {
	list, err := a.logins().Servers()
	if err != nil {
		return err
	}
	slices.Sort(list)
	out := result.SignedIn{Servers: []result.SignedInAt{}}
	for _, at := range list {
		who, _, err := a.logins().At(at)
		if err != nil {
			return err
		}
		is := result.SignedInAt{Server: at, Person: who.Person, Standing: "signed-in"}
		calls, err := remote.NewCaller(at, who)
		if err != nil {
			return err
		}
		var s wire.Session
		err = calls.Ask(ctx, wire.API+"/"+wire.CallWho, struct{}{}, &s)
		calls.Close()
		switch {
		case errors.Is(err, wire.ErrSignedOut):
			is.Standing = "signed-out"
		case errors.Is(err, ledger.ErrAway):
			is.Standing = "out-of-reach"
		case err != nil:
			return chest.Explain(err)
		default:
			is.Person, is.Administrator, is.Purpose = s.Person, s.Administrator, s.Purpose
		}
		out.Servers = append(out.Servers, is)
	}
	if a.JSON {
		a.print(out)
		return nil
	}
	if len(out.Servers) == 0 {
		a.Say("You are signed in at no server. oaken login ADDRESS signs you in.")
		return nil
	}
	var rows [][]screen.Cell
	for _, s := range out.Servers {
		says, tone := "signed in", screen.Good
		switch {
		case s.Standing == "signed-out":
			says, tone = "signed out: oaken login "+s.Server, screen.Warm
		case s.Standing == "out-of-reach":
			says, tone = "out of reach", screen.Warm
		case s.Purpose != "":
			says += " by a token for " + s.Purpose
		case s.Administrator:
			says += ", administrator"
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(s.Person), screen.Plain.Cell(s.Server), tone.Cell(says)})
	}
	a.Table(a.Out, "", rows)
	return nil
}

// serverHere gives the server of the workspace that the call is made in; empty where there is none.
func (a *App) serverHere() string {
	at, err := remote.ParseAddress(a.chestHere())
	if err != nil {
		return ""
	}
	return at.Server
}
