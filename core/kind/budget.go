package kind

import (
	"errors"
	"fmt"

	"oakenchest/core/element"
)

// MaxDecoded bounds, in bytes, what is unpacked and decoded out of one artifact, however large it is.
const MaxDecoded = 512 << 20

// Budget bounds what reading one artifact takes, all content inside of it together, by the size of its
// file: a small file that unpacks to a gigabyte, or that is nothing but commas, is stored like any other
// and said to be too much to be read.
type Budget struct {
	bytes, elements int64 // that are left
}

// NewBudget gives the budget of a file of a size in bytes. What people make stays far below: packages
// of text unpack to ten times their size, and an element takes more than four characters.
func NewBudget(size int64) *Budget {
	const (
		freeBytes, perByte       = 16 << 20, 20
		freeElements, forElement = 250_000, 4
	)
	return &Budget{min(freeBytes+perByte*size, MaxDecoded), freeElements + size/forElement}
}

// ErrBudget says that an artifact is more than its budget.
var ErrBudget = errors.New("it is too much for a file of its size")

// Left gives how many bytes may still be decoded.
func (b *Budget) Left() int64 { return max(b.bytes, 0) }

// Decoded takes bytes that were decoded.
func (b *Budget) Decoded(n int64) error {
	if b.bytes -= n; b.bytes < 0 {
		return fmt.Errorf("%w: it unpacks to more than is read of it", ErrBudget)
	}
	return nil
}

// Built takes elements that are about to be made.
func (b *Budget) Built(n int64) error {
	if b.elements -= n; b.elements < 0 {
		return fmt.Errorf("%w: it has more elements than are read of it", ErrBudget)
	}
	return nil
}

// Unpacks gives the error for content that unpacks to more than a limit.
func Unpacks(limit int64) error {
	return fmt.Errorf("%w: it unpacks to more than %s", ErrBudget, element.SizeText(limit))
}

// Budgeted gives the source of an artifact with the budget for all that lies in it: the one that it has
// already when it lies in another one. Only files have one.
func Budgeted(src Source) (Source, *Budget) {
	f, ok := src.(FileSource)
	if !ok {
		return src, NewBudget(MaxFile)
	}
	if f.Budget == nil {
		f.Budget = NewBudget(int64(len(f.Data)))
	}
	return f, f.Budget
}

// Weigher is a kind that can tell from the bytes about how many elements they make, before it makes them:
// from above, and without much work.
type Weigher interface {
	Kind
	Weigh(data []byte) int64
}

// weigh refuses a file whose elements are more than its budget.
func weigh(k Kind, src Source) error {
	f, ok := src.(FileSource)
	if !ok {
		return nil
	}
	w, ok := Ability[Weigher](k)
	if !ok {
		return nil
	}
	_, b := Budgeted(f)
	return b.Built(w.Weigh(f.Data))
}

// Count gives how often bytes of a set occur.
func Count(data []byte, set string) (n int64) {
	var is [256]bool
	for i := range len(set) {
		is[set[i]] = true
	}
	for _, c := range data {
		if is[c] {
			n++
		}
	}
	return n
}
