package content

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

func packsIn(t *testing.T, dir string) []string {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(dir, "*.bale"))
	if err != nil {
		t.Fatal(err)
	}
	return names
}

// TestManySmallPacksBecomeFew gathers after each of many batches, while others
// read what is there.
func TestManySmallPacksBecomeFew(t *testing.T) {
	dir := t.TempDir()
	writer := open(t, dir)
	var mu sync.Mutex
	var known []Digest
	var contents [][]byte
	stop := make(chan struct{})
	var readers sync.WaitGroup
	for range 3 {
		reader := open(t, dir)
		readers.Go(func() {
			for n := 0; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				mu.Lock()
				if len(known) == 0 {
					mu.Unlock()
					continue
				}
				i := n % len(known)
				d, want := known[i], contents[i]
				mu.Unlock()
				if got, err := ReadAll(reader, d, 1<<30); err != nil || !bytes.Equal(got, want) {
					t.Errorf("content %d while bales are gathered: %d bytes, %v", i, len(got), err)
					return
				}
			}
		})
	}
	gone := 0
	for i := range 150 {
		content := noise(byte(i), 100+i*40)
		if i%50 == 7 {
			content = noise(byte(i), 1<<20)
		}
		d := put(t, writer, content, []byte(fmt.Sprint("shared ", i/100)))
		mu.Lock()
		known, contents = append(known, d[0]), append(contents, content)
		mu.Unlock()
		n, err := writer.Gather(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		gone += n
	}
	close(stop)
	readers.Wait()
	if n := len(packsIn(t, dir)); n > 4*gatherAt || gone < 100 {
		t.Errorf("%d bales are left, %d went", n, gone)
	}
	if flaws, err := open(t, dir).Verify(t.Context(), nil); err != nil || len(flaws) > 0 {
		t.Errorf("%v, %v", flaws, err)
	}
}

func TestGatheringTheSameContentLosesNothing(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	var all []Digest
	for i := range gatherAt - 1 {
		all = append(all, put(t, s, []byte(fmt.Sprint(i)))...)
	}
	b := s.Replace(t.Context()) // one bale that holds everything, in the order in which it will be written
	for i := range gatherAt - 1 {
		if _, err := b.PutBytes([]byte(fmt.Sprint(i))); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.Commit(); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if _, err := s.Gather(t.Context()); err != nil {
			t.Fatal(err)
		}
		for i, d := range all {
			if got, err := ReadAll(open(t, dir), d, 100); err != nil || string(got) != fmt.Sprint(i) {
				t.Fatalf("content %d: %q, %v", i, got, err)
			}
		}
	}
}

func TestADamagedPackIsNotGathered(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	damaged := put(t, s, []byte("coral that will be damaged"))[0]
	name := packsIn(t, dir)[0]
	for i := range gatherAt {
		put(t, s, []byte(fmt.Sprint(i)))
	}
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	data[len(data)-3] ^= 1
	if err := os.Chmod(name, 0o666); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, data, 0o666); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	if n, err := s.Gather(t.Context()); err != nil || n == 0 {
		t.Fatalf("%d bales went, %v", n, err)
	}
	if _, err := os.Stat(name); err != nil {
		t.Error("the damaged bale went, and with it what may be mended")
	}
	flaws, err := s.Verify(t.Context(), nil)
	if err != nil || len(flaws) != 1 || flaws[0].Digest != damaged {
		t.Errorf("%v, %v", flaws, err)
	}
	if _, err := s.Tidy(t.Context(), time.Now().Add(time.Hour), 0, func(Digest) bool { return true }); err != nil {
		t.Errorf("tidying beside a damaged bale: %v", err)
	}
}

func TestTiers(t *testing.T) {
	for size, want := range map[int64]int{0: 0, leastTier - 1: 0, leastTier: 1, leastTier * gatherAt: 2, gatherMost: -1,
		gatherMost - 1: 3} {
		if got := tier(size); got != want {
			t.Errorf("%d bytes are in tier %d, want %d", size, got, want)
		}
	}
}
