package settings

import "oakenchest/core/kind"

var _ kind.Remarker = Kind{}

// Remarks lists comments.
func (k Kind) Remarks(data []byte) []string {
	if k.syntax.nests() {
		return kind.LineRemarks(string(data), "#", true)
	}
	return kind.LineRemarks(string(data), "#;!", false)
}
