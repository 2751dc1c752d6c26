package state

import (
	"fmt"
	"strings"
	"testing"
)

// sceneText is a glTF scene of 100,000 nodes; those that edit chooses stand elsewhere.
func sceneText(edit func(i int) bool) string {
	var b strings.Builder
	b.WriteString(`{"asset":{"version":"2.0"},"nodes":[`)
	for i := range 100_000 {
		x := 0
		if edit(i) {
			x = 9
		}
		if i > 0 {
			b.WriteString(",\n")
		}
		fmt.Fprintf(&b, `{"name":"Weed %d","translation":[%d,%d,1]}`, i, x, i%100)
	}
	return b.String() + "]}"
}

func plainText(edit func(i int) bool) string {
	var b strings.Builder
	for i := range 100_000 {
		word := "seen"
		if edit(i) {
			word = "heard"
		}
		fmt.Fprintf(&b, "line %d was %s by somebody at the reef\n", i, word)
	}
	return b.String()
}

// The benchmarks come in pairs: three versions read, and merged. bench/artifacts prints the
// ratios.

func three(file string, text func(func(int) bool) string) [3]Memory {
	return [3]Memory{
		memory(file, text(func(int) bool { return false })), memory(file, text(func(i int) bool { return i%100 == 3 })), memory(file,
			text(func(i int) bool { return i%100 == 57 })),
	}
}

func benchmarkRead(b *testing.B, file string, text func(func(int) bool) string) {
	r, versions := reader(), three(file, text)
	for b.Loop() {
		for _, s := range versions {
			if _, err := r.Read(b.Context(), s, file); err != nil {
				b.Fatal(err)
			}
		}
	}
}

func benchmarkMerged(b *testing.B, file string, text func(func(int) bool) string) {
	r, v := reader(), three(file, text)
	for b.Loop() {
		m, err := r.Merge(b.Context(), v[0], v[1], v[2], nil)
		if err != nil || len(m.Conflicts) > 0 || len(m.Edits) != 1 {
			b.Fatal(err, m.Conflicts)
		}
	}
}

func BenchmarkSceneVersionsRead(b *testing.B)   { benchmarkRead(b, "reef.gltf", sceneText) }
func BenchmarkSceneVersionsMerged(b *testing.B) { benchmarkMerged(b, "reef.gltf", sceneText) }
func BenchmarkTextVersionsRead(b *testing.B)    { benchmarkRead(b, "log.txt", plainText) }
func BenchmarkTextVersionsMerged(b *testing.B)  { benchmarkMerged(b, "log.txt", plainText) }
