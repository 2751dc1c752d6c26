package chest_test

import (
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"testing"

	. "oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
)

// randomTree gives files by path; names begin alike so that order matters, and a
// path is a file or a folder, never both.
func randomTree(r *rand.Rand) map[string]File {
	names := []string{"a", "a b", "a-b", "a.txt", "ab", "b", "Ä"}
	out := map[string]File{}
	for range r.IntN(25) {
		p := names[r.IntN(len(names))]
		for range r.IntN(3) {
			p = path.Join(p, names[r.IntN(len(names))])
		}
		out[p] = File{Path: p, Mode: Plain, Size: 1, Digest: element.DigestOf([]byte{byte(r.IntN(5))})}
		if r.IntN(6) == 0 {
			out[p] = Bare(p)
		}
	}
	for p := range out {
		for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
			delete(out, dir)
		}
	}
	return out
}

func sorted(files map[string]File) []File {
	return InOrder(slices.Collect(maps.Values(files)))
}

// TestTreesKeepWhatIsPutIntoThem holds Files, Diff and Amend of random trees
// against plain maps.
func TestTreesKeepWhatIsPutIntoThem(t *testing.T) {
	c := create(t)
	r := rand.New(rand.NewPCG(4, 8))
	write := func(tree content.Digest, files []File) content.Digest {
		t.Helper()
		b := c.Contents.Begin(t.Context())
		d, err := c.Amend(b, tree, files)
		if err == nil {
			err = b.Commit()
		}
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	var before map[string]File
	var tree content.Digest
	for round := range 300 {
		now := randomTree(r)
		for p, f := range before { // some stay as they were
			if _, ok := now[p]; !ok && r.IntN(2) == 0 && len(now) < 30 {
				trial := maps.Clone(now)
				trial[p] = f
				if fine(trial) {
					now = trial
				}
			}
		}
		whole := write(content.Digest{}, sorted(now))
		got, err := c.Files(whole)
		if err != nil || !slices.Equal(got, sorted(now)) {
			t.Fatalf("round %d: put in %v, got %v, %v", round, sorted(now), got, err)
		}
		pairs, err := c.Diff(tree, whole)
		if want := DiffFiles(sorted(before), sorted(now)); err != nil || !slices.Equal(inOrder(pairs), want) {
			t.Fatalf("round %d: diff %v\nwant %v\n%v", round, pairs, want, err)
		}
		var edits []File
		for _, p := range pairs {
			edits = append(edits, File{p.Path, p.Is.Mode, p.Is.Size, p.Is.Digest})
		}
		r.Shuffle(len(edits), func(i, j int) { edits[i], edits[j] = edits[j], edits[i] })
		if amended := write(tree, edits); amended != whole {
			left, _ := c.Files(amended)
			t.Fatalf("round %d: amending %v\nwith %v\ngives %v", round, sorted(before), edits, left)
		}
		before, tree = now, whole
	}
}

// fine reports whether no path is a file and a folder at once.
func fine(files map[string]File) bool {
	for p := range files {
		for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
			if _, ok := files[dir]; ok {
				return false
			}
		}
	}
	return true
}

func inOrder(pairs []Pair) []Pair {
	slices.SortFunc(pairs, func(a, b Pair) int { return ComparePaths(a.Path, b.Path) })
	return pairs
}

func TestAFileIsNeverAFolderToo(t *testing.T) {
	c := create(t)
	b := c.Contents.Begin(t.Context())
	defer b.Abandon()
	f := func(p string) File { return File{Path: p, Mode: Plain, Digest: EmptyTree} }
	if _, err := c.WriteTree(b, []File{f("a"), f("a/b")}); err == nil {
		t.Error("a file and what lies below it were both stored")
	}
	base, err := c.WriteTree(b, []File{f("a/b")})
	if err == nil {
		err = b.Commit()
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Amend(c.Contents.Begin(t.Context()), base, []File{f("a")}); err == nil {
		t.Error("a file took the place of a folder that holds something")
	}
}

func TestPathsAreOrderedAsFoldersAreWalked(t *testing.T) {
	order := []string{"a", "a/b", "a/b/c", "a/b.txt", "a\x01", "a b", "a-b/x", "a.txt", "ab"}
	for i := range order {
		for j := range order {
			if got := ComparePaths(order[i], order[j]); (got < 0) != (i < j) || (got == 0) != (i == j) {
				t.Errorf("%q and %q: %d", order[i], order[j], got)
			}
		}
	}
}
