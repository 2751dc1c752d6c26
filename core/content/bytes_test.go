package content

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
)

// TestContentsCrossAsBales brings contents of all sizes to another store, and again what it has already.
func TestContentsCrossAsBales(t *testing.T) {
	from, to := open(t, t.TempDir()), open(t, t.TempDir())
	contents := [][]byte{nil, []byte("kelp"), noise(1, 300<<10), bytes.Repeat([]byte("sand "), 90000), noise(2, 60<<20)}
	want := put(t, from, contents...)
	put(t, to, []byte("kelp"))
	var _ Bytes = to
	if missing, err := to.Missing(t.Context(), want); err != nil || len(missing) != len(want)-1 {
		t.Errorf("%d are missing, %v", len(missing), err)
	}
	n, err := Copy(t.Context(), to, from, want)
	if err != nil || n == 0 {
		t.Fatal(n, err)
	}
	for i, d := range want {
		r, err := to.OpenExact(d)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(r)
		if err = errors.Join(err, r.Close()); err != nil || !bytes.Equal(got, contents[i]) {
			t.Errorf("content %d: %v", i, err)
		}
	}
	if again, err := Copy(t.Context(), to, from, want); err != nil || again != 0 {
		t.Errorf("again: %d records, %v", again, err)
	}
	if flaws, err := to.Verify(t.Context(), nil); err != nil || len(flaws) > 0 {
		t.Errorf("%v, %v", flaws, err)
	}
	if _, err := Copy(t.Context(), to, from, []Digest{{9}}); !errors.Is(err, ErrMissing) {
		t.Errorf("what nobody has: %v", err)
	}
	dead, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Copy(dead, open(t, t.TempDir()), from, want); !errors.Is(err, context.Canceled) {
		t.Errorf("cut off: %v", err)
	}
}

// TestABaleThatLiesIsNotReceived changes a bale on its way at any byte: all of it is refused, or what came is true.
func TestABaleThatLiesIsNotReceived(t *testing.T) {
	from := open(t, t.TempDir())
	contents := [][]byte{[]byte("kelp"), noise(3, 3000), bytes.Repeat([]byte("sand "), 500)}
	want := put(t, from, contents...)
	r, err := from.Fetch(t.Context(), want)
	if err != nil {
		t.Fatal(err)
	}
	bale, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	rng := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		bad := bytes.Clone(bale)
		if rng.IntN(4) == 0 {
			bad = bad[:rng.IntN(len(bad))]
		} else {
			bad[rng.IntN(len(bad))] ^= 1 << rng.IntN(8)
		}
		dir := t.TempDir()
		to := open(t, dir)
		n, err := to.Receive(t.Context(), bytes.NewReader(bad))
		left, _ := os.ReadDir(dir)
		if err != nil && (n != 0 || len(left) != 0) {
			t.Fatalf("it was refused, and %d records and %d files are there", n, len(left))
		}
		for i, d := range want {
			if got, err := ReadAll(to, d, 1<<20); err == nil && !bytes.Equal(got, contents[i]) {
				t.Fatalf("content %d came as something else", i)
			}
		}
	}
}

// FuzzReceive takes anything in.
func FuzzReceive(f *testing.F) {
	dir := f.TempDir()
	s, err := Open(dir)
	if err != nil {
		f.Fatal(err)
	}
	b := s.Begin(f.Context())
	d, err := b.PutBytes([]byte("kelp"))
	if err == nil {
		err = b.Commit()
	}
	if err != nil {
		f.Fatal(err)
	}
	r, _ := s.Fetch(f.Context(), []Digest{d})
	bale, _ := io.ReadAll(r)
	f.Add(bale)
	f.Fuzz(func(t *testing.T, data []byte) {
		to, err := Open(filepath.Join(t.TempDir(), "bales"))
		if err != nil {
			t.Fatal(err)
		}
		defer to.Close()
		if _, err := to.Receive(t.Context(), bytes.NewReader(data)); err != nil {
			return
		}
		if flaws, err := to.Verify(t.Context(), nil); err != nil {
			t.Fatal(err)
		} else {
			for _, flaw := range flaws {
				if !bytes.Contains([]byte(flaw.Reason), []byte("chunk")) { // a list may come before what it lists
					t.Fatal(flaw)
				}
			}
		}
	})
}
