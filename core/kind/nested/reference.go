package nested

import (
	"bytes"
	"strings"

	"oakenchest/core/kind"
	"oakenchest/core/kind/partfile"
)

// A text that was taken out of a document leaves a reference to its file:
// `oaken-part:FILE@`, for base64, or `oaken-part:ENCODING:FILE@`.
const (
	referenceHead = "oaken-part:"
	referenceTail = "@"
)

// Reference gives the text that stands for a file with content in an encoding.
func Reference(file, encoding string) string {
	if encoding == "" || encoding == Base64 {
		return referenceHead + file + referenceTail
	}
	return referenceHead + encoding + ":" + file + referenceTail
}

// ParseReference is the reverse of Reference. Files of a split have no colon in
// their names.
func ParseReference(text string) (file, encoding string, ok bool) {
	text, head := strings.CutPrefix(text, referenceHead)
	text, tail := strings.CutSuffix(text, referenceTail)
	if !head || !tail || text == "" || strings.Contains(text, "\n") {
		return "", "", false
	}
	if encoding, file, ok = strings.Cut(text, ":"); ok {
		return file, encoding, CheckEncoding(encoding) == nil
	}
	return text, Base64, true
}

// Mentions reports whether bytes may hold a reference.
func Mentions(data []byte) bool { return bytes.Contains(data, []byte("oaken-part")) }

// Divider is a kind whose documents can be taken apart: what they hold becomes
// files of their own.
type Divider interface {
	kind.Writer
	// TakeApart gives the document with references, and the parts that these
	// name, below file + ".embedded/".
	TakeApart(src kind.Source, file string, names partfile.Names) ([]byte, []kind.Part, error)
	// PutTogether is the reverse; get gives the part of a name.
	PutTogether(src kind.Source, get func(name string) ([]byte, error)) ([]byte, error)
}
