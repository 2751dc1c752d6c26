// Package workspace is one person's copy of a project on one machine: a folder,
// the state that it was brought from, and what was changed since.
//
// The folder .oaken holds the workspace's own state:
//
//	workspace.toml  format, person, name, chest, branch, base (the commit)
//	index           what each file was when it was last looked at
//	merge.json      an unfinished merge or revert
//	held.json       commits that are not published yet
//	held/           their contents, and the folders of the base
//	journal.json    what a command is doing to the files
//	rescue/         what commands have overwritten, by time
//	forgetting.json  since when some of that is too old to be kept
//	apart           files that are left out of the commits of this workspace alone
//	staged/         files that are put into place when a switch ends
//	temp/           files being written
//	busy            locked while a command changes the workspace
//	chest/          the chest itself, when it is embedded
//
// A Workspace is used by one goroutine. Two processes on one folder wait for
// each other.
package workspace

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/gofrs/flock"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/remote"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
	"oakenchest/core/workspace/locking"
	"oakenchest/core/workspace/merging"
	"oakenchest/core/workspace/presence"
	"oakenchest/core/workspace/unsent"
)

// Folder is the name of the workspace's own folder.
const Folder = disk.Folder

const formatVersion = 2

// Host is what a workspace takes from the machine that it runs on.
type Host struct {
	Now func() time.Time
	// Machine is the machine's name, Person the account's.
	Machine, Person string
	// Kinds are the kinds that the program knows.
	Kinds *kind.Table
	// Lenient opens a workspace whose oaken.toml can't be read: the rules of the commit that
	// it stands on count then, and Broken says why.
	Lenient bool
	// Brief says that what is opened serves one command: what the chest answers once counts for all of it.
	Brief bool
	// Progress, when set, is told how far long work is: units done of a total.
	Progress func(what string, done, total int)
	// Servers, when set, are those whose projects can be opened.
	Servers Servers
}

func (h Host) progress(what string, done, total int) {
	if h.Progress != nil {
		h.Progress(what, done, total)
	}
}

// Workspace is an open workspace.
type Workspace struct {
	// Project is what it is a workspace of.
	*project.Project
	Root string
	// Unfinished is why what an interrupted command had begun could not be finished; commands that
	// only look go on all the same.
	Unfinished error
	// Broken is why oaken.toml can't be read, when the workspace was opened all the same.
	Broken error
	Branch string
	// Base is the commit that the files were brought from; zero before the first.
	Base ledger.Commit

	// Offline says that the chest is out of reach: commits are held.
	Offline bool
	// Stranger says that Person has not worked in this workspace before.
	Stranger bool

	host       Host
	rec        record
	folder     *local.Folder // of the chest; nil for one at a server, and when it is out of reach
	signed     string        // who has signed in at the chest's server; empty for a folder
	chestAt    string        // of the chest, as it was found
	registered bool
	busy       *flock.Flock
	disk       *disk.Tree
	unsent     *unsent.List
	merging    *merging.Work
	locking    *locking.Rules
	teller     *presence.Teller
}

// BeginOptions are the choices of Begin.
type BeginOptions struct {
	// Chest is a folder for the chest, or the address of a project that is to be; empty embeds it in the workspace.
	Chest  string
	Person string
	// Presets are proposals for the new oaken.toml.
	Presets []manifest.Section
}

// Above gives the workspace that a folder lies in; empty for none. The folder need not be there.
func Above(folder string) string {
	root, err := filepath.Abs(folder)
	if err != nil {
		return ""
	}
	above, err := find(root)
	if err != nil {
		return ""
	}
	return above
}

// Begin puts a folder under control: it makes a chest, the workspace's own
// folder and, when there is none, oaken.toml. Nothing is recorded yet.
func Begin(ctx context.Context, host Host, folder string, o BeginOptions) (*Workspace, error) {
	root, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(root); err != nil || !info.IsDir() {
		return nil, fault.New(fault.Usage, "Make the folder first, or name another.", "There is no folder %s.", folder)
	}
	if above, err := find(root); err == nil {
		hint := "Just work in it: oaken changes shows what is new."
		if above != root {
			hint = "Work in that project, or begin outside of it."
		}
		return nil, fault.New(fault.Refused, hint, "%s is under control already: the workspace in %s holds it.", folder, above)
	}
	var existing *manifest.Manifest
	if data, err := os.ReadFile(filepath.Join(root, manifest.Name)); err == nil {
		if existing, err = recipe.Manifest(data, host.Kinds); err != nil {
			return nil, err
		}
	}
	own := filepath.Join(root, Folder)
	w := inFolder(root, host)
	w.Person, w.Branch, w.Manifest = o.Person, chest.FirstBranch, existing
	if w.Person == "" {
		w.Person = host.Person
	}
	if err := os.MkdirAll(filepath.Join(own, "temp"), disk.OwnFolder); err != nil {
		return nil, fault.New(fault.Refused, "Check the rights on the folder.", "%s can't be written: %w.", folder, err)
	}
	f, err := w.makeChest(ctx, o.Chest)
	if err == nil {
		w.Person, err = host.named(o.Person, f.person)
	}
	if err == nil {
		w.rec = record{Format: formatVersion, Person: w.Person, Name: workspaceName(w.Person, host.Machine, root),
			Branch: chest.FirstBranch,
			Chest:  f.at}
		w.Name = w.rec.Name
		w.use(f)
	}
	if err == nil && existing == nil {
		text := manifest.First(filepath.Base(root), o.Presets...)
		if err = os.WriteFile(filepath.Join(root, manifest.Name), text, 0o666); err == nil {
			w.Manifest, err = manifest.Parse(text)
		}
	}
	if err == nil {
		err = w.register(ctx)
	}
	if err == nil {
		err = w.save()
	}
	if err != nil {
		if w.Chest != nil {
			w.Chest.Close()
		}
		return nil, errors.Join(err, os.RemoveAll(own))
	}
	w.disk.Forget()
	return w, nil
}

func (w *Workspace) makeChest(ctx context.Context, location string) (f found, err error) {
	if location == "" {
		folder, err := local.Create(ctx, w.disk.Own("chest"), w.Person, w.host.Now)
		return found{Store: folder}, err
	}
	abs, err := placeOf(location)
	if err != nil {
		return f, err
	}
	if remote.IsAddress(abs) {
		if w.host.Servers == nil {
			return w.host.openAfar(ctx, abs) // it says what to do
		}
		if err := w.host.Servers.Create(ctx, abs); err != nil {
			return f, err
		}
		return w.host.openAfar(ctx, abs)
	}
	if local.Exists(abs) {
		return f, fault.New(fault.Refused, "Name a new place for the chest.", "There is a chest in %s already.", location)
	}
	if rel, err := filepath.Rel(w.Root, abs); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return f, fault.New(fault.Usage, "Leave --chest out to keep it in the workspace, or name a place outside of the folder.",
			"The chest's place %s lies inside the folder that it is to hold.", location)
	}
	folder, err := local.Create(ctx, abs, w.Person, w.host.Now)
	return found{Store: folder, at: abs}, err
}

// inFolder is a workspace of which nothing is known but where it is.
func inFolder(root string, host Host) *Workspace {
	w := &Workspace{Root: root, host: host, Project: &project.Project{Kinds: host.Kinds, Now: host.Now}}
	w.disk = &disk.Tree{Root: root, Now: host.Now, Rules: func() *manifest.Manifest { return w.Manifest }, Progress: host.Progress}
	w.unsent = unsent.In(w.disk)
	w.merging = &merging.Work{Project: w.Project, Disk: w.disk}
	w.locking = &locking.Rules{Project: w.Project, Disk: w.disk, In: ground{w}}
	w.teller = &presence.Teller{Project: w.Project, Disk: w.disk, In: standing{w}}
	return w
}

// use makes a chest the workspace's.
func (w *Workspace) use(f found) {
	w.folder, _ = f.Store.(*local.Folder)
	w.Chest, w.signed = chest.New(f.Store), f.person
	w.unsent.Chest = w.Chest
	w.Chest.Warden, w.Chest.Actor = w.warden(), w.actor()
}

// actor is who acts in the workspace.
func (w *Workspace) actor() chest.Actor { return chest.Actor{Person: w.Person, Workspace: w.Name} }

// Signed gives the name under which somebody has signed in at the chest's server; empty for a chest in a folder.
func (w *Workspace) Signed() string { return w.signed }

// Place gives the folder of the chest; nil for one at a server, and when it is out of reach.
func (w *Workspace) Place() *local.Folder { return w.folder }

// workspaceName gives `person-machine-folder`, in plain characters.
func workspaceName(person, machine, root string) string {
	clean := func(s string) string {
		s = strings.Map(func(r rune) rune {
			if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_' || r == '.' {
				return unicode.ToLower(r)
			}
			return '-'
		}, s)
		return strings.Trim(s, "-.")
	}
	return clean(person) + "-" + clean(strings.SplitN(machine, ".", 2)[0]) + "-" + clean(filepath.Base(root))
}

// find gives the nearest folder, from dir upward, that is a workspace.
func find(dir string) (string, error) {
	for {
		if _, err := os.Stat(filepath.Join(dir, Folder, "workspace.toml")); err == nil {
			return dir, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			return "", os.ErrNotExist
		}
		dir = up
	}
}

// Open opens the workspace that dir lies in, for the person named, or for the
// one who began it.
func Open(ctx context.Context, host Host, dir, person string) (*Workspace, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root, err := find(abs)
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Run oaken begin to put a folder under control, or name one with --in FOLDER.",
			"%s is in no workspace: no folder above it is under control.", dir)
	}
	w := inFolder(root, host)
	if err := w.loadRecord(); err != nil {
		return nil, err
	}
	w.Person, w.Name = w.rec.Person, w.rec.Name
	w.workAs(person)
	f, err := host.openChest(ctx, w.rec.location(root))
	w.chestAt = f.at
	if err == nil {
		if f.person != "" && person == "" {
			w.workAs(f.person) // whoever has signed in sits here
		}
		w.use(f)
		if f.person != "" && f.person != w.Person {
			err = errors.Join(asSomebodyElse(w.Person, f.person), w.Chest.Close())
		}
	}
	if err != nil && fault.CodeOf(chest.Explain(err)) == fault.Unreachable && !reachable(w.chestAt, err) {
		err = w.goOffline(w.chestAt, chest.Explain(err))
	}
	if err != nil {
		return nil, err
	}
	w.Chest.Warden, w.Chest.Actor = w.warden(), w.actor()
	if host.Brief && !w.Offline {
		base, _ := ledger.ParseID(w.rec.Base) // whether it is one is said below
		if err := w.Chest.Brief(ctx, base, []string{chest.FirstBranch, w.Branch}, w.Name); err != nil {
			w.Close()
			return nil, chest.Explain(err)
		}
	}
	if err := errors.Join(w.loadBase(ctx), w.loadUnsent(ctx)); err != nil {
		w.Close()
		return nil, err
	}
	return w, w.loadManifest()
}

// workAs lets somebody work here who need not be the one whose workspace it is; nobody changes nothing.
func (w *Workspace) workAs(person string) {
	if person == "" || person == w.rec.Person {
		return
	}
	w.Person, w.Name = person, workspaceName(person, w.host.Machine, w.Root)
	w.Stranger = !slices.Contains(w.rec.People, person)
}

// loadRecord reads workspace.toml.
func (w *Workspace) loadRecord() (err error) {
	if w.rec, err = readRecord(w.Root); err == nil {
		w.Branch = w.rec.Branch
	}
	return err
}

// ExamineChest examines the chest of the workspace that dir lies in, when the
// workspace itself can't be opened.
func ExamineChest(ctx context.Context, host Host, dir string) (*chest.Examination, error) {
	root, err := find(dir)
	if err != nil {
		return nil, err
	}
	location, err := chestOf(root)
	if err != nil {
		return nil, err
	}
	f, err := host.openChest(ctx, location)
	if err != nil {
		return nil, err
	}
	c := chest.New(f.Store)
	x, err := c.Examine(ctx, host.Progress)
	return x, errors.Join(err, c.Close())
}

func (w *Workspace) loadBase(ctx context.Context) error {
	w.Base = ledger.Commit{}
	if w.rec.Base == "" {
		return nil
	}
	id, err := ledger.ParseID(w.rec.Base)
	if err != nil {
		return fault.New(fault.Damaged, "Bring the workspace's own files back from a copy.",
			"The workspace does not know which commit it is at: %w.", err)
	}
	if w.Offline {
		w.Base = ledger.Commit{ID: id, Branch: w.rec.BaseBranch, Depth: w.rec.BaseDepth}
		w.Base.Tree, err = disk.FromHex(w.rec.BaseTree)
		return err
	}
	w.Base, err = w.Chest.Commit(ctx, id)
	return err
}

func (w *Workspace) loadManifest() error {
	defer func() { w.leaveApart() }()
	data, err := os.ReadFile(filepath.Join(w.Root, manifest.Name))
	if errors.Is(err, os.ErrNotExist) {
		w.Manifest = &manifest.Manifest{}
		return nil
	}
	if err == nil {
		w.Manifest, err = recipe.Manifest(data, w.host.Kinds)
	}
	if err != nil && w.host.Lenient {
		w.Broken, w.Manifest = err, w.manifestOfBase()
		return nil
	}
	if err != nil {
		w.Chest.Close()
	}
	return err
}

// manifestOfBase gives the rules of the commit that the workspace stands on; none where they
// can't be read either.
func (w *Workspace) manifestOfBase() *manifest.Manifest {
	if data, err := state.ReadFile(w.BaseState(), manifest.Name); err == nil {
		if m, err := recipe.Manifest(data, w.host.Kinds); err == nil {
			return m
		}
	}
	return &manifest.Manifest{}
}

// Close lets go of the chest and of the folder.
func (w *Workspace) Close() error {
	var err error
	if w.busy != nil {
		err = w.busy.Unlock()
	}
	if !w.Offline { // else the chest is read from there
		err = errors.Join(err, w.unsent.Close())
	}
	return errors.Join(err, w.Chest.Close())
}

// Claim keeps other processes from changing the workspace until Close, and
// finishes what a killed one has begun. It waits for others for a while.
func (w *Workspace) Claim(ctx context.Context) error {
	if w.busy != nil {
		return nil
	}
	lock := flock.New(w.disk.Own("busy"))
	wait, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	ok, err := lock.TryLockContext(wait, 20*time.Millisecond)
	if err != nil && wait.Err() == nil {
		return fault.New(fault.Refused, "Check that you may write there.", "The workspace can't be written: %w.", err)
	}
	if err != nil || !ok {
		return fault.New(fault.Refused, "Wait until it has finished, and try again.", "Another oaken is changing this workspace.")
	}
	w.busy = lock
	if err := w.begun(ctx); err != nil || w.Unfinished == nil {
		return err
	}
	return w.Unfinished
}

// ClaimIfFree is Claim for commands that only look: when the workspace can't be
// written, or another process is at work in it, it is taken as it is. free says
// whether it was claimed.
func (w *Workspace) ClaimIfFree(ctx context.Context) (free bool, err error) {
	lock := flock.New(w.disk.Own("busy"))
	if ok, err := lock.TryLock(); err != nil || !ok {
		return false, nil
	}
	w.busy = lock
	err = w.begun(ctx)
	var locked *unwritableError
	if errors.As(err, &locked) {
		w.busy = nil
		return false, lock.Unlock()
	}
	return true, err
}

// unwritableError says that the workspace's own folder can't be written.
type unwritableError struct{ refuse *fault.Error }

// Error gives the first sentence for people.
func (e *unwritableError) Error() string { return e.refuse.Error() }

// Unwrap gives the error for people.
func (e *unwritableError) Unwrap() error { return e.refuse }

// begun takes the workspace over from whoever had it before.
func (w *Workspace) begun(ctx context.Context) error {
	if err := errors.Join(w.loadRecord(), w.loadBase(ctx), w.loadUnsent(ctx)); err != nil { // another process may have moved on
		return err
	}
	temp := w.disk.Own("temp") // what a killed process has left
	err := os.RemoveAll(temp)
	if err == nil {
		err = os.MkdirAll(temp, disk.OwnFolder)
	}
	if err != nil {
		return &unwritableError{fault.New(fault.Unreachable, "Check that you may write there, and that the disk has room.",
			"The workspace can't be written: %w.", err)}
	}
	if w.Offline { // what was begun needs the chest to be finished
		return nil
	}
	if w.chestAt != "" && w.rec.location(w.Root) != w.chestAt { // it was moved
		w.rec.Chest = w.chestAt
		if err := w.save(); err != nil {
			return err
		}
	}
	if err := w.recover(ctx); err != nil {
		w.Unfinished = w.stopped(err)
	}
	return w.disk.ForgetRescued()
}

// save writes workspace.toml, whole or not at all.
func (w *Workspace) save() error {
	w.rec.Branch = w.Branch
	w.rec.Base = ""
	if w.Base.ID != (ledger.ID{}) {
		w.rec.Base = w.Base.ID.String()
		w.rec.BaseBranch, w.rec.BaseDepth, w.rec.BaseTree = w.Base.Branch, w.Base.Depth, disk.Hex(w.Base.Tree)
	}
	data, err := w.rec.encode()
	if err != nil {
		return err
	}
	return w.disk.WriteOwn("workspace.toml", data)
}

// BaseState is the state that changes are counted against: what the workspace was brought
// from, with the commits that are held here.
func (w *Workspace) BaseState() state.State {
	return state.Commit{Chest: w.Chest, Tree: w.tree(), Name: Label(w.Base)}
}

// Label writes a commit's address for people: BRANCH:NUMBER.
func Label(c ledger.Commit) string { return project.Label(c) }

func itoa(n int) string { return element.IntValue(int64(n)).Text() }

// ProjectPath gives the path in the project of a path that a person wrote, relative to dir. It must stay in the
// project.
func (w *Workspace) ProjectPath(dir, p string) (string, error) { return w.disk.ProjectPath(dir, p) }

// ReadOwnManifest gives the text of the workspace's oaken.toml; none when there is no file.
func (w *Workspace) ReadOwnManifest() ([]byte, error) {
	data, err := os.ReadFile(filepath.Join(w.Root, manifest.Name))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	return data, err
}

// EditManifest rewrites oaken.toml; the result must be well formed.
func (w *Workspace) EditManifest(edit func([]byte) ([]byte, error)) error {
	data, err := w.ReadOwnManifest()
	if err != nil {
		return err
	}
	out, err := edit(data)
	if err != nil {
		return err
	}
	m, err := recipe.Manifest(out, w.host.Kinds)
	if err != nil {
		return err
	}
	if err := w.disk.Write(manifest.Name, out, disk.FileMode(false)); err != nil {
		return err
	}
	w.Manifest = m
	w.leaveApart()
	return nil
}
