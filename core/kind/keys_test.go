package kind_test

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func TestItemsAreKeyedByWhatTellsThemApart(t *testing.T) {
	item := func(props ...string) *element.Element {
		e := &element.Element{Type: "item"}
		for i := 0; i < len(props); i += 2 {
			e.Set(props[i], element.TextValue(props[i+1]))
		}
		return e
	}
	for want, items := range map[string][]*element.Element{
		"1 2":   {item("id", "1", "name", "a"), item("id", "2", "name", "b")},
		"1 1~2": {item("id", "1", "name", "a"), item("id", "1", "name", "b")},
		"x y":   {item("code", "x"), item("code", "y")},
		"a a~2": {item("name", "a"), item("name", "a")},
		"   ":   {item("name", "a"), item("name", "a"), item("name", "a"), item("name", "a")},
		"  ":    {item("name", "a"), item("name", "b"), item()},
		"":      {},
		"    ":  {item("id", ""), item("id", "9"), item("id", "1"), item("id", "2"), item("id", "3")},
		"5":     {item("id", "5")},
		"b c d": {item("key", "b"), item("key", "c"), item("key", "d")},
	} {
		kind.KeyItems(items)
		var got []string
		for _, e := range items {
			got = append(got, e.Key)
		}
		if s := strings.Join(got, " "); s != want {
			t.Errorf("keys %q, want %q", s, want)
		}
	}
	mixed := []*element.Element{item("id", "1"), {Type: "list"}}
	if kind.KeyItems(mixed); mixed[0].Key != "" {
		t.Error("a list of items and lists has keys")
	}
}
