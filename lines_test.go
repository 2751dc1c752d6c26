package oakenchest_test

import (
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// columns is how wide a line of code may be, with tabs of four.
const columns = 140

// TestLinesFit holds code to what fits side by side on a screen. A line with a long text in it, such as a query, may be
// wider: breaking those makes them harder to read and to find.
func TestLinesFit(t *testing.T) {
	err := filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") {
			return err
		}
		text, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		for _, line := range tooWide(text) {
			t.Errorf("%s:%d is wider than %d columns", p, line, columns)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	long := "var x = []int{" + strings.Repeat("1, ", 60) + "}\n"
	if got := tooWide([]byte("package p\n\n" + long + "var y = `" + strings.Repeat("word ", 40) + "`\n")); len(got) != 1 || got[0] != 3 {
		t.Errorf("of a long line and a long text these are said to be too wide: %v", got)
	}
}

// tooWide gives the numbers of lines that could be shorter.
func tooWide(text []byte) (out []int) {
	const longText = 60
	files := token.NewFileSet()
	file := files.AddFile("", -1, len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	excused := map[int]bool{}
	for {
		at, kind, literal := s.Scan()
		if kind == token.EOF {
			break
		}
		if kind != token.STRING || len(literal) < longText {
			continue
		}
		for n := range strings.Count(literal, "\n") + 1 {
			excused[file.Line(at)+n] = true
		}
	}
	number := 0
	for line := range strings.SplitSeq(string(text), "\n") {
		number++
		if !excused[number] && utf8.RuneCountInString(line)+3*strings.Count(line, "\t") > columns {
			out = append(out, number)
		}
	}
	return out
}
