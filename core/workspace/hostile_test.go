package workspace

import (
	"database/sql"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/chest/local"
	"oakenchest/core/content"
	"oakenchest/core/fault"
)

// crafted writes chests by the documents alone, not by the code that refuses what must not be.
type crafted struct {
	t     *testing.T
	chest *chest.Chest
	batch *content.Batch
}

type craftedEntry struct {
	mode   byte
	name   string
	size   uint64
	digest content.Digest
}

func craft(t *testing.T, dir string) *crafted {
	t.Helper()
	f, err := local.Create(t.Context(), dir, "Mallory", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c := chest.New(f)
	return &crafted{t, c, c.Contents.Begin(t.Context())}
}

func (c *crafted) put(data string) content.Digest {
	d, err := c.batch.PutBytes([]byte(data))
	if err != nil {
		c.t.Fatal(err)
	}
	return d
}

func (c *crafted) folder(entries ...craftedEntry) content.Digest {
	slices.SortStableFunc(entries, func(a, b craftedEntry) int { return strings.Compare(a.name, b.name) })
	out := binary.AppendUvarint([]byte("OAKTREE\x01"), uint64(len(entries)))
	for _, e := range entries {
		out = binary.AppendUvarint(append(out, e.mode), uint64(len(e.name)))
		out = binary.AppendUvarint(append(out, e.name...), e.size)
		out = append(out, e.digest[:]...)
	}
	return c.put(string(out))
}

// publish makes the tree the first commit of main, and closes the chest.
func (c *crafted) publish(tree content.Digest) {
	c.t.Helper()
	err := c.batch.Commit()
	if err == nil {
		_, err = c.chest.Publish(c.t.Context(), chest.Draft{Branch: chest.FirstBranch, Tree: tree, Author: "Mallory", Workspace: "m",
			Time: time.Now(), Message: "x"})
	}
	if err == nil {
		err = c.chest.Close()
	}
	if err != nil {
		c.t.Fatal(err)
	}
}

// openHostile lays a crafted chest out beside files that must stay as they are.
func openHostile(t *testing.T, location string) (root string, err error) {
	t.Helper()
	top := t.TempDir()
	victim := filepath.Join(top, "victim")
	if err := os.MkdirAll(victim, 0o777); err != nil {
		t.Fatal(err)
	}
	keep := filepath.Join(victim, "keep.txt")
	if err := os.WriteFile(keep, []byte("mine"), 0o666); err != nil {
		t.Fatal(err)
	}
	root = filepath.Join(top, "work")
	begun := time.Now()
	w, err := Join(t.Context(), testHost(), location, root, JoinOptions{})
	if err == nil {
		if w.Person != "Imke" {
			t.Errorf("the workspace is %s's", w.Person)
		}
		if _, failed := w.Changes(t.Context()); failed != nil {
			t.Logf("changes: %v", failed)
		}
		err = w.Close()
		if _, again := decodeRecordIn(root); again != nil {
			t.Errorf("the workspace's own record was written over: %v", again)
		}
	}
	if took := time.Since(begun); took > 20*time.Second {
		t.Errorf("it took %v", took)
	}
	entries, _ := os.ReadDir(top)
	inside, _ := os.ReadDir(victim)
	if data, _ := os.ReadFile(keep); string(data) != "mine" || len(inside) != 1 || len(entries) > 2 {
		t.Fatalf("something was written outside of the workspace: %q, %v, %v", data, inside, entries)
	}
	return root, err
}

func decodeRecordIn(root string) (record, error) {
	data, err := os.ReadFile(filepath.Join(root, Folder, "workspace.toml"))
	if err != nil {
		return record{}, err
	}
	return decodeRecord(data)
}

// spellings are names that some file system takes for the workspace's own folder.
var spellings = []string{".oaken", ".OAKEN", ".Oaken", ".oaken.", ".oaken ", ".oaken. .", ".oaken::$INDEX_ALLOCATION", "OAKEN~1",
	"oaken~12", ".oa\u200cken", "\u200b.oaken", ".o\ufeffaken", ".oaken\ufe0f", "\uff0eoaken"}

func TestTheOwnFolderIsNeverOfAProject(t *testing.T) {
	dir := t.TempDir()
	c := craft(t, filepath.Join(dir, "chest"))
	evil := c.put("person = 'Mallory'\n")
	own := c.folder(craftedEntry{'f', "workspace.toml", 19, evil}, craftedEntry{'f', "journal.json", 19, evil})
	entries := []craftedEntry{{'f', "plain.txt", 19, evil}, {'f', ".oakenish", 19, evil}, {'f', "oaken", 19, evil},
		{'f', "oaken~x", 19, evil}}
	for i, name := range spellings {
		if i%2 == 0 {
			entries = append(entries, craftedEntry{'d', name, 0, own})
		} else {
			entries = append(entries, craftedEntry{'l', name, 3, c.put("../victim")})
		}
	}
	inner := c.folder(slices.Clone(entries)...)
	c.publish(c.folder(append(entries, craftedEntry{'d', "inner", 0, inner})...))
	root, err := openHostile(t, filepath.Join(dir, "chest"))
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []string{root, filepath.Join(root, "inner")} {
		list, _ := os.ReadDir(at)
		var names []string
		for _, e := range list {
			if at == root && e.Name() == Folder {
				continue
			}
			names = append(names, e.Name())
		}
		want := []string{".oakenish", "oaken", "oaken~x", "plain.txt"}
		if at == root {
			want = []string{".oakenish", "inner", "oaken", "oaken~x", "plain.txt"}
		}
		if !slices.Equal(names, want) {
			t.Errorf("%s: %q", at, names)
		}
	}
}

// TestTreesAreBounded opens trees that few bytes make endless.
func TestTreesAreBounded(t *testing.T) {
	for name, grow := range map[string]func(c *crafted, below content.Digest) content.Digest{
		"wide": func(c *crafted, below content.Digest) content.Digest {
			var out []craftedEntry
			for i := range 40 {
				out = append(out, craftedEntry{'d', fmt.Sprint("d", i), 0, below})
			}
			return c.folder(out...)
		},
		"deep": func(c *crafted, below content.Digest) content.Digest {
			for range 3000 {
				below = c.folder(craftedEntry{'d', "deepdeep", 0, below})
			}
			return below
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			c := craft(t, filepath.Join(dir, "chest"))
			at := c.folder(craftedEntry{'f', "x", 1, c.put("x")})
			for range 6 {
				at = grow(c, at)
			}
			c.publish(at)
			if _, err := openHostile(t, filepath.Join(dir, "chest")); fault.CodeOf(err) != fault.Damaged {
				t.Errorf("%v", err)
			}
		})
	}
}

// FuzzOpen lays out trees that a stranger made: names, modes, sizes and links at will, some of its bytes
// changed afterwards. Nothing outside of the workspace is touched, nothing of its own is written over, and
// nothing but an error comes of it.
func FuzzOpen(f *testing.F) {
	for seed := range uint64(12) {
		f.Add(seed, byte(seed%3), "..\x00../victim/keep.txt\x00a/b\x00.oaken\x00link\x00\\x\x00C:\x00-\x00..\\victim")
	}
	f.Fuzz(func(t *testing.T, seed uint64, harm byte, text string) {
		r := rand.New(rand.NewPCG(seed, 5))
		words := append(strings.Split(text, "\x00"), spellings...)
		words = append(words, "a", "b", "link", "oaken.toml", "../victim/keep.txt", "../victim", "/", ".", "..", "a/../../victim")
		dir := t.TempDir()
		c := craft(t, filepath.Join(dir, "chest"))
		toml := c.put("project = \"x\"\n" + text + "\n")
		var grow func(deep int) content.Digest
		grow = func(deep int) content.Digest {
			var out []craftedEntry
			for range r.IntN(7) {
				e := craftedEntry{"fxldq\x00"[r.IntN(6)], words[r.IntN(len(words))], r.Uint64N(50), content.Digest{}}
				switch {
				case e.mode == 'd' && deep > 0:
					e.digest = grow(deep - 1)
				case e.name == "oaken.toml":
					e.digest = toml
				case r.IntN(9) > 0:
					e.digest = c.put(words[r.IntN(len(words))])
				}
				out = append(out, e)
			}
			return c.folder(out...)
		}
		c.publish(grow(4))
		if harm%3 > 0 {
			damage(t, r, filepath.Join(dir, "chest"), harm%3 == 1)
		}
		_, err := openHostile(t, filepath.Join(dir, "chest"))
		if err != nil && fault.CodeOf(err) == fault.Failed {
			t.Logf("without a word for people: %v", err)
		}
	})
}

// damage changes a few bytes of a chest: of its records, or of its bales.
func damage(t *testing.T, r *rand.Rand, dir string, records bool) {
	files, _ := filepath.Glob(filepath.Join(dir, "bales", "*"))
	if records {
		files = []string{filepath.Join(dir, "ledger.db"), filepath.Join(dir, "format")}
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for range 1 + r.IntN(6) {
			data[r.IntN(len(data))] ^= byte(1 + r.IntN(255))
		}
		os.Chmod(file, 0o666)
		if err := os.WriteFile(file, data, 0o666); err != nil {
			t.Fatal(err)
		}
	}
}

// TestHealthSeesWhatAStrangerPutIn examines chests with a false size in a folder, and with objects in the
// records that are not of the program.
func TestHealthSeesWhatAStrangerPutIn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "chest")
	c := craft(t, dir)
	good, liar := c.put("twelve bytes"), c.put("eleven here")
	inner := c.folder(craftedEntry{'f', "good.txt", 12, good}, craftedEntry{'f', "liar.txt", 7, liar})
	c.publish(c.folder(craftedEntry{'d', "inner", 0, inner}))
	db, err := sql.Open("sqlite", filepath.Join(dir, "ledger.db"))
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []string{
		"create trigger quiet after insert on commits begin delete from locks; end",
		"create table theirs (x)", "create view seen as select * from branches", "drop index commits_time",
	} {
		if _, err := db.Exec(s); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	opened := chesttest.Open(t, dir)
	x, err := opened.Examine(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, f := range x.Findings {
		all = append(all, f.Reason+" "+strings.Join(f.Touches, " "))
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{"the trigger quiet is not oaken's", "the table theirs is not", "the view seen is not",
		"the index commits_time is missing", "inner/liar.txt has 7 bytes; it has 11"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	if len(x.Findings) != 5 || strings.Contains(text, "good.txt") {
		t.Errorf("more is found than there is:\n%s", text)
	}
}
