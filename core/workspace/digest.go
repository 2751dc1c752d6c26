package workspace

import (
	"encoding/hex"

	"oakenchest/core/element"
	"oakenchest/core/fault"
)

func hexOf(d element.Digest) string { return hex.EncodeToString(d[:]) }

func fromHex(s string) (element.Digest, error) {
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != len(element.Digest{}) {
		return element.Digest{}, fault.New(fault.Damaged, "Give the merge up by removing .oaken/merge.json.", "The record of the merge under way holds %q in place of a digest.", s)
	}
	return element.Digest(b), nil
}
