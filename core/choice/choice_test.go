package choice

import (
	"testing"

	"oakenchest/core/element"
)

func conflict(t *testing.T, address string, base, mine, theirs element.Value, allows ...element.Keep) element.Conflict {
	t.Helper()
	a, err := element.ParseAddress(address)
	if err != nil {
		t.Fatal(err)
	}
	return element.Conflict{Address: a, Base: element.Side{Value: base}, Mine: element.Side{Value: mine},
		Theirs: element.Side{Value: theirs}, Allows: allows}
}

// TestAChoiceSaysNothingOfOtherSides changes each side of a conflict by as little as there is.
func TestAChoiceSaysNothingOfOtherSides(t *testing.T) {
	text, number := element.TextValue, element.IntValue
	seen := map[string]string{}
	for name, c := range map[string]element.Conflict{
		"as it is":         conflict(t, "a.json::.x", text("1"), text("2"), text("3")),
		"another base":     conflict(t, "a.json::.x", text("0"), text("2"), text("3")),
		"mine and theirs":  conflict(t, "a.json::.x", text("1"), text("3"), text("2")),
		"a number":         conflict(t, "a.json::.x", text("1"), number(2), text("3")),
		"nothing":          conflict(t, "a.json::.x", text("1"), element.Value{}, text("3")),
		"an empty text":    conflict(t, "a.json::.x", text("1"), text(""), text("3")),
		"in one":           conflict(t, "a.json::.x", text("12"), text(""), text("3")),
		"other bytes":      conflict(t, "a.json::.x", element.BytesValue(element.DigestOf([]byte("a")), 1), text(""), text("3")),
		"bytes of a size":  conflict(t, "a.json::.x", element.BytesValue(element.DigestOf([]byte("b")), 1), text(""), text("3")),
		"null":             conflict(t, "a.json::.x", text("1"), element.NullValue(), text("3")),
		"a text like null": conflict(t, "a.json::.x", text("1"), text("null"), text("3")),
	} {
		sum := Sides(c)
		if other, taken := seen[sum]; taken {
			t.Errorf("%s and %s are taken for the same", name, other)
		}
		seen[sum] = name
	}
	whole := conflict(t, "a.bin", text("a"), text("b"), text("c"))
	if Sides(whole, []byte("x"), []byte("y")) == Sides(whole, []byte("xy"), nil) {
		t.Error("files are taken together")
	}
}

func TestChoicesAreKeptAsTheyWereMade(t *testing.T) {
	all := []element.Keep{element.KeepMine, element.KeepValue}
	for _, x := range []struct {
		mine  element.Value
		value string
		fails bool
	}{
		{element.IntValue(3), "7", false},
		{element.IntValue(3), "seven", true},
		{element.BoolValue(true), "false", false},
		{element.TextValue("a"), "-- 'b'\n", false},
		{element.ListValue(element.IntValue(1), element.IntValue(2)), "3 4", false},
		{element.ListValue(element.TextValue("a")), "b c", false},
	} {
		c := conflict(t, "a.json::.x", x.mine, x.mine, x.mine, all...)
		made, err := Make(c, element.KeepValue, x.value)
		if (err != nil) != x.fails {
			t.Errorf("%v set to %q: %v", x.mine, x.value, err)
			continue
		}
		if want, _ := element.ParseLike(x.mine, x.value); err == nil && !made.Choice().Value.Equal(want) {
			t.Errorf("%v set to %q comes back as %v", x.mine, x.value, made.Choice().Value)
		}
	}
	if _, err := Make(conflict(t, "a.json::.x", element.Value{}, element.Value{}, element.Value{}), element.KeepMine, ""); err == nil {
		t.Error("a conflict that no choice settles is settled")
	}
}

func TestWhatAPersonMeans(t *testing.T) {
	var list []element.Conflict
	for _, a := range []string{"tanks/reef.json::.depth", "tanks/reef.json::.heat", "tanks/kelp.json::.depth", "a.bin"} {
		list = append(list, conflict(t, a, element.Value{}, element.Value{}, element.Value{}))
	}
	for text, want := range map[string]int{"tanks/reef.json::.depth": 1, "tanks/reef.json": 2, "tanks": 3, ".": 4, "**.depth": 2,
		"tanks/*": 3, "a.bin": 1, "b": 0, "tanks/?eef.json": 2} {
		of, _, err := Meant(text)
		if err != nil || len(of(list)) != want {
			t.Errorf("%q means %d of them, %v; want %d", text, len(of(list)), err, want)
		}
	}
	if _, _, err := Meant("a::"); err == nil {
		t.Error("half an address is taken for one")
	}
}

// FuzzMeant gives what is no address or pattern.
func FuzzMeant(f *testing.F) {
	for _, s := range []string{"a::b:c/d:#1.e", "**", "*.(", "a::\"", "?", "[", "\xff*"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if of, _, err := Meant(text); err == nil {
			of([]element.Conflict{{Address: element.Address{Path: "a"}}})
		}
	})
}
