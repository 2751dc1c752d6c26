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
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
)

// Folder is the name of the workspace's own folder.
const Folder = ".oaken"

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
}

func (h Host) progress(what string, done, total int) {
	if h.Progress != nil {
		h.Progress(what, done, total)
	}
}

// record is workspace.toml.
type record struct {
	Format int    `toml:"format"`
	Person string `toml:"person"`
	Name   string `toml:"name"`
	Chest  string `toml:"chest"`
	Branch string `toml:"branch"`
	Base   string `toml:"base"`
	// BaseBranch, BaseDepth and BaseTree say of the base what is needed while the chest is
	// out of reach.
	BaseBranch string `toml:"base-branch,omitempty"`
	BaseDepth  int    `toml:"base-depth,omitempty"`
	BaseTree   string `toml:"base-tree,omitempty"`
	// Mark tells this workspace from others of its name.
	Mark string `toml:"mark,omitempty"`
	// People lists those besides Person who have worked here.
	People []string `toml:"people,omitempty"`
	// Waived lists what is edited here without its lock.
	Waived []string `toml:"waived,omitempty"`
	// Guarded says that files which need a lock were made read-only for the first time.
	Guarded bool `toml:"guarded,omitempty"`
	// Only lists the patterns of a partial workspace.
	Only []string `toml:"only,omitempty"`
	Sum  string   `toml:"sum,omitempty"`
}

// location gives the place of the chest of a workspace in a folder.
func (r record) location(root string) string {
	if r.Chest == "" {
		return filepath.Join(root, Folder, "chest")
	}
	return r.Chest
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
	folder     *local.Folder // of the chest; nil when it is out of reach
	chestAt    string        // of the chest, as it was found
	held       []heldCommit
	pocket     *content.Store // the contents of held commits, and the base's folders
	registered bool
	alone      *bool // whether no other workspace is known; nil when not asked yet
	learnt     bool  // whether the index knows more than its file
	loosened   bool  // whether files that need no lock are being made writable
	busy       *flock.Flock
	index      *index
	// unread holds the files whose digest the last scan left out.
	unread map[string]found
}

// BeginOptions are the choices of Begin.
type BeginOptions struct {
	// Chest is a folder for the chest; empty embeds it in the workspace.
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
	person := o.Person
	if person == "" {
		person = host.Person
	}
	own := filepath.Join(root, Folder)
	w := inFolder(root, host)
	w.Person, w.Branch, w.Manifest = person, chest.FirstBranch, existing
	w.rec = record{Format: formatVersion, Person: person, Name: workspaceName(person, host.Machine, root), Branch: chest.FirstBranch, Chest: o.Chest}
	w.Name = w.rec.Name
	if err := os.MkdirAll(filepath.Join(own, "temp"), ownFolder); err != nil {
		return nil, fault.New(fault.Refused, "Check the rights on the folder.", "%s can't be written: %w.", folder, err)
	}
	f, err := w.makeChest(ctx, o.Chest)
	if err == nil {
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
	w.index = newIndex()
	return w, nil
}

func (w *Workspace) makeChest(ctx context.Context, location string) (*local.Folder, error) {
	if location == "" {
		return local.Create(ctx, filepath.Join(w.Root, Folder, "chest"), w.Person, w.host.Now)
	}
	abs, err := filepath.Abs(location)
	if err != nil {
		return nil, err
	}
	if local.Exists(abs) {
		return nil, fault.New(fault.Refused, "Name a new place for the chest.", "There is a chest in %s already.", location)
	}
	if rel, err := filepath.Rel(w.Root, abs); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return nil, fault.New(fault.Usage, "Leave --chest out to keep it in the workspace, or name a place outside of the folder.", "The chest's place %s lies inside the folder that it is to hold.", location)
	}
	w.rec.Chest = abs
	return local.Create(ctx, abs, w.Person, w.host.Now)
}

// inFolder is a workspace of which nothing is known but where it is.
func inFolder(root string, host Host) *Workspace {
	return &Workspace{Root: root, host: host, Project: &project.Project{Kinds: host.Kinds, Now: host.Now}}
}

// use makes a chest in a folder the workspace's.
func (w *Workspace) use(f *local.Folder) {
	w.folder, w.Chest = f, chest.New(f)
	w.Chest.Warden, w.Chest.Actor = w.warden(), w.actor()
}

// actor is who acts in the workspace.
func (w *Workspace) actor() chest.Actor { return chest.Actor{Person: w.Person, Workspace: w.Name} }

// Place gives the folder of the chest; nil when it is out of reach.
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
		return nil, fault.New(fault.Unreachable, "Run oaken begin to put a folder under control, or name one with --in FOLDER.", "%s is in no workspace: no folder above it is under control.", dir)
	}
	w := inFolder(root, host)
	if err := w.loadRecord(); err != nil {
		return nil, err
	}
	w.Person, w.Name = w.rec.Person, w.rec.Name
	if person != "" && person != w.rec.Person {
		w.Person, w.Name = person, workspaceName(person, host.Machine, root)
		w.Stranger = !slices.Contains(w.rec.People, person)
	}
	var f *local.Folder
	f, w.chestAt, err = openChest(ctx, w.rec.location(root), host.Now)
	if err == nil {
		w.use(f)
	}
	if fault.CodeOf(err) == fault.Unreachable && !local.Exists(w.chestAt) {
		err = w.goOffline(w.chestAt, err)
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
	if err := errors.Join(w.loadBase(ctx), w.loadHeld(ctx)); err != nil {
		w.Close()
		return nil, err
	}
	return w, w.loadManifest()
}

// loadRecord reads workspace.toml.
func (w *Workspace) loadRecord() error {
	data, err := os.ReadFile(filepath.Join(w.Root, Folder, "workspace.toml"))
	if err != nil {
		return err
	}
	if w.rec, err = decodeRecord(data); err != nil {
		return fault.New(fault.Damaged, "Bring it back from a copy, or get a new workspace of the chest with oaken open.", "The workspace's own file %s can't be read: %w.", filepath.Join(Folder, "workspace.toml"), err)
	}
	if w.rec.Format > formatVersion {
		return fault.New(fault.Unreachable, "Use a newer oaken.", "The workspace has format %d; this program knows formats up to %d.", w.rec.Format, formatVersion)
	}
	w.Branch = w.rec.Branch
	return nil
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
	f, _, err := openChest(ctx, location, host.Now)
	if err != nil {
		return nil, err
	}
	c := chest.New(f)
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
		return fault.New(fault.Damaged, "Bring the workspace's own files back from a copy.", "The workspace does not know which commit it is at: %w.", err)
	}
	if w.Offline {
		w.Base = ledger.Commit{ID: id, Branch: w.rec.BaseBranch, Depth: w.rec.BaseDepth}
		w.Base.Tree, err = fromHex(w.rec.BaseTree)
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
	if w.pocket != nil && !w.Offline {
		err = errors.Join(err, w.pocket.Close())
	}
	return errors.Join(err, w.Chest.Close())
}

// Claim keeps other processes from changing the workspace until Close, and
// finishes what a killed one has begun. It waits for others for a while.
func (w *Workspace) Claim(ctx context.Context) error {
	if w.busy != nil {
		return nil
	}
	lock := flock.New(filepath.Join(w.Root, Folder, "busy"))
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
	lock := flock.New(filepath.Join(w.Root, Folder, "busy"))
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
	if err := errors.Join(w.loadRecord(), w.loadBase(ctx), w.loadHeld(ctx)); err != nil { // another process may have moved on
		return err
	}
	temp := filepath.Join(w.Root, Folder, "temp") // what a killed process has left
	err := os.RemoveAll(temp)
	if err == nil {
		err = os.MkdirAll(temp, ownFolder)
	}
	if err != nil {
		return &unwritableError{fault.New(fault.Unreachable, "Check that you may write there, and that the disk has room.", "The workspace can't be written: %w.", err)}
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
	return w.forgetRescued()
}

// save writes workspace.toml, whole or not at all.
func (w *Workspace) save() error {
	w.rec.Branch = w.Branch
	w.rec.Base = ""
	if w.Base.ID != (ledger.ID{}) {
		w.rec.Base = w.Base.ID.String()
		w.rec.BaseBranch, w.rec.BaseDepth, w.rec.BaseTree = w.Base.Branch, w.Base.Depth, hexOf(w.Base.Tree)
	}
	data, err := w.rec.encode()
	if err != nil {
		return err
	}
	return w.writeOwn("workspace.toml", data)
}

// ownMode and ownFolder are what the workspace's own files may be at most, whatever the umask: others never
// write what commands go by.
const (
	ownMode   = os.FileMode(0o664)
	ownFolder = os.FileMode(0o775)
)

// writeOwn writes a file of the workspace's own folder by way of a temporary one.
func (w *Workspace) writeOwn(name string, data []byte) error {
	temp, err := w.temporary(data, ownMode&^umask)
	if err != nil {
		return err
	}
	return os.Rename(temp, filepath.Join(w.Root, Folder, name))
}

// temporary writes data, synchronised, under a name of its own.
func (w *Workspace) temporary(data []byte, mode os.FileMode) (string, error) {
	dir := filepath.Join(w.Root, Folder, "temp")
	if err := os.MkdirAll(dir, ownFolder); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(dir, "w-*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		os.Remove(f.Name())
	}
	return f.Name(), err
}

// BaseState is the state that changes are counted against: what the workspace was brought
// from, with the commits that are held here.
func (w *Workspace) BaseState() state.State {
	return state.Commit{Chest: w.Chest, Tree: w.tree(), Name: Label(w.Base)}
}

// Label writes a commit's address for people: BRANCH:NUMBER.
func Label(c ledger.Commit) string { return project.Label(c) }

func itoa(n int) string { return element.IntValue(int64(n)).Text() }

// ProjectPath gives the path in the project of a path that a person wrote,
// relative to dir. It must stay in the project.
func (w *Workspace) ProjectPath(dir, p string) (string, error) {
	abs := p
	if !filepath.IsAbs(p) {
		abs = filepath.Join(dir, p)
	}
	rel, err := filepath.Rel(w.Root, abs)
	rel = filepath.ToSlash(rel)
	if err != nil || rel == ".." || strings.HasPrefix(rel, "../") {
		return "", fault.New(fault.Usage, "Name a path inside "+w.Root+".", "%s is outside of the project.", p)
	}
	if rel == Folder || strings.HasPrefix(rel, Folder+"/") {
		return "", fault.New(fault.Usage, "Name a path of the project itself.", "%s belongs to the workspace's own state.", p)
	}
	return rel, nil
}

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
	if err := w.write(manifest.Name, out, 0o666&^umask); err != nil {
		return err
	}
	w.Manifest = m
	w.leaveApart()
	return nil
}
