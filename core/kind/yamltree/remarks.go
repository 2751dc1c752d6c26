package yamltree

import "oakenchest/core/kind"

var _ kind.Remarker = Kind{}

// Remarks lists comments. A line of a block scalar that looks like one is listed too.
func (Kind) Remarks(data []byte) []kind.Remark { return kind.LineRemarks(string(data), "#", true) }
