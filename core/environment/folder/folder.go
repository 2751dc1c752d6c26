package folder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/schema/step"
)

// folderDriver reaches a plain folder: its files are the artifacts.
type driver struct {
	root string
	// links are the symbolic links that were seen when the files were read last.
	links []string
}

var _ environment.Driver = (*driver)(nil)

func open(_ context.Context, h environment.Host, rest string, _ environment.Settings) (environment.Driver, error) {
	root := h.File(rest)
	info, err := os.Stat(root)
	if err == nil && !info.IsDir() {
		return nil, fault.New(fault.Unreachable, "Name a folder.", "%s is a file, not a folder.", root)
	}
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(filepath.Dir(root)); err != nil {
			return nil, fault.New(fault.Unreachable, "Make it, or correct the target in oaken.toml.", "There is no folder %s.",
				filepath.Dir(root))
		}
	} else if err != nil {
		return nil, err
	}
	return &driver{root: root}, nil
}

// hidden are the names that never belong to what a folder holds.
func hidden(name string) bool { return name == ".oaken" || strings.HasPrefix(name, ".oaken-") }

func (d *driver) files(ctx context.Context) (environment.Files, error) {
	out := environment.Files{}
	d.links = nil
	err := filepath.WalkDir(d.root, func(p string, e fs.DirEntry, err error) error {
		switch {
		case err != nil && p == d.root && errors.Is(err, fs.ErrNotExist):
			return fs.SkipAll
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case hidden(e.Name()) && e.IsDir():
			return fs.SkipDir
		case hidden(e.Name()):
			return nil
		}
		name, err := filepath.Rel(d.root, p)
		if err == nil && e.Type()&fs.ModeSymlink != 0 {
			d.links = append(d.links, filepath.ToSlash(name))
		}
		if err == nil && e.Type().IsRegular() {
			out[filepath.ToSlash(name)], err = os.ReadFile(p)
		}
		return err
	})
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check the rights.", "The folder %s can't be read: %w.", d.root, err)
	}
	return out, nil
}

// Capture reads the files.
func (d *driver) Capture(ctx context.Context, have environment.Files) (*environment.Captured, error) {
	if _, err := os.Stat(d.root); err != nil {
		return nil, environment.Missing("Correct the target in oaken.toml, or make it with oaken deploy. For one that several people "+
			"share, the target is the whole path: others are taken from the folder of each workspace.", "There is no folder %s.", d.root)
	}
	there, err := d.files(ctx)
	if err != nil {
		return nil, err
	}
	c := &environment.Captured{Files: there, Edits: environment.Files{}, Tree: &element.Element{Type: "folder"}}
	for name, data := range there {
		c.Tree.Add(&element.Element{Type: "file", Key: name, Firm: true})
		if old, ok := have[name]; !ok || !bytes.Equal(old, data) {
			c.Edits[name] = data
		}
	}
	for name := range have {
		if _, ok := there[name]; !ok {
			c.Edits[name] = nil
		}
	}
	for _, l := range d.links {
		c.Untracked = append(c.Untracked, "the symbolic link "+l)
	}
	return c, nil
}

// Plan says which files are written, replaced and removed.
func (d *driver) Plan(ctx context.Context, declared environment.Files, past *environment.Past) (*environment.Plan, error) {
	there, err := d.files(ctx)
	if err != nil {
		return nil, err
	}
	declared = environment.With(declared, past.Restores())
	for name := range declared {
		for _, l := range d.links {
			if name == l || strings.HasPrefix(name, l+"/") {
				return nil, fault.New(fault.Refused,
					"Put a file or folder in its place, or leave it out of what is declared; nothing was changed.",
					"%s is a symbolic link in %s, and %s would go where it leads.", l, d.root, name)
			}
		}
	}
	runs := map[string]bool{}
	if past != nil {
		runs = past.Runs
	}
	var names []string
	for name := range environment.With(there, declared) {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { // what goes makes room first
		if x, y := hasName(declared, a), hasName(declared, b); x != y {
			if y {
				return -1
			}
			return 1
		}
		return strings.Compare(a, b)
	})
	p := &environment.Plan{}
	var differing []string
	for _, name := range names {
		old, was := there[name]
		data, is := declared[name]
		s := environment.Step{Address: element.Address{}.Below(element.Step{Type: "file", Key: name}), Effect: step.Instant}
		switch {
		case !is:
			s.What, s.Effect, s.Loss = "remove the file", step.Loses, "the file "+name
		case !was:
			s.What = "write the file"
		case !bytes.Equal(old, data):
			s.What = "replace the file"
		default:
			continue
		}
		p.Steps = append(p.Steps, s)
		differing = append(differing, name)
	}
	p.Before = func(context.Context) (environment.Files, error) { return there, nil }
	p.Apply = func(ctx context.Context, done func(int)) error {
		return d.apply(ctx, there, declared, runs, differing, done)
	}
	p.Save = func(_ context.Context, folder string) error {
		for _, name := range differing {
			if old, was := there[name]; was {
				if err := put(filepath.Join(folder, filepath.FromSlash(name)), old); err != nil {
					return environment.Unsaved(err)
				}
			}
		}
		return nil
	}
	return p, nil
}

func (d *driver) apply(ctx context.Context, planned, declared environment.Files, runs map[string]bool, differing []string,
	done func(int)) error {
	now, err := d.files(ctx)
	if err != nil {
		return err
	}
	for _, name := range differing {
		if old, was := planned[name]; !bytes.Equal(old, now[name]) || was != (now[name] != nil || hasName(now, name)) {
			return environment.ChangedSince("folder")
		}
	}
	for i, name := range differing {
		if err := d.set(name, declared, runs); err != nil {
			file := filepath.Join(d.root, filepath.FromSlash(name))
			for _, back := range differing[:i] {
				if undo := d.set(back, planned, nil); undo != nil {
					return fault.New(fault.Failed,
						"The files before it are as declared, the others as they were. Deploy again when it can be written.",
						"%s can't be written: %w.", file, err)
				}
			}
			return environment.Undone(fault.New(fault.Failed, "Nothing was changed. Deploy again when it can be written.",
				"%s can't be written: %w.", file, err))
		}
		if done != nil {
			done(i + 1)
		}
	}
	return d.proven(differing, declared)
}

// proven reads back what was written.
func (d *driver) proven(names []string, declared environment.Files) error {
	for _, name := range names {
		file := filepath.Join(d.root, filepath.FromSlash(name))
		want, wanted := declared[name]
		data, err := os.ReadFile(file)
		if wanted && (err != nil || !bytes.Equal(data, want)) || !wanted && err == nil {
			return fault.New(fault.Failed, "See whether another program writes there, and run the command again.",
				"%s is not what was just written.", file)
		}
	}
	return nil
}

// set makes one file what it is among others, where it may be missing.
func (d *driver) set(name string, files environment.Files, runs map[string]bool) error {
	file := filepath.Join(d.root, filepath.FromSlash(name))
	if data, is := files[name]; is {
		if err := put(file, data); err != nil || !runs[name] {
			return err
		}
		info, err := os.Stat(file)
		if err == nil && info.Mode()&0o100 == 0 { // whoever may read it, may run it
			err = os.Chmod(file, info.Mode().Perm()|info.Mode().Perm()>>2&0o111)
		}
		return err
	}
	err := os.Remove(file)
	for dir := path.Dir(name); err == nil && dir != "."; dir = path.Dir(dir) { // folders that are empty now go
		if os.Remove(filepath.Join(d.root, filepath.FromSlash(dir))) != nil {
			break
		}
	}
	return err
}

func hasName(files environment.Files, name string) bool { _, ok := files[name]; return ok }

// put writes a file whole or not at all. One that is there keeps its mode; a new one gets what
// the umask leaves.
func put(file string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o777); err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(filepath.Dir(file), fmt.Sprintf(".oaken-%016x", rand.Uint64())),
		os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	if info, there := os.Stat(file); there == nil {
		err = f.Chmod(info.Mode().Perm())
	}
	if err == nil {
		_, err = f.Write(data)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// Close has nothing to let go of.
func (d *driver) Close() error { return nil }
