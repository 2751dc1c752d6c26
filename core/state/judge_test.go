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

// Trial is three versions of a document, and what two people did in it.
type Trial struct {
	seed uint64
	format
	b, m, t            *paper
	known              *known
	Base, Mine, Theirs string
}

// newTrial lets two people edit a random document.
func newTrial(f format, seed uint64) *Trial {
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
	return &Trial{seed, f, b, m, th, blend(b, m, th), write(b), write(m), write(th)}
}

// Told is an outcome with all that it came from.
func (x *Trial) Told(outcome string, conflicts any) string {
	return fmt.Sprintf("seed %d\n--- base\n%s--- mine\n%s--- theirs\n%s--- outcome, conflicts %v\n%s", x.seed, x.Base, x.Mine, x.Theirs,
		conflicts, outcome)
}

// Needless reports whether a conflict would be without need.
func (x *Trial) Needless() bool {
	return len(x.known.conflicts)+len(x.known.both)+len(x.known.soft) == 0
}

// read reads an outcome with an outside parser.
func (x *Trial) read(o *outside, text string) (any, error) {
	return o.read(x.name, strings.ReplaceAll(strings.TrimPrefix(text, "\ufeff"), "\r\n", "\n"))
}

// Wrong says what is wrong with an outcome that came without conflict; empty for nothing.
func (x *Trial) Wrong(o *outside, text string) string {
	doc, err := x.read(o, text)
	if err != nil {
		return fmt.Sprintf("the outcome can't be read: %v", err)
	}
	if len(x.known.conflicts) > 0 {
		return fmt.Sprintf("a conflict went unseen: %v", x.known.conflicts)
	}
	want := x.known.paper
	if meant, is := x.sorted(x.means(want)), x.folded(doc); !reflect.DeepEqual(meant, is) {
		return fmt.Sprintf("it means something else:\ngot  %v\nwant %v", is, meant)
	}
	if crlf := strings.Contains(text, "\r\n"); crlf != want.crlf || crlf && strings.Count(text, "\r\n") != strings.Count(text, "\n") ||
		strings.HasPrefix(text, "\ufeff") != want.mark {
		return fmt.Sprintf("line ends or byte-order mark: want %v, %v", want.crlf, want.mark)
	}
	due := append(want.remarks(), x.known.both...)
	for _, remark := range due {
		if n := strings.Count(text, remark); n != 1 {
			return fmt.Sprintf("the remark %q is there %d times", remark, n)
		}
	}
	for _, p := range []*paper{x.b, x.m, x.t} {
		for _, remark := range p.remarks() {
			if !slices.Contains(due, remark) && strings.Contains(text, remark) {
				return fmt.Sprintf("the remark %q is still there", remark)
			}
		}
	}
	return ""
}

func judge(t *testing.T, o *outside, f format, seed uint64, v *verdicts, reasons map[string]int) {
	t.Helper()
	x := newTrial(f, seed)
	got, conflicts := merged(t, memory(f.file, x.Base), memory(f.file, x.Mine), memory(f.file, x.Theirs), nil)
	text := string(got.Contents[f.file])
	for _, name := range slices.Sorted(maps.Keys(got.Contents)) {
		if name != f.file { // a folder has put something into a file of its own
			text += "\n" + string(got.Contents[name])
		}
	}
	v.merges++
	if len(conflicts) == 0 {
		v.clean++
		if wrong := x.Wrong(o, text); wrong != "" {
			t.Errorf("%s\n%s", wrong, x.Told(text, conflicts))
		}
		return
	}
	v.conflicts++
	if _, err := x.read(o, text); err != nil {
		t.Errorf("the outcome can't be read: %v\n%s", err, x.Told(text, conflicts))
	}
	if x.Needless() {
		v.needless++
		reasons[conflicts[0][max(strings.LastIndexAny(conflicts[0], "(.:/"), 0):]]++
		if os.Getenv("OAKEN_SHOW") != "" {
			t.Logf("without need: %s", x.Told(text, conflicts))
		}
	}
}

// Formats names the formats of trials.
func Formats() (names []string) {
	for _, f := range formats {
		names = append(names, f.name)
	}
	return names
}

// NewTrial is newTrial for a format by its name.
func NewTrial(name string, seed uint64) *Trial {
	return newTrial(formats[slices.IndexFunc(formats, func(f format) bool { return f.name == name })], seed)
}

// File gives the path of the document.
func (x *Trial) File() string { return x.file }

// Outside reads outcomes with parsers that are not ours.
type Outside = outside

// NewOutside is newOutside for others.
func NewOutside(t *testing.T) *Outside { return newOutside(t) }

// Knows reports whether there is an outside parser of a format.
func (o *outside) Knows(name string) bool { known, says := o.knows[name]; return known || !says }
