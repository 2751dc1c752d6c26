package all

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/schema/step"
)

// fakeDriver holds files in memory and fails as it is told.
type fakeDriver struct {
	name  string
	files environment.Files
	log   *[]string
	// whole says that a plan is a transaction; failAt is the step before which it fails, 1
	// for the first; failures is how often it does.
	whole            bool
	failAt, failures int
	loses            bool
	closed           bool
}

func (d *fakeDriver) Capture(_ context.Context, have environment.Files) (*environment.Captured, error) {
	c := &environment.Captured{Files: maps.Clone(d.files), Edits: environment.Files{}, Tree: &element.Element{Type: "fake"},
		Untracked: []string{d.name + " has more"}}
	for name, data := range d.files {
		if string(have[name]) != string(data) {
			c.Edits[name] = data
		}
	}
	return c, nil
}

func (d *fakeDriver) Plan(_ context.Context, declared environment.Files, past *environment.Past) (*environment.Plan, error) {
	p := &environment.Plan{}
	if d.whole {
		p.Begin = []string{"begin"}
	}
	var names []string
	for name := range environment.With(d.files, declared) {
		if _, is := declared[name]; !is || string(d.files[name]) != string(declared[name]) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		s := environment.Step{What: name, Effect: step.Instant, Address: element.Address{}.Below(element.Step{Type: "file", Key: name})}
		if d.loses {
			s.Loss = name
		}
		p.Steps = append(p.Steps, s)
	}
	before := maps.Clone(d.files)
	p.Before = func(context.Context) (environment.Files, error) { return before, nil }
	if d.loses {
		p.Save = func(_ context.Context, folder string) error {
			file := filepath.Join(folder, "rows", d.name+".csv")
			return errors.Join(os.MkdirAll(filepath.Dir(file), 0o777), os.WriteFile(file, []byte("lost"), 0o666))
		}
	}
	p.Apply = func(_ context.Context, done func(int)) error {
		for i, name := range names {
			if i+1 == d.failAt && d.failures > 0 {
				d.failures--
				d.failAt = 1 // the next time at once
				if d.whole {
					d.files = maps.Clone(before)
				}
				return fmt.Errorf("%s fails at %s", d.name, name)
			}
			if data, is := declared[name]; is {
				d.files[name] = data
			} else {
				delete(d.files, name)
			}
			*d.log = append(*d.log, d.name+" "+name)
			if done != nil {
				done(i + 1)
			}
		}
		if len(past.Restores()) > 0 {
			*d.log = append(*d.log, d.name+" gets back "+strings.Join(slices.Sorted(maps.Keys(past.Restores())), " "))
		}
		return nil
	}
	return p, nil
}

func (d *fakeDriver) Close() error { d.closed = true; return nil }

func fakes(log *[]string) (database, folder *fakeDriver, all environment.Driver) {
	database = &fakeDriver{name: "database", files: environment.Files{"tank.sql": []byte("1")}, log: log, whole: true}
	folder = &fakeDriver{name: "folder", files: environment.Files{"a.txt": []byte("1"), "b.txt": []byte("1")}, log: log}
	return database, folder, environment.Together([]environment.Place{{Into: "db", Driver: database}, {Into: "signs/deep", Driver: folder}})
}

var wanted = environment.Files{"db/tank.sql": []byte("2"), "db/new.sql": []byte("2"), "signs/deep/a.txt": []byte("2")}

func TestTargetsChangeTogether(t *testing.T) {
	var log []string
	database, folder, all := fakes(&log)
	got, err := all.Capture(t.Context(), environment.Files{"db/tank.sql": []byte("1"), "other/x": []byte("no")})
	if err != nil {
		t.Fatal(err)
	}
	if len(got.Files) != 3 || len(got.Edits) != 2 || len(got.Untracked) != 2 || string(got.Files["signs/deep/b.txt"]) != "1" {
		t.Errorf("captured: %v", got)
	}
	p, err := all.Plan(t.Context(), wanted, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Steps) != 4 || p.Steps[0].Into != "db" || p.Steps[3].Into != "signs/deep" || len(p.Parts) != 2 {
		t.Errorf("steps: %v", p.Steps)
	}
	var told []int
	if err := p.Apply(t.Context(), func(n int) { told = append(told, n) }); err != nil {
		t.Fatal(err)
	}
	// What has no transactions goes first.
	if want := []string{"folder a.txt", "folder b.txt", "database new.sql", "database tank.sql"}; !slices.Equal(log, want) {
		t.Errorf("done: %v", log)
	}
	if !slices.Equal(told, []int{1, 2, 3, 4}) {
		t.Errorf("told: %v", told)
	}
	if _, is := folder.files["b.txt"]; is || string(database.files["new.sql"]) != "2" {
		t.Errorf("in the end: %v %v", database.files, folder.files)
	}
	before, err := p.Before(t.Context())
	if err != nil || len(before) != 3 || string(before["db/tank.sql"]) != "1" {
		t.Errorf("before: %v, %v", before, err)
	}
	if err := all.Close(); err != nil || !database.closed || !folder.closed {
		t.Errorf("closing: %v", err)
	}
}

func TestATargetThatFailsTakesTheOthersBack(t *testing.T) {
	for _, c := range []struct {
		name   string
		fails  func(database, folder *fakeDriver)
		undone bool
	}{
		{"the database, after the folder", func(d, _ *fakeDriver) { d.failAt, d.failures = 2, 1 }, true},
		{"the folder, half way", func(_, f *fakeDriver) { f.failAt, f.failures = 2, 1 }, true},
		{"the folder at once", func(_, f *fakeDriver) { f.failAt, f.failures = 1, 1 }, true},
		{"the folder, and taking it back too", func(_, f *fakeDriver) { f.failAt, f.failures = 2, 2 }, false},
		{"the database, and taking the folder back", func(d, f *fakeDriver) { d.failAt, d.failures, f.failAt, f.failures = 1, 1, 3, 1 },
			true},
	} {
		t.Run(c.name, func(t *testing.T) {
			var log []string
			database, folder, all := fakes(&log)
			c.fails(database, folder)
			p, err := all.Plan(t.Context(), wanted, nil)
			if err != nil {
				t.Fatal(err)
			}
			err = p.Apply(t.Context(), nil)
			if err == nil {
				t.Fatal("nothing failed")
			}
			same := string(database.files["tank.sql"]) == "1" && len(database.files) == 1 && string(folder.files["a.txt"]) == "1" &&
				len(folder.files) == 2
			if same != c.undone || environment.NothingDone(err) != c.undone {
				t.Errorf("as before: %v, told so: %v: %v %v %v", same, environment.NothingDone(err), err, database.files, folder.files)
			}
			if !c.undone {
				var f *fault.Error
				if !errors.As(err, &f) || !strings.Contains(f.What, "could not be taken back in signs/deep") ||
					!strings.Contains(f.Hint, "run the command once more") {
					t.Errorf("the message: %v", err)
				}
			}
		})
	}
}

func TestWhatLosesDataComesLast(t *testing.T) {
	var log []string
	one := &fakeDriver{name: "one", files: environment.Files{"x": []byte("1")}, log: &log, whole: true, loses: true}
	two := &fakeDriver{name: "two", files: environment.Files{"x": []byte("1")}, log: &log, whole: true}
	all := environment.Together([]environment.Place{{Into: "a", Driver: one}, {Into: "b", Driver: two}})
	p, err := all.Plan(t.Context(), environment.Files{"a/x": []byte("2"), "b/x": []byte("2")}, nil)
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	if err := p.Save(t.Context(), folder); err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(filepath.Join(folder, "a", "rows", "one.csv")); err != nil || string(data) != "lost" {
		t.Errorf("saved: %q, %v", data, err)
	}
	if err := p.Apply(t.Context(), nil); err != nil || !slices.Equal(log, []string{"two x", "one x"}) {
		t.Errorf("done: %v, %v", log, err)
	}
	// When the last one fails, the one before gets its data back.
	log = nil
	one.files["x"], two.files["x"] = []byte("1"), []byte("1")
	two.loses, one.failAt, one.failures = true, 1, 1
	if p, err = all.Plan(t.Context(), environment.Files{"a/x": []byte("2"), "b/x": []byte("2")}, nil); err != nil {
		t.Fatal(err)
	}
	if err := p.Apply(t.Context(), nil); !environment.NothingDone(err) {
		t.Errorf("failed: %v", err)
	}
	if len(log) > 0 && !slices.Contains(log, "two gets back rows/two.csv") {
		t.Errorf("done: %v", log)
	}
	// A single target is as it would be alone.
	single, err := environment.Together([]environment.Place{{Into: "a", Driver: two}}).Plan(t.Context(),
		environment.Files{"a/x": []byte("3")}, nil)
	if err != nil || !single.Whole() || len(single.Parts) != 0 {
		t.Errorf("a single target: %v, %v", single, err)
	}
}

func TestEmptyFoldersGoWithTheirLastFile(t *testing.T) {
	root := filepath.Join(t.TempDir(), "signs")
	d, err := environment.Open(t.Context(), environment.Host{}, "folder:"+root, environment.Settings{})
	if err != nil {
		t.Fatal(err)
	}
	deployAll(t, d, environment.Files{"a/b/c.txt": []byte("1"), "a/d.txt": []byte("1")})
	deployAll(t, d, environment.Files{"a/d.txt": []byte("1"), "x": []byte("1")})
	deployAll(t, d, environment.Files{"a/d.txt": []byte("1"), "x/y": []byte("2")}) // a folder in a file's place
	deployAll(t, d, environment.Files{"a/d.txt": []byte("1"), "x": []byte("3")})   // and back
	if _, err := os.Stat(filepath.Join(root, "a", "b")); err == nil {
		t.Error("an empty folder stays")
	}
	if _, err := os.Stat(filepath.Join(root, "a", "d.txt")); err != nil {
		t.Error(err)
	}
}

// TestATargetWithNothingInItIsNotMissing deploys to two folders, one of which has nothing declared: what was proven then is
// what is read afterwards. When both are gone, or one that something belongs into, that is told.
func TestATargetWithNothingInItIsNotMissing(t *testing.T) {
	root := t.TempDir()
	var places []environment.Place
	for _, name := range []string{"signs", "more"} {
		d, err := environment.Open(t.Context(), environment.Host{Root: root}, "folder:"+name, environment.Settings{})
		if err != nil {
			t.Fatal(err)
		}
		places = append(places, environment.Place{Into: name, Driver: d})
	}
	both, files := environment.Together(places), environment.Files{"signs/a.txt": []byte("1")}
	if _, err := both.Capture(t.Context(), environment.Files{}); !errors.Is(err, environment.ErrMissing) {
		t.Errorf("nothing is there yet: %v", err)
	}
	p, err := both.Plan(t.Context(), files, nil)
	if err == nil {
		err = p.Apply(t.Context(), nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	if got, err := both.Capture(t.Context(), files); err != nil || len(got.Edits) != 0 || len(got.Files) != 1 {
		t.Errorf("after the deployment: %+v, %v", got, err)
	}
	files["more/b.txt"] = []byte("2")
	if _, err := both.Capture(t.Context(), files); !errors.Is(err, environment.ErrMissing) {
		t.Errorf("a folder that is gone with what belongs into it: %v", err)
	}
}
