package table

import (
	"fmt"
	"strings"

	"oakenchest/core/kind"
)

var _ kind.Examiner = Kind{}

// Flaws lists lines with fewer or more fields than there are columns.
func (Kind) Flaws(data []byte) []string {
	t, err := parse(kind.FileSource{Name: "t.csv", Data: data})
	if err != nil {
		return nil // it was said elsewhere
	}
	var out []string
	for _, r := range t.records[1:] {
		if len(r.fields) != len(t.columns) {
			out = append(out, fmt.Sprintf("a line has another number of fields than there are columns: %s",
				strings.Join(r.fields, string(t.sep))))
		}
	}
	return out
}
