// Package server serves chests over HTTP: many projects in one folder, to people who have signed in.
//
//	server.db         people, sessions, invitations, groups, projects (core/access)
//	projects/ID/      a chest in a folder (core/chest/local)
//	projects/ID/sent/ what each person sent that is perhaps in no commit yet
//	coming/           bales that have arrived in part
//
// docs/protocol.md says what is asked and answered.
package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"oakenchest/core/access"
	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
)

// Options are the choices of Open.
type Options struct {
	Now   func() time.Time
	Log   *slog.Logger
	Kinds *kind.Table
	// BehindProxy believes a proxy in front what it says of who asks.
	BehindProxy bool
}

// Server serves the projects of one folder.
type Server struct {
	Book *access.Book

	dir     string
	o       Options
	lock    *flock.Flock
	limits  limits
	metrics *measures
	ended   chan struct{} // closed when the server ends: who waits for news goes

	mu       sync.Mutex // guards projects
	projects map[string]*served
	jobs     jobs

	// anyName lets people act in others' names; for tests that play several people in one session.
	anyName bool
}

// project is a chest that is open.
type served struct {
	access.Project
	folder *local.Folder
	chest  *chest.Chest
	sent   sentBook
	// moved tells who waits that something happened.
	moved signal
	// rules guards the moves of the first branch: one at a time is held against the rules of the one before.
	rules sync.Mutex
}

// Open opens the folder of a server, which is made when it is missing. One process alone serves it.
func Open(ctx context.Context, dir string, o Options) (*Server, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(filepath.Join(dir, "projects"), 0o700); err != nil {
		return nil, fault.New(fault.Unreachable, "Check the rights there, or name another folder with --data.",
			"The server's folder can't be made: %w.", err)
	}
	lock := flock.New(filepath.Join(dir, "serving"))
	if ok, err := lock.TryLock(); err != nil || !ok {
		return nil, errors.Join(err, fault.New(fault.Refused, "Stop that one first, or name another folder with --data.",
			"Another process serves %s already.", dir))
	}
	book, err := access.Open(ctx, filepath.Join(dir, "server.db"), o.Now)
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	s := &Server{Book: book, dir: dir, o: o, lock: lock, projects: map[string]*served{}, metrics: newMeasures(), ended: make(chan struct{})}
	s.sweepComing()
	return s, nil
}

// jobsEnd is how long what is done to environments may take when the server ends; then it is taken back.
const jobsEnd = 5 * time.Second

// Close ends what is open. Requests that are under way should have ended.
func (s *Server) Close() error {
	s.End()
	s.jobs.end(jobsEnd)
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, p := range s.projects {
		errs = append(errs, p.chest.Close())
	}
	s.projects = nil
	return errors.Join(append(errs, s.Book.Close(), s.lock.Unlock())...)
}

// End lets those go who wait for news; it comes before the listener ends.
func (s *Server) End() {
	s.jobs.close()
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case <-s.ended:
	default:
		close(s.ended)
	}
}

// folderOf gives the folder of a project.
func (s *Server) folderOf(p access.Project) string { return filepath.Join(s.dir, "projects", p.ID) }

// project opens a project, or gives it when it is open.
func (s *Server) project(ctx context.Context, name string) (*served, error) {
	info, err := s.Book.Project(ctx, name)
	if f := (*fault.Error)(nil); errors.As(err, &f) {
		f.Err = wire.ErrNoProject
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if p, ok := s.projects[info.ID]; ok {
		return p, nil
	}
	if s.projects == nil {
		return nil, errStopping
	}
	// The project stays open after the request.
	f, err := local.OpenServed(context.WithoutCancel(ctx), s.folderOf(info), s.o.Now)
	if err != nil {
		return nil, err
	}
	p := &served{Project: info, folder: f, chest: chest.New(f), sent: sentBook{dir: filepath.Join(s.folderOf(info), "sent")}}
	s.projects[info.ID] = p
	return p, nil
}

var errStopping = fault.New(fault.Unreachable, "Try again in a moment.", "The server is stopping.")

// create makes a project, of whoever asks.
func (s *Server) create(ctx context.Context, name, by string) error {
	if err := access.CheckProject(name); err != nil {
		return err
	}
	info := access.Project{Name: name, ID: access.NewProjectID(), By: by}
	f, err := local.Create(ctx, s.folderOf(info), by, s.o.Now)
	if err != nil {
		return err
	}
	err = errors.Join(f.Close(), os.MkdirAll(filepath.Join(s.folderOf(info), "sent"), 0o700))
	if err == nil {
		err = s.Book.AddProject(ctx, info)
	}
	if err != nil {
		return errors.Join(err, os.RemoveAll(s.folderOf(info)))
	}
	return nil
}

// invitationLasts is how long the first invitation, and any other, can be used.
const invitationLasts = 7 * 24 * time.Hour

// Found gives the invitation of the first administrator; empty when there is one who can sign in.
func (s *Server) Found(ctx context.Context) (invitation string, err error) {
	if is, err := s.Book.Founded(ctx); err != nil || is {
		return "", err
	}
	invitation, _, err = s.Book.Invite(ctx, "", true, invitationLasts, "the server")
	return invitation, err
}

// sweepComing takes away what has not come on for days.
func (s *Server) sweepComing() {
	if left, err := filepath.Glob(filepath.Join(s.dir, "job-*")); err == nil {
		for _, dir := range left { // of a server that was killed
			_ = os.RemoveAll(dir) // the next start tries again
		}
	}
	const patience = 3 * 24 * time.Hour
	entries, err := os.ReadDir(filepath.Join(s.dir, "coming"))
	if err != nil {
		return // there is none
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && s.o.Now().Sub(info.ModTime()) > patience {
			_ = os.Remove(filepath.Join(s.dir, "coming", e.Name())) // the next start tries again
		}
	}
}

// signal tells any number who wait.
type signal struct {
	mu sync.Mutex // guards ch
	ch chan struct{}
}

// next gives what is closed at the next sign.
func (s *signal) next() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ch == nil {
		s.ch = make(chan struct{})
	}
	return s.ch
}

// tell wakes who waits.
func (s *signal) tell() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ch != nil {
		close(s.ch)
		s.ch = nil
	}
}

// Handler answers requests.
func (s *Server) Handler() http.Handler {
	mux := http.NewServeMux()
	for _, r := range s.routes() {
		mux.Handle(r.pattern, s.serve(r))
	}
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if strings.HasPrefix(q.URL.Path, "//") {
			http.NotFound(w, q)
			return
		}
		mux.ServeHTTP(w, q)
	})
}

// unsafePart reports whether a text can't be part of a file's name.
func unsafePart(s string) bool {
	return s == "" || strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") != ""
}

// sentBook notes what people sent that perhaps no commit names yet: nobody else may name it.
type sentBook struct {
	dir string
	mu  sync.Mutex // guards the files
}

// forgetSent is after how long what was sent and not named has to be sent again.
const forgetSent = 7 * 24 * time.Hour

func (b *sentBook) file(person string) string { return filepath.Join(b.dir, person) }

// add notes what a person sent.
func (b *sentBook) add(person string, list []contentDigest) error {
	if unsafePart(person) {
		return fmt.Errorf("%q is no id of a person", person)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if err := os.MkdirAll(b.dir, 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(b.file(person), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	out := make([]byte, 0, len(list)*32)
	for _, d := range list {
		out = append(out, d[:]...)
	}
	_, err = f.Write(out)
	return errors.Join(err, f.Close())
}

// of gives what a person sent. Cut off in the middle of a digest, what is left of it names nothing.
func (b *sentBook) of(person string) (map[contentDigest]bool, error) {
	if unsafePart(person) {
		return nil, nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	data, err := os.ReadFile(b.file(person))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	out := make(map[contentDigest]bool, len(data)/32)
	for ; len(data) >= 32; data = data[32:] {
		out[contentDigest(data[:32])] = true
	}
	return out, err
}

// sweep forgets what was sent long ago.
func (b *sentBook) sweep(now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	entries, err := os.ReadDir(b.dir)
	if err != nil {
		return // there is nothing
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && now.Sub(info.ModTime()) > forgetSent {
			_ = os.Remove(filepath.Join(b.dir, e.Name())) // the next one tries again
		}
	}
}
