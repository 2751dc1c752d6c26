package state

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// outside is a program that reads documents with parsers of its own.
type outside struct {
	in    io.Writer
	out   *bufio.Reader
	knows map[string]bool
}

func newOutside(t *testing.T) *outside {
	t.Helper()
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("python3 is not here; it reads the outcomes")
	}
	cmd := exec.Command(python, "testdata/reader.py")
	cmd.Stderr = os.Stderr
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err1 != nil || err2 != nil || cmd.Start() != nil {
		t.Fatal(err1, err2)
	}
	t.Cleanup(func() { in.Close(); _ = cmd.Wait() })
	o := &outside{in: in, out: bufio.NewReaderSize(out, 1<<20)}
	line, err := o.out.ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &o.knows)
	}
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func (o *outside) read(format, text string) (any, error) {
	q, _ := json.Marshal(map[string]string{"format": format, "text": text})
	if _, err := o.in.Write(append(q, '\n')); err != nil {
		return nil, err
	}
	line, err := o.out.ReadBytes('\n')
	if err != nil {
		return nil, err
	}
	var a struct {
		Document any
		Error    string
	}
	if err := json.Unmarshal(line, &a); err != nil {
		return nil, err
	}
	if a.Error != "" {
		return nil, fmt.Errorf("%s", a.Error)
	}
	return a.Document, nil
}

// verdicts counts what became of merges.
type verdicts struct{ clean, conflicts, needless, merges int }

// TestMergesBeforeAJudge merges random documents that two people edited, and holds every
// outcome against a merge of what they mean, read by outside parsers. OAKEN_MERGES says how
// many of each format.
func TestMergesBeforeAJudge(t *testing.T) {
	o := newOutside(t)
	rounds := 60
	if n, err := strconv.Atoi(os.Getenv("OAKEN_MERGES")); err == nil {
		rounds = n
	}
	seed := uint64(1)
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	for _, f := range formats {
		t.Run(f.name, func(t *testing.T) {
			if known, says := o.knows[f.name]; says && !known {
				t.Skip("python3 has no reader of " + f.name)
			}
			var v verdicts
			reasons := map[string]int{}
			for n := range rounds {
				judge(t, o, f, seed+uint64(n), &v, reasons)
				if t.Failed() && os.Getenv("OAKEN_ON") == "" {
					break
				}
			}
			t.Logf("%d merges: %d without conflict, %d in conflict, %d of them without need", v.merges, v.clean, v.conflicts, v.needless)
			for _, r := range slices.Sorted(maps.Keys(reasons)) {
				t.Logf("  %4d  %s", reasons[r], r)
			}
			if v.needless*50 > v.merges && v.merges > 100 {
				t.Errorf("%d conflicts of %d merges were without need", v.needless, v.merges)
			}
		})
	}
}

func judge(t *testing.T, o *outside, f format, seed uint64, v *verdicts, reasons map[string]int) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 3))
	next := 0
	h := hand{r, &next, "nobody", f}
	b := h.paper()
	st := style{indent: []string{"  ", "    "}[r.IntN(2)], flow: r.IntN(2) == 0}
	m, th := b.clone(), b.clone()
	h.who = "mine"
	for range 1 + r.IntN(3) {
		h.edit(m)
	}
	h.who = "theirs"
	for range 1 + r.IntN(3) {
		h.edit(th)
	}
	k := blend(b, m, th)
	write := func(p *paper) string {
		text := f.write(p, st)
		if p.crlf {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		if p.mark {
			text = "\ufeff" + text
		}
		return text
	}
	base, mine, theirs := write(b), write(m), write(th)
	got, conflicts := merged(t, memory(f.file, base), memory(f.file, mine), memory(f.file, theirs), nil)
	text := string(got.Contents[f.file])
	for _, name := range slices.Sorted(maps.Keys(got.Contents)) {
		if name != f.file { // a folder has put something into a file of its own
			text += "\n" + string(got.Contents[name])
		}
	}
	v.merges++
	fail := func(format string, args ...any) {
		t.Errorf("seed %d: %s\n--- base\n%s--- mine\n%s--- theirs\n%s--- outcome, conflicts %v\n%s", seed, fmt.Sprintf(format, args...), base, mine, theirs, conflicts, text)
	}
	plain := strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n")
	doc, err := o.read(f.name, plain)
	if err != nil {
		fail("the outcome can't be read: %v", err)
		return
	}
	if len(conflicts) > 0 {
		v.conflicts++
		if len(k.conflicts)+len(k.both)+len(k.soft) == 0 {
			v.needless++
			reasons[conflicts[0][max(strings.LastIndexAny(conflicts[0], "(.:/"), 0):]]++
			if os.Getenv("OAKEN_SHOW") != "" {
				t.Logf("without need, seed %d: %v\n--- base\n%s--- mine\n%s--- theirs\n%s---\n", seed, conflicts, base, mine, theirs)
			}
		}
		return
	}
	v.clean++
	if len(k.conflicts) > 0 {
		fail("a conflict went unseen: %v", k.conflicts)
		return
	}
	if want, is := f.sorted(f.means(k.paper)), f.folded(doc); !reflect.DeepEqual(want, is) {
		fail("it means something else:\ngot  %v\nwant %v", is, want)
		return
	}
	if crlf := strings.Contains(text, "\r\n"); crlf != k.paper.crlf || crlf && strings.Count(text, "\r\n") != strings.Count(text, "\n") || strings.HasPrefix(text, "\ufeff") != k.paper.mark {
		fail("line ends or byte-order mark: want %v, %v", k.paper.crlf, k.paper.mark)
		return
	}
	due := append(k.paper.remarks(), k.both...)
	for _, remark := range due {
		if strings.Count(text, remark) != 1 {
			fail("the remark %q is there %d times", remark, strings.Count(text, remark))
			return
		}
	}
	for _, p := range []*paper{b, m, th} {
		for _, remark := range p.remarks() {
			if !slices.Contains(due, remark) && strings.Contains(text, remark) {
				fail("the remark %q is still there", remark)
				return
			}
		}
	}
}
