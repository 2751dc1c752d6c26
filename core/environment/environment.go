// Package environment reaches live targets: it lists what they hold as files of
// the project, says what would have to be done for them to hold something else,
// and does it.
//
// A Driver is chosen by the scheme of a target's URL. A driver's plan is
// computed against the live target and carried out whole or not at all where
// the target allows it; the result is read back and must be what was asked for.
package environment

import (
	"context"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/schema/datastep"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/scope"
	"oakenchest/core/schema/step"
)

// ErrMissing says that a target is not there yet: a deployment makes it. One that can't be
// reached is no such.
var ErrMissing = errors.New("the target is not there yet")

// Missing is an error for people that is ErrMissing too.
func Missing(hint, format string, args ...any) error {
	e := fault.New(fault.Unreachable, hint, format, args...)
	e.Err = ErrMissing
	return e
}

// Files are the files of a folder, by name below it; nil stands for one that goes.
type Files = map[string][]byte

// Step is one thing that a deployment does; see package step. Its address is below the
// environment's folder.
type Step = step.Step

// Plan is what makes a target hold the declared files.
type Plan struct {
	Steps []Step
	// Opening, Begin and Closing are the statements that a script of the steps needs:
	// before all, after the steps that are committed first, and in the end.
	Opening, Begin, Closing []string
	// Guard gives the statements by which a script makes sure that the target is as it was when
	// the plan was made.
	Guard func(ctx context.Context) ([]string, error)
	// Before gives the files that say what the target holds now.
	Before func(ctx context.Context) (Files, error)
	// Save keeps what would be lost, as files of rows in a folder; nil when nothing would.
	Save func(ctx context.Context, folder string) error
	// Stays are the data steps whose work is not wanted any more and that have no way back.
	Stays []string
	// Tidied are those whose files are gone though their work is there: what they did stays.
	Tidied []string
	// Token tells this deployment in the target, where data steps note that they were run; it is
	// set before Apply, and Recorded called when all is recorded: the notes go then.
	Token    string
	Recorded func(ctx context.Context) error
	// Journal is how the target notes data steps; Noted says that it notes some that are left out.
	Journal datastep.Journal
	Noted   bool
	// Ending writes a statement in a script, where ; does not do; ModeOf sets the mode of a step, SessionOf its session,
	// an empty one being the usual. nil for none of these.
	Ending, ModeOf, SessionOf func(string) string
	// Parts are the plans of several targets that are changed together; none for one.
	Parts []*Plan
	// declared is what the target holds then; of are the plans for each target of several, or for the only one.
	declared Files
	of       []placed
	// Apply carries the plan out, and proves that the target then holds what is
	// declared. done, when set, is told after each step.
	Apply func(ctx context.Context, done func(step int)) error
}

// Past is what a plan may know of what went before.
type Past struct {
	// Lost is what an earlier deployment lost, as Plan.Save kept it: it is put back.
	Lost Files
	// Runs are those of the declared files that may be run.
	Runs map[string]bool
	// Steps are the data steps to run, and to take back.
	Steps DataSteps
	// Held are the files that the target is known to hold. The former names in them, the other
	// way round, are those of what comes again.
	Held Files
}

// Restores gives what is to be put back.
func (p *Past) Restores() Files {
	if p == nil {
		return nil
	}
	return p.Lost
}

// Holds gives what the target is known to hold.
func (p *Past) Holds() Files {
	if p == nil {
		return nil
	}
	return p.Held
}

// Loses lists what the plan would lose.
func (p *Plan) Loses() []string {
	var out []string
	for _, s := range p.Steps {
		if s.Loss != "" {
			out = append(out, s.Loss)
		}
	}
	return out
}

// Keeps reports whether values are to be saved before: those that are lost, and those that would
// come back otherwise than they were.
func (p *Plan) Keeps() bool {
	return len(p.Loses()) > 0 || slices.ContainsFunc(p.Steps, func(s Step) bool { return len(s.Saves) > 0 })
}

// Ended gives a statement as a script needs it, with what ends it.
func (p *Plan) Ended(statement string) string {
	if p.Ending == nil {
		return statement + ";"
	}
	return p.Ending(statement)
}

// Script gives the statements of a step as a script needs them.
func (p *Plan) Script(s Step) (out []string) {
	if s.Mode != "" && p.ModeOf != nil {
		out = append(out, p.Ended(p.ModeOf(s.Mode)))
	}
	if s.Session != "" && p.SessionOf != nil {
		out = append(out, p.Ended(p.SessionOf(s.Session)))
	}
	for _, sql := range s.Statements {
		out = append(out, p.Ended(sql))
	}
	if s.Session != "" && p.SessionOf != nil {
		out = append(out, p.Ended(p.SessionOf("")))
	}
	if s.Mode != "" && p.ModeOf != nil {
		out = append(out, p.Ended(p.ModeOf("")))
	}
	return out
}

// Whole says that a plan is carried out in one transaction, or not at all.
func (p *Plan) Whole() bool {
	for _, s := range p.Steps {
		if s.Before || s.After {
			return false
		}
	}
	return len(p.Begin) > 0
}

// Driver reaches one target.
type Driver interface {
	// Capture reads what the target holds: the tree of elements and, as the usual
	// files, its text. have are the files of the project; objects that have not
	// changed keep their text in them.
	Capture(ctx context.Context, have Files) (*Captured, error)
	// Plan computes what makes the target hold the declared files; past may be nil. The target
	// is not changed.
	Plan(ctx context.Context, declared Files, past *Past) (*Plan, error)
	Close() error
}

// Captured is what a target holds.
type Captured struct {
	// Files is the whole folder.
	Files Files
	// Edits are the files of have that differ, nil for one that goes.
	Edits Files
	Tree  *element.Element
	// Untracked lists what the target has and no file can say.
	Untracked []string
	// Renamed lists columns that seem to have another name than in have.
	Renamed []Rename
	// Unseen lists what of have the login may not see, and what right it lacks: it stands in
	// Files as have has it, and nobody can say whether it is so.
	Unseen []string
}

// Known refuses what could not be seen whole.
func (c *Captured) Known() error {
	if len(c.Unseen) == 0 {
		return nil
	}
	return fault.New(fault.Unreachable, "Give the user of the target these rights in the database, or use another user.",
		"This user does not see all of the database, so nobody can tell how it stands: %s.", strings.Join(c.Unseen, ", "))
}

// Settings are what a project says about a target and its folder.
type Settings struct {
	// Scope says what is tracked.
	Scope scope.Scope
	// Scratch is the URL of a server or database where declared files may be tried, when
	// the target's own server is not to be used.
	Scratch string
	// LockWait bounds how long a deployment waits for a lock.
	LockWait time.Duration
	// Online asks for steps that keep others out for no longer than they must.
	Online bool
	// Fill gives values for columns that are to take no null, by name of table and
	// column: SQL expressions.
	Fill map[string]string
	// Counting, when set, is told which of the tables is read to see what would be lost.
	Counting func(table string, done, of int)
}

// Counter gives what asks for what would be lost.
func (s Settings) Counter() *step.Counting { return &step.Counting{Progress: s.Counting} }

// Host is what a driver may know of the workspace that it is used from.
type Host struct {
	// Root is the folder that relative paths in targets start from.
	Root string
	// Cache is a folder for what may be kept between calls; empty for none.
	Cache string
	// Getenv gives the variables that ${NAME} in a target stands for.
	Getenv func(string) (string, bool)
	// Keys, when set, gives them in place of Getenv, for one target alone, as that is written.
	Keys func(target, name string) (string, bool)
	// Refuses, when set, keeps out of files of this machine.
	Refuses func(file string) error
}

// Sort is one sort of target, with what its driver can do. A new one is a folder below this one, and a line in
// package all.
type Sort struct {
	// Scheme begins its addresses, About says in a line what they are.
	Scheme, About string
	// Kind is that of the artifact that the folder is; empty when it holds files of any kind.
	Kind string
	// Server says that an address names a server, and a database on it.
	Server bool
	// Port is the one of servers where an address names none.
	Port string
	// Disk says that an address is a path on this machine; nil for none.
	Disk *manifest.Disk
	// Endings are those that files have which are such targets, and Begins their first bytes; none where that can't
	// be told.
	Endings []string
	Begins  string
	// Open reaches a target, by what stands behind the scheme of its address.
	Open func(ctx context.Context, h Host, rest string, s Settings) (Driver, error)
	// Create makes a target, empty, and gives what removes it again; nil where a deployment makes it. Drop removes one
	// with all that it holds; nil where that is done by hand.
	Create func(ctx context.Context, h Host, rest string) (undo func(context.Context) error, err error)
	Drop   func(ctx context.Context, h Host, rest string) error
	// Copy makes a target a copy of another; nil where there is no such thing. What stands behind the schemes is given.
	Copy func(ctx context.Context, h Host, from, to string, c Copying) error
	// Tables gives the tables that files declare; nil where there are none.
	Tables func(ctx context.Context, files Files) ([]rows.Table, error)
	// Speaks gives a plan what a script of its steps is written with; nil where there are no scripts.
	Speaks func(*Plan)
	// Concerns says of the names in a log of changes whether they are those of an object of a schema; nil for no log.
	Concerns func(names []string, schema string, e *element.Element) bool
	// NothingDone says that after a deployment which failed so everything is as it was; nil where that is never so.
	NothingDone func(err error) bool
}

var sorts []Sort

// Register makes sorts of targets known; two of one scheme are a mistake of the program.
func Register(list ...Sort) {
	for _, s := range list {
		if slices.ContainsFunc(sorts, func(o Sort) bool { return o.Scheme == s.Scheme }) {
			panic("two sorts of targets begin with " + s.Scheme)
		}
		sorts = append(sorts, s)
		if s.Disk != nil {
			manifest.OnDisk(s.Scheme, *s.Disk)
		}
	}
}

// LooksLike gives the scheme of the targets that a file may be one of, by its name and what it begins with, which is
// read only where the name allows it; empty for none.
func LooksLike(name string, head func() []byte) string {
	for _, s := range sorts {
		if slices.Contains(s.Endings, filepath.Ext(name)) && strings.HasPrefix(string(head()), s.Begins) {
			return s.Scheme
		}
	}
	return ""
}

// NothingDone says that after a failed deployment everything is as it was before.
func NothingDone(err error) bool {
	var undone *undoneError
	if errors.As(err, &undone) {
		return true
	}
	return slices.ContainsFunc(sorts, func(s Sort) bool { return s.NothingDone != nil && s.NothingDone(err) })
}

// Schemes lists the schemes with a line about each.
func Schemes() [][2]string {
	var out [][2]string
	for _, s := range sorts {
		out = append(out, [2]string{s.Scheme, s.About})
	}
	return out
}

// KindOf gives the kind of artifact that a target holds; empty when it holds files of
// any kind. The error names the schemes that there are.
func KindOf(target string) (string, error) {
	s, _, err := split(target)
	return s.Kind, err
}

func split(target string) (Sort, string, error) {
	name, rest, _ := strings.Cut(target, ":")
	i := slices.IndexFunc(sorts, func(s Sort) bool { return s.Scheme == name })
	if i < 0 || rest == "" {
		var names []string
		for _, s := range sorts {
			names = append(names, s.About)
		}
		return Sort{}, "", fault.New(fault.Usage, "Targets can be: "+strings.Join(names, "; ")+".",
			"%q is no target that this program reaches.", target)
	}
	return sorts[i], rest, nil
}

var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// CheckTarget refuses a target that no driver reaches, and one with a secret in it.
func CheckTarget(target string) error {
	s, rest, err := split(target)
	if err != nil {
		return err
	}
	if err := s.checkDatabase(rest); err != nil {
		return err
	}
	return noSecret(target)
}

// noSecret refuses the address of a server with a secret in any part of it.
func noSecret(target string) error {
	if len(secrets(target)) == 0 {
		return nil
	}
	return fault.New(fault.Refused, "Write ${NAME} in its place, for a variable of that name.",
		"The target has a password in it, which would be recorded for everybody.")
}

// secrets lists the secrets that an address has in it: what stands for the password of the user,
// and values of parameters whose names say so.
func secrets(target string) (out []string) {
	const stand = "VARIABLE"
	u, err := url.Parse(variable.ReplaceAllString(target, stand))
	if err != nil {
		return nil
	}
	if secret, set := u.User.Password(); set && secret != "" && secret != stand {
		out = append(out, secret)
	}
	for name, values := range u.Query() {
		for _, v := range values {
			if secretly.MatchString(name) && v != "" && v != stand {
				out = append(out, v)
			}
		}
	}
	return out
}

var secretly = regexp.MustCompile(`(?i)(pass(word|wd|phrase)?|pwd|secret|token)$`)

// Shown gives a target as people may see it: a secret that somebody wrote into it is left out.
func Shown(target string) string {
	for _, s := range secrets(target) {
		target = strings.ReplaceAll(target, s, "…")
		target = strings.ReplaceAll(target, url.QueryEscape(s), "…")
		target = strings.ReplaceAll(target, url.PathEscape(s), "…")
	}
	return target
}

// checkDatabase refuses the address of a server that names none of its databases: the server
// would choose one.
func (s Sort) checkDatabase(rest string) error {
	if !s.Server || !strings.HasPrefix(rest, "//") {
		return nil
	}
	_, name, _ := strings.Cut(strings.TrimPrefix(rest, "//"), "/")
	if name, _, _ = strings.Cut(name, "?"); name != "" {
		return nil
	}
	return fault.New(fault.Usage, "Write it at the end: "+s.Scheme+"://USER@HOST:PORT/DATABASE.",
		"The target names a server and none of its databases.")
}

// Open reaches a target. ${NAME} in it stands for a variable of the process.
func Open(ctx context.Context, h Host, target string, settings Settings) (Driver, error) {
	s, rest, err := split(target)
	if err != nil {
		return nil, err
	}
	if rest, err = h.expand(target, rest); err != nil {
		return nil, err
	}
	if err := s.checkDatabase(rest); err != nil {
		return nil, err
	}
	if s.Disk != nil && h.Refuses != nil {
		if err := h.Refuses(h.File(rest)); err != nil {
			return nil, err
		}
	}
	for _, address := range []string{target, settings.Scratch} { // somebody may have written it by hand
		if err := noSecret(address); err != nil {
			return nil, err
		}
	}
	if settings.Scratch, err = h.expand(settings.Scratch, settings.Scratch); err != nil {
		return nil, err
	}
	return s.Open(ctx, h, rest, settings)
}

// Place gives the place that a target is, so that two ways to write one are told as one: paths from the host's root, servers
// by the machine that they are on, without who asks.
func (h Host) Place(target string) string {
	s, rest, err := split(target)
	if err != nil {
		return target
	}
	if s.Disk != nil {
		file := h.File(rest)
		if real, err := filepath.EvalSymlinks(file); err == nil {
			file = real
		} else if folder, err := filepath.EvalSymlinks(filepath.Dir(file)); err == nil {
			file = filepath.Join(folder, filepath.Base(file))
		}
		return s.Scheme + ":" + filepath.Clean(file)
	}
	u, err := url.Parse(h.reached(target))
	if err != nil || u.Host == "" {
		return target
	}
	host := strings.ToLower(u.Hostname())
	if slices.Contains([]string{"localhost", "127.0.0.1", "::1"}, host) {
		host = "localhost"
	}
	port := u.Port()
	if port == "" {
		port = s.Port
	}
	return s.Scheme + "://" + host + ":" + port + u.Path
}

// reached gives the address of a server without who asks, with the values of the variables in it that are set; the others
// stand as names.
func (h Host) reached(target string) string {
	scheme, rest, _ := strings.Cut(target, "://")
	machine, database, _ := strings.Cut(rest, "/")
	machine = machine[strings.LastIndexByte(machine, '@')+1:]
	return scheme + "://" + variable.ReplaceAllStringFunc(machine+"/"+database, func(m string) string {
		if value, err := h.expand(target, m); err == nil {
			return value
		}
		return variable.FindStringSubmatch(m)[1]
	})
}

// File gives the place that a target names on this machine, from the host's root.
func (h Host) File(rest string) string {
	file := filepath.FromSlash(rest)
	if !filepath.IsAbs(file) {
		file = filepath.Join(h.Root, file)
	}
	return file
}

// expand puts the variables' values into a text.
func (h Host) expand(target, rest string) (string, error) {
	missing := ""
	rest = variable.ReplaceAllStringFunc(rest, func(m string) string {
		name := variable.FindStringSubmatch(m)[1]
		v, ok := h.variable(target, name)
		if !ok {
			missing = name
		}
		return v
	})
	if missing != "" && h.Keys != nil {
		return "", fault.New(fault.Refused, "An administrator gives it with oaken login ENV, in a workspace of the project.",
			"The target %s needs the secret %s, which the server was not given for it.", target, missing)
	}
	if missing != "" {
		return "", fault.New(fault.Usage, "Set it and try again.", "The target %s needs the variable %s, which is not set.",
			target, missing)
	}
	return rest, nil
}

// variable gives the value of a name in a target.
func (h Host) variable(target, name string) (string, bool) {
	switch {
	case h.Keys != nil:
		return h.Keys(target, name)
	case h.Getenv != nil:
		return h.Getenv(name)
	}
	return os.LookupEnv(name)
}

// Variables lists the names that ${NAME} in an address stands for, each once.
func Variables(address string) (out []string) {
	for _, m := range variable.FindAllStringSubmatch(address, -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

// With gives files after edits.
func With(have, edits Files) Files {
	out := Files{}
	for name, data := range have {
		out[name] = data
	}
	for name, data := range edits {
		out[name] = data
		if data == nil {
			delete(out, name)
		}
	}
	return out
}

// Unsaved says that what would be lost could not be kept.
func Unsaved(err error) error {
	return fault.New(fault.Refused, "Make room on the disk, check the rights, and try again; nothing was changed.",
		"What would be lost could not be saved: %w.", err)
}

// ChangedSince says that a plan is not one for the target as it is.
func ChangedSince(what string) error {
	return fault.New(fault.Refused, "Run the command again to see the new plan; nothing was changed.",
		"The %s has changed since the plan was made.", what)
}
