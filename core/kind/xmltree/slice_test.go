package xmltree

import (
	"errors"
	"strings"
	"testing"

	"oakenchest/core/element"
)

// TestSlicesAreTheBytesOfElements takes every element out in turn and puts it back.
func TestSlicesAreTheBytesOfElements(t *testing.T) {
	for _, doc := range []string{rounds, `<?xml version="1.0" encoding="ISO-8859-1"?><a><b>` + "f\xfcr" + `</b><c/></a>`,
		`<a>text<b/>more <!-- c --><c d="1">x</c> </a>`} {
		var taken []string
		count := 0
		for pick := 0; pick <= count; pick++ {
			files := map[string][]byte{}
			n := 0
			body, err := Kind{}.Slice([]byte(doc), func(line []*element.Element, raw []byte) (string, bool) {
				n++
				count = max(count, n)
				if n-1 != pick {
					return "", false
				}
				files["part.xml"] = raw
				taken = append(taken, string(raw))
				return "part.xml", true
			})
			if err != nil {
				t.Fatal(err)
			}
			back, err := Kind{}.Unslice(body, func(name string) ([]byte, error) { return files[name], nil })
			if err != nil || string(back) != doc {
				t.Errorf("%v:\n%s\ncame back as\n%s", err, doc, back)
			}
			if len(files) > 0 && !strings.Contains(string(body), "<?oaken-part part.xml?>") {
				t.Errorf("no reference in %s", body)
			}
		}
		if len(taken) < 2 {
			t.Errorf("only %d elements were taken", len(taken))
		}
	}
	lost := errors.New("lost")
	if _, err := (Kind{}).Unslice([]byte(`<a><?oaken-part x?></a>`), func(string) ([]byte, error) { return nil, lost }); !errors.Is(err,
		lost) {
		t.Errorf("a part that is not there: %v", err)
	}
}
