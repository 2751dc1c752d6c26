package content

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"slices"
	"strings"
)

// keys gives a bale's entries, sorted by digest. Where their file is of no use, they are read out of the
// bale itself; of one that is gone meanwhile there are none: its content is in another bale, or missing.
func (p *bale) keys() []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.loaded {
		return p.sorted
	}
	data, err := os.ReadFile(p.keysName())
	if errors.Is(err, os.ErrNotExist) { // a bale of the same name may come again: it is looked for the next time
		return nil
	}
	p.loaded = true
	if rest, ok := bytes.CutPrefix(data, []byte(p.form.keysMagic)); err == nil && ok && inOrder(rest) {
		p.sorted = rest
		return rest
	}
	p.poor = "it is no file of keys of this format; they were read out of the bale"
	p.sorted, _ = scanBale(p.name(), p.form) // as far as its records are sound
	return p.sorted
}

// readAnew reads the keys out of the bale itself, once; false when that was done before, or the bale itself
// is damaged: then its keys may well be right.
func (p *bale) readAnew() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.poor != "" || p.anew {
		return false
	}
	p.anew = true
	entries, whole := scanBale(p.name(), p.form)
	if !whole {
		return false
	}
	p.poor = "it does not agree with its bale"
	p.loaded, p.sorted = true, entries
	return true
}

// flaw says why the file of keys is of no use; empty when it is.
func (p *bale) flaw() string {
	p.keys()
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.poor
}

// inOrder reports whether entries are whole, and sorted.
func inOrder(entries []byte) bool {
	if len(entries)%entrySize != 0 {
		return false
	}
	for i := entrySize; i < len(entries); i += entrySize {
		if bytes.Compare(entries[i-entrySize:i-entrySize+32], entries[i:i+32]) >= 0 {
			return false
		}
	}
	return true
}

// scanBale reads the entries out of a file of records, sorted; whole says that every byte of it was sound.
func scanBale(name string, f form) (entries []byte, whole bool) {
	file, err := os.Open(name)
	if err != nil {
		return nil, false
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, 1<<20)
	magic := make([]byte, len(f.baleMagic))
	if _, err := io.ReadFull(in, magic); err != nil || string(magic) != f.baleMagic {
		return nil, false
	}
	var list []keyEntry
	at, mem := int64(len(magic)), []byte(nil)
	for {
		e, size, data, err := nextRecord(in, mem)
		if err != nil {
			return sortedEntries(list), err == io.EOF
		}
		e.offset, mem = at, data
		list = append(list, e)
		at += size
	}
}

var errRecord = errors.New("the record is damaged")

// nextRecord reads one record in the order of the file, and checks its sum; io.EOF after the last.
func nextRecord(in io.Reader, mem []byte) (e keyEntry, size int64, data []byte, err error) {
	var head [headSize]byte
	if _, err := io.ReadFull(in, head[:]); err != nil {
		return e, 0, mem, err
	}
	raw, stored := binary.LittleEndian.Uint32(head[33:]), binary.LittleEndian.Uint32(head[37:])
	if head[0]&^kindPart > kindList || raw > maxRecord || stored > maxRecord {
		return e, 0, mem, errRecord
	}
	data = room(mem, int(stored))
	if _, err := io.ReadFull(in, data); err != nil {
		return e, 0, mem, errRecord
	}
	if recordSum(head[:headSize-checkSize], data) != binary.LittleEndian.Uint64(head[headSize-checkSize:]) {
		return e, 0, mem, errRecord
	}
	e.digest, e.size = Digest(head[1:33]), int64(raw)
	if isList(head[0]) {
		e.size = contentSize(data)
	}
	return e, headSize + int64(stored), data, nil
}

// sortedEntries writes entries as a file of keys holds them.
func sortedEntries(list []keyEntry) []byte {
	slices.SortFunc(list, func(x, y keyEntry) int { return bytes.Compare(x.digest[:], y.digest[:]) })
	out := make([]byte, 0, len(list)*entrySize)
	for i, e := range list {
		if i > 0 && e.digest == list[i-1].digest {
			continue
		}
		out = append(out, e.digest[:]...)
		out = binary.LittleEndian.AppendUint64(out, uint64(e.offset))
		out = binary.LittleEndian.AppendUint64(out, uint64(e.size))
	}
	return out
}

// RebuildKeys writes the keys of bales anew where their files are lost or damaged, and gives how many. A
// bale that is not whole keeps those that it has.
func (s *Store) RebuildKeys() (n int, err error) {
	if err := s.reload(); err != nil {
		return 0, err
	}
	s.mu.Lock()
	bales := slices.Clone(s.bales)
	s.mu.Unlock()
	lost, err := s.withoutKeys(bales)
	if err != nil {
		return 0, err
	}
	for _, f := range lost {
		form := current
		if strings.HasSuffix(f.File, former.bale) {
			form = former
		}
		bales = append(bales, &bale{stem: strings.TrimSuffix(f.File, form.bale), form: form, poor: f.Reason, loaded: true})
	}
	for _, p := range bales {
		if p.flaw() == "" {
			continue
		}
		entries, whole := scanBale(p.name(), p.form)
		if !whole {
			continue
		}
		if err := writeDurably(p.keysName(), append([]byte(p.form.keysMagic), entries...)); err != nil {
			return n, err
		}
		p.mu.Lock()
		p.poor, p.sorted, p.loaded = "", entries, true
		p.mu.Unlock()
		n++
	}
	return n, s.reload()
}
