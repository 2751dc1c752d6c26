package partfile

import (
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
)

func TestSafeNames(t *testing.T) {
	for key, want := range map[string]string{
		"Lamp": "Lamp", "a/b": "a%2Fb", "con": "%63on", "CON.txt": "%43ON.txt", "..": "%2E%2E", "x.": "x%2E", "Käfig 水槽": "Käfig 水槽",
		"": "%", "50%": "50%25", "a\nb": "a%0Ab", "lpt1": "%6Cpt1", "\xff": "%FF",
	} {
		if got := Safe(key); got != want {
			t.Errorf("%q: got %q, want %q", key, got, want)
		}
	}
	long := Safe(strings.Repeat("ä", 500))
	if len(long) > maxName+10 || long == Safe(strings.Repeat("ä", 501)) {
		t.Errorf("long names: %q", long)
	}
	n := Names{}
	if a, b := n.Take("Lamp", ".json", "Lamp"), n.Take("lamp", ".json", "lamp"); strings.EqualFold(a, b) {
		t.Errorf("%s and %s are one file on some systems", a, b)
	}
}

func TestElementsComeBackFromTheirFiles(t *testing.T) {
	e := &element.Element{Type: "node", Key: "a:b", Ordered: true, Props: []element.Prop{
		{Name: "scale", Value: element.ListValue(element.NumberValue("1.50"), element.IntValue(2))}, {Name: "data",
			Value: element.BytesValue(element.DigestOf([]byte("x")), 1)},
		{Name: "name", Value: element.TextValue("Lamp")}, {Name: "on", Value: element.BoolValue(true)}, {Name: "none",
			Value: element.NullValue()}}}
	e.Add(&element.Element{Type: "line"}, &element.Element{Type: "line", Props: []element.Prop{{Name: "t", Value: element.TextValue("")}}})
	held := map[string]element.Value{}
	data, err := Encode(e, func(at []string, v element.Value) (string, error) {
		name := strings.Join(at, "/")
		held[name] = v
		return name, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	got, err := Decode(data, func(name string) (element.Value, error) {
		v, ok := held[name]
		if !ok {
			return v, fmt.Errorf("no %s", name)
		}
		return v, nil
	})
	if err != nil || got.Sum() != e.Sum() {
		t.Errorf("%v\n%s\ncame back as\n%s", err, data, got.Dump())
	}
	for _, bad := range []string{"{", "{}", `{"element":"x"}`, `{"element":"a:b/c:d"}`, `{"element":"a:b","properties":{"x":{}}}`} {
		if _, err := Decode([]byte(bad), nil); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
}
