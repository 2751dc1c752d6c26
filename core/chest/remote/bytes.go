package remote

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/content"
	"oakenchest/core/trace"
)

// guided knows where contents lie, of those whose folder was read: they are asked for by commit and path.
type guided struct {
	mu   sync.Mutex // guards what follows
	from map[content.Digest]origin
	// whole is a tree of which all folders are near.
	whole content.Digest
	file  string
}

// origin is where content lies: under a name in a folder.
type origin struct {
	folder content.Digest
	name   string
	mode   chest.Mode
}

func (g *guided) load(dir string) {
	g.file = filepath.Join(dir, "tree")
	g.from = map[content.Digest]origin{}
	if data, err := os.ReadFile(g.file); err == nil && hex.DecodedLen(len(data)) == len(g.whole) {
		_, _ = hex.Decode(g.whole[:], data) // what is no digest names nothing
	}
}

// Guide notes what lies in a folder that was read.
func (s *Store) Guide(folder content.Digest, entries []chest.File) {
	g := &s.guided
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, e := range entries {
		if _, known := g.from[e.Digest]; !known {
			g.from[e.Digest] = origin{folder, e.Path, e.Mode}
		}
	}
}

// place gives where content lies, below a root; folder says that it is one, as far as is known.
func (g *guided) place(d content.Digest) (root content.Digest, path string, folder bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	var names []string
	const deepest = 1 << 12
	at := d
	for range deepest {
		o, ok := g.from[at]
		if !ok {
			break
		}
		if at == d {
			folder = o.mode == chest.Folder
		}
		names, at = append(names, o.name), o.folder
	}
	slices.Reverse(names)
	return at, strings.Join(names, "/"), folder
}

// wholeOther gives a tree that is near, other than one.
func (g *guided) wholeOther(d content.Digest) content.Digest {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.whole == d {
		return content.Digest{}
	}
	return g.whole
}

// keepWhole notes that all folders of a tree are near.
func (g *guided) keepWhole(d content.Digest) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.whole = d
	_ = os.WriteFile(g.file, []byte(hex.EncodeToString(d[:])), 0o600) // without it more is asked for
}

// far is the server's store.
type far struct{ *Store }

// Fetch answers content.Far, as does Send.
func (f far) Fetch(ctx context.Context, want []content.Want) (io.ReadCloser, error) {
	call, tree, err := f.callFor(ctx, want)
	if err != nil {
		return nil, err
	}
	defer trace.Begin(ctx, trace.Journey, fmt.Sprintf("contents %d", len(want)))()
	in, err := f.calls.post(ctx, f.address.Project+"/"+wire.CallContents, call, again)
	if err != nil || tree == (content.Digest{}) {
		return in, err
	}
	return &wholeTree{in, f.Store, tree}, nil
}

// wholeTree notes, when all of it was read, that a tree is near.
type wholeTree struct {
	io.ReadCloser
	store *Store
	tree  content.Digest
}

func (w *wholeTree) Read(p []byte) (int, error) {
	n, err := w.ReadCloser.Read(p)
	if err == io.EOF {
		w.store.guided.keepWhole(w.tree)
	}
	return n, err
}

// callFor finds out where what is wanted lies. tree is one that is whole when all has come.
func (f far) callFor(ctx context.Context, want []content.Want) (call wire.ContentsCall, tree content.Digest, err error) {
	places := map[wire.Place]int{}
	for _, w := range want {
		root, path, folder := f.guided.place(w.Content)
		at, err := f.named(ctx, root)
		if err != nil {
			return call, tree, err
		}
		isRoot := root == w.Content && at != (wire.Place{})
		if len(w.Parts) == 0 && (folder || isRoot) {
			wanted := wire.FolderWanted{Place: at, Digest: w.Content}
			if wanted.Path = path; isRoot {
				like := f.guided.wholeOther(root)
				if like != (content.Digest{}) && f.contents.Has(like) {
					wanted.Like = like
				}
				tree = root
			}
			call.Folders = append(call.Folders, wanted)
			continue
		}
		if at == (wire.Place{}) {
			path = ""
		}
		i, ok := places[at]
		if !ok {
			i = len(call.Of)
			places[at] = i
			call.Of = append(call.Of, wire.ContentsAsked{Place: at})
		}
		call.Of[i].Items = append(call.Of[i].Items, wire.ContentAsked{Path: path, Digest: w.Content, Parts: w.Parts})
	}
	return call, tree, nil
}

// named gives the place of a tree: a commit's, or one that something else names; else nobody's but the sender's.
func (f far) named(ctx context.Context, root content.Digest) (wire.Place, error) {
	tx, err := f.hints.View(ctx)
	if err != nil {
		return wire.Place{}, err
	}
	defer tx.Close()
	if c, err := tx.CommitOf(root); err == nil {
		return wire.Place{Commit: c.ID}, nil
	}
	is, err := tx.Holds(hex.EncodeToString(root[:]))
	if err == nil && is {
		return wire.Place{Tree: root}, nil
	}
	return wire.Place{}, err
}

// Send brings a bale to the server.
func (f far) Send(ctx context.Context, name string, bale io.ReaderAt, size int64) error {
	if f.brief && f.along.take(bale, size) {
		return nil
	}
	defer trace.Begin(ctx, trace.Journey, "bale")()
	return f.calls.send(ctx, f.address.Project+"/"+wire.CallBales+"/"+name, bale, size)
}

// send brings bytes to the server; where the connection breaks, it goes on from what has arrived.
func (c *Caller) send(ctx context.Context, call string, data io.ReaderAt, size int64) error {
	from := int64(0)
	began, pause := time.Now(), firstPause
	for {
		in, err := c.once(ctx, http.MethodPut, fmt.Sprintf("%s?from=%d&size=%d", call, from, size), "",
			io.NewSectionReader(data, from, size-from), size-from)
		if err == nil {
			_, err = io.Copy(io.Discard, in)
			_ = in.Close()
			if err == nil {
				return nil
			}
		}
		var lost *lostError
		if !errors.As(err, &lost) || ctx.Err() != nil || !lost.sent && from == 0 || time.Since(began) > persistence {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
			pause = min(2*pause, longestPause)
		}
		have, err := c.arrived(ctx, call)
		if err == nil && have != from && have <= size {
			from, began, pause = have, time.Now(), firstPause
		}
	}
}

// arrived asks how much has arrived.
func (c *Caller) arrived(ctx context.Context, call string) (int64, error) {
	in, err := c.once(ctx, http.MethodGet, call, "", nil, 0)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	var is wire.Coming
	err = json.NewDecoder(in).Decode(&is)
	return is.Have, err
}
