package state

import (
	"context"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/kind/all"
	"oakenchest/core/manifest"
)

// randomProject gives files of several kinds, with a scene of files and a declared folder.
func randomProject(r *rand.Rand) map[string]string {
	out := map[string]string{}
	put := func(chance int, p, format string) {
		if r.IntN(chance) == 0 {
			out[p] = fmt.Sprintf(format, r.IntN(3))
		}
	}
	for _, dir := range []string{"", "a/", "a/b/", "c/"} {
		put(2, dir+"note.txt", "line %d\n")
		put(2, dir+"moved.txt", "a text that may be anywhere %d\n")
		put(2, dir+"set.json", `{"depth": %d}`)
	}
	put(1, "a/reef.gltf", `{"asset":{"version":"2.0"},"buffers":[{"uri":"reef.bin","byteLength":4}],"nodes":[{"name":"Lamp %d"}]}`)
	put(1, "a/reef.bin", "ab%dd")
	put(1, "database/tank.sql", "create table tank (id integer primary key, depth%d integer);\n")
	put(2, "database/specimen.sql", "create table specimen (id integer primary key, tank integer, name%d text);\n")
	put(2, "database/readme.txt", "readme %d\n")
	return out
}

// TestComparingByFoldersAgreesWithComparingLists holds the comparison that looks into folders which differ against
// the one of whole lists.
func TestComparingByFoldersAgreesWithComparingLists(t *testing.T) {
	c := chesttest.New(t, "Imke")
	r := &Reader{Kinds: all.Table(), Manifest: &manifest.Manifest{Artifacts: []manifest.Artifact{{Path: "database", Kind: "schema"}}}}
	commit := func(files map[string]string) Commit {
		b := c.Contents.Begin(t.Context())
		var list []File
		for p, text := range files {
			d, err := b.PutBytes([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			list = append(list, File{Path: p, Mode: chest.Plain, Size: int64(len(text)), Digest: d})
		}
		tree, err := c.WriteTree(b, list)
		if err == nil {
			err = b.Commit()
		}
		if err != nil {
			t.Fatal(err)
		}
		return Commit{Chest: c, Tree: tree, Name: "x"}
	}
	compare := func(from, to State, paths []string) string {
		list, err := r.Compare(context.Background(), from, to, paths)
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		for _, d := range list {
			fmt.Fprintln(&out, d.Path, d.Kind, d.Quiet, d.Why, d.Unread, d.Notes)
			for _, change := range d.Changes {
				fmt.Fprintln(&out, " ", change.Kind, change.Address, change.From, change.To)
			}
		}
		return out.String()
	}
	rng := rand.New(rand.NewPCG(20, 1))
	before := randomProject(rng)
	told := 0
	for round := range 150 {
		now := randomProject(rng)
		if round%3 == 0 { // little differs
			for p := range now {
				if rng.IntN(4) > 0 {
					delete(now, p)
				}
			}
			for p, text := range before {
				if _, ok := now[p]; !ok && rng.IntN(8) > 0 {
					now[p] = text
				}
			}
		}
		a, b := commit(before), commit(now)
		listed := func(s Commit) State {
			files, err := s.Files(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			return Listed(s, files)
		}
		var paths []string
		if round%5 == 0 {
			paths = []string{"a"}
		}
		got, want := compare(a, b, paths), compare(listed(a), listed(b), paths)
		if !reflect.DeepEqual(got, want) {
			t.Fatalf("round %d: from %v\nto %v\nby folders:\n%s\nby lists:\n%s", round, before, now, got, want)
		}
		told += strings.Count(got, "\n")
		before = now
	}
	if told < 300 {
		t.Errorf("only %d lines were told", told)
	}
}
