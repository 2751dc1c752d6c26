// Package remote stands behind a chest that a server keeps. Records are read from a copy on this machine, which follows
// the server's; contents come when they are read, as many at once as are known to be needed, and stay for a while.
//
// The copy lies in a folder of its own for each server, project and person:
//
//	records.db  the copy of the records (core/ledger/tables)
//	bales/      contents that were read or sent (core/content)
//	tree        the tree of which all folders came last
package remote

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
	"oakenchest/core/trace"
)

// MostNear bounds what stays near of a project's contents, in bytes.
const MostNear = 8 << 30

// Store is a chest on a server, for one person. It keeps the promises of chest.Store.
type Store struct {
	address  Address
	calls    *Caller
	now      func() time.Time
	dir      string
	records  *tables.Ledger
	hints    *tables.Ledger // the same records, for who asks while a view is open
	contents *content.Store

	following sync.Mutex // held by who brings the copy up to date
	brief     bool
	fresh     atomic.Bool // the copy is of now, as far as a brief command goes

	guided guided
	along  along
	base   context.Context // of who opened it, which goes on while it is closed
}

// Address is where a project is.
type Address struct {
	// Server is the address of the server, without a slash at its end; Project the project's name.
	Server, Project string
}

// String writes the address.
func (a Address) String() string { return a.Server + "/" + a.Project }

// IsAddress reports whether a location is an address of a server.
func IsAddress(location string) bool {
	return strings.HasPrefix(location, "http://") || strings.HasPrefix(location, "https://")
}

// ParseServer reads the address of a server. Plain HTTP goes no further than this machine.
func ParseServer(text string) (string, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", fault.New(fault.Usage, "Write it like https://chest.example.org.", "%q is no address of a server.", text)
	}
	if u.Scheme == "http" && !loopback(u.Hostname()) {
		return "", fault.New(fault.Usage, "Write https://, or ask whoever runs the server for its certificate.",
			"A secret does not go to %s in the open: plain HTTP is for this machine alone.", u.Host)
	}
	return strings.TrimSuffix(u.Scheme+"://"+u.Host+path.Clean("/"+u.Path), "/"), nil
}

func loopback(host string) bool { return host == "localhost" || host == "127.0.0.1" || host == "::1" }

// ParseAddress reads the address of a project.
func ParseAddress(text string) (Address, error) {
	whole, err := ParseServer(text)
	if err != nil {
		return Address{}, err
	}
	server, name, _ := cutLast(whole)
	if strings.HasSuffix(server, "/") || name == "" || strings.Count(whole, "/") < 3 {
		return Address{}, fault.New(fault.Usage, "Write it like https://chest.example.org/brindle-bay.",
			"%q is the address of a server, and not of a project there.", text)
	}
	return Address{server, name}, nil
}

func cutLast(s string) (before, after string, ok bool) {
	i := strings.LastIndexByte(s, '/')
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

// Signed is who has signed in.
type Signed struct {
	Token, Person, ID string
	// Authorities is a file of certificates that vouch for the server, beside those of the system; empty for none.
	Authorities string
}

// Open opens a project. It asks nothing yet; ctx ends what is asked for contents later on. caches is the folder in which
// copies are.
func Open(ctx context.Context, at Address, who Signed, caches string, now func() time.Time) (*Store, error) {
	calls, err := NewCaller(at.Server, who)
	if err != nil {
		return nil, err
	}
	machine, _ := os.Hostname() // a home may be of several machines, a copy is of one
	sum := sha256.Sum256([]byte(at.String() + "\n" + who.ID + "\n" + machine))
	s := &Store{address: at, calls: calls, now: now, base: context.WithoutCancel(ctx), dir: filepath.Join(caches,
		hex.EncodeToString(sum[:10]))}
	if err := os.MkdirAll(filepath.Join(s.dir, "bales"), 0o700); err != nil {
		return nil, fault.New(fault.Unreachable, "Check that you may write there, and that the disk has room.",
			"Nothing can be kept of the server: %w.", err)
	}
	file := filepath.Join(s.dir, "records.db")
	if s.records, err = tables.OpenCopy(ctx, file); err != nil {
		return nil, chest.Explain(err)
	}
	if s.hints, err = tables.OpenCopy(ctx, file); err == nil {
		s.contents, err = content.Open(filepath.Join(s.dir, "bales"))
	}
	if err != nil {
		return nil, errors.Join(chest.Explain(err), s.records.Close(), s.hints.Close())
	}
	s.contents.Near(ctx, far{s})
	s.guided.load(s.dir)
	return s, nil
}

// Briefly says that the store serves one command: what the records were once counts for all of it, until it changes
// something itself.
func (s *Store) Briefly() {
	s.following.Lock()
	defer s.following.Unlock()
	s.brief = true
}

// Close lets go of the copy.
func (s *Store) Close() error {
	s.flush()
	shrunk := s.contents.Shrink(MostNear)
	_ = shrunk // what is too much goes the next time
	s.calls.Close()
	return errors.Join(s.records.Close(), s.hints.Close(), s.contents.Close())
}

// Contents answers chest.Store, as do those below.
func (s *Store) Contents() *content.Store { return s.contents }

func (s *Store) Now() time.Time { return s.now() }

func (s *Store) Place() string { return s.address.String() }

func (s *Store) View(ctx context.Context) (ledger.Records, error) {
	if err := s.follow(ctx); err != nil {
		return nil, err
	}
	tx, err := s.records.View(ctx)
	if err != nil {
		return nil, err
	}
	return tx, nil
}

// moment gives that of the copy.
func (s *Store) moment(ctx context.Context) (m tables.Moment, err error) {
	tx, err := s.hints.View(ctx)
	if err != nil {
		return m, err
	}
	defer tx.Close()
	return tx.Now()
}

// follow brings the copy up to date.
func (s *Store) follow(ctx context.Context) error {
	s.following.Lock()
	defer s.following.Unlock()
	if s.brief && s.fresh.Load() && !chest.Newly(ctx) {
		return nil
	}
	const patience = 10 // others on this machine bring the copy forward too
	for n := 0; ; n++ {
		since, err := s.moment(ctx)
		if err != nil {
			return err
		}
		h, err := s.newsSince(ctx, since)
		if err == nil && !h.Empty() {
			err = s.records.Take(ctx, h)
		}
		var lost *lostError
		if n < patience && (errors.Is(err, tables.ErrOutOfStep) || errors.As(err, &lost) && lost.broke && n < fewTimes) {
			continue
		}
		s.fresh.Store(err == nil)
		return err
	}
}

func (s *Store) newsSince(ctx context.Context, since tables.Moment) (*tables.Happened, error) {
	defer trace.Begin(ctx, trace.Journey, "news")()
	in, err := s.calls.post(ctx, s.address.Project+"/"+wire.CallNews, since, again)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return wire.DecodeHappened(in, 1<<40)
}

// write asks for something that changes the records. A command that ends soon takes the news that come with the answer; who
// stays asks for them when the records are looked at again.
func (s *Store) write(ctx context.Context, call string, body func(since tables.Moment) any, how repeat) (wire.Written, error) {
	s.fresh.Store(false)
	if !s.isBrief() || call == wire.CallLease { // a lease is renewed beside a view that may be open for long
		out, _, err := s.written(ctx, call+wire.WithoutNews, body(tables.Moment{}), how)
		return out, err
	}
	since, err := s.moment(ctx)
	if err != nil {
		return wire.Written{}, err
	}
	out, news, err := s.written(ctx, call, body(since), how)
	if err != nil {
		return out, err
	}
	if news != nil && (news.Empty() || s.records.Take(ctx, news) == nil) { // else the next view asks
		s.fresh.Store(true)
	}
	return out, nil
}

func (s *Store) isBrief() bool {
	s.following.Lock()
	defer s.following.Unlock()
	return s.brief
}

// written makes a call until its answer was read, where it may be made again.
func (s *Store) written(ctx context.Context, call string, body any, how repeat) (out wire.Written, news *tables.Happened, err error) {
	for n := 1; ; n++ {
		end := trace.Begin(ctx, trace.Journey, call)
		in, err := s.calls.post(ctx, s.address.Project+"/"+call, body, how)
		end()
		if err != nil {
			return out, nil, err
		}
		out, news, err = readWritten(in)
		_ = in.Close()
		switch {
		case err == nil:
			return out, news, nil
		case ctx.Err() != nil:
			return out, nil, ctx.Err()
		case how == uncertain || how == persistently && n == manyTimes:
			return out, nil, &chest.UncertainError{Err: err}
		case how == again && n == fewTimes:
			return out, nil, err
		}
	}
}

// Do asks for an act. Contents that the server turns out to lack, or not to know from this person, are sent, and the act
// asked for again.
func (s *Store) Do(ctx context.Context, r chest.Request) (chest.Outcome, error) {
	request, err := wire.EncodeRequest(r)
	if err != nil {
		return chest.Outcome{}, err
	}
	how := uncertain
	if r.Key != "" {
		how = persistently
	}
	const patience = 8 // a refusal names some of many
	for n := 0; ; n++ {
		bales := s.along.all()
		out, err := s.write(ctx, wire.CallAct, func(since tables.Moment) any {
			return wire.ActCall{Since: since, Request: request, Bales: bales}
		}, how)
		if !errors.Is(err, ledger.ErrAway) { // the server has answered
			s.along.sent(len(bales))
		}
		var refusal *chest.Refusal
		if !errors.As(err, &refusal) || refusal.Reason != chest.Unsent || n == patience {
			return out.Outcome, err
		}
		if err := s.contents.Resend(ctx, refusal.Lacking); err != nil {
			return chest.Outcome{}, err
		}
	}
}

// Lease does a step. Where the answer to taking one was lost, its owner, who is random, tells whose it is.
func (s *Store) Lease(ctx context.Context, step chest.LeaseStep) error {
	_, err := s.write(ctx, wire.CallLease, func(since tables.Moment) any { return wire.LeaseCall{Since: since, Step: step} }, again)
	var refusal *chest.Refusal
	if step.Do != chest.TakeLease || !errors.As(err, &refusal) || refusal.Reason != chest.Taken {
		return err
	}
	own := false
	r, failed := s.View(chest.AskNewly(ctx))
	if failed != nil {
		return err
	}
	defer r.Close()
	all, failed := r.Leases()
	for _, l := range all {
		own = own || failed == nil && l.Name == step.Take.Name && l.Owner == step.Take.Owner && l.Owner != "" && l.Fence == step.Take.Fence
	}
	if own {
		return nil
	}
	return err
}

func (s *Store) Tell(ctx context.Context, n chest.News) error {
	_, err := s.write(ctx, wire.CallTell, func(since tables.Moment) any { return wire.TellCall{Since: since, News: n} }, again)
	return err
}

func (s *Store) Register(ctx context.Context, w ledger.Workspace) (string, error) {
	out, err := s.write(ctx, wire.CallRegister, func(since tables.Moment) any { return wire.RegisterCall{Since: since, Workspace: w} },
		again)
	return out.Name, err
}

func (s *Store) Heard(ctx context.Context, workspace string, upTo int64) error {
	_, err := s.write(ctx, wire.CallHeard, func(since tables.Moment) any {
		return wire.HeardCall{Since: since, Workspace: workspace, UpTo: upTo}
	}, again)
	return err
}

func (s *Store) Flaws(ctx context.Context) (out []string, err error) {
	err = s.calls.Ask(ctx, s.address.Project+"/"+wire.CallFlaws, struct{}{}, &out)
	return out, err
}

// Examine, Tidy and Usage are done where the bytes are.
func (s *Store) Examine(ctx context.Context, progress func(what string, done, total int)) (*chest.Examination, error) {
	out := &chest.Examination{}
	return out, s.calls.follow(ctx, s.address.Project+"/"+wire.CallExamine, out, progress)
}

// Tidy answers chest.Keeper, as does Usage.
func (s *Store) Tidy(ctx context.Context) (out content.Tidied, err error) {
	return out, s.calls.follow(ctx, s.address.Project+"/"+wire.CallTidy, &out, nil)
}

func (s *Store) Usage(ctx context.Context) (*chest.Usage, error) {
	out := &chest.Usage{}
	return out, s.calls.follow(ctx, s.address.Project+"/"+wire.CallUsage, out, nil)
}

// Signals gives a sign each time that something may have happened, until ctx ends; the first when the connection stands.
// Where it is lost, it is made again.
func (s *Store) Signals(ctx context.Context) <-chan struct{} {
	out := make(chan struct{}, 1)
	go s.calls.signals(ctx, s.address.Project+"/"+wire.CallSignals, func() {
		select {
		case out <- struct{}{}:
		default: // it is told already
		}
	})
	return out
}

var _ chest.Keeper = (*Store)(nil)

// notRead says that an answer can't be read, though something was done.
func notRead(err error) error {
	return &lostError{fmt.Errorf("the answer can't be read: %w", err), true, true}
}
