package cli

import (
	"context"
	"strings"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/service/result"
)

// isEnvironment reports whether an argument of login or logout is the name of an environment, and no address.
func isEnvironment(arg string) bool { return !strings.Contains(arg, "://") }

// ofProject gives what calls the server of the workspace, and the project's name there.
func (a *App) ofProject() (calls *remote.Caller, project string, err error) {
	at, err := remote.ParseAddress(a.chestHere())
	if err != nil {
		return nil, "", fault.New(fault.Usage, "Run it in a workspace whose chest is at a server; a folder keeps no secrets of targets.",
			"No server keeps the project here.")
	}
	calls, err = a.callerAt(at.Server)
	return calls, at.Project, err
}

// targetsAt asks which secrets the targets of environments need at the server.
func targetsAt(ctx context.Context, calls *remote.Caller, project string) (list []wire.TargetKeys, err error) {
	return list, chest.Explain(calls.Ask(ctx, project+"/"+wire.CallKeys, struct{}{}, &list))
}

// loginTo gives the server the secrets of an environment.
func (a *App) loginTo(ctx context.Context, env string) error {
	calls, project, err := a.ofProject()
	if err != nil {
		return err
	}
	defer calls.Close()
	e, err := secretsOf(ctx, calls, project, env)
	if err != nil {
		return err
	}
	switch {
	case e.Runs != string(manifest.RunsServer):
		return fault.New(fault.Usage, "Set the variables that its target names on your machine; or say runs = \"server\" of it in oaken.toml.",
			"%s is reached from your machine, with your own secrets.", env)
	case len(e.Targets) == 0:
		return fault.New(fault.Usage, "Write ${NAME} in its target in oaken.toml, where the secret belongs.", "%s needs no secret.", env)
	}
	if err := a.mustBeAdministrator(ctx, calls); err != nil { // before anything is typed
		return err
	}
	call := wire.KeysCall{Environment: env, Values: map[string]string{}}
	if !a.JSON {
		a.Note("What you give is kept by the server, and counts for these targets as they are written:")
	}
	for _, t := range e.Targets {
		call.Targets = append(call.Targets, t.Target)
		if !a.JSON {
			a.Note("  %s", t.Target)
		}
	}
	var names []string
	for _, t := range e.Targets {
		for _, name := range t.Names {
			if _, given := call.Values[name]; given {
				continue
			}
			if call.Values[name], err = a.secret(name + ": "); err != nil {
				return err
			}
			names = append(names, name)
		}
	}
	if err := calls.AskOnce(ctx, project+"/"+wire.CallKeys+"/put", call, new(int)); err != nil {
		return chest.Explain(err)
	}
	if a.JSON {
		a.print(result.TargetSecrets{Environment: env, Given: names})
		return nil
	}
	a.Say("The server has %s for %s; nobody gets it out again.", strings.Join(names, " and "), a.Paint(screen.Strong, env))
	return nil
}

func (a *App) mustBeAdministrator(ctx context.Context, calls *remote.Caller) error {
	var s wire.Session
	if err := calls.Ask(ctx, wire.API+"/"+wire.CallWho, struct{}{}, &s); err != nil {
		return chest.Explain(err)
	}
	if !s.Administrator {
		return fault.New(fault.Refused, "Ask an administrator: oaken people list says who is one.", "Administrators alone may do that.")
	}
	return nil
}

func secretsOf(ctx context.Context, calls *remote.Caller, project, env string) (wire.TargetKeys, error) {
	list, err := targetsAt(ctx, calls, project)
	if err != nil {
		return wire.TargetKeys{}, err
	}
	var names []string
	for _, e := range list {
		if e.Environment == env {
			return e, nil
		}
		names = append(names, e.Environment)
	}
	if len(names) == 0 {
		names = []string{"none yet"}
	}
	return wire.TargetKeys{}, fault.New(fault.Usage,
		"Those that there are: "+strings.Join(names, ", ")+". oaken.toml counts as it is on the first branch; an address of a server begins "+
			"with https://.", "The server knows no environment %s of this project.", env)
}

// logoutOf has the server forget the secrets of an environment.
func (a *App) logoutOf(ctx context.Context, env string) error {
	calls, project, err := a.ofProject()
	if err != nil {
		return err
	}
	defer calls.Close()
	var n int64
	if err := calls.AskOnce(ctx, project+"/"+wire.CallKeys+"/put", wire.KeysCall{Environment: env, Back: true}, &n); err != nil {
		return chest.Explain(err)
	}
	if a.JSON {
		forgotten := int(n)
		a.print(result.TargetSecrets{Environment: env, Given: []string{}, Forgotten: &forgotten})
		return nil
	}
	a.Say("The server has forgotten %s of %s.", screen.Count(int(n), "secret"), env)
	return nil
}
