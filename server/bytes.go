package server

import (
	"bufio"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

const (
	// mostBale bounds a bale that is sent, and mostUnpacked what it may unpack to, in bytes.
	mostBale     = 512 << 20
	mostUnpacked = 8 << 30
	// atOnce is the size up to which a bale is taken in as it comes: cut off, it comes anew.
	atOnce = 8 << 20
)

// ErrorTrailer is the trailer that says, of an answer that can't be finished, why.
const ErrorTrailer = "Oaken-Error"

// contents gives folders and contents that lie where the asker says that they do.
func (a *asked) contents() error {
	var call wire.ContentsCall
	if err := a.read(&call); err != nil {
		return err
	}
	g := &gathering{asked: a, chest: a.project.chest, roots: map[wire.Place]content.Digest{}}
	for _, f := range call.Folders {
		if err := g.folders(f); err != nil {
			return err
		}
	}
	for _, of := range call.Of {
		for _, item := range of.Items {
			place := of.Place
			place.Path = join(place.Path, item.Path)
			if err := g.add(place, content.Want{Content: item.Digest, Parts: item.Parts}); err != nil {
				return err
			}
		}
	}
	in, err := a.project.folder.Contents().Give(a.Context(), g.want)
	if err != nil {
		return err
	}
	defer in.Close()
	a.out.Header().Set("Content-Type", "application/octet-stream")
	a.out.Header().Set("Trailer", ErrorTrailer)
	buffer := copying.Get().(*[]byte)
	defer copying.Put(buffer)
	_, err = io.CopyBuffer(struct{ io.Writer }{a.out}, in, *buffer)
	if err != nil && a.Context().Err() == nil {
		said := wire.EncodeError(err, a.id)
		a.out.Header().Set(ErrorTrailer, base64.StdEncoding.EncodeToString(said.Body))
		a.server.o.Log.Warn("giving", "request", a.id, "error", err.Error())
	}
	return nil
}

var copying = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "/" + b
}

// gathering finds out what may be given of what is wanted.
type gathering struct {
	*asked
	chest *chest.Chest
	roots map[wire.Place]content.Digest
	sent  map[content.Digest]bool
	want  []content.Want
}

// add adds what lies at a place; what does not lie there is left out, as if it were not there at all.
func (g *gathering) add(at wire.Place, w content.Want) error {
	ok, err := g.lies(at, w.Content)
	if ok {
		g.want = append(g.want, w)
	}
	return err
}

// lies reports whether content lies at a place that the asker may see.
func (g *gathering) lies(at wire.Place, d content.Digest) (bool, error) {
	if at.Commit == (ledger.ID{}) && at.Tree == (content.Digest{}) {
		if g.sent == nil {
			sent, err := g.project.sent.of(g.session.Person.ID)
			if err != nil {
				return false, err
			}
			if g.sent = sent; sent == nil {
				g.sent = map[content.Digest]bool{}
			}
		}
		return g.sent[d], nil
	}
	root, err := g.root(at)
	if err != nil || root == (content.Digest{}) {
		return false, err
	}
	if at.Path == "" {
		return root == d, nil
	}
	f, err := g.chest.At(root, at.Path)
	if errors.Is(err, content.ErrMissing) {
		return false, nil
	}
	return err == nil && f.Mode != 0 && f.Digest == d, err
}

// root gives the tree of a place; the zero digest when nothing names it.
func (g *gathering) root(at wire.Place) (content.Digest, error) {
	at.Path = ""
	if root, ok := g.roots[at]; ok {
		return root, nil
	}
	root := at.Tree
	if at.Commit != (ledger.ID{}) {
		var c ledger.Commit
		err := g.chest.View(g.Context(), func(r ledger.Records) (err error) { c, err = r.Commit(at.Commit); return err })
		if err != nil && !errors.Is(err, ledger.ErrNotFound) {
			return root, err
		}
		root = c.Tree
	} else if is, err := g.project.folder.Holds(g.Context(), root); err != nil || !is {
		root = content.Digest{}
		if err != nil {
			return root, err
		}
	}
	g.roots[at] = root
	return root, nil
}

// folders adds a folder with all folders below it, but for those that the asker has.
func (g *gathering) folders(f wire.FolderWanted) error {
	ok, err := g.lies(f.Place, f.Digest)
	if err != nil || !ok {
		return err
	}
	like := f.Like
	if like != (content.Digest{}) && f.Path != "" {
		at, err := g.chest.At(like, f.Path)
		if err != nil || at.Mode != chest.Folder {
			like = content.Digest{}
		} else {
			like = at.Digest
		}
	}
	left := 1 << 20
	seen := map[content.Digest]bool{}
	var walk func(d, like content.Digest) error
	walk = func(d, like content.Digest) error {
		if d == like || seen[d] {
			return nil
		}
		seen[d] = true
		if left--; left < 0 {
			return nil // the rest is asked for by itself
		}
		g.want = append(g.want, content.Want{Content: d})
		entries, err := g.chest.Entries(d)
		if err != nil {
			return err
		}
		var others []chest.File
		if like != (content.Digest{}) {
			others, _ = g.chest.Entries(like) // what can't be read there comes
		}
		at := map[string]content.Digest{}
		for _, o := range others {
			if o.Mode == chest.Folder {
				at[o.Path] = o.Digest
			}
		}
		for _, e := range entries {
			if e.Mode == chest.Folder {
				if err := walk(e.Digest, at[e.Path]); err != nil {
					return err
				}
			}
		}
		return g.Context().Err()
	}
	return walk(f.Digest, like)
}

// part gives the file in which a bale arrives.
func (a *asked) part() (string, error) {
	name := a.PathValue("name")
	if unsafePart(name) || len(name) > 100 {
		return "", fault.New(fault.Usage, "Look at docs/protocol.md.", "%q is no name of a bale.", name)
	}
	return filepath.Join(a.server.dir, "coming", a.project.ID+"-"+a.session.Person.ID+"-"+name), nil
}

// coming says how much of a bale has arrived.
func (a *asked) coming() error {
	file, err := a.part()
	if err != nil {
		return err
	}
	return a.comingIn(file)
}

func (a *asked) comingIn(file string) error {
	c := wire.Coming{}
	if info, err := os.Stat(file); err == nil {
		c.Have = info.Size()
	}
	return a.answer(c)
}

// bale takes in a bale, or a piece of it from some byte on; it is in the store when all of it has come, and was proven.
func (a *asked) bale() error {
	from, size, err := a.piece()
	if err != nil {
		return err
	}
	if size > mostBale {
		return tooLarge(mostBale)
	}
	if _, err := a.project.chest.Untidied(a.Context()); err != nil {
		return err
	}
	if from == 0 && size <= atOnce {
		return a.take(&exactly{in: a.body, left: size})
	}
	file, err := a.part()
	if err != nil {
		return err
	}
	f, err := beginPiece(file, from)
	if err != nil {
		return err
	}
	defer f.Close()
	// It is proven while it comes; what has come stays for the next try.
	more := &keeping{&exactly{in: a.body, left: size - from}, f}
	err = a.take(bufio.NewReaderSize(io.MultiReader(io.NewSectionReader(f, 0, from), more), 1<<18))
	if err == nil || errors.Is(err, content.ErrNoBale) {
		_ = os.Remove(file) // what is left goes with the next start
	}
	return err
}

// piece gives which bytes of a file a request holds: those from one on, of so many in all.
func (a *asked) piece() (from, size int64, err error) {
	from, err1 := strconv.ParseInt(a.URL.Query().Get("from"), 10, 64)
	size, err2 := strconv.ParseInt(a.URL.Query().Get("size"), 10, 64)
	if err1 != nil || err2 != nil || from < 0 || from > size {
		err = fault.New(fault.Usage, "Look at docs/protocol.md.", "The request does not say which bytes it holds.")
	}
	return from, size, err
}

// takePiece writes a piece to the end of what has arrived of a file, and gives the file when it is whole.
func (a *asked) takePiece(file string, from, size int64) (*os.File, error) {
	f, err := beginPiece(file, from)
	if err != nil {
		return nil, err
	}
	if err := a.append(f, from, size); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// beginPiece opens a file that has arrived in part, for a piece from some byte on; what was there of it before the first is
// forgotten.
func beginPiece(file string, from int64) (*os.File, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	have, err := f.Seek(0, io.SeekEnd)
	if err == nil && from == 0 && have > 0 {
		if err = f.Truncate(0); err == nil {
			have, err = f.Seek(0, io.SeekStart)
		}
	}
	if err != nil || have != from {
		return nil, errors.Join(err, f.Close(),
			fault.New(fault.Usage, "Ask how much has arrived.", "%d bytes of it are here, and not %d.", have, from))
	}
	return f, nil
}

func (a *asked) append(f *os.File, from, size int64) error {
	n, err := io.Copy(f, io.LimitReader(a.body, size-from))
	if err != nil {
		return fullOr(cutOff(err), err)
	}
	if from+n < size {
		return cutOff(io.ErrUnexpectedEOF)
	}
	return nil
}

// fullOr gives what a full disk says, else another error.
func fullOr(other, err error) error {
	if errors.Is(content.Condition(err), content.ErrFull) {
		return content.Condition(err)
	}
	return other
}

// take takes a whole bale into the store, and notes who sent it.
func (a *asked) take(in io.Reader) error {
	n, err := a.takeIn(in)
	if err != nil {
		return err
	}
	a.server.metrics.received(a.ContentLength)
	return a.answer(map[string]int{"new": n})
}

// takeIn is take, without an answer; it gives how many records were new.
func (a *asked) takeIn(in io.Reader) (int, error) {
	r, err := a.project.folder.Contents().ReceiveProven(a.Context(), in, mostUnpacked)
	if errors.Is(err, content.ErrNoBale) {
		f := fault.New(fault.Refused, "Send it again; if it stays so, run oaken health.",
			"What was sent is not what its digests say: %w.", err)
		return 0, f
	}
	if err != nil {
		var f *fault.Error
		if errors.As(err, &f) || errors.Is(err, content.ErrFull) {
			return 0, err
		}
		if errors.Is(err, io.ErrUnexpectedEOF) {
			return 0, cutOff(err)
		}
		return 0, err
	}
	if err := a.project.sent.add(a.session.Person.ID, r.Contents); err != nil {
		return 0, err
	}
	if p := a.project; r.New > 0 {
		a.server.gather(p)
	}
	return r.New, nil
}

// gather keeps the files of a project few, beside what goes on.
func (s *Server) gather(p *served) {
	many, err := p.folder.Contents().Many()
	if err != nil || !many {
		return
	}
	go func() {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		if err := p.chest.Gather(ctx); err != nil {
			s.o.Log.Warn("gathering", "project", p.Name, "error", err.Error())
		}
	}()
}

// exactly fails when fewer bytes come than were said.
type exactly struct {
	in   io.Reader
	left int64
}

func (e *exactly) Read(p []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n, err := e.in.Read(p[:min(int64(len(p)), e.left)])
	e.left -= int64(n)
	if err == io.EOF && e.left > 0 {
		err = io.ErrUnexpectedEOF
	} else if err == io.EOF {
		err = nil
	}
	return n, err
}

// keeping writes what it reads to the end of a file.
type keeping struct {
	in io.Reader
	f  *os.File
}

func (k *keeping) Read(p []byte) (int, error) {
	n, err := k.in.Read(p)
	if _, bad := k.f.Write(p[:n]); bad != nil {
		return 0, fullOr(bad, bad)
	}
	return n, err
}

// signals writes a line each time that something happened, until nobody listens.
func (a *asked) signals() error {
	a.out.Header().Set("Content-Type", "application/x-ndjson")
	a.server.metrics.waits(1)
	defer a.server.metrics.waits(-1)
	for n := 0; ; n++ {
		next := a.project.moved.next()
		if _, err := fmt.Fprintf(a.out, "{\"n\":%d}\n", n); err != nil {
			return gone(err)
		}
		if err := a.out.control.Flush(); err != nil {
			return gone(err)
		}
		if !a.wait(next) {
			return nil
		}
	}
}

// wait waits for a sign, and says every now and then that the connection stands; false when it does not, or the server
// ends.
func (a *asked) wait(next <-chan struct{}) bool {
	tick := newHeartbeat()
	defer tick.Stop()
	for {
		select {
		case <-next:
			return true
		case <-a.Context().Done():
			return false
		case <-a.server.ended:
			return false
		case <-tick.C:
			if _, err := io.WriteString(a.out, "\n"); err != nil || a.out.control.Flush() != nil {
				return false
			}
		}
	}
}
