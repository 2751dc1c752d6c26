package server

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/kind/all"
)

// playing is a server that a test plays with.
type playing struct {
	*Server
	http *httptest.Server
	t    testing.TB
}

func start(t testing.TB) *playing {
	t.Helper()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "data"), Options{Kinds: all.Table(),
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))})
	if err != nil {
		t.Fatal(err)
	}
	h := httptest.NewServer(s.Handler())
	t.Cleanup(func() {
		s.End()
		h.CloseClientConnections()
		h.Close()
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return &playing{s, h, t}
}

const secret = "four words like these"

// person gives somebody who has signed in.
func (p *playing) person(name string, administrator bool) remote.Signed {
	p.t.Helper()
	ctx := context.WithoutCancel(p.t.Context())
	invitation, _, err := p.Book.Invite(ctx, name, administrator, time.Hour, "a test")
	if err != nil {
		p.t.Fatal(err)
	}
	calls, err := remote.NewCaller(p.http.URL, remote.Signed{})
	if err != nil {
		p.t.Fatal(err)
	}
	defer calls.Close()
	var in wire.LoggedIn
	if err := calls.Ask(ctx, wire.API+"/"+wire.CallJoin, wire.Login{Name: name, Secret: secret, Invitation: invitation, Machine: "here"},
		&in); err != nil {
		p.t.Fatal(err)
	}
	return remote.Signed{Token: in.Token, Person: in.Person, ID: in.ID}
}

// open opens a project for somebody, with copies in a folder.
func (p *playing) open(who remote.Signed, project, caches string) *remote.Store {
	p.t.Helper()
	s, err := remote.Open(context.WithoutCancel(p.t.Context()), remote.Address{Server: p.http.URL, Project: project}, who, caches, time.Now)
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = s.Close() }) // a test may have closed it
	return s
}

// TestAServerKeepsThePromises holds it to all of them, once from two machines and once from two processes of one.
func TestAServerKeepsThePromises(t *testing.T) {
	for name, machines := range map[string]int{"two machines": 2, "two processes": 1} {
		t.Run(name, func(t *testing.T) {
			chesttest.Conform(t, func(t *testing.T) (one, other chest.Store) {
				p := start(t)
				p.anyName = true
				who := p.person("Imke", true)
				if err := p.create(t.Context(), "reef", "Imke"); err != nil {
					t.Fatal(err)
				}
				first := t.TempDir()
				second := first
				if machines == 2 {
					second = t.TempDir()
				}
				return p.open(who, "reef", first), p.open(who, "reef", second)
			})
		})
	}
}
