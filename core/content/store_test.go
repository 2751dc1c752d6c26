package content

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func noise(seed byte, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func put(t *testing.T, s *Store, contents ...[]byte) []Digest {
	t.Helper()
	b := s.Begin(t.Context())
	var out []Digest
	for _, c := range contents {
		d, err := b.PutBytes(c)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, d)
	}
	if err := b.Commit(); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestContentComesBackFromAnotherProcess(t *testing.T) {
	dir := t.TempDir()
	reader := open(t, dir) // opened before anything is there
	contents := [][]byte{nil, []byte("coral"), noise(1, 1<<20), bytes.Repeat([]byte("reef "), 1<<18)}
	for i, d := range put(t, open(t, dir), contents...) {
		got, err := ReadAll(reader, d, 1<<30)
		if err != nil || !bytes.Equal(got, contents[i]) {
			t.Errorf("content %d: %d bytes, %v", i, len(got), err)
		}
		if n, err := reader.Size(d); err != nil || n != int64(len(contents[i])) {
			t.Errorf("content %d: size %d, %v", i, n, err)
		}
	}
	if _, err := reader.Open(Digest{1}); !errors.Is(err, ErrMissing) {
		t.Errorf("unknown content: %v", err)
	}
	if _, err := ReadAll(reader, put(t, reader, noise(9, 100))[0], 99); err == nil {
		t.Error("a limit was passed over")
	}
}

func TestAChangeInTheMiddleStoresLittle(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	data := noise(2, 8<<20)
	put(t, s, data)
	before := diskUse(t, dir)
	copy(data[4<<20:], "another coral")
	put(t, s, data)
	if grown := diskUse(t, dir) - before; grown > 600<<10 {
		t.Errorf("a change of 13 bytes took %d bytes", grown)
	}
	before = diskUse(t, dir)
	put(t, s, data)
	if grown := diskUse(t, dir) - before; grown != 0 {
		t.Errorf("equal content took %d bytes", grown)
	}
}

func diskUse(t *testing.T, dir string) (n int64) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			n += info.Size()
		}
	}
	return n
}

func TestAnAbandonedBatchLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	b := open(t, dir).Begin(t.Context())
	if _, err := b.PutBytes(noise(3, 100_000)); err != nil {
		t.Fatal(err)
	}
	b.Abandon()
	if entries, _ := os.ReadDir(dir); len(entries) != 0 {
		t.Errorf("%d files are left", len(entries))
	}
}

func TestEveryFlippedByteIsFound(t *testing.T) {
	dir := t.TempDir()
	contents := [][]byte{noise(4, 300), bytes.Repeat([]byte("kelp "), 100), noise(5, 300<<10)}
	digests := put(t, open(t, dir), contents...)
	bales, _ := filepath.Glob(filepath.Join(dir, "*.bale"))
	clean, err := os.ReadFile(bales[0])
	if err != nil {
		t.Fatal(err)
	}
	os.Chmod(bales[0], 0o644)
	for at := len(current.baleMagic); at < len(clean); at += 1 + at/50 {
		bad := bytes.Clone(clean)
		bad[at] ^= 0x40
		if err := os.WriteFile(bales[0], bad, 0o644); err != nil {
			t.Fatal(err)
		}
		s, found := open(t, dir), false
		for i, d := range digests {
			got, err := ReadAll(s, d, 1<<30)
			var damage *DamageError
			if errors.As(err, &damage) {
				found = true
			} else if err != nil || !bytes.Equal(got, contents[i]) {
				t.Fatalf("byte %d: content %d came back wrong, error %v", at, i, err)
			}
		}
		if !found {
			t.Errorf("byte %d of %d: no reader met the damage", at, len(clean))
		}
	}
}

func BenchmarkPutNoise(b *testing.B) {
	s, err := Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	data := noise(6, 32<<20)
	b.SetBytes(int64(len(data)))
	for i := 0; b.Loop(); i++ {
		data[0]++
		batch := s.Begin(b.Context())
		if _, _, err := batch.Put(io.LimitReader(bytes.NewReader(data), int64(len(data)))); err != nil {
			b.Fatal(err)
		}
		if err := batch.Commit(); err != nil {
			b.Fatal(err)
		}
	}
}

// TestSeamsKeepNeighboursApart replaces one of many things in a file by one of
// another size: nothing else is stored again.
func TestSeamsKeepNeighboursApart(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	build := func(replaced []byte) (data []byte, seams []int64) {
		for i := range 40 {
			thing := noise(byte(i), 9000+i*700)
			if i == 20 && replaced != nil {
				thing = replaced
			}
			data, seams = append(data, thing...), append(seams, int64(len(data)+len(thing)))
		}
		return data, seams
	}
	store := func(data []byte, seams []int64) int64 { _, n := storeSeamed(t, s, dir, data, seams); return n }
	store(build(nil))
	fresh := noise(99, 5000)
	if n := store(build(fresh)); n > int64(len(fresh))+4<<10 {
		t.Errorf("replacing %d bytes stored %d", len(fresh), n)
	}
}

// storeSeamed stores content that has seams, reads it back, and gives how much the
// bales grew.
func storeSeamed(t *testing.T, s *Store, dir string, data []byte, seams []int64) (Digest, int64) {
	t.Helper()
	before := sizeOf(t, dir)
	b := s.Begin(t.Context())
	c, err := b.Start(bytes.NewReader(data), seams)
	if err != nil {
		t.Fatal(err)
	}
	d, _, err := c.Finish()
	if err == nil {
		err = b.Commit()
	}
	if err != nil {
		t.Fatal(err)
	}
	if got, err := ReadAll(open(t, dir), d, 1<<30); err != nil || !bytes.Equal(got, data) {
		t.Fatalf("%d bytes came back, %v", len(got), err)
	}
	return d, sizeOf(t, dir) - before
}

func sizeOf(t *testing.T, dir string) (n int64) {
	t.Helper()
	for _, p := range packsIn(t, dir) {
		info, err := os.Stat(p)
		if err != nil {
			t.Fatal(err)
		}
		n += info.Size()
	}
	return n
}

func TestALargeBatchMakesSeveralPacks(t *testing.T) {
	defer func(before int64) { fullBale = before }(fullBale)
	fullBale = 1 << 20
	dir := t.TempDir()
	s := open(t, dir)
	contents := [][]byte{noise(1, 3<<20), noise(2, 100), noise(1, 3<<20), noise(3, 2<<20), bytes.Repeat([]byte("reef "), 1<<19)}
	for i, d := range put(t, s, contents...) {
		if got, err := ReadAll(open(t, dir), d, 1<<30); err != nil || !bytes.Equal(got, contents[i]) {
			t.Errorf("content %d: %d bytes, %v", i, len(got), err)
		}
	}
	if n := len(packsIn(t, dir)); n < 4 || n > 7 {
		t.Errorf("%d bales", n)
	}
	if flaws, err := s.Verify(t.Context(), nil); err != nil || len(flaws) > 0 {
		t.Errorf("%v, %v", flaws, err)
	}
}

func TestAChangeInALongListStoresLittle(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	const things, size = 3000, 5000 // so many chunks that their list is cut
	content := noise(7, things*size)
	var seams []int64
	for i := range things {
		seams = append(seams, int64(i*size))
	}
	store := func() (Digest, int64) { t.Helper(); return storeSeamed(t, s, dir, content, seams) }
	store()
	copy(content[len(content)/2:], noise(8, 100))
	d, n := store()
	if n > 2*size+40<<10 { // of 108 KB of list
		t.Errorf("changing 100 bytes stored %d", n)
	}
	parts, err := s.Chunks(d)
	if err != nil || len(parts) <= things {
		t.Errorf("%d parts, %v", len(parts), err)
	}
	reachable := map[Digest]bool{d: true}
	for _, p := range parts {
		reachable[p] = true
	}
	if _, err := s.Tidy(t.Context(), time.Now().Add(time.Hour), 0, func(d Digest) bool { return reachable[d] }); err != nil {
		t.Fatal(err)
	}
	if got, err := ReadAll(open(t, dir), d, 1<<30); err != nil || !bytes.Equal(got, content) {
		t.Errorf("after tidying %d bytes came back, %v", len(got), err)
	}
	if flaws, err := s.Verify(t.Context(), nil); err != nil || len(flaws) > 0 {
		t.Errorf("%v, %v", flaws, err)
	}
}
