package remote

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"sync"
	"time"

	"oakenchest/core/chest/wire"
)

// along are small bales that a brief command sends along with the act that names what is in them, rather than before it. A
// process that is killed before has not acted either: what a later act names of them is lacking then, and sent anew.
type along struct {
	mu    sync.Mutex // guards what follows
	bales [][]byte
	size  int64
}

// mostAlong is how many bytes are sent along.
const mostAlong = 256 << 10

// take keeps a bale, where it is small enough.
func (a *along) take(bale io.ReaderAt, size int64) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.size+size > mostAlong {
		return false
	}
	data := make([]byte, size)
	if _, err := bale.ReadAt(data, 0); err != nil && err != io.EOF {
		return false
	}
	a.bales, a.size = append(a.bales, data), a.size+size
	return true
}

// all gives those that are kept.
func (a *along) all() [][]byte {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.bales[:len(a.bales):len(a.bales)]
}

// sent forgets the first of them, which have arrived.
func (a *along) sent(n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, b := range a.bales[:n] {
		a.size -= int64(len(b))
	}
	a.bales = a.bales[n:]
}

// flush sends what no act took along: a later command may build on it. That it fails harms nothing.
func (s *Store) flush() {
	const patience = 2 * time.Second
	ctx, cancel := context.WithTimeout(s.base, patience)
	defer cancel()
	for i, b := range s.along.all() {
		call := fmt.Sprintf("%s/%s/along-%d", s.address.Project, wire.CallBales, i)
		if s.calls.send(ctx, call, bytes.NewReader(b), int64(len(b))) != nil {
			return
		}
	}
}
