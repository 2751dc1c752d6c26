// Command oaken keeps platform artifacts under version control. See package cli.
package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/term"

	"oakenchest/cli"
	"oakenchest/core/trace"

	"oakenchest/cli/screen"
)

// smallHeap is the size in bytes from which memory is collected eagerly, while little is read.
const smallHeap = 190 << 20

// wanted is what was read so far, in bytes.
var wanted atomic.Int64

// room lets the heap grow to ten times what is read in all, when that is more than smallHeap, before
// memory is collected eagerly: trees take several times as much as their files.
func room(size int64) {
	if total := wanted.Add(size); os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(max(smallHeap, 10*total))
	}
}

func main() {
	debug.SetGCPercent(400) // short runs with small heaps: memory is not what they lack
	room(0)
	app := newApp()
	ctx, ended := traced(stoppable(app))
	status := cli.Run(ctx, app, os.Args[1:])
	ended()
	os.Exit(status)
}

// lastBreath is how long a command that is stopped may take to end by itself: it leaves what it found, or what
// the next command finishes, whenever it is killed.
const lastBreath = 250 * time.Millisecond

// stoppable gives a context that ends when somebody stops the program: with Ctrl-C, or with SIGTERM. Soon after
// that the program ends in any case, and at once when it is stopped again.
func stoppable(app *cli.App) context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		cancel()
		select {
		case <-signals:
		case <-time.After(time.Duration(app.Breath.Load())):
		}
		os.Exit(cli.Interrupted(app))
	}()
	return ctx
}

// traced lets what the command asks of the chest be written to the file that OAKEN_TRACE names, when it does.
func traced(ctx context.Context) (context.Context, func()) {
	name := os.Getenv("OAKEN_TRACE")
	if name == "" {
		return ctx, func() {}
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o666)
	if err != nil {
		fmt.Fprintf(os.Stderr, "oaken: OAKEN_TRACE names a file that can't be written, so nothing is traced: %v.\n", err)
		return ctx, func() {}
	}
	return trace.With(ctx, trace.New(f, time.Now)), func() { _ = f.Close() } // every line was written before
}

func newApp() *cli.App {
	app := &cli.App{Room: room, Now: time.Now, Input: os.Stdin, Breath: &atomic.Int64{},
		Screen: screen.Screen{Out: os.Stdout, Err: os.Stderr, Live: term.IsTerminal(int(os.Stderr.Fd()))}}
	app.Breath.Store(int64(lastBreath))
	app.Home = os.Getenv("OAKEN_HOME")
	out := int(os.Stdout.Fd())
	if term.IsTerminal(out) {
		_, noColor := os.LookupEnv("NO_COLOR")
		app.Color = !noColor && os.Getenv("TERM") != "dumb"
		app.Width, _, _ = term.GetSize(out)
	}
	if app.Live && term.IsTerminal(int(os.Stdin.Fd())) {
		app.Edit, app.Keys, app.Unseen = edit, os.Stdin, unseen
	}
	dir, err := os.Getwd()
	if err != nil {
		dir = "."
	}
	app.Dir = dir
	return app
}

// unseen asks for a text that the terminal does not show.
func unseen(prompt string) (string, error) {
	fmt.Fprint(os.Stderr, prompt)
	defer fmt.Fprintln(os.Stderr)
	text, err := term.ReadPassword(int(os.Stdin.Fd()))
	return string(text), err
}

// edit opens a text in the person's editor and gives what they have saved.
func edit(text string) (string, error) {
	usual := "vi"
	if runtime.GOOS == "windows" {
		usual = "notepad"
	}
	words := strings.Fields(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR"), usual))
	f, err := os.CreateTemp("", "oaken-message-*.txt")
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	if _, err := f.WriteString(text); err != nil {
		return "", err
	}
	if err := f.Close(); err != nil {
		return "", err
	}
	cmd := exec.Command(words[0], append(words[1:], f.Name())...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return "", err
	}
	data, err := os.ReadFile(f.Name())
	return string(data), err
}
