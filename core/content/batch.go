package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"
	"path/filepath"
	"slices"

	"lukechampine.com/blake3"

	"oakenchest/core/content/cut"
	"oakenchest/core/element"
	"oakenchest/core/trace"
)

// Batch is content being written, into one bale or, when it is much, several. Use it from one goroutine; end it with
// Commit or Abandon. Chunks are hashed and compressed on all cores, and written
// in the order in which they were cut, so that equal batches give equal bales.
type Batch struct {
	store  *Store
	ctx    context.Context
	pipe   *pipeline
	cutter *cut.Cutter
	anew   bool            // store even what the store has
	have   map[Digest]bool // content that this batch holds, or is about to

	// What follows belongs to the pipeline's writer, until that has ended.
	out   baleWriter
	bytes int64   // in the bales that are finished
	sends *sender // of a near store; nil before its first bale
}

// fullBale is the size in bytes at which a bale is finished and another begun,
// so that what is known of a bale under way stays small.
var fullBale int64 = 1 << 30

// Begin starts a batch, which takes nothing in any more when ctx ends. Nothing is written before the first Put.
func (s *Store) Begin(ctx context.Context) *Batch {
	return &Batch{store: s, ctx: ctx, have: map[Digest]bool{}}
}

// Has reports whether the content is in the store or in this batch.
func (b *Batch) Has(d Digest) bool { return b.have[d] || b.store.Has(d) }

// Content is content on its way into a batch.
type Content struct {
	batch  *Batch
	chunks []*job    // the last ones
	list   []byte    // the digests and sizes of those before
	whole  *wholeSum // of content of several chunks
	size   int64
}

// Start reads content to its end and lets it be stored beside other work;
// Content.Finish gives its digest. seams are ascending places at which one thing
// in it ends and another begins.
func (b *Batch) Start(r io.Reader, seams []int64) (*Content, error) {
	if b.cutter == nil {
		b.cutter = cut.New(r)
	}
	b.cutter.Reset(r, seams)
	c := &Content{batch: b}
	var whole *wholeSum
	var held []byte // the last chunk: when it is the first too, it is the whole
	for {
		if err := b.ctx.Err(); err != nil {
			whole.stop()
			return nil, err
		}
		chunk, err := b.cutter.Next()
		if err == io.EOF {
			break
		}
		if err == nil && held != nil {
			if whole == nil {
				whole = startWholeSum()
			}
			err = c.add(kindPart, held, whole)
		}
		if err != nil {
			whole.stop()
			return nil, err
		}
		held = slices.Clone(chunk)
	}
	c.whole = whole
	defer whole.stop()
	if whole == nil {
		return c, c.add(kindPlain, held, nil)
	}
	return c, c.add(kindPart, held, whole)
}

// add sends a chunk on its way.
func (c *Content) add(kind byte, chunk []byte, whole *wholeSum) error {
	c.size += int64(len(chunk))
	if whole != nil {
		whole.add(chunk)
	}
	j, err := c.batch.submit(kind, chunk)
	if c.chunks = append(c.chunks, j); len(c.chunks) > 4*aheadPerCore {
		c.enlist(2 * aheadPerCore)
	}
	return err
}

// enlist takes the digests of the first n chunks that are on their way.
func (c *Content) enlist(n int) {
	for _, j := range c.chunks[:n] {
		d := j.sum()
		c.list = append(c.list, d[:]...)
		c.list = binary.LittleEndian.AppendUint32(c.list, uint32(j.size))
	}
	c.chunks = append(c.chunks[:0], c.chunks[n:]...)
}

// wholeSum takes the digest of content of several chunks beside the work on the
// chunks themselves.
type wholeSum struct {
	chunks chan []byte
	done   chan struct{}
	sum    Digest
}

func startWholeSum() *wholeSum {
	w := &wholeSum{chunks: make(chan []byte, aheadPerCore), done: make(chan struct{})}
	go func() {
		defer close(w.done)
		h := sha256.New()
		for c := range w.chunks {
			h.Write(c)
		}
		h.Sum(w.sum[:0])
	}()
	return w
}

func (w *wholeSum) add(chunk []byte) { w.chunks <- chunk }

// stop ends the summing; nil has none.
func (w *wholeSum) stop() {
	if w != nil {
		close(w.chunks)
	}
}

// digest waits for the digest.
func (w *wholeSum) digest() Digest { <-w.done; return w.sum }

// Finish gives the digest and the size in bytes. It must be called before the
// batch is committed.
func (c *Content) Finish() (Digest, int64, error) {
	b := c.batch
	if c.whole == nil {
		return b.keep(c.chunks[0].sum()), c.size, nil
	}
	c.enlist(len(c.chunks))
	whole := c.whole.digest()
	if !b.anew && b.Has(whole) {
		return whole, c.size, nil
	}
	list, err := b.shorten(c.list)
	if err == nil {
		_, err = b.submitList(kindList, whole, list, c.size)
	}
	return b.keep(whole), c.size, err
}

// shorten gives a list of lists for a long list, and stores those.
func (b *Batch) shorten(list []byte) ([]byte, error) {
	if len(list) <= longList*listEntry {
		return list, nil
	}
	var out []byte
	for _, part := range cutList(list) {
		d, size := Digest(blake3.Sum256(part)), contentSize(part)
		if _, err := b.submitList(kindList|kindPart, d, part, size); err != nil {
			return nil, err
		}
		out = append(out, d[:]...)
		out = binary.LittleEndian.AppendUint32(out, uint32(size)|listMark)
	}
	return out, nil
}

// Put stores content and gives its digest and size. Content that the store has
// already costs no space.
func (b *Batch) Put(r io.Reader) (Digest, int64, error) {
	c, err := b.Start(r, nil)
	if err != nil {
		return Digest{}, 0, err
	}
	return c.Finish()
}

// Holds reports whether the content was stored by this batch.
func (b *Batch) Holds(d Digest) bool { return b.have[d] }

func (b *Batch) keep(d Digest) Digest { b.have[d] = true; return d }

// PutBytes stores data.
func (b *Batch) PutBytes(data []byte) (Digest, error) {
	d, _, err := b.Put(bytes.NewReader(data))
	return d, err
}

func (b *Batch) submit(kind byte, data []byte) (*job, error) {
	return b.send(&job{kind: kind, data: data, size: int64(len(data)), content: int64(len(data)), done: make(chan struct{})})
}

func (b *Batch) submitList(kind byte, d Digest, list []byte, content int64) (*job, error) {
	return b.send(&job{kind: kind, digest: d, data: list, size: int64(len(list)), content: content, done: make(chan struct{})})
}

func (b *Batch) send(j *job) (*job, error) {
	if b.pipe == nil {
		b.pipe = startPipeline(b)
	}
	return j, b.pipe.send(j)
}

// write appends a finished job's record; it runs on the writer alone. full says
// that it was the last of its bale.
func (b *Batch) write(j *job) (isFull bool, err error) {
	full := fullBale
	if b.store.far != nil {
		full = min(full, nearBale)
	}
	if err := b.out.record(b.store.dir, j.kind, j.digest, j.size, j.content, j.stored); err != nil || b.out.at < full {
		return false, b.store.condition(err)
	}
	return true, b.finishBale()
}

// finishBale makes the bale under way durable.
func (b *Batch) finishBale() error {
	defer trace.Begin(b.ctx, trace.Bale, element.SizeText(b.out.at)+" into "+filepath.Base(b.store.dir))()
	b.bytes += b.out.at + int64(len(b.out.keys)*entrySize)
	if b.store.far != nil {
		if b.sends == nil {
			b.sends = b.store.startSender(b.ctx)
		}
		b.sends.work <- b.out
		b.out = baleWriter{}
		return b.sends.failed()
	}
	if _, err := b.out.finish(b.store.dir); err != nil {
		return b.store.condition(err)
	}
	b.out = baleWriter{}
	return b.store.reload()
}

// Commit makes everything durable: the bale is written and synchronised, then
// its keys, then the folder. After it, every Put of the batch is readable.
func (b *Batch) Commit() error {
	if b.pipe == nil {
		return nil
	}
	defer b.Abandon()
	if err := b.pipe.finish(); err != nil {
		return err
	}
	if err := b.ctx.Err(); err != nil {
		return err
	}
	if b.out.empty() && b.sends == nil {
		return nil // everything was there already
	}
	var err error
	if !b.out.empty() {
		err = b.finishBale()
	}
	if b.sends != nil {
		err = errors.Join(err, b.sends.finish())
		if b.sends = nil; err == nil {
			err = b.store.reload()
		}
	}
	return err
}

var errAbandoned = errors.New("the batch was abandoned")

// Abandon drops what was not committed. Bales that were full before stay until
// the store is tidied: the same batch again finds its content there.
func (b *Batch) Abandon() {
	if b.pipe != nil {
		b.pipe.stop()
		b.pipe = nil
	}
	if b.sends != nil {
		b.sends.note(errAbandoned)
		_ = b.sends.finish() // nothing of it counts
		b.sends = nil
	}
	b.out.abandon()
}
