package opaque

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

var _ kind.Measurer = Kind{}

// sorts are widely used forms, by their first bytes and where those stand.
var sorts = []struct {
	name  string
	at    int
	bytes string
}{
	{"TrueType font", 0, "\x00\x01\x00\x00"}, {"OpenType font", 0, "OTTO"}, {"font collection", 0, "ttcf"}, {"WOFF font", 0, "wOFF"},
	{"WOFF2 font", 0, "wOF2"},
	{"PDF", 0, "%PDF-"}, {"7-Zip archive", 0, "7z\xbc\xaf\x27\x1c"}, {"XZ file", 0, "\xfd7zXZ\x00"}, {"bzip2 file", 0, "BZh"},
	{"Zstandard file", 0, "\x28\xb5\x2f\xfd"},
	{"ELF program", 0, "\x7fELF"}, {"Windows program", 0, "MZ"}, {"Mach-O program", 0, "\xcf\xfa\xed\xfe"}, {"WebAssembly", 0, "\x00asm"},
	{"Java class", 0, "\xca\xfe\xba\xbe"},
	{"MP3 sound", 0, "ID3"}, {"MP4 film", 4, "ftyp"}, {"Matroska film", 0, "\x1a\x45\xdf\xa3"}, {"FBX model", 0, "Kaydara FBX Binary"},
	{"Blender file", 0, "BLENDER"},
	{"Photoshop picture", 0, "8BPS"}, {"OpenEXR picture", 0, "\x76\x2f\x31\x01"}, {"DDS texture", 0, "DDS "}, {"KTX texture", 0, "\xabKTX"},
	{"ICC profile", 36, "acsp"}, {"OLE document", 0, "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"},
}

// SortOf says in a few words what bytes are; nothing when they begin like nothing known.
func SortOf(data []byte) string {
	for _, s := range sorts {
		if len(data) >= s.at+len(s.bytes) && string(data[s.at:s.at+len(s.bytes)]) == s.bytes {
			return s.name
		}
	}
	return ""
}

// Entropy gives the bits of information in a byte, from 0 to 8: C. Shannon, "A
// Mathematical Theory of Communication" (1948).
func Entropy(data []byte) float64 {
	var count [256]int
	for _, b := range data {
		count[b]++
	}
	h := 0.0
	for _, n := range count {
		if n > 0 {
			p := float64(n) / float64(len(data))
			h -= p * math.Log2(p)
		}
	}
	return h
}

// leastText is the length in characters of a run of text that counts as a string.
const leastText = 6

// texts gives the distinct strings in bytes: runs of printable ASCII, as bytes or as
// UTF-16 in the order of little ends.
func texts(data []byte) map[string]bool {
	out := map[string]bool{}
	for _, step := range []int{1, 2} {
		for i := 0; i < len(data); {
			end := i
			for end+step <= len(data) && data[end] >= ' ' && data[end] < 0x7f && (step == 1 || data[end+1] == 0) {
				end += step
			}
			if (end-i)/step >= leastText {
				out[strings.ReplaceAll(string(data[i:end]), "\x00", "")] = true
			}
			i = end + 1
		}
	}
	return out
}

// Facts gives what sort of content it is, its entropy, and its strings.
func (Kind) Facts(src kind.Source) ([]element.Prop, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	var out []element.Prop
	if s := SortOf(data); s != "" {
		out = append(out, element.Prop{Name: "sort", Value: element.TextValue(s)})
	}
	found := texts(data)
	return append(out, element.Prop{Name: "entropy", Value: element.TextValue(fmt.Sprintf("%.2f bits a byte", Entropy(data)))},
		element.Prop{Name: "strings", Value: element.TextValue(some(found, nil))}), nil
}

// Measure says, of the whole, how much of it differs, and which strings came or went.
func (Kind) Measure(was, is kind.Source) (map[string]string, error) {
	a, err := kind.Main(was)
	if err != nil {
		return nil, err
	}
	b, err := kind.Main(is)
	if err != nil {
		return nil, err
	}
	says := []string{element.SizeText(int64(len(a))) + " → " + element.SizeText(int64(len(b)))}
	if s := SortOf(b); s != "" {
		says[0] = s + ", " + says[0]
	}
	head, tail := 0, 0
	for head < min(len(a), len(b)) && a[head] == b[head] {
		head++
	}
	for tail < min(len(a), len(b))-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	says = append(says, fmt.Sprintf("bytes %d to %d differ", head, max(head, len(b)-tail)))
	if x, y := fmt.Sprintf("%.2f", Entropy(a)), fmt.Sprintf("%.2f", Entropy(b)); x != y {
		says = append(says, "entropy "+x+" → "+y)
	}
	before, after := texts(a), texts(b)
	if gone := some(before, after); gone != "" {
		says = append(says, "without "+gone)
	}
	if came := some(after, before); came != "" {
		says = append(says, "with "+came)
	}
	return map[string]string{"": strings.Join(says, "; ")}, nil
}

// some lists the longest strings of a set that another lacks.
func some(of, lacks map[string]bool) string {
	const most = 4
	var list []string
	for s := range of {
		if !lacks[s] {
			list = append(list, s)
		}
	}
	slices.SortFunc(list, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	var out []string
	for i, s := range list {
		if i == most {
			out = append(out, fmt.Sprintf("and %d more", len(list)-most))
			break
		}
		if len(s) > 40 {
			s = s[:40] + "…"
		}
		out = append(out, strconv.Quote(s))
	}
	return strings.Join(out, ", ")
}
