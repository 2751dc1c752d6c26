package remote

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"time"

	"github.com/klauspost/compress/zstd"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// repeat says what is done when a call fails on its way.
type repeat byte

const (
	// again asks a few times more: nothing is changed by it, or nothing more.
	again repeat = iota
	// persistently asks as long as it is worth it: what is asked for has a key, and is done once.
	persistently
	// uncertain does not ask again.
	uncertain
)

const (
	firstPause, longestPause = 50 * time.Millisecond, 2 * time.Second
	// persistence is how long somebody goes on who has to know whether something was done.
	persistence = 30 * time.Second
	// manyTimes is how often an act is asked for whose answers break off.
	manyTimes = 20
	// fewTimes is how often a call is made that changes nothing.
	fewTimes = 4
	// packed is the size in bytes from which a body is compressed.
	packed = 2 << 10
)

// Caller makes calls to a server.
type Caller struct {
	server string
	who    Signed
	http   *http.Client
}

// NewCaller makes one.
func NewCaller(server string, who Signed) (*Caller, error) {
	transport := &http.Transport{
		Proxy:               http.ProxyFromEnvironment,
		DialContext:         (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 15 * time.Second}).DialContext,
		TLSHandshakeTimeout: 10 * time.Second, MaxIdleConnsPerHost: 4, IdleConnTimeout: 90 * time.Second,
		ResponseHeaderTimeout: 5 * time.Minute, ForceAttemptHTTP2: true, DisableCompression: true,
		WriteBufferSize: 64 << 10, ReadBufferSize: 64 << 10,
	}
	if who.Authorities != "" {
		data, err := os.ReadFile(who.Authorities)
		if err != nil {
			return nil, fault.New(fault.Unreachable, "Sign in again with oaken login ADDRESS --ca FILE.",
				"The certificates that vouch for the server can't be read: %w.", err)
		}
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM(data) {
			return nil, fault.New(fault.Usage, "Name a file of certificates in PEM form.", "%s holds no certificate.", who.Authorities)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return &Caller{server, who, &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse // a secret goes where it was meant to go
	}}}, nil
}

// Close lets go of connections.
func (c *Caller) Close() { c.http.CloseIdleConnections() }

// Ask makes a call whose answer is JSON.
func (c *Caller) Ask(ctx context.Context, call string, body, into any) error {
	return c.ask(ctx, call, body, into, again)
}

// Get asks for what anybody may know.
func (c *Caller) Get(ctx context.Context, call string, into any) error {
	in, err := c.once(ctx, http.MethodGet, call, "", nil, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	const most = 1 << 20
	if err := json.NewDecoder(io.LimitReader(in, most)).Decode(into); err != nil {
		return c.broken(ctx, err)
	}
	return nil
}

// AskOnce is Ask that is not made again when it fails on its way.
func (c *Caller) AskOnce(ctx context.Context, call string, body, into any) error {
	return c.ask(ctx, call, body, into, uncertain)
}

func (c *Caller) ask(ctx context.Context, call string, body, into any, how repeat) error {
	in, err := c.post(ctx, call, body, how)
	if err != nil {
		return err
	}
	defer in.Close()
	const most = 64 << 20
	if err := json.NewDecoder(io.LimitReader(in, most)).Decode(into); err != nil {
		return c.broken(ctx, err)
	}
	return nil
}

// post makes a call, and gives the body of the answer.
func (c *Caller) post(ctx context.Context, call string, body any, how repeat) (io.ReadCloser, error) {
	data, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	encoding := ""
	if len(data) >= packed {
		enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
		if err != nil {
			return nil, err
		}
		data, encoding = enc.EncodeAll(data, nil), "zstd"
		enc.Close()
	}
	began, pause, sent := time.Now(), firstPause, false
	for n := 1; ; n++ {
		answer, err := c.once(ctx, http.MethodPost, call, encoding, bytes.NewReader(data), int64(len(data)))
		if err == nil {
			return answer, nil
		}
		var lost *lostError
		if !errors.As(err, &lost) || ctx.Err() != nil {
			return nil, err
		}
		sent = sent || lost.sent
		switch {
		case how == uncertain, !sent && how == persistently, how == again && n >= fewTimes, how == again && !lost.sent && n > 1,
			how == persistently && time.Since(began) > persistence:
			if sent && how != again {
				return nil, &chest.UncertainError{Err: err}
			}
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pause):
			pause = min(2*pause, longestPause)
		}
	}
}

// lostError says that no answer came; sent that the call may have arrived.
type lostError struct {
	err  error
	sent bool
	// broke says that an answer had begun.
	broke bool
}

// Temporary says that it may come through the next time.
func (e *lostError) Temporary() bool { return true }

func (e *lostError) Error() string   { return "the server does not answer: " + e.err.Error() }
func (e *lostError) Unwrap() []error { return []error{ledger.ErrAway, e.err} }

// once makes a call once.
func (c *Caller) once(ctx context.Context, method, call, encoding string, body io.Reader, size int64) (io.ReadCloser, error) {
	q, err := http.NewRequestWithContext(ctx, method, c.server+"/"+call, body)
	if err != nil {
		return nil, err
	}
	if method == http.MethodPost || method == http.MethodPut {
		q.ContentLength = size
		q.Header.Set("Content-Type", "application/json")
	}
	if encoding != "" {
		q.Header.Set("Content-Encoding", encoding)
	}
	if c.who.Token != "" {
		q.Header.Set("Authorization", "Bearer "+c.who.Token)
	}
	q.GetBody = nil // whether it is asked again is decided here
	answer, err := c.http.Do(q)
	if err != nil {
		return nil, c.lost(ctx, err)
	}
	if answer.StatusCode == http.StatusOK {
		return &answered{answer}, nil
	}
	defer answer.Body.Close()
	const most = 8 << 20
	said, err := io.ReadAll(io.LimitReader(answer.Body, most))
	if err != nil {
		return nil, &lostError{err, true, true}
	}
	err = wire.DecodeError(answer.StatusCode, said)
	if answer.StatusCode == http.StatusBadGateway || answer.StatusCode == http.StatusGatewayTimeout {
		return nil, &lostError{err, true, false} // something in between lost it
	}
	if f := (*fault.Error)(nil); errors.Is(err, wire.ErrSignedOut) && errors.As(err, &f) {
		f.Hint = "Sign in with oaken login " + fault.Word(c.server) + "."
	}
	return nil, err
}

// lost says of an error of the connection whether the call may have arrived.
func (c *Caller) lost(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var dial *net.OpError
	var unknown x509.UnknownAuthorityError
	var wrong x509.HostnameError
	var invalid x509.CertificateInvalidError
	if errors.As(err, &unknown) || errors.As(err, &wrong) || errors.As(err, &invalid) {
		return fault.New(fault.Unreachable,
			"If whoever runs the server gave you a certificate, sign in with oaken login ADDRESS --ca FILE; else don't go on.",
			"Nobody vouches for the server at %s: %w.", c.server, err)
	}
	return &lostError{err, !(errors.As(err, &dial) && dial.Op == "dial"), false}
}

// broken says that an answer broke off.
func (c *Caller) broken(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &lostError{err, true, true}
}

// answered is the body of an answer; where the server could not finish it, reading fails with why.
type answered struct{ *http.Response }

func (a *answered) Read(p []byte) (int, error) {
	n, err := a.Body.Read(p)
	if err == nil {
		return n, nil
	}
	if err == io.EOF {
		said, bad := base64.StdEncoding.DecodeString(a.Trailer.Get("Oaken-Error"))
		if len(said) > 0 && bad == nil {
			return n, wire.DecodeError(http.StatusInternalServerError, said)
		}
		return n, io.EOF
	}
	return n, &lostError{err, true, true}
}

func (a *answered) Close() error { return a.Body.Close() }

// readWritten reads the answer to what changed something; news is nil when they could not be read.
func readWritten(in io.Reader) (out wire.Written, news *tables.Happened, err error) {
	r := bufio.NewReader(in)
	n, err := binary.ReadUvarint(r)
	const most = 64 << 20
	if err != nil || n > most {
		return out, nil, notRead(errors.Join(err, errors.New("it has no length")))
	}
	data := make([]byte, n)
	if _, err := io.ReadFull(r, data); err != nil {
		return out, nil, notRead(err)
	}
	if err := json.Unmarshal(data, &out); err != nil {
		return out, nil, notRead(err)
	}
	if news, err = wire.DecodeHappened(r, 1<<40); err != nil {
		news = nil
	}
	return out, news, nil
}

// follow makes a call that takes long: it tells progress, and reads what came of it.
func (c *Caller) follow(ctx context.Context, call string, into any, progress func(what string, done, total int)) error {
	return c.followBody(ctx, call, struct{}{}, into, progress)
}

func (c *Caller) followBody(ctx context.Context, call string, body, into any, progress func(what string, done, total int)) error {
	in, err := c.post(ctx, call, body, uncertain)
	if err != nil {
		return err
	}
	defer in.Close()
	lines := json.NewDecoder(in)
	for {
		var t wire.Told
		if err := lines.Decode(&t); err != nil {
			return c.broken(ctx, err)
		}
		switch {
		case t.Error != nil:
			return wire.DecodeError(t.Status, t.Error)
		case t.Result != nil:
			return json.Unmarshal(t.Result, into)
		case t.Progress != nil && progress != nil:
			progress(t.Progress.What, t.Progress.Done, t.Progress.Total)
		}
	}
}

// signals holds a connection on which the server says that something happened, and makes it anew when it is lost.
func (c *Caller) signals(ctx context.Context, call string, tell func()) {
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, 30*time.Second) {
		if in, err := c.once(ctx, http.MethodGet, call, "", nil, 0); err == nil {
			pause = firstPause
			lines := bufio.NewScanner(in)
			for lines.Scan() {
				if len(lines.Bytes()) > 0 {
					tell()
				}
			}
			_ = in.Close()
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
			tell() // whoever waits finds out how it stands
		}
	}
}
