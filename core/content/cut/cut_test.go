package cut

import (
	"bytes"
	"crypto/sha256"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"
)

func noise(seed uint64, n int) []byte {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(seed)})
	r.Read(b)
	return b
}

func chunks(t *testing.T, r io.Reader) (sums [][32]byte, joined []byte) {
	t.Helper()
	for c := New(r); ; {
		chunk, err := c.Next()
		if err == io.EOF {
			return sums, joined
		}
		if err != nil {
			t.Fatal(err)
		}
		if len(chunk) > Max || len(chunk) == 0 {
			t.Fatalf("a chunk of %d bytes", len(chunk))
		}
		sums, joined = append(sums, sha256.Sum256(chunk)), append(joined, chunk...)
	}
}

func TestChunksJoinToTheContent(t *testing.T) {
	for _, n := range []int{0, 1, Min - 1, Min, Min + 1, Max, 3*Max + 17} {
		data := noise(1, n)
		whole, joined := chunks(t, bytes.NewReader(data))
		if !bytes.Equal(joined, data) {
			t.Fatalf("%d bytes come back as %d", n, len(joined))
		}
		if dribbled, _ := chunks(t, iotest.HalfReader(bytes.NewReader(data))); len(dribbled) != len(whole) {
			t.Errorf("%d bytes: cuts depend on how the reader delivers", n)
		}
	}
}

func TestAnInsertionMovesFewCuts(t *testing.T) {
	data := noise(2, 8<<20)
	before, _ := chunks(t, bytes.NewReader(data))
	after, _ := chunks(t, io.MultiReader(bytes.NewReader(data[:4<<20]), bytes.NewReader([]byte("one more coral")),
		bytes.NewReader(data[4<<20:])))
	known := map[[32]byte]bool{}
	for _, s := range before {
		known[s] = true
	}
	fresh := 0
	for _, s := range after {
		if !known[s] {
			fresh++
		}
	}
	if fresh > 4 {
		t.Errorf("%d of %d chunks are new after one insertion", fresh, len(after))
	}
	if avg := len(data) / len(before); avg < Average/2 || avg > Average*2 {
		t.Errorf("chunks have %d bytes on average, %d was meant", avg, Average)
	}
}

func TestAReadErrorComesThrough(t *testing.T) {
	c := New(iotest.ErrReader(io.ErrClosedPipe))
	if _, err := c.Next(); err != io.ErrClosedPipe {
		t.Errorf("got %v", err)
	}
}

func BenchmarkCut(b *testing.B) {
	data := noise(3, 16<<20)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		c := New(bytes.NewReader(data))
		for _, err := c.Next(); err != io.EOF; _, err = c.Next() {
		}
	}
}
