package workspace

import (
	"encoding/hex"
	"io"

	"oakenchest/core/chest"
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

// Open reads the one file by its digest.
func (b byDigest) Open(string) (io.ReadCloser, error) {
	r, err := b.w.Chest.Blobs.Open(b.file.Digest)
	return r, chest.Explain(err)
}
