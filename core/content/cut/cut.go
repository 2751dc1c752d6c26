// Package cut divides a stream of bytes into chunks whose ends depend on the
// bytes alone, so that an insertion moves no later cut.
//
// The algorithm is FastCDC with normalised chunking: W. Xia et al., "FastCDC: a
// Fast and Efficient Content-Defined Chunking Approach for Data Deduplication",
// USENIX ATC 2016. The table of the rolling sum is filled by SplitMix64
// (G. Steele et al., "Fast Splittable Pseudorandom Number Generators", OOPSLA
// 2014) from a fixed seed; it is part of the format of a chest: another table
// would still read everything, but store equal content again.
//
// A Cutter may be used by one goroutine at a time and holds Max bytes.
package cut

import "io"

// Chunk sizes in bytes. Content shorter than Min is one chunk.
const (
	Min     = 16 << 10
	Average = 64 << 10
	Max     = 256 << 10
)

// Masks with more bits before the average size and fewer after it.
const (
	maskSmall = 0x0000_d930_0353_0000 | 1<<63 | 1<<62
	maskLarge = 0x0000_d900_0353_0000
)

var gear = func() (t [256]uint64) {
	x := uint64(0x0a4e_c4e5_7000_0001)
	for i := range t {
		x += 0x9e37_79b9_7f4a_7c15
		z := x
		z = (z ^ z>>30) * 0xbf58_476d_1ce4_e5b9
		z = (z ^ z>>27) * 0x94d0_49bb_1331_11eb
		t[i] = z ^ z>>31
	}
	return t
}()

// Cutter gives the chunks of a stream one by one.
type Cutter struct {
	r          io.Reader
	buf        []byte
	start, end int
	eof        bool
	seams      []int64
	at         int64 // of start in the stream
}

// New makes a Cutter over r.
func New(r io.Reader) *Cutter { return &Cutter{r: r, buf: make([]byte, 2*Max)} }

// LeastSeam is the least size in bytes of a chunk that ends at a seam.
const LeastSeam = 4 << 10

// Reset lets the Cutter begin anew over r, with the memory that it has. seams
// are ascending places in the stream at which it cuts too, where the chunk before
// does not become smaller than LeastSeam.
func (c *Cutter) Reset(r io.Reader, seams []int64) { *c = Cutter{r: r, buf: c.buf, seams: seams} }

// Next gives the next chunk, valid until the following call, or io.EOF after
// the last. Any other error is the reader's.
func (c *Cutter) Next() ([]byte, error) {
	if err := c.fill(); err != nil {
		return nil, err
	}
	if c.start == c.end {
		return nil, io.EOF
	}
	n := c.atSeam(Point(c.buf[c.start:c.end]))
	chunk := c.buf[c.start : c.start+n]
	c.start += n
	c.at += int64(n)
	return chunk, nil
}

// atSeam gives the length of the next chunk, of at most n bytes, that ends at a
// seam if there is one.
func (c *Cutter) atSeam(n int) int {
	for len(c.seams) > 0 && c.seams[0]-c.at < LeastSeam {
		c.seams = c.seams[1:]
	}
	if len(c.seams) > 0 && c.seams[0]-c.at < int64(n) {
		return int(c.seams[0] - c.at)
	}
	return n
}

func (c *Cutter) fill() error {
	if c.eof || c.end-c.start >= Max {
		return nil
	}
	copy(c.buf, c.buf[c.start:c.end])
	c.start, c.end = 0, c.end-c.start
	n, err := io.ReadFull(c.r, c.buf[c.end:])
	c.end += n
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		c.eof = true
		return nil
	}
	return err
}

// Point gives the length of the first chunk of data, which holds at least Max
// bytes or the whole rest of a stream.
func Point(data []byte) int {
	if len(data) <= Min {
		return len(data)
	}
	end, normal := min(len(data), Max), min(len(data), Average)
	sum, i := uint64(0), Min
	for ; i < normal; i++ {
		if sum = sum<<1 + gear[data[i]]; sum&maskSmall == 0 {
			return i + 1
		}
	}
	for ; i < end; i++ {
		if sum = sum<<1 + gear[data[i]]; sum&maskLarge == 0 {
			return i + 1
		}
	}
	return end
}
