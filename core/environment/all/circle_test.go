package all

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/environment"
)

// TestRowsThatReferToEachOther writes thousands of rows of a table that refers to itself, and of
// two that refer to each other, in any order, while the foreign keys are there; changes and
// removes them; and tries to leave a reference to nothing.
func TestRowsThatReferToEachOther(t *testing.T) {
	for _, e := range engines {
		t.Run(e.name, func(t *testing.T) {
			target, run := e.make(t)
			run("create table tree (id int primary key, above int not null, constraint tree_above foreign key (above) references tree (id))")
			if e.name == "SQLite" {
				run("create table hen (id int primary key, egg int not null constraint hen_egg references egg (id))")
				run("create table egg (id int primary key, hen int not null constraint egg_hen references hen (id))")
			} else {
				run("create table hen (id int primary key, egg int not null)")
				run("create table egg (id int primary key, hen int not null, constraint egg_hen foreign key (hen) references hen (id))")
				run("alter table hen add constraint hen_egg foreign key (egg) references egg (id)")
			}
			d := open(t, environment.Host{Root: t.TempDir()}, target, environment.Settings{})
			got, err := d.Capture(t.Context(), nil)
			if err != nil {
				t.Fatal(err)
			}
			rows := path.Dir(e.rows) + "/"
			sheet := func(column string, pairs [][2]int) []byte {
				rand.Shuffle(len(pairs), func(i, j int) { pairs[i], pairs[j] = pairs[j], pairs[i] })
				var b strings.Builder
				b.WriteString("id," + column + "\n")
				for _, p := range pairs {
					fmt.Fprintf(&b, "%d,%d\n", p[0], p[1])
				}
				return []byte(b.String())
			}
			ring := func(from, n int) (out [][2]int) {
				for i := range n {
					out = append(out, [2]int{from + i, from + (i+n/2+1)%n})
				}
				return out
			}
			for _, size := range []int{3000, 500, 1200} {
				files := environment.With(got.Files, environment.Files{rows + "tree.csv": sheet("above", ring(size/7, size)),
					rows + "hen.csv": sheet("egg", ring(size, size)), rows + "egg.csv": sheet("hen", ring(size, size))})
				p := deployAll(t, d, files)
				if more, err := d.Plan(t.Context(), files, nil); err != nil || len(more.Steps) > 0 {
					t.Fatalf("%d: %v, %d steps left of %d", size, err, len(more.Steps), len(p.Steps))
				}
				if now, err := d.Capture(t.Context(), got.Files); err != nil ||
					slices.ContainsFunc(slices.Collect(keys(now.Edits)), func(n string) bool { return !strings.HasSuffix(n, ".csv") }) {
					t.Fatalf("the schema is another: %v, %v", now.Edits, err)
				}
			}
			bad := environment.With(got.Files, environment.Files{rows + "tree.csv": []byte("id,above\n1,2\n2,3\n"),
				rows + "hen.csv": []byte("id,egg\n"), rows + "egg.csv": []byte("id,hen\n")})
			p, err := d.Plan(t.Context(), bad, nil)
			if err != nil {
				t.Fatal(err)
			}
			if err := p.Apply(t.Context(), nil); err == nil {
				t.Error("a row refers to nothing, and nobody minds")
			}
			run("insert into hen select 90001, min(id) from egg") // the keys hold again
			good := environment.With(got.Files, environment.Files{rows + "tree.csv": []byte("id,above\n1,2\n2,1\n"),
				rows + "hen.csv": []byte("id,egg\n"), rows + "egg.csv": []byte("id,hen\n")})
			d2 := open(t, environment.Host{Root: t.TempDir()}, target, environment.Settings{})
			deployAll(t, d2, good)
		})
	}
}

func keys(files environment.Files) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range files {
			if !yield(k) {
				return
			}
		}
	}
}
