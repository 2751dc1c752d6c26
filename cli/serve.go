package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/server"
)

// serveOptions are the choices of serve.
type serveOptions struct {
	data, listen, cert, key, url string
	behindProxy, chatty          bool
}

const usualListen = "127.0.0.1:7410"

func newServe(a *App) *cobra.Command {
	var o serveOptions
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Serve chests to a team",
		Long: `Serve chests to a team over HTTP: people get an address, a name and a secret, and work as
with a folder. All that the server keeps lies in one folder, --data; one process serves it.

Without anything else it answers on this machine alone. For others it needs a certificate,
--cert and --key, which are read anew when they change, or a proxy in front that has one,
--behind-proxy. The first time, it gives the invitation of the first administrator.

It ends cleanly on Ctrl-C or SIGTERM. What it does is written to standard error, a line each.`,
		Example: "  oaken serve\n  oaken serve --data /srv/oaken --listen :443 --cert chain.pem --key key.pem\n" +
			"  oaken serve --data /srv/oaken --listen :8080 --behind-proxy --url https://chest.example.org",
		GroupID:           groupTeam,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return a.serve(cmd.Context(), o) },
	}
	f := cmd.Flags()
	f.StringVar(&o.data, "data", "", "keep everything in `FOLDER`; without it in a folder of your account")
	f.StringVar(&o.listen, "listen", usualListen, "answer at `ADDRESS:PORT`; port 0 for any that is free")
	f.StringVar(&o.cert, "cert", "", "the certificate with its chain, a PEM `FILE`")
	f.StringVar(&o.key, "key", "", "the certificate's key, a PEM `FILE`")
	f.StringVar(&o.url, "url", "", "the `ADDRESS` by which people reach the server, for invitations")
	f.BoolVar(&o.behindProxy, "behind-proxy", false, "a proxy in front has the certificate: answer plain HTTP, and believe whom it names")
	f.BoolVar(&o.chatty, "log-all", false, "log each request, not only those that fail")
	cmd.MarkFlagsRequiredTogether("cert", "key")
	cmd.MarkFlagsMutuallyExclusive("cert", "behind-proxy")
	_ = cmd.MarkFlagDirname("data")
	for _, name := range []string{"listen", "url"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	cmd.AddCommand(newServeBackup(a), newServeRestore(a))
	return cmd
}

// dataFolder gives the folder of a server: the one that was named, else one of the account.
func (a *App) dataFolder(named string) (string, error) {
	if named != "" {
		return a.at(named), nil
	}
	base := os.Getenv("XDG_DATA_HOME")
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fault.New(fault.Usage, "Name a folder with --data.", "There is no folder for the server's data: %w.", err)
		}
		base = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(base, "oaken", "server"), nil
}

// serving is a server with what it listens on.
type serving struct {
	server   *server.Server
	http     *http.Server
	listener net.Listener
	url      string
}

// serve serves until it is stopped.
func (a *App) serve(ctx context.Context, o serveOptions) error {
	data, err := a.dataFolder(o.data)
	if err != nil {
		return err
	}
	frugal()
	lendNothing()
	s, err := a.startServer(ctx, data, o)
	if err != nil {
		return err
	}
	invitation, err := s.server.Found(ctx)
	if err != nil {
		return errors.Join(err, s.close())
	}
	a.sayServing(s.url, data, invitation)
	a.Breath.Store(int64(2 * drainTime))
	failed := make(chan error, 1)
	go func() { failed <- s.http.Serve(s.listener) }()
	select {
	case err = <-failed:
	case <-ctx.Done():
		err = nil
		a.Note("Stopping: requests that are under way are finished.")
	}
	return errors.Join(err, s.stop())
}

// frugal lets garbage stay for less long than a program has it that ends soon, unless GOGC says otherwise.
func frugal() {
	const percent = 40 // of what is in use
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(percent)
	}
}

// lendNothing takes away by what the libraries of databases sign in by themselves: the variables of the server's account, and
// the files in its home. A project's target is opened with what was given for it alone.
func lendNothing() {
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		if strings.HasPrefix(name, "PG") || strings.HasPrefix(name, "MYSQL_") || strings.HasPrefix(name, "MARIADB_") {
			_ = os.Unsetenv(name) // a name that is there can be taken away
		}
	}
	for _, name := range []string{"PGPASSFILE", "PGSERVICEFILE"} {
		_ = os.Setenv(name, os.DevNull) // such a name can be set
	}
}

// drainTime is how long requests that are under way may take when the server is stopped.
const drainTime = 10 * time.Second

// stop lets requests that are under way end, and closes everything.
func (s *serving) stop() error {
	s.server.End()
	ctx, cancel := context.WithTimeout(context.Background(), drainTime)
	defer cancel()
	if s.http.Shutdown(ctx) != nil {
		_ = s.http.Close() // they took too long
	}
	return s.server.Close()
}

func (s *serving) close() error { return errors.Join(s.listener.Close(), s.server.Close()) }

// startServer opens the folder and listens.
func (a *App) startServer(ctx context.Context, data string, o serveOptions) (*serving, error) {
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return nil, fault.New(fault.Usage, "Write it like 127.0.0.1:7410, or :7410 for every address of the machine.",
			"--listen %q is no address.", o.listen)
	}
	if ip := net.ParseIP(host); o.cert == "" && !o.behindProxy && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fault.New(fault.Usage, "Give a certificate with --cert and --key, or say --behind-proxy where a proxy has one.",
			"Secrets would cross the network in the open: plain HTTP is for this machine alone.")
	}
	level := slog.LevelInfo
	if o.chatty {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: level}))
	srv, err := server.Open(ctx, data, server.Options{Now: a.Now, Log: log, Kinds: a.kinds, BehindProxy: o.behindProxy})
	if err != nil {
		return nil, err
	}
	s := &serving{server: srv}
	if s.listener, err = net.Listen("tcp", o.listen); err != nil {
		return nil, errors.Join(fault.New(fault.Unreachable, "Name another address with --listen.", "Nobody can listen at %s: %w.",
			o.listen,
			err), srv.Close())
	}
	scheme := "http"
	if o.cert != "" {
		pair := &certificate{cert: a.at(o.cert), key: a.at(o.key)}
		if err := pair.read(); err != nil {
			return nil, errors.Join(err, s.close())
		}
		s.listener = tls.NewListener(s.listener, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: pair.get,
			NextProtos: []string{"h2", "http/1.1"}})
		scheme = "https"
	}
	at := s.listener.Addr().(*net.TCPAddr)
	shown := host
	if host == "" || at.IP.IsUnspecified() {
		shown, _ = os.Hostname()
	}
	if s.url = o.url; s.url == "" {
		s.url = fmt.Sprintf("%s://%s", scheme, net.JoinHostPort(shown, fmt.Sprint(at.Port)))
	}
	s.http = &http.Server{Handler: srv.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 5 * time.Minute,
		MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	return s, nil
}

// sayServing says where the server answers, and what comes next.
func (a *App) sayServing(url, data, invitation string) {
	if a.JSON {
		a.printLine(result.Serving{URL: url, Invitation: invitation, Data: data})
		return
	}
	a.Say("The server answers at %s, and keeps its data in %s.", a.Paint(screen.Strong, url), data)
	if invitation != "" {
		a.Say("  Nobody looks after it yet. The first administrator signs in, once, with:")
		a.Say("  oaken login %s --invitation %s", url, invitation)
	} else {
		a.Say("  People sign in with oaken login %s; oaken people invite lets somebody in.", url)
	}
	a.Say("  Ctrl-C stops it.")
}

// certificate is a certificate that is read anew when its file changes.
type certificate struct {
	cert, key string

	mu     sync.Mutex // guards what follows
	pair   *tls.Certificate
	looked time.Time // when it was looked at
	stamp  time.Time // of the files then
}

// changed gives when the files were written last.
func (c *certificate) changed() time.Time {
	var last time.Time
	for _, name := range []string{c.cert, c.key} {
		if info, err := os.Stat(name); err == nil && info.ModTime().After(last) {
			last = info.ModTime()
		}
	}
	return last
}

func (c *certificate) read() error {
	stamp := c.changed()
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fault.New(fault.Usage, "Check both files: PEM, the certificate first, then its chain.", "The certificate can't be read: %w.",
			err)
	}
	c.pair, c.stamp = &pair, stamp
	return nil
}

// get gives the certificate; a renewed one that can't be read yet leaves the one before.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	const every = 10 * time.Second
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) > every {
		c.looked = now
		if !c.changed().Equal(c.stamp) {
			_ = c.read() // it is tried again
		}
	}
	return c.pair, nil
}
