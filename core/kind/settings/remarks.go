package settings

import "oakenchest/core/kind"

var _ kind.Remarker = Kind{}

// Remarks lists comments.
func (k Kind) Remarks(data []byte) []kind.Remark {
	return kind.LineRemarks(string(data), k.syntax.remarks(), k.syntax.nests())
}
