package opaque

import (
	"strings"
	"testing"

	"oakenchest/core/kind"
)

func TestBinariesSayWhatChanged(t *testing.T) {
	was := kind.FileSource{Name: "reef.ttf", Data: []byte("\x00\x01\x00\x00\x07\x08Reef Sans Regular\x00\x01\x02Copyright Brindle Bay\x00")}
	is := kind.FileSource{Name: "reef.ttf",
		Data: []byte("\x00\x01\x00\x00\x07\x08Reef Sans Bold\x00\x01\x02Copyright Brindle Bay\x00\x01t\x00i\x00d\x00a\x00l\x00 \x00")}
	notes, err := Kind{}.Measure(was, is)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"TrueType font", "bytes 16 to 57 differ", `without "Reef Sans Regular"`,
		`with "Reef Sans Bold", "tidal "`, "entropy"} {
		if !strings.Contains(notes[""], want) {
			t.Errorf("no %s in %s", want, notes[""])
		}
	}
	facts, err := Kind{}.Facts(was)
	if err != nil || len(facts) != 3 || facts[0].Value.Text() != "TrueType font" {
		t.Errorf("%v, %v", facts, err)
	}
	if Entropy([]byte("aaaa")) != 0 || Entropy([]byte("abcd")) != 2 || Entropy(nil) != 0 {
		t.Error("entropy")
	}
}
