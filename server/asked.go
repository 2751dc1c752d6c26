package server

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"net/http"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/time/rate"

	"oakenchest/core/access"
	"oakenchest/core/chest/wire"
	"oakenchest/core/content"
	"oakenchest/core/fault"
)

type contentDigest = content.Digest

// who says who may make a request.
type who byte

const (
	anybody who = iota
	signedIn
	member
	administrator
	keeperOf // an administrator, of one project
)

// route is one address, with who may ask there, and whether something is changed by that: a token that may look alone is
// refused then.
type route struct {
	pattern string
	who     who
	writes  bool
	// most bounds the body in bytes, as it comes; unpacked, eight times that.
	most int64
	// lasts bounds how long an answer may take; 0 for one that goes on as long as somebody listens.
	lasts time.Duration
	do    func(*asked) error
}

// asked is a request under way.
type asked struct {
	*http.Request
	server  *Server
	out     *answering
	session access.Session
	token   string
	// project is that of the address; nil for none.
	project *served
	id      string
	body    io.Reader
}

const (
	small  = 1 << 20
	medium = 64 << 20
)

// idleTime bounds how long nothing comes or goes while a request is under way: a slow reader who goes on is served.
const idleTime = time.Minute

// serve answers the requests of a route.
func (s *Server) serve(r route) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		began := time.Now()
		a := &asked{Request: q, server: s, id: strings.ToLower(rand.Text()[:12])}
		a.out = &answering{ResponseWriter: w, control: http.NewResponseController(w)}
		w.Header().Set("Oaken-Request", a.id)
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		cut := false // the answer broke off in the middle: the connection ends, so that it is not taken for whole
		err := func() (err error) {
			defer func() {
				p := recover()
				cut = p != nil
				if p != nil && p != http.ErrAbortHandler {
					s.o.Log.Error("panic", "request", a.id, "what", p, "stack", string(debug.Stack()))
					err = errors.New("panic")
					if a.out.status == 0 {
						cut = false
						a.refuse(err)
					}
				}
			}()
			return a.carryOut(r)
		}()
		defer func() {
			if cut {
				panic(http.ErrAbortHandler)
			}
		}()
		s.metrics.answered(r.pattern, a.out.status, time.Since(began), a.out.sent)
		s.log(a, r, err, time.Since(began))
	})
}

// carryOut lets a route answer.
func (a *asked) carryOut(r route) error {
	ctx := a.Context()
	if r.lasts > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, r.lasts)
		defer cancel()
		a.Request = a.Request.WithContext(ctx)
	}
	err := a.mayAsk(r)
	if err == nil {
		err = a.readable(r.most)
	}
	if err == nil {
		err = r.do(a)
	}
	if err != nil {
		a.refuse(err)
	}
	return err
}

// refuse answers with an error, where nothing was answered yet; else the answer is cut off, so that it is not taken for
// whole.
func (a *asked) refuse(err error) {
	if a.Context().Err() != nil && errors.Is(context.Cause(a.Context()), context.Canceled) {
		panic(http.ErrAbortHandler) // nobody listens any more
	}
	if errors.Is(err, context.DeadlineExceeded) {
		err = fault.New(fault.Unreachable, "Try again.", "The server did not get it done in time.")
	}
	if a.out.status != 0 {
		panic(http.ErrAbortHandler)
	}
	said := wire.EncodeError(err, a.id)
	a.out.Header().Set("Content-Type", "application/json")
	if said.Status == http.StatusUnauthorized {
		a.out.Header().Set("WWW-Authenticate", "Bearer")
	}
	a.out.WriteHeader(said.Status)
	_, _ = a.out.Write(said.Body) // nobody is left to tell
}

// mayAsk finds out who asks, and refuses those who may not.
func (a *asked) mayAsk(r route) error {
	ctx := a.Context()
	if err := a.server.limits.from(a.from()); err != nil {
		return err
	}
	if r.who == anybody {
		return nil
	}
	kind, token, _ := strings.Cut(a.Header.Get("Authorization"), " ")
	if !strings.EqualFold(kind, "Bearer") || token == "" {
		return signedOut("Nobody is signed in at this server.")
	}
	session, err := a.server.Book.Check(ctx, token)
	if errors.Is(err, access.ErrSignedOut) {
		return signedOut("You are not signed in any more: the session has ended, or was ended.")
	}
	if err != nil {
		return err
	}
	a.session, a.token = session, token
	if err := a.server.limits.of(session.Person.ID); err != nil {
		return err
	}
	if session.ReadsOnly && r.writes {
		return fault.New(fault.Refused, "Use another token, or sign in.", "This token may look, and change nothing.")
	}
	if (r.who == administrator || r.who == keeperOf) && (!session.Person.Administrator || session.Purpose != "") {
		return fault.New(fault.Refused, "Ask an administrator: oaken people list says who is one.", "Administrators alone may do that.")
	}
	if r.who != member && r.who != keeperOf {
		if session.Project != "" && r.writes {
			return fault.New(fault.Refused, "Use another token, or sign in.", "This token is for the project %s alone.", session.Project)
		}
		return nil
	}
	name := a.PathValue("project")
	if session.Project != "" && session.Project != name {
		name = "" // as if it were not there
	}
	a.project, err = a.server.project(ctx, name)
	return err
}

func signedOut(what string) error {
	f := fault.New(fault.Refused, "Sign in with oaken login ADDRESS.", "%s", what)
	f.Err = wire.ErrSignedOut
	return f
}

// from gives the address that a request came from.
func (a *asked) from() string {
	if a.server.o.BehindProxy {
		if list := a.Header.Values("X-Forwarded-For"); len(list) > 0 {
			all := strings.Split(list[len(list)-1], ",")
			return strings.TrimSpace(all[len(all)-1]) // the last is the proxy's own word
		}
	}
	host, _, err := net.SplitHostPort(a.RemoteAddr)
	if err != nil {
		return a.RemoteAddr
	}
	return host
}

// readable prepares the body: bounded, unpacked, and given up when nothing comes.
func (a *asked) readable(most int64) error {
	var in io.Reader = &coming{in: http.MaxBytesReader(a.out, a.Body, most), control: a.out.control}
	if a.Header.Get("Content-Encoding") == "zstd" {
		dec, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			return err
		}
		context.AfterFunc(a.Context(), dec.Close)
		in = &atMost{dec, 8 * most}
	}
	a.body = in
	return nil
}

// coming moves the deadline on while something comes.
type coming struct {
	in      io.Reader
	control *http.ResponseController
	at      time.Time
}

func (c *coming) Read(p []byte) (int, error) {
	if now := time.Now(); now.Sub(c.at) > idleTime/4 {
		c.at = now
		_ = c.control.SetReadDeadline(now.Add(idleTime)) // where there is none, the server's own holds
	}
	n, err := c.in.Read(p)
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		err = tooLarge(large.Limit)
	}
	return n, err
}

// atMost fails after so many bytes.
type atMost struct {
	in   io.Reader
	left int64
}

func (m *atMost) Read(p []byte) (int, error) {
	if m.left <= 0 {
		return 0, tooLarge(0)
	}
	n, err := m.in.Read(p[:min(int64(len(p)), m.left)])
	m.left -= int64(n)
	return n, err
}

func tooLarge(most int64) error {
	f := fault.New(fault.Refused, "Do it in several parts.", "That is more than the server takes in one request.")
	if most > 0 {
		f = fault.New(fault.Refused, "Do it in several parts.", "That is more than the %d MiB that the server takes in one request.", most>>20)
	}
	f.Err = wire.ErrLimit
	return f
}

// read reads the body as JSON, strictly.
func (a *asked) read(into any) error {
	data, err := io.ReadAll(a.body)
	if err != nil {
		return cutOff(err)
	}
	if err := wire.Strict(data, into); err != nil {
		return misread(err)
	}
	return nil
}

// misread says of a request that it can't be read.
func misread(err error) error {
	if errors.Is(err, wire.ErrNewer) {
		f := fault.New(fault.Unreachable, "Use the oaken that the server has, or ask for a newer server.",
			"This oaken asks for something that the server does not know: it is newer than the server.")
		f.Err = wire.ErrNewer
		return f
	}
	return fault.New(fault.Usage, "Look at docs/protocol.md.", "The request can't be read.")
}

// cutOff says of a body that did not come whole what that means.
func cutOff(err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return fault.New(fault.Unreachable, "Send it again.", "The request did not arrive whole.")
}

// answer writes a value as JSON.
func (a *asked) answer(v any) error {
	data, err := encodeJSON(v)
	if err != nil {
		return err
	}
	a.out.Header().Set("Content-Type", "application/json")
	_, err = a.out.Write(data)
	return gone(err)
}

// gone lets it pass that nobody listens any more.
func gone(error) error { return nil }

// answering notes what was answered, and gives up on who does not read.
type answering struct {
	http.ResponseWriter
	control *http.ResponseController
	status  int
	sent    int64
	at      time.Time
}

func (w *answering) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

func (w *answering) Write(p []byte) (int, error) {
	if w.status == 0 {
		w.status = http.StatusOK
	}
	if now := time.Now(); now.Sub(w.at) > idleTime/4 {
		w.at = now
		_ = w.control.SetWriteDeadline(now.Add(idleTime)) // where there is none, the server's own holds
	}
	n, err := w.ResponseWriter.Write(p)
	w.sent += int64(n)
	return n, err
}

func (w *answering) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// limits bound how often a person, and an address, may ask.
type limits struct {
	mu  sync.Mutex // guards all
	all map[string]*rate.Limiter
}

const (
	// perSecond is how many requests a person may make in a second for long, burst how many at once. From one address, with
	// many people behind it, eight times that.
	perSecond, burst = 200, 1000
	mostLimiters     = 20_000
)

func (l *limits) of(person string) error    { return l.allow("person "+person, 1) }
func (l *limits) from(address string) error { return l.allow("from "+address, 8) }

func (l *limits) allow(key string, times int) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.all == nil || len(l.all) > mostLimiters {
		l.all = map[string]*rate.Limiter{}
	}
	one := l.all[key]
	if one == nil {
		one = rate.NewLimiter(rate.Limit(perSecond*times), burst*times)
		l.all[key] = one
	}
	if one.Allow() {
		return nil
	}
	f := fault.New(fault.Unreachable, "Try again in a moment.", "That are too many requests at once.")
	f.Err = wire.ErrLimit
	return f
}
