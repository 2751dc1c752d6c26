package cli

import "testing"

func TestRenamedFoldersAreFound(t *testing.T) {
	for _, c := range [][4]string{
		{"old/deep/f.txt", "new/deep/f.txt", "old", "new"}, {"a/old/f.txt", "a/new/f.txt", "a/old", "a/new"}, {"a/f.txt", "b/g.txt",
			"a/f.txt", "b/g.txt"},
		{"a/b/f.txt", "a/f.txt", "a/b", "a"}, {"f.txt", "sub/f.txt", ".", "sub"}, {"x/a/b/f", "y/a/b/f", "x", "y"},
	} {
		if from, to := renamedFolder(c[0], c[1]); from != c[2] || to != c[3] {
			t.Errorf("%s → %s: %s → %s", c[0], c[1], from, to)
		}
	}
}
