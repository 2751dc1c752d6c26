package jsontree

import (
	"errors"
	"testing"

	"oakenchest/core/element"
)

// TestSlicesAreTheBytesOfValues takes every object and list out in turn and puts it
// back.
func TestSlicesAreTheBytesOfValues(t *testing.T) {
	docs := append([]string{"{\n  \"a\": {\"b\": [ {\"id\": 1}, {\"id\": 2.0} ], \"c\": \"x\"},\n  \"l\": [1, [2], {\"z\": null}]\n}\n"},
		documents...)
	for _, doc := range docs {
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
				if last := line[len(line)-1]; last.Type != "object" && last.Type != "list" && last.Type != "item" {
					t.Errorf("%s is no object and no list", last.Type)
				}
				files["a \"b\".json"] = raw
				return "a \"b\".json", true
			})
			if err != nil {
				t.Fatal(err)
			}
			if len(files) > 0 && string(body) == doc {
				t.Errorf("nothing was taken out of %s", doc)
			}
			back, err := Kind{}.Unslice(body, func(name string) ([]byte, error) { return files[name], nil })
			if err != nil || string(back) != doc {
				t.Errorf("%v:\n%s\ncame back as\n%s\nfrom\n%s", err, doc, back, body)
			}
		}
	}
	lost := errors.New("lost")
	if _, err := (Kind{}).Unslice([]byte(`{"a": "oaken-part-value:x"}`), func(string) ([]byte, error) { return nil, lost }); !errors.Is(err,
		lost) {
		t.Errorf("a part that is not there: %v", err)
	}
}
