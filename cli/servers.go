package cli

import (
	"context"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/workspace"
)

// logins are where the person has signed in on this machine.
func (a *App) logins() remote.Logins {
	if s := a.settingsFile(); s != "" {
		return remote.Logins{File: filepath.Join(filepath.Dir(s), "logins.json"), Apart: a.Home != ""}
	}
	return remote.Logins{}
}

// cachesFolder is where copies of what servers keep lie.
func (a *App) cachesFolder() (string, error) {
	if a.Home != "" {
		return filepath.Join(a.Home, "chests"), nil
	}
	dir, err := os.UserCacheDir()
	if err != nil {
		return "", fault.New(fault.Unreachable, "Set HOME or XDG_CACHE_HOME.",
			"There is no place for copies of what a server keeps: %w.", err)
	}
	return filepath.Join(dir, "oaken", "chests"), nil
}

// servers are those at which the person has signed in. They answer workspace.Servers.
type servers struct{ app *App }

// signedAt gives who has signed in at a server, or says how to.
func (a *App) signedAt(server string) (remote.Signed, error) {
	who, ok, err := a.logins().At(server)
	if err == nil && !ok {
		err = fault.New(fault.Refused, "Sign in with oaken login "+fault.Word(server)+".", "Nobody is signed in at %s on this machine.",
			server)
	}
	return who, err
}

// Open answers workspace.Servers, as does Create.
func (s servers) Open(ctx context.Context, address string) (chest.Store, string, error) {
	at, err := remote.ParseAddress(address)
	if err != nil {
		return nil, "", err
	}
	who, err := s.app.signedAt(at.Server)
	if err != nil {
		return nil, "", err
	}
	caches, err := s.app.cachesFolder()
	if err != nil {
		return nil, "", err
	}
	store, err := remote.Open(ctx, at, who, caches, s.app.Now)
	if err != nil {
		return nil, "", err
	}
	store.Briefly()
	return store, who.Person, nil
}

func (s servers) Create(ctx context.Context, address string) error {
	at, err := remote.ParseAddress(address)
	if err != nil {
		return err
	}
	calls, err := s.app.callerAt(at.Server)
	if err != nil {
		return err
	}
	defer calls.Close()
	return chest.Explain(calls.AskOnce(ctx, wire.API+"/"+wire.CallProjects+"/add", wire.Project{Name: at.Project}, &struct{}{}))
}

// Bring answers workspace.Servers.
func (s servers) Bring(ctx context.Context, f *local.Folder, address string,
	progress func(what string, done, total int)) (remote.Arrived, error) {
	at, err := remote.ParseAddress(address)
	if err != nil {
		return remote.Arrived{}, err
	}
	who, err := s.app.signedAt(at.Server)
	if err != nil {
		return remote.Arrived{}, err
	}
	return remote.Bring(ctx, f, at, who, progress)
}

// callerAt makes calls to a server, for whoever has signed in there.
func (a *App) callerAt(server string) (*remote.Caller, error) {
	who, err := a.signedAt(server)
	if err != nil {
		return nil, err
	}
	return remote.NewCaller(server, who)
}

// chestHere gives the place of the chest of the workspace that the call is made in; empty where there is none.
func (a *App) chestHere() string { return workspace.ChestOf(a.folder()) }
