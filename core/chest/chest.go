// Package chest is the repository of one project: blobs and ledger together.
//
// A chest lies in a folder:
//
//	format       "oaken chest 2", the version of the whole
//	packs/       the bytes of files and of folder trees (core/blob)
//	ledger.db    commits, branches, releases, locks, deployments (core/ledger)
//	holds/       leases: who makes a commit, tidies the chest, or makes one pack of small ones
//
// Bytes are written and synchronised before the records that name them, so a
// process killed at any instant leaves a chest that opens, with everything that
// was acknowledged. Several processes may use one chest at once.
package chest

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"oakenchest/core/blob"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/rights"
)

const (
	formatName = "oaken chest "
	// Version is the format that this program writes.
	Version = 2
	// FirstBranch is the branch that a new chest has.
	FirstBranch = "main"
)

// Chest is an open repository.
type Chest struct {
	Dir    string
	Blobs  *blob.Store
	Ledger *ledger.Ledger
	// Warden, when set, is asked before the first branch moves.
	Warden Warden
	trees  treeCache
}

// Create makes a chest in dir, a folder that is missing or empty, with one
// branch without commits.
func Create(ctx context.Context, dir, author string, now time.Time) (*Chest, error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fault.New(fault.Refused, "Name an empty folder or one that does not exist yet.", "%s is not empty, so no chest was made in it.", dir)
	}
	var blobs *blob.Store
	err := rights.Folders(dir)
	if err == nil {
		blobs, err = blob.Open(filepath.Join(dir, "packs"))
	}
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check the location and the rights to write there.", "No chest can be made in %s: %w.", dir, err)
	}
	records, err := ledger.Create(ctx, filepath.Join(dir, "ledger.db"))
	if err != nil {
		return nil, errors.Join(err, blobs.Close())
	}
	c := &Chest{Dir: dir, Blobs: blobs, Ledger: records}
	err = records.Update(ctx, func(tx *ledger.Tx) error {
		return tx.AddBranch(ledger.Branch{Name: FirstBranch, Author: author, Time: now})
	})
	if err == nil {
		err = writeFormat(dir)
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// writeFormat writes the file that makes a folder a chest.
func writeFormat(dir string) error {
	name := filepath.Join(dir, "format")
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	_, err = f.WriteString(formatName + strconv.Itoa(Version) + "\n")
	return errors.Join(err, f.Chmod(rights.File(dir)), f.Sync(), f.Close())
}

// Unshared lists what the group of the chest's folder can't use, though the folder is the group's; nothing
// where the folder is one person's.
func (c *Chest) Unshared() []string {
	return rights.Lacking(c.Dir, func(name string) bool { return strings.HasPrefix(name, "ledger.db") })
}

// Writable reports whether whoever runs the program may write the chest's records and put bytes into it.
func (c *Chest) Writable() bool {
	f, err := os.OpenFile(filepath.Join(c.Dir, "ledger.db"), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	_ = f.Close() // nothing was written
	probe, err := os.CreateTemp(filepath.Join(c.Dir, "packs"), "writing-*")
	if err != nil {
		return false
	}
	return errors.Join(probe.Close(), os.Remove(probe.Name())) == nil
}

// Exists reports whether dir holds a chest.
func Exists(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, "format"))
	return err == nil
}

// Open opens the chest in dir.
func Open(ctx context.Context, dir string) (*Chest, error) {
	data, err := os.ReadFile(filepath.Join(dir, "format"))
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check that the location is right and that you can read it.", "There is no chest to open in %s.", dir)
	}
	version, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(string(data), formatName)))
	if err != nil || version < 1 || !strings.HasPrefix(string(data), formatName) {
		return nil, fault.New(fault.Damaged, "Bring the file back from a copy of the chest; its text is \"oaken chest 2\".", "The file %s does not say which format the chest has.", filepath.Join(dir, "format"))
	}
	if version < Version { // its packs have no sums; it was never in a release
		return nil, fault.New(fault.Unreachable, "Bring its files out with the program that wrote it, and begin a new chest with them.", "The chest in %s has format %d, from before the first release; this program reads format %d.", dir, version, Version)
	}
	if version > Version {
		return nil, fault.New(fault.Unreachable, "Use a newer oaken.", "The chest in %s has format %d; this program knows formats up to %d.", dir, version, Version)
	}
	records, err := ledger.Open(ctx, filepath.Join(dir, "ledger.db"))
	var moved *ledger.MovedError
	switch {
	case err == nil:
	case errors.As(err, &moved):
		return nil, Explain(err)
	case !Exists(dir): // the connection went this very moment
		return nil, Explain(ledger.ErrAway)
	default:
		return nil, fault.New(fault.Damaged, "Bring ledger.db back from a copy of the chest.", "The records of the chest in %s can't be read: %w.", dir, err)
	}
	blobs, err := blob.Open(filepath.Join(dir, "packs"))
	if err != nil {
		return nil, errors.Join(Explain(err), records.Close())
	}
	return &Chest{Dir: dir, Blobs: blobs, Ledger: records}, nil
}

// Away stands for a chest in dir that is out of reach: blobs is what is at hand of its
// folders.
func Away(dir string, blobs *blob.Store) *Chest {
	blobs.Partial()
	return &Chest{Dir: dir, Blobs: blobs}
}

// Close lets go of the chest.
func (c *Chest) Close() error { return errors.Join(c.Ledger.Close(), c.Blobs.Close()) }

// lostFile reports whether an error says that a file of a chest, or the chest itself, is
// not there: the connection to its place is lost.
func lostFile(err error) bool {
	if !errors.Is(err, os.ErrNotExist) {
		return false
	}
	var at *os.PathError
	var between *os.LinkError
	file := ""
	switch {
	case errors.As(err, &at):
		file = at.Path
	case errors.As(err, &between):
		file = between.Old
	}
	name, dir := filepath.Base(file), filepath.Base(filepath.Dir(file))
	switch {
	case name == "packs" || name == "holds" || dir == "holds":
		return true
	case dir == "packs": // of a project's own folder of that name, no file is called so
		return strings.HasPrefix(name, "writing-") || strings.HasSuffix(name, ".pack") || strings.HasSuffix(name, ".index")
	}
	return false
}

// Explain turns the errors of the floors below into errors for people.
func Explain(err error) error {
	var known *fault.Error
	var damage *blob.DamageError
	var moved *ledger.MovedError
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case errors.As(err, &moved):
		return fault.New(fault.Unreachable, "Run the command again. If it is not found there, name the place as it is called here: oaken relocate LOCATION in a workspace, else oaken open LOCATION.", "The chest was moved: %w.", err)
	case errors.As(err, &damage):
		return fault.New(fault.Damaged, "Bring that file back from a copy of the chest; everything else in it can still be read.", "Stored bytes are damaged: %w.", err)
	case errors.Is(err, blob.ErrMissing):
		return fault.New(fault.Damaged, "A pack file of the chest is missing; bring it back from a copy.", "The chest should hold some content and does not: %w.", err)
	case errors.Is(err, ledger.ErrDamaged):
		return fault.New(fault.Damaged, "Bring ledger.db back from a copy of the chest; oaken health says more.", "The chest's ledger.db can't be read: %w.", err)
	case errors.Is(err, ledger.ErrFull):
		return fault.New(fault.Unreachable, "Make room on the disk of the chest, and run the command again; nothing was recorded.", "The chest can't be written: %w.", err)
	case errors.Is(err, ledger.ErrReadOnly):
		return fault.New(fault.Unreachable, "Check that you may write there, and run the command again.", "The chest can't be written: %w.", err)
	case errors.Is(err, ledger.ErrAway), errors.Is(err, blob.ErrElsewhere), lostFile(err):
		return fault.New(fault.Unreachable, "Check the connection to its place. Until it is back, oaken changes and oaken commit work here, and oaken sync publishes afterwards.", "The chest is out of reach.")
	case errors.Is(err, ledger.ErrBusy):
		return fault.New(fault.Unreachable, "Try again in a moment.", "Another program is writing to the chest and did not finish in time.")
	}
	return err
}
