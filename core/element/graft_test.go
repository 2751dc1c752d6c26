package element

import (
	"testing"
)

func TestGraft(t *testing.T) {
	node := func(key, scale string, kids ...*Element) *Element {
		e := &Element{Type: "node", Key: key, Props: []Prop{{"scale", TextValue(scale)}}}
		return e.Add(kids...)
	}
	root := func(kids ...*Element) *Element { return (&Element{Type: "scene", Ordered: true}).Add(kids...) }
	from := root(node("sand", "1"), node("lamp", "2", node("bulb", "3")), node("coral", "4"))
	onto := root(node("coral", "40"), node("sand", "10"), node("rock", "5"))
	for _, c := range []struct {
		address string
		want    *Element // nil when it can't be done
	}{
		{"x::node:coral", root(node("coral", "4"), node("sand", "10"), node("rock", "5"))},
		{"x::node:coral.scale", root(node("coral", "4"), node("sand", "10"), node("rock", "5"))},
		{"x::node:lamp", root(node("coral", "40"), node("sand", "10"), node("lamp", "2", node("bulb", "3")), node("rock", "5"))},
		{"x::node:rock", root(node("coral", "40"), node("sand", "10"))},
		{"x::node:lamp/node:bulb", nil},
		{"x::node:none", nil},
		{"x::node:coral.colour", nil},
		{"x", from},
	} {
		a, err := ParseAddress(c.address)
		if err != nil {
			t.Fatal(err)
		}
		before := onto.Dump() + from.Dump()
		got, ok := Graft(onto, from, a)
		if ok != (c.want != nil) {
			t.Errorf("%s: %v", c.address, ok)
		} else if ok && got.Dump() != c.want.Dump() {
			t.Errorf("%s gives\n%s", c.address, got.Dump())
		}
		if onto.Dump()+from.Dump() != before {
			t.Errorf("%s changed a tree", c.address)
		}
	}
	bare := root(&Element{Type: "node", Key: "coral"})
	if got, ok := Graft(onto, bare, Address{"x", []Step{{Type: "node", Key: "coral"}}, "scale"}); !ok || len(got.Children[0].Props) != 0 {
		t.Error("a property that the other tree does not have stays")
	}
}
