package disk

import (
	"encoding/hex"

	"oakenchest/core/element"
	"oakenchest/core/fault"
)

// Hex writes a digest in hexadecimal.
func Hex(d element.Digest) string { return hex.EncodeToString(d[:]) }

// FromHex reads a digest of one of the workspace's own records.
func FromHex(s string) (element.Digest, error) {
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != len(element.Digest{}) {
		return element.Digest{}, fault.New(fault.Damaged, "Bring the workspace's own files, in .oaken, back from a copy.",
			"A record of this workspace holds %q in place of a digest.", s)
	}
	return element.Digest(b), nil
}
