package service

import (
	"slices"
	"testing"

	"oakenchest/core/kind/all"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

func TestElementsAreOfferedStepByStep(t *testing.T) {
	s := state.Memory{Name: "work",
		Contents: map[string][]byte{"rounds.json": []byte(`{"form": {"title": "Rounds", "a/b": {"x": 1}}, "list": [1, 2]}`)}}
	r := &state.Reader{Kinds: all.Table(), Manifest: &manifest.Manifest{}}
	first := Elements(t.Context(), r, s, "rounds.json::")
	if len(first) == 0 {
		t.Fatal("nothing is offered in a document")
	}
	for _, offered := range first {
		again := Elements(t.Context(), r, s, offered)
		if !slices.Contains(again, offered) {
			t.Errorf("%s is offered, and not when it is written: %v", offered, again)
		}
		for _, below := range Elements(t.Context(), r, s, offered+"/") {
			if got := Elements(t.Context(), r, s, below); !slices.Contains(got, below) {
				t.Errorf("%s is offered below, and not when it is written: %v", below, got)
			}
		}
	}
	for _, text := range []string{"rounds.json", "none.json::", "rounds.json::no:thing/", `rounds.json::"`, "::"} {
		if got := Elements(t.Context(), r, s, text); len(got) > 0 {
			t.Errorf("%q: %v", text, got)
		}
	}
}
