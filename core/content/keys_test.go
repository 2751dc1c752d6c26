package content

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// only gives the one file of a folder with an ending.
func only(t *testing.T, dir, ending string) string {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(dir, "*"+ending))
	if err != nil || len(names) != 1 {
		t.Fatal(names, err)
	}
	os.Chmod(names[0], 0o644)
	return names[0]
}

// Whatever happens to a file of keys, content is read, the file is named, and it can be written anew.
func TestDamagedKeysAreWorkedAround(t *testing.T) {
	contents := [][]byte{noise(4, 3000), []byte("kelp"), noise(5, 300<<10), bytes.Repeat([]byte("sand"), 99)}
	for round := range uint64(60) {
		r := rand.New(rand.NewPCG(round, 1))
		dir := t.TempDir()
		digests := put(t, open(t, dir), contents...)
		name := only(t, dir, ".keys")
		sound, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		bad := bytes.Clone(sound)
		switch round % 3 {
		case 0:
			bad = bad[:r.IntN(len(bad))]
		case 1: // the offset of an entry, or anything else of it but its digest
			entry := len(current.keysMagic) + r.IntN((len(bad)-8)/entrySize)*entrySize
			bad[entry+32+r.IntN(3)] ^= 1 << r.IntN(7)
		case 2: // two entries are exchanged
			a, b := bad[8:8+entrySize], bad[8+entrySize:8+2*entrySize]
			for i := range a {
				a[i], b[i] = b[i], a[i]
			}
		}
		if err := os.WriteFile(name, bad, 0o644); err != nil {
			t.Fatal(err)
		}
		s := open(t, dir)
		for i, d := range digests {
			if got, err := ReadAll(s, d, 1<<30); err != nil || !bytes.Equal(got, contents[i]) {
				t.Fatalf("round %d: content %d: %v", round, i, err)
			}
		}
		flaws, err := open(t, dir).Verify(t.Context(), nil)
		if err != nil || len(flaws) == 0 || flaws[0].File != name && flaws[len(flaws)-1].File != name {
			t.Fatalf("round %d: nothing is said of %s: %v, %v", round, name, flaws, err)
		}
		if n, err := s.RebuildKeys(); err != nil || n != 1 {
			t.Fatalf("round %d: %d files of keys were written anew: %v", round, n, err)
		}
		if again, err := os.ReadFile(name); err != nil || !bytes.Equal(again, sound) {
			t.Fatalf("round %d: the keys are not what they were: %v", round, err)
		}
	}
}

func TestLostKeysAreRebuilt(t *testing.T) {
	dir := t.TempDir()
	digests := put(t, open(t, dir), noise(4, 300<<10), []byte("kelp"))
	os.Remove(only(t, dir, ".keys"))
	s := open(t, dir)
	if _, err := s.Open(digests[0]); err == nil {
		t.Fatal("content is read without keys")
	}
	if n, err := s.RebuildKeys(); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if _, err := ReadAll(s, digests[0], 1<<30); err != nil {
		t.Fatal(err)
	}
	os.Remove(only(t, dir, ".keys"))
	file := only(t, dir, ".bale")
	data, _ := os.ReadFile(file)
	os.WriteFile(file, data[:len(data)-5], 0o644)
	if n, err := open(t, dir).RebuildKeys(); n != 0 || err != nil {
		t.Fatalf("keys of a bale that is cut short were written: %d, %v", n, err)
	}
}

// What a program of the former format wrote is read where it lies, and written anew by Tidy, young or old,
// with all that was kept.
func TestTheFormerFormIsReadAndTidied(t *testing.T) {
	root := t.TempDir()
	older, dir := filepath.Join(root, "packs"), filepath.Join(root, "bales")
	kept, dropped := noise(1, 9000), noise(2, 5000)
	digests := put(t, open(t, older), kept, dropped)
	for _, name := range []string{only(t, older, ".bale"), only(t, older, ".keys")} {
		data, _ := os.ReadFile(name)
		f, to := current, former
		magic, ending, was := to.baleMagic, to.bale, f.bale
		if strings.HasSuffix(name, f.keys) {
			magic, ending, was = to.keysMagic, to.keys, f.keys
		}
		if err := os.WriteFile(strings.TrimSuffix(name, was)+ending, append([]byte(magic), data[8:]...), 0o644); err != nil {
			t.Fatal(err)
		}
		os.Remove(name)
	}
	s, err := Open(dir, older)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	put(t, s, kept) // is there already
	if names, _ := filepath.Glob(filepath.Join(dir, "*")); len(names) != 0 {
		t.Error("content of the former form was stored again:", names)
	}
	for _, grace := range []time.Duration{time.Hour, 0} {
		if _, err := s.Tidy(t.Context(), time.Now().Add(time.Minute), grace, func(d Digest) bool { return d != digests[1] }); err != nil {
			t.Fatal(err)
		}
		if got, err := ReadAll(s, digests[0], 1<<30); err != nil || !bytes.Equal(got, kept) {
			t.Fatal("grace", grace, err)
		}
		if _, err := ReadAll(s, digests[1], 1<<30); (err == nil) != (grace > 0) {
			t.Error("grace", grace, "what nothing reaches:", err)
		}
		if _, err := os.Stat(older); err == nil {
			t.Error("the former folder is left")
		}
	}
}

// TestABaleThatComesAgainIsFound takes a bale away before its keys were read, and lets somebody else store just the
// same again, under the same name.
func TestABaleThatComesAgainIsFound(t *testing.T) {
	dir := t.TempDir()
	content := []byte("kelp and sand")
	d := put(t, open(t, dir), content)[0]
	reader := open(t, dir)
	writer := open(t, dir)
	if _, err := writer.Tidy(t.Context(), time.Now().Add(time.Minute), 0, func(Digest) bool { return false }); err != nil {
		t.Fatal(err)
	}
	if reader.Has(d) {
		t.Error("content that is gone is believed to be there")
	}
	put(t, open(t, dir), content)
	if got, err := ReadAll(reader, d, 100); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%q, %v", got, err)
	}
}

// TestABaleThatIsBeingWrittenIsNoLeftover tidies with no grace beside a bale that another process has just finished.
func TestABaleThatIsBeingWrittenIsNoLeftover(t *testing.T) {
	dir := t.TempDir()
	tidier := open(t, dir)
	d := put(t, open(t, dir), []byte("sand"))[0] // the other one does not know of it
	flaws, err := tidier.withoutKeys(nil)
	if err != nil || len(flaws) != 0 {
		t.Errorf("it is said to have no keys: %v, %v", flaws, err)
	}
	os.Remove(only(t, dir, ".bale"))
	s := open(t, dir)
	if s.Has(d) {
		t.Error("keys without a bale are believed")
	}
	if _, err := s.Tidy(t.Context(), time.Now().Add(time.Minute), 0, func(Digest) bool { return true }); err != nil {
		t.Fatal(err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 0 {
		t.Errorf("left: %v", left)
	}
}
