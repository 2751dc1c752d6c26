// Package cli is the command line: it reads the call, asks core to do the work
// and shows what came of it. Nothing here computes.
//
// Each command is a file with a constructor, its options and its run function;
// root.go lists them all. A command writes to the App's streams alone.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"oakenchest/cli/screen"
	"oakenchest/core/chest/remote"
	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// App is everything that a run takes from outside.
type App struct {
	screen.Screen
	// Dir is the folder that the call was made from.
	Dir string
	Now func() time.Time
	// Edit lets the person edit a text; nil where there is no terminal for it.
	Edit func(text string) (string, error)
	// Room, when set, is told the size in bytes of what is about to be read at once.
	Room func(size int64)
	// Input is standard input; Unseen, where there is a terminal, asks for a text that is not shown.
	Input  io.Reader
	Unseen func(prompt string) (string, error)
	// Breath is how long, in nanoseconds, the command may take to end when it is stopped.
	Breath *atomic.Int64
	// Home is where what is kept of the person lies, such as settings and where they have signed in; empty for the system's
	// places.
	Home string
	// Person and Machine stand in for the account's and the machine's name.
	Person, Machine string

	in, as  string
	server  string        // the server that people are looked after of; empty for the usual one
	input   *bufio.Reader // standard input, by the line
	lenient bool          // an oaken.toml that can't be read is no reason to stop
	yes     bool
	trust   string               // the digest of what may be run and reached; empty for none
	running bool                 // the call was understood
	current *workspace.Workspace // that the call works in; nil for none
	kinds   *kind.Table
	saying  func(property string, v element.Value) string // how what is inspected writes its values
	watch   func(*recipe.Report)                          // told how recipes fitted what is read; nil for nobody
}

// Run carries out one call and gives its exit status.
func Run(ctx context.Context, app *App, args []string) int {
	app.kinds = all.Table()
	app.kinds.Room = app.Room
	app.running = false
	root := newRoot(app)
	root.SetArgs(args)
	root.SetOut(app.Out)
	root.SetErr(app.Err)
	err := root.ExecuteContext(ctx)
	app.EndProgress()
	if err == nil {
		return 0
	}
	var difference *foundDifference
	var conflicts *conflictsRemain
	var damage *damageFound
	switch {
	case errors.As(err, &difference):
		return 1
	case errors.As(err, &conflicts):
		return 3
	case errors.As(err, &damage):
		return 6
	case !app.running && fault.CodeOf(err) == fault.Failed: // a rule of the call itself
		err = wrongTogether(err)
	}
	err = interrupted(ctx, err)
	var told *alreadyTold
	if errors.As(err, &told) {
		return fault.Status(asFault(told.err))
	}
	app.JSON = app.JSON || !app.running && slices.Contains(args, "--json") // a call that could not be read to its end
	app.report(err)
	return fault.Status(asFault(err))
}

// interrupted says of an error that came because somebody stopped the call that it did.
func interrupted(ctx context.Context, err error) error {
	if ctx.Err() == nil {
		return err
	}
	if errors.Is(err, context.Canceled) {
		return context.Canceled
	}
	f := *asFault(err) // it says what was left half done
	f.Code = fault.Interrupted
	return &f
}

// foundDifference ends a `--check` that found something, without a message.
type foundDifference struct{}

func (*foundDifference) Error() string { return "there is a difference" }

// conditions are troubles of the machine, with what to do about each.
var conditions = []struct {
	is   error
	hint string
}{
	{syscall.ENOSPC, "Make room on the disk and run the command again; what was recorded is unharmed."},
	{syscall.EDQUOT, "Make room on the disk and run the command again; what was recorded is unharmed."},
	{syscall.EROFS, "Check that the place can be written, and run the command again."},
	{os.ErrPermission, "Check that you may read and write there, and run the command again."},
}

// Interrupted says that a call was stopped and could not end by itself in time, and gives the exit status for
// that.
func Interrupted(app *App) int {
	app.report(context.Canceled)
	return fault.Status(asFault(context.Canceled))
}

// asFault gives every error the form for people.
func asFault(err error) *fault.Error {
	var f *fault.Error
	switch {
	case errors.As(err, &f):
		return f
	case errors.Is(err, context.Canceled):
		return fault.New(fault.Interrupted, "Run the command again to continue.", "It was interrupted.")
	}
	for _, c := range conditions {
		if errors.Is(err, c.is) {
			return fault.New(fault.Unreachable, c.hint, "%w.", err)
		}
	}
	return fault.New(fault.Failed, "If this looks like a mistake of oaken itself, please report it with the command that you ran.", "%w",
		err)
}

// report shows an error: two sentences, or one JSON object.
func (a *App) report(err error) {
	f := asFault(err)
	if a.JSON {
		a.print(result.ErrorOf(f))
		return
	}
	fmt.Fprintf(a.Err, "%s %s\n", a.Paint(screen.Bad, "oaken:"), a.Inert(f.What))
	if hint := hintOf(f); hint != "" {
		fmt.Fprintf(a.Err, "       %s\n", a.Inert(hint))
	}
}

// print writes a result as one JSON object.
func (a *App) print(r result.Result) { a.encode(r, false) }

// printLine writes a result as one JSON object on one line.
func (a *App) printLine(r result.Result) { a.encode(r, true) }

func (a *App) encode(r result.Result, oneLine bool) {
	data, err := result.Encode(r, oneLine)
	if err == nil {
		_, err = a.Out.Write(data)
	}
	if err != nil {
		fmt.Fprintln(a.Err, "oaken:", a.Inert(err.Error()))
	}
}

// folder is where the call applies: --in, else the current folder.
func (a *App) folder() string {
	switch {
	case a.in == "":
		return a.Dir
	case filepath.IsAbs(a.in):
		return a.in
	}
	return filepath.Join(a.Dir, a.in)
}

// at gives a path that a person wrote, from the folder of the call.
func (a *App) at(p string) string {
	if filepath.IsAbs(p) || remote.IsAddress(p) {
		return p
	}
	return filepath.Join(a.folder(), p)
}

func (a *App) host() workspace.Host {
	h := workspace.Host{Now: a.Now, Machine: a.Machine, Person: a.Person, Kinds: a.kinds, Progress: a.Progress(),
		Lenient: a.lenient, Brief: true, Servers: servers{a}}
	if h.Machine == "" {
		h.Machine, _ = os.Hostname()
	}
	if h.Person == "" {
		h.Person = a.rememberedPerson()
	}
	if h.Person == "" {
		h.Person = accountName()
	}
	if h.Person == "" {
		h.Person = "somebody"
	}
	return h
}

// accountName gives the name of the account that runs the program; empty when it has none.
func accountName() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username[strings.LastIndexByte(u.Username, '\\')+1:]
	}
	return ""
}

// open opens the workspace of the call for reading.
func (a *App) open(ctx context.Context) (*workspace.Workspace, error) {
	if info, err := os.Stat(a.folder()); a.in != "" && (err != nil || !info.IsDir()) {
		return nil, fault.New(fault.Usage, "Check the spelling; --in names a folder of the project.", "There is no folder %s.", a.in)
	}
	w, err := workspace.Open(ctx, a.host(), a.folder(), a.as)
	if err == nil && w.Broken != nil {
		f := asFault(w.Broken)
		rules := "No rules count."
		if w.Base.ID != (ledger.ID{}) {
			rules = "The rules of " + workspace.Label(w.Base) + " count."
		}
		a.Note("%s %s", f.What, rules)
	}
	return w, err
}

// with opens the workspace, keeps others from changing it, and runs fn.
func (a *App) with(ctx context.Context, fn func(*workspace.Workspace) error) error {
	w, err := a.open(ctx)
	if err != nil {
		return err
	}
	if err := errors.Join(w.Claim(ctx), a.acquaint(w)); err != nil {
		return errors.Join(err, w.Close())
	}
	a.tellNotices(ctx, w)
	a.current = w
	err = fn(w)
	a.current = nil
	a.EndProgress()
	return errors.Join(err, w.Close())
}

// acquaint asks before somebody new works in a workspace: the name may be a slip.
func (a *App) acquaint(w *workspace.Workspace) error {
	if !w.Stranger {
		return nil
	}
	if !a.yes && (a.Keys == nil || a.JSON || !a.Ask(fmt.Sprintf("This is %s's workspace. Work in it as %s?", w.Owner(), w.Person))) {
		return fault.New(fault.Refused, "Add --yes when that is meant; it is then remembered. A workspace of your own: oaken open.",
			"This is %s's workspace, and %s has not worked in it before.", w.Owner(), w.Person)
	}
	return w.Accept()
}

// tellNotices shows what others left for this workspace, once.
func (a *App) tellNotices(ctx context.Context, w *workspace.Workspace) {
	if a.JSON || a.Quiet {
		return
	}
	list, read, err := w.Notices(ctx)
	if err != nil || len(list) == 0 {
		return
	}
	for _, n := range list {
		a.Note("%s  %s", a.Paint(screen.Warm, screen.Clock(n.Time)), n.Text)
	}
	_ = read() // the next command shows it again
}

// look opens the workspace for a command that changes nothing in it. It does not
// wait for others.
func (a *App) look(ctx context.Context, fn func(*workspace.Workspace) error) error {
	w, err := a.open(ctx)
	if err != nil {
		return err
	}
	free, err := w.ClaimIfFree(ctx)
	if err != nil {
		return errors.Join(err, w.Close())
	}
	if w.Unfinished != nil {
		a.Note("%s", w.Unfinished)
		if hint := fault.HintOf(w.Unfinished); hint != "" {
			a.Note("  %s", hint)
		}
	}
	if free {
		a.tellNotices(ctx, w)
	}
	a.current = w
	err = fn(w)
	a.current = nil
	a.EndProgress()
	return errors.Join(err, w.Close())
}

// withPaths is with, for calls whose arguments are paths of the project.
func (a *App) withPaths(ctx context.Context, args []string, fn func(*workspace.Workspace, []string) error) error {
	return a.with(ctx, func(w *workspace.Workspace) error {
		paths, err := a.asked(w).Paths(args)
		if err != nil {
			return err
		}
		return fn(w, paths)
	})
}

// withAddresses is withPaths, for calls whose arguments may also be addresses of
// objects; fresh says that these need not be there.
func (a *App) withAddresses(ctx context.Context, args []string, fresh bool, fn func(*workspace.Workspace, []string) error) error {
	return a.with(ctx, func(w *workspace.Workspace) error {
		addresses, err := a.asked(w).Addresses(ctx, args, fresh)
		if err != nil {
			return err
		}
		return fn(w, addresses)
	})
}

// mover moves work between the workspace and its environments.
func (a *App) mover(w *workspace.Workspace) *pipeline.Mover {
	m := &pipeline.Mover{Project: w.Project, Desk: w,
		Host: environment.Host{Root: w.Root, Cache: filepath.Join(w.Root, workspace.Folder, "cache", "schema")}, Now: a.Now,
		Trust: a.keeper(w), Station: pipeline.StationOf(w.Project)}
	if show := a.Progress(); show != nil {
		m.Counting = func(table string, done, of int) {
			if show("reading "+table+" for what would be lost", done, of); done == of {
				a.EndProgress()
			}
		}
	}
	return m
}

// usageText makes an error about a value of the call.
func usageText(hint string, err error) error { return fault.New(fault.Usage, hint, "%w.", err) }
