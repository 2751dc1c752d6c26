// Package local keeps a chest in a folder:
//
//	format       "oaken chest 3", the version of the whole
//	bales/       the bytes of files and of folder trees (core/content)
//	packs/       bytes that a program of format 2 wrote, until the chest is tidied
//	ledger.db    the records (core/ledger/tables)
//
// Several processes may use one chest at once, from several machines, where the folder's file system keeps
// SQLite's locks.
package local

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/enact"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
	"oakenchest/core/rights"
	"oakenchest/core/trace"
)

const (
	formatName = "oaken chest "
	// Version is the format that this program writes.
	Version = 3
	// oldest is the oldest format that it brings up.
	oldest = 2

	balesName  = "bales"
	formerName = "packs"
	ledgerName = "ledger.db"
)

// Folder is an open chest in a folder. It keeps the promises of chest.Store.
type Folder struct {
	Dir      string
	contents *content.Store
	ledger   *tables.Ledger
	now      func() time.Time
}

// Create makes a chest in dir, a folder that is missing or empty, with one branch without commits; now is its
// clock.
func Create(ctx context.Context, dir, author string, now func() time.Time) (*Folder, error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fault.New(fault.Refused, "Name an empty folder or one that does not exist yet.",
			"%s is not empty, so no chest was made in it.", dir)
	}
	var contents *content.Store
	err := rights.Folders(dir)
	if err == nil {
		contents, err = content.Open(filepath.Join(dir, balesName))
	}
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check the location and the rights to write there.",
			"No chest can be made in %s: %w.", dir, err)
	}
	records, err := tables.Create(ctx, filepath.Join(dir, ledgerName))
	if err != nil {
		return nil, errors.Join(err, contents.Close())
	}
	f := &Folder{Dir: dir, contents: contents, ledger: records, now: now}
	err = f.ledger.Update(ctx, func(tx *tables.Tx) error {
		return tx.AddBranch(ledger.Branch{Name: chest.FirstBranch, Author: author, Time: now()})
	})
	if err == nil {
		err = writeFormat(dir)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// writeFormat writes the file that makes a folder a chest, under a temporary name first.
func writeFormat(dir string) error {
	f, err := os.CreateTemp(dir, "format-*")
	if err != nil {
		return err
	}
	_, err = f.WriteString(formatName + strconv.Itoa(Version) + "\n")
	err = errors.Join(err, f.Chmod(rights.File(dir)), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), filepath.Join(dir, "format"))
	}
	if err != nil {
		_ = os.Remove(f.Name()) // it is of no use
	}
	return err
}

// Exists reports whether dir holds a chest.
func Exists(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, "format"))
	return err == nil
}

// readFormat gives the format of the chest in dir.
func readFormat(dir string) (int, error) {
	data, err := os.ReadFile(filepath.Join(dir, "format"))
	if err != nil {
		return 0, fault.New(fault.Unreachable, "Check that the location is right and that you can read it.",
			"There is no chest to open in %s.", dir)
	}
	version, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(string(data), formatName)))
	if err != nil || version < 1 || !strings.HasPrefix(string(data), formatName) {
		return 0, fault.New(fault.Damaged, "Bring the file back from a copy of the chest; its text is \"oaken chest 3\".",
			"The file %s does not say which format the chest has.", filepath.Join(dir, "format"))
	}
	if version < oldest { // its bytes have no sums; it was never in a release
		return 0, fault.New(fault.Unreachable, "Bring its files out with the program that wrote it, and begin a new chest with them.",
			"The chest in %s has format %d, from before the first release; this program reads format %d.", dir, version, Version)
	}
	if version > Version {
		return 0, fault.New(fault.Unreachable, "Use a newer oaken.", "The chest in %s has format %d; this program knows formats up to %d.",
			dir, version, Version)
	}
	return version, nil
}

// Open opens the chest in dir; one of an older format is brought up first.
func Open(ctx context.Context, dir string, now func() time.Time) (*Folder, error) {
	return open(ctx, dir, now, tables.Open)
}

// OpenServed is Open of a chest that this process alone uses.
func OpenServed(ctx context.Context, dir string, now func() time.Time) (*Folder, error) {
	return open(ctx, dir, now, tables.OpenServed)
}

func open(ctx context.Context, dir string, now func() time.Time, openRecords func(context.Context, string) (*tables.Ledger,
	error)) (*Folder,
	error) {
	version, err := readFormat(dir)
	if err != nil {
		return nil, err
	}
	if version < Version {
		if err := bringUp(ctx, dir); err != nil {
			return nil, err
		}
	}
	records, err := openRecords(ctx, filepath.Join(dir, ledgerName))
	var moved *ledger.MovedError
	switch {
	case err == nil:
	case errors.As(err, &moved), errors.Is(err, ledger.ErrNewer), errors.Is(err, ledger.ErrBusy), ctx.Err() != nil:
		return nil, chest.Explain(err)
	case !Exists(dir): // the connection went this very moment
		return nil, chest.Explain(ledger.ErrAway)
	default:
		return nil, fault.New(fault.Damaged, "Bring ledger.db back from a copy of the chest.",
			"The records of the chest in %s can't be read: %w.", dir, err)
	}
	contents, err := openContents(dir)
	if err != nil {
		return nil, errors.Join(chest.Explain(err), records.Close())
	}
	return &Folder{Dir: dir, contents: contents, ledger: records, now: now}, nil
}

func openContents(dir string) (*content.Store, error) {
	return content.Open(filepath.Join(dir, balesName), filepath.Join(dir, formerName))
}

// Close lets go of the chest.
func (f *Folder) Close() error { return errors.Join(f.ledger.Close(), f.contents.Close()) }

// Contents answers chest.Store, as do those below.
func (f *Folder) Contents() *content.Store { return f.contents }

func (f *Folder) Now() time.Time { return f.now() }

func (f *Folder) Place() string { return f.Dir }

func (f *Folder) View(ctx context.Context) (ledger.Records, error) {
	tx, err := f.ledger.View(ctx)
	if err != nil {
		return nil, err
	}
	return tx, nil
}

func (f *Folder) Do(ctx context.Context, r chest.Request) (out chest.Outcome, err error) {
	err = f.ledger.Update(ctx, func(tx *tables.Tx) error { out, err = enact.Do(tx, r, f.now()); return err })
	if err != nil {
		return chest.Outcome{}, err
	}
	return out, nil
}

func (f *Folder) Lease(ctx context.Context, s chest.LeaseStep) error {
	return f.ledger.Update(ctx, func(tx *tables.Tx) error { return enact.Step(tx, s) })
}

func (f *Folder) Tell(ctx context.Context, n chest.News) error {
	defer trace.Begin(ctx, trace.Sign, n.Workspace.Name)()
	return f.ledger.Update(ctx, func(tx *tables.Tx) error { return enact.Tell(tx, n) })
}

func (f *Folder) Register(ctx context.Context, w ledger.Workspace) (name string, err error) {
	defer trace.Begin(ctx, trace.Sign, w.Name)()
	err = f.ledger.Update(ctx, func(tx *tables.Tx) error { name, err = enact.Register(tx, w); return err })
	return name, err
}

func (f *Folder) Heard(ctx context.Context, workspace string, upTo int64) error {
	return f.ledger.Update(ctx, func(tx *tables.Tx) error { return enact.Heard(tx, workspace, upTo) })
}

func (f *Folder) Flaws(ctx context.Context) ([]string, error) {
	tx, err := f.ledger.View(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Close()
	return tx.Flaws()
}

// Since gives what happened to the records since a moment.
func (f *Folder) Since(ctx context.Context, m tables.Moment) (*tables.Happened, error) {
	tx, err := f.ledger.View(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Close()
	return tx.Since(m)
}

// Holds reports whether something other than a commit names a tree.
func (f *Folder) Holds(ctx context.Context, tree content.Digest) (bool, error) {
	tx, err := f.ledger.View(ctx)
	if err != nil {
		return false, err
	}
	defer tx.Close()
	return tx.Holds(hex.EncodeToString(tree[:]))
}

// Unshared lists what the group of the chest's folder can't use, though the folder is the group's; nothing
// where the folder is one person's.
func (f *Folder) Unshared() []string {
	return rights.Lacking(f.Dir, func(name string) bool { return strings.HasPrefix(name, ledgerName) })
}

// Writable reports whether whoever runs the program may write the chest's records and put bytes into it.
func (f *Folder) Writable() bool {
	file, err := os.OpenFile(filepath.Join(f.Dir, ledgerName), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	_ = file.Close() // nothing was written
	probe, err := f.probe()
	if err != nil {
		return false
	}
	return os.Remove(probe) == nil
}

// probe leaves an empty file among the bales, which the next Tidy would take away.
func (f *Folder) probe() (string, error) {
	probe, err := os.CreateTemp(filepath.Join(f.Dir, balesName), "writing-*")
	if err != nil {
		return "", err
	}
	return probe.Name(), probe.Close()
}

// SameAs reports whether another chest is this one, reached by another path: what is put into the one appears
// in the other.
func (f *Folder) SameAs(other *Folder) (bool, error) {
	if a, err := os.Stat(f.Dir); err == nil {
		if b, err := os.Stat(other.Dir); err == nil && os.SameFile(a, b) {
			return true, nil
		}
	}
	probe, err := f.probe()
	if err != nil {
		return false, chest.Explain(err)
	}
	defer os.Remove(probe)
	_, err = os.Stat(filepath.Join(other.Dir, balesName, filepath.Base(probe)))
	return err == nil, nil
}

// bringUp brings a chest of format 2 to the present one, while no program of that format is at work in it.
func bringUp(ctx context.Context, dir string) error {
	if err := waitForFormer(ctx, filepath.Join(dir, "holds")); err != nil {
		return err
	}
	err := rights.Folder(filepath.Join(dir, balesName))
	if err == nil {
		err = writeFormat(dir)
	}
	if err != nil {
		return fault.New(fault.Unreachable, "Ask who may write there to run any command of this oaken once.",
			"The chest in %s has an older format, and can't be brought to format %d: %w.", dir, Version, err)
	}
	_ = os.RemoveAll(filepath.Join(dir, "holds")) // it says nothing any more
	return nil
}

// formerLifetime is the age at which a file that said who is at work was void.
const formerLifetime = 75 * time.Second

// waitForFormer waits until no program of format 2 is at work in a chest: it wrote a file, and wrote it anew
// while it was at it.
func waitForFormer(ctx context.Context, holds string) error {
	for {
		probe, err := os.CreateTemp(filepath.Dir(holds), "format-*")
		if err != nil {
			return fault.New(fault.Unreachable, "Ask who may write there to run any command of this oaken once.",
				"The chest in %s has an older format, and can't be brought up: %w.", filepath.Dir(holds), err)
		}
		info, err := probe.Stat()
		_, _ = probe.Close(), os.Remove(probe.Name())
		if err != nil {
			return err
		}
		if !anyYoung(holds, info.ModTime()) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// anyYoung reports whether a folder has files that were written not long before a time of its file system, by
// processes that are at work.
func anyYoung(holds string, now time.Time) bool {
	entries, err := os.ReadDir(holds)
	if err != nil {
		return false
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || now.Sub(info.ModTime()) > formerLifetime {
			continue
		}
		if !deadHere(filepath.Join(holds, e.Name())) {
			return true
		}
	}
	return false
}

// deadHere reports whether a file of format 2 names a process of this machine that is gone.
func deadHere(file string) bool {
	data, err := os.ReadFile(file)
	if err != nil {
		return true
	}
	var owner struct {
		Machine string `json:"machine"`
		Process int    `json:"process"`
	}
	machine, _ := os.Hostname() // without a name only the age tells
	return json.Unmarshal(data, &owner) == nil && machine != "" && owner.Machine == machine && !running(owner.Process)
}
