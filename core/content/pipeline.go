package content

import (
	"math"
	"runtime"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// job is a record on its way into a bale.
type job struct {
	kind    byte
	data    []byte
	size    int64 // of data
	content int64 // size of the content that the record stands for
	digest  Digest
	stored  []byte        // what is written
	known   bool          // the store has it already
	done    chan struct{} // closed when digest and stored are set
}

// sum waits for the digest.
func (j *job) sum() Digest { <-j.done; return j.digest }

// pipeline hashes and compresses jobs on all cores, and writes them in order.
// It holds at most ahead jobs of at most cut.Max bytes, and lists.
type pipeline struct {
	batch   *Batch
	work    chan *job
	ordered chan *job
	quit    chan struct{}
	workers sync.WaitGroup
	writer  sync.WaitGroup
	stopped sync.Once

	mu  sync.Mutex // guards err
	err error      // the writer's first error
}

const aheadPerCore = 8

func startPipeline(b *Batch) *pipeline {
	n := runtime.GOMAXPROCS(0)
	p := &pipeline{batch: b, work: make(chan *job, n*aheadPerCore), ordered: make(chan *job, n*aheadPerCore), quit: make(chan struct{})}
	for range n {
		p.workers.Go(p.prepare)
	}
	p.writer.Go(p.writeAll)
	return p
}

func (p *pipeline) failed() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.err
}

func (p *pipeline) fail(err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.err == nil {
		p.err = err
	}
}

// send hands a job over; it waits when too many are on their way.
func (p *pipeline) send(j *job) error {
	if err := p.failed(); err != nil {
		return err
	}
	p.work <- j
	p.ordered <- j
	return nil
}

// prepare is one worker.
func (p *pipeline) prepare() {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		p.fail(err)
	}
	for j := range p.work {
		select {
		case <-p.quit:
			close(j.done)
			continue
		default:
		}
		if !isList(j.kind) {
			j.digest = digestOf(j.kind, j.data)
		}
		j.stored, j.known = j.data, !p.batch.anew && p.batch.store.Has(j.digest)
		if !j.known && enc != nil && j.kind&^kindPart == kindPlain && len(j.data) >= leastPacked && !noisy(j.data) {
			if packed := enc.EncodeAll(j.data, make([]byte, 0, len(j.data))); len(packed) < len(j.data)-len(j.data)/16 {
				j.kind, j.stored = j.kind|kindZstd, packed
			}
		}
		close(j.done)
	}
	if enc != nil {
		enc.Close()
	}
}

// leastPacked is the least size in bytes that compression is tried on.
const leastPacked = 128

// noisy says, from a sample, that data will not compress: its bytes are spread
// almost evenly, by C. Shannon's entropy of single bytes with the correction for
// small samples of G. Miller ("Note on the bias of information estimates", 1955).
func noisy(data []byte) bool {
	const sample, part = 2048, 256
	var count [256]int
	n := len(data)
	if n <= sample {
		for _, b := range data {
			count[b]++
		}
	} else {
		n = sample
		step := (len(data) - part) / (sample/part - 1)
		for i := range sample / part {
			for _, b := range data[i*step : i*step+part] {
				count[b]++
			}
		}
	}
	bits := 0.0
	for _, c := range count {
		if c > 0 {
			f := float64(c) / float64(n)
			bits -= f * math.Log2(f)
		}
	}
	return bits > 7.9-255/(2*math.Ln2*float64(n))
}

// writeAll is the writer: it writes jobs in the order in which they were sent.
func (p *pipeline) writeAll() {
	written := map[Digest]bool{}
	for j := range p.ordered {
		<-j.done
		select {
		case <-p.quit:
			j.stored, j.data = nil, nil
			continue
		default:
		}
		if !j.known && !written[j.digest] && p.failed() == nil {
			written[j.digest] = true
			full, err := p.batch.write(j)
			if err != nil {
				p.fail(err)
			}
			if full { // from now on the store knows them
				written = map[Digest]bool{}
			}
		}
		j.stored, j.data = nil, nil // its digest may be asked for later, its bytes not
	}
}

// finish waits until everything is written, and gives the first error.
func (p *pipeline) finish() error {
	p.close()
	return p.failed()
}

// stop drops what was not written.
func (p *pipeline) stop() {
	p.stopped.Do(func() { close(p.quit); p.drain() })
}

func (p *pipeline) close() {
	p.stopped.Do(p.drain)
}

func (p *pipeline) drain() {
	close(p.work)
	close(p.ordered)
	p.workers.Wait()
	p.writer.Wait()
}
