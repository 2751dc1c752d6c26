package rows

import (
	"bytes"
	"fmt"
	"testing"
)

// hundredThousand is a file of 100,000 rows, and another of which twelve differ.
func hundredThousand() (a, b []byte) {
	var text bytes.Buffer
	text.WriteString("id,code,name,price,weight,since\n")
	for i := range 100_000 {
		fmt.Fprintf(&text, "%d,C%d,Item number %d,%.2f,%g,2020-01-%02d\n", i+1, i, i, float64(i)/7, float64(i)*1.1, i%28+1)
	}
	a = text.Bytes()
	return a, bytes.ReplaceAll(bytes.Clone(a), []byte("Item number 1000"), []byte("Thing number 1000"))
}

var key = []string{"id"}

func BenchmarkTrim(b *testing.B) {
	x, y := hundredThousand()
	b.SetBytes(int64(len(x)))
	for b.Loop() {
		if _, _, ok, err := Trim(x, y, key); !ok || err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkInOrder(b *testing.B) {
	x, _ := hundredThousand()
	b.SetBytes(int64(len(x)))
	for b.Loop() {
		if !InOrder(x, key) {
			b.Fatal("it is in order")
		}
	}
}

func BenchmarkParse(b *testing.B) {
	x, _ := hundredThousand()
	b.SetBytes(int64(len(x)))
	for b.Loop() {
		if _, err := Parse(x); err != nil {
			b.Fatal(err)
		}
	}
}
