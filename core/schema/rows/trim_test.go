package rows

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// twoFiles makes two files by chance that share most of their rows, with values that
// have line breaks, quotes and commas in them.
func twoFiles(r *rand.Rand) (a, b *Sheet) {
	words := []string{"", "x", "a,b", "two\nlines", "\"q\"", "line\r\nend", "5", " "}
	a, b = &Sheet{Columns: []string{"id", "v"}}, &Sheet{Columns: []string{"id", "v"}}
	for i := range 20 + r.IntN(30) {
		id := fmt.Sprint(i)
		if r.IntN(3) == 0 {
			id = words[1+r.IntN(7)] + id
		}
		row := Row{{Text: id}, {Text: words[r.IntN(8)], Null: false}}
		if r.IntN(6) == 0 {
			row[1] = Value{Null: true}
		}
		other := slices.Clone(row)
		switch r.IntN(8) {
		case 0:
			a.Rows = append(a.Rows, row)
			continue
		case 1:
			b.Rows = append(b.Rows, other)
			continue
		case 2:
			other[1] = Value{Text: words[r.IntN(8)]}
		}
		a.Rows, b.Rows = append(a.Rows, row), append(b.Rows, other)
	}
	return a, b
}

// TestTrimLeavesWhatDiffers holds what Trim gives against a comparison of the whole files.
func TestTrimLeavesWhatDiffers(t *testing.T) {
	r := rand.New(rand.NewPCG(rand.Uint64(), 5))
	for round := range 500 {
		a, b := twoFiles(r)
		for _, s := range []*Sheet{a, b} {
			if err := s.Sort([]string{"id"}); err != nil {
				t.Fatal(err)
			}
		}
		x, y, ok, err := Trim(a.Bytes(), b.Bytes(), []string{"id"})
		if err != nil || !ok {
			t.Fatalf("round %d: %v, %v", round, ok, err)
		}
		whole, err := Compare(a, b, []string{"id"})
		if err != nil {
			t.Fatal(err)
		}
		if len(x.Rows) != len(whole.Removed)+len(whole.Edited) || len(y.Rows) != len(whole.Added)+len(whole.Edited) {
			t.Fatalf("round %d: %d and %d rows are left of %d removed, %d added, %d edited", round, len(x.Rows), len(y.Rows),
				len(whole.Removed), len(whole.Added), len(whole.Edited))
		}
		text := strings.Split(string(a.Bytes()), "\n")
		for i, row := range x.Rows {
			if first, _, _ := strings.Cut(row[0].Text, "\n"); !strings.Contains(text[x.Line(i)-1],
				strings.Trim(strings.ReplaceAll(first, `"`, `""`), "\r")) {
				t.Fatalf("round %d: the row %q is not on line %d", round, row[0].Text, x.Line(i))
			}
		}
		if !InOrder(a.Bytes(), []string{"id"}) {
			t.Fatalf("round %d: a sorted file is not in order\n%s", round, a.Bytes())
		}
		if len(a.Rows) > 1 {
			slices.Reverse(a.Rows)
			if InOrder(a.Bytes(), []string{"id"}) {
				t.Fatalf("round %d: a file from the last row to the first is in order", round)
			}
		}
	}
}

func TestFilesOfOtherColumnsAreNotTrimmed(t *testing.T) {
	if _, _, ok, err := Trim([]byte("a,b\n1,2\n"), []byte("a,c\n1,2\n"), []string{"a"}); ok || err != nil {
		t.Errorf("%v, %v", ok, err)
	}
	for _, bad := range []string{"a,b\n1\n", "a,b\n\"1,2\n"} {
		if _, _, ok, err := Trim([]byte(bad), []byte("a,b\n3,4\n"), []string{"a"}); ok || err == nil {
			t.Errorf("%q is trimmed: %v, %v", bad, ok, err)
		}
	}
	if string(Header([]byte("a,\"b\nc\"\n1,2\n"))) != "a,\"b\nc\"\n" {
		t.Error("the header ends within quotes")
	}
}

// TestWordsThatMeanTheSameAreKept lets a person write a value otherwise, and the engine
// change another row.
func TestWordsThatMeanTheSameAreKept(t *testing.T) {
	old := sheet(t, "id,price\n1,1.5\n2,2\n3,3.0\n")
	normal := &Sheet{Columns: old.Columns, Rows: []Row{{{Text: "1"}, {Text: "1.50"}}, {{Text: "2"}, {Text: "2.00"}},
		{{Text: "3"}, {Text: "3.00"}}}, lines: old.lines}
	live := sheet(t, "id,price\n1,1.50\n2,9.00\n4,4.00\n")
	if !live.KeepWords(old, normal, key) {
		t.Error("no words are kept")
	}
	if got := string(live.Bytes()); got != "id,price\n1,1.5\n2,9.00\n4,4.00\n" {
		t.Errorf("it becomes\n%s", got)
	}
	if live.KeepWords(old, &Sheet{Columns: old.Columns}, key) {
		t.Error("words are kept of a sheet that is not the same")
	}
}

// TestAGrowingTableIsWrittenInParts sees that no statement gets too long.
func TestAGrowingTableIsWrittenInParts(t *testing.T) {
	var text strings.Builder
	for i := range 1_250 {
		fmt.Fprintf(&text, "%d,c%d,\n", i, i)
	}
	out := planned(t, "", text.String())
	if n := strings.Count(out, "insert into kind"); n != 3 {
		t.Errorf("%d statements", n)
	}
	gone := planned(t, text.String(), "")
	if n := strings.Count(gone, "delete from kind"); n != 3 || !strings.Contains(gone, "remove 1250 rows") {
		t.Errorf("%d statements", n)
	}
}
