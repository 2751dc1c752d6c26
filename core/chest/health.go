package chest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Finding is something wrong with a chest, with what it touches.
type Finding struct {
	// Where is the file or record.
	Where  string
	Reason string
	// Touches lists versions of artifacts that can't be read whole: `PATH in
	// BRANCH:NUMBER`, the oldest commit that holds each.
	Touches []string

	Contents []content.Digest `json:",omitempty"` // of those versions
}

// Examination is what Examine has come to.
type Examination struct {
	Findings []Finding
	// Bytes, Commits and Files count what was looked at.
	Bytes          int64
	Commits, Files int
}

// Examine checks every byte and record of the chest: each stored chunk against
// its digest, each commit against its id, each tree and file that a commit
// names, each branch and release.
func (c *Chest) Examine(ctx context.Context, progress func(what string, done, total int)) (*Examination, error) {
	if k, ok := c.store.(Keeper); ok {
		x, err := k.Examine(ctx, progress)
		return x, Explain(err)
	}
	x := &Examination{}
	const kib = 1 << 10
	flaws, err := c.Contents.Verify(ctx, func(read, total int64) {
		if x.Bytes = read; progress != nil {
			progress("checking bytes (KiB)", int(read/kib), int(total/kib))
		}
	})
	if err != nil {
		return nil, err
	}
	bad := map[content.Digest]int{} // content to finding
	var unkeyed []Finding
	for _, f := range flaws {
		rel, err := filepath.Rel(c.Place(), f.File)
		if err != nil {
			rel = f.File
		}
		if f.Digest != (content.Digest{}) {
			bad[f.Digest] = len(x.Findings)
		}
		found := Finding{Where: filepath.ToSlash(rel), Reason: f.Reason}
		if f.Reason != content.Unkeyed {
			x.Findings = append(x.Findings, found)
		} else { // what was left by a killed process was never acknowledged
			unkeyed = append(unkeyed, found)
		}
	}
	records, err := c.records(ctx)
	if err != nil {
		x.Findings = append(x.Findings, append(records.findings, Finding{Where: "ledger.db", Reason: err.Error()})...)
		return x, nil
	}
	x.Findings = append(x.Findings, records.findings...)
	e := &examiner{chest: c, out: x, bad: bad, missing: map[string]int{}, seen: map[content.Digest]bool{},
		checked: map[content.Digest]int{}}
	for i, commit := range records.commits {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if progress != nil {
			progress("checking commits", i, len(records.commits))
		}
		x.Commits++
		e.folder(commit, commit.Tree, "")
	}
	others, err := records.others()
	if err != nil {
		x.Findings = append(x.Findings, Finding{Where: "ledger.db", Reason: err.Error()})
	}
	for _, o := range others {
		e.folder(ledger.Commit{Branch: o.name}, o.tree, "")
	}
	if len(x.Findings) > 0 { // it may be in one of them
		x.Findings = append(x.Findings, unkeyed...)
	}
	return x, nil
}

// recordCheck is what the ledger itself says.
type recordCheck struct {
	commits  []ledger.Commit // the oldest first
	kept     []ledger.Kept
	accounts map[int64]ledger.Account
	parked   []ledger.Parked
	findings []Finding
}

// otherTree is a tree that no commit has, and records name.
type otherTree struct {
	name string
	tree content.Digest
}

// others lists what is kept of environments, what is parked, and what accounts of deployments hold. An error says
// which of them nobody can tell; the others come with it.
func (r *recordCheck) others() (out []otherTree, err error) {
	add := func(name, tree string) {
		if tree == "" {
			return
		}
		d, bad := treeOf(ledger.Kept{Environment: name, Tree: tree})
		if bad != nil {
			err = errors.Join(err, bad)
			return
		}
		out = append(out, otherTree{name, d})
	}
	for _, k := range r.kept {
		add(k.Environment+" before a deployment", k.Tree)
	}
	for _, p := range r.parked {
		add("what "+p.Person+" parked as "+p.Name, p.Tree)
	}
	for n, a := range r.accounts {
		add(fmt.Sprintf("the account of deployment %d", n), a.Tree)
	}
	return out, err
}

func (c *Chest) records(ctx context.Context) (*recordCheck, error) {
	out := &recordCheck{}
	flaws, err := c.store.Flaws(ctx)
	for _, f := range flaws {
		out.findings = append(out.findings, Finding{Where: "ledger.db", Reason: f})
	}
	if err != nil {
		return out, err
	}
	err = c.View(ctx, func(r ledger.Records) error {
		var err error
		if out.commits, err = r.Commits(); err != nil {
			return err
		}
		if out.kept, err = r.AllKept(); err != nil {
			return err
		}
		if out.accounts, err = r.Accounts(); err != nil {
			return err
		}
		if out.parked, err = r.AllParked(); err != nil {
			return err
		}
		known := map[ledger.ID]bool{}
		for _, commit := range out.commits {
			known[commit.ID] = true
		}
		add := func(where, format string, args ...any) {
			out.findings = append(out.findings, Finding{Where: "ledger.db, " + where, Reason: fmt.Sprintf(format, args...)})
		}
		for _, commit := range out.commits {
			name := fmt.Sprintf("commit %s:%d", commit.Branch, commit.Depth)
			again := commit
			if again.Seal(); again.ID != commit.ID {
				add(name, "its record is not what its id says")
			}
			for _, p := range commit.Parents {
				if !known[p] {
					add(name, "the commit before it, %s, is missing", p.Short())
				}
			}
		}
		branches, err := r.Branches()
		if err != nil {
			return err
		}
		for _, b := range branches {
			if b.Tip != (ledger.ID{}) && !known[b.Tip] {
				add("branch "+b.Name, "the commit that it is at, %s, is missing", b.Tip.Short())
			}
		}
		deployments, err := r.Deployments("")
		if err != nil {
			return err
		}
		for _, d := range deployments {
			if !known[d.Commit] {
				add(fmt.Sprintf("deployment %d to %s", d.Number, d.Environment), "its commit %s is missing", d.Commit.Short())
			}
		}
		releases, err := r.Releases()
		for _, rel := range releases {
			if !known[rel.Commit] {
				add("release "+rel.Name, "its commit %s is missing", rel.Commit.Short())
			}
		}
		return err
	})
	return out, err
}

// examiner walks the trees of all commits, each folder and content once.
type examiner struct {
	chest   *Chest
	out     *Examination
	bad     map[content.Digest]int
	missing map[string]int
	seen    map[content.Digest]bool // folders
	checked map[content.Digest]int  // contents, with their finding; -1 for none
}

func (e *examiner) folder(commit ledger.Commit, d content.Digest, prefix string) {
	if d == (content.Digest{}) || e.seen[d] {
		return
	}
	e.seen[d] = true
	entries, err := e.chest.folder(d)
	if err != nil {
		e.touch(e.find(d, "the folder "+strings.TrimSuffix("/"+prefix, "/")+" can't be read"), strings.TrimSuffix(prefix, "/"), d, commit)
		return
	}
	for _, f := range entries {
		if f.Mode == Folder {
			e.folder(commit, f.Digest, prefix+f.Path+"/")
			continue
		}
		n, known := e.checked[f.Digest]
		if !known {
			e.out.Files++
			n = e.content(f)
			e.checked[f.Digest] = n
		}
		if n < 0 {
			n = e.size(f, prefix+f.Path)
		}
		if n >= 0 {
			e.touch(n, prefix+f.Path, f.Digest, commit)
		}
	}
}

// size checks that a file is as long as its folder says; it gives a finding of its own, or -1.
func (e *examiner) size(f File, p string) int {
	is, err := e.chest.Contents.Size(f.Digest)
	if err != nil || is == f.Size {
		return -1
	}
	reason := fmt.Sprintf("the record of its folder says that %s has %d bytes; it has %d", p, f.Size, is)
	e.out.Findings = append(e.out.Findings, Finding{Where: "content " + f.Digest.Short(), Reason: reason})
	return len(e.out.Findings) - 1
}

// find gives the finding about some content, a new one when there is none.
func (e *examiner) find(d content.Digest, reason string) int {
	if n, ok := e.bad[d]; ok && n < len(e.out.Findings) {
		return n
	}
	e.out.Findings = append(e.out.Findings, Finding{Where: "content " + d.Short(), Reason: reason})
	e.bad[d] = len(e.out.Findings) - 1
	return e.bad[d]
}

// content checks that a version of a file can be put together, from chunks that
// are whole; it gives the finding that spoils it, or -1.
func (e *examiner) content(f File) int {
	if n, ok := e.bad[f.Digest]; ok && !e.readable(f) {
		return n
	}
	chunks, err := e.chest.Contents.Chunks(f.Digest)
	if err != nil {
		return e.find(f.Digest, "it is missing or can't be read")
	}
	for _, c := range chunks {
		if n, ok := e.bad[c]; ok && !e.readable(f) {
			return n
		}
		if !e.chest.Contents.Has(c) {
			return e.find(f.Digest, "its chunk "+c.Short()+" is missing")
		}
	}
	return -1
}

// readable reads a version of a file whole: another pack may have what is
// damaged in one.
func (e *examiner) readable(f File) bool {
	r, err := e.chest.Contents.OpenExact(f.Digest)
	if err != nil {
		return false
	}
	defer r.Close()
	n, err := io.Copy(io.Discard, r)
	return err == nil && n == f.Size
}

func (e *examiner) touch(n int, path string, d content.Digest, commit ledger.Commit) {
	f := &e.out.Findings[n]
	line := fmt.Sprintf("%s in %s:%d", path, commit.Branch, commit.Depth)
	if !slices.Contains(f.Touches, line) {
		f.Touches = append(f.Touches, line)
		f.Contents = append(f.Contents, d)
	}
}

// readable reports whether content can be read whole, every chunk of it.
func (c *Chest) readable(d content.Digest) bool {
	r, err := c.Contents.OpenExact(d)
	if err != nil {
		return false
	}
	defer r.Close()
	_, err = io.Copy(io.Discard, r)
	return err == nil
}

// Repair writes keys of bales anew that are lost or damaged, and stores good copies of what is damaged: folders out of a list of
// files that may have the same ones, and content that copyOf gives by its
// digest, nil when there is none. It gives how many versions were mended.
func (c *Chest) Repair(ctx context.Context, x *Examination, files []File, copyOf func(content.Digest) (io.ReadCloser, error)) (int, error) {
	if _, ok := c.store.(Keeper); ok {
		return 0, fault.New(fault.Refused, "Whoever runs the server stops it, opens the project's folder below its data with oaken open, "+
			"and runs oaken health --repair there.", "A chest at a server is not repaired from afar.")
	}
	if _, err := c.Contents.RebuildKeys(); err != nil {
		return 0, Explain(err)
	}
	batch := c.Contents.Replace(ctx)
	defer batch.Abandon()
	if _, err := c.WriteTree(batch, files); err != nil {
		return 0, err
	}
	mended := map[content.Digest]bool{}
	for _, f := range x.Findings {
		for _, want := range f.Contents {
			if err := ctx.Err(); err != nil {
				return 0, err
			}
			if mended[want] || batch.Holds(want) || c.readable(want) {
				mended[want] = true
				continue
			}
			in, err := copyOf(want)
			if err != nil {
				return 0, err
			}
			if in == nil {
				continue
			}
			d, _, err := batch.Put(in)
			var damage *content.DamageError
			if err = errors.Join(err, in.Close()); errors.As(err, &damage) {
				continue // the copy is no better
			}
			if err != nil {
				return 0, err
			}
			mended[want] = d == want
		}
	}
	for want, is := range mended {
		if !is {
			delete(mended, want)
		}
	}
	if len(mended) == 0 {
		return 0, nil
	}
	return len(mended), Explain(batch.Commit())
}
