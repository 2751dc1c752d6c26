package scene

import (
	"math"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// Programs write the same scene in different words: a place as a matrix or in three parts, what the format
// presumes or nothing (Khronos Group, "glTF 2.0 Specification", 3.5.3 and the tables of section 5;
// KHR_lights_punctual), a number of 32 bits with few digits or all that 64 bits have.

// presumed gives the values that stand where a property is missing, by the element that has it: its type,
// or for an object in it `object:` and its key, of which only the end counts behind a *.
var presumed = map[string]map[string]string{
	"material":                    {"emissiveFactor": "0 0 0", "alphaMode": "OPAQUE", "alphaCutoff": "0.5", "doubleSided": "false"},
	"object:pbrMetallicRoughness": {"baseColorFactor": "1 1 1 1", "metallicFactor": "1", "roughnessFactor": "1"},
	"object:*exture":              {"texCoord": "0", "scale": "1", "strength": "1"},
	"object:sampler":              {"wrapS": "10497", "wrapT": "10497"},
	"primitive":                   {"mode": "4"},
	"channel":                     {"interpolation": "LINEAR"},
	"attribute":                   {"normalized": "false"},
	"values":                      {"normalized": "false"},
	"light":                       {"color": "1 1 1", "intensity": "1"},
	"object:spot":                 {"innerConeAngle": "0", "outerConeAngle": "0.7853981633974483"},
	"node":                        {"translation": "0 0 0", "rotation": "0 0 0 1", "scale": "1 1 1"},
}

// presumedIn gives the table for an element.
func presumedIn(e *element.Element) map[string]string {
	if e.Type != "object" {
		return presumed[e.Type]
	}
	if strings.HasSuffix(e.Key, "exture") {
		return presumed["object:*exture"]
	}
	return presumed["object:"+e.Key]
}

// Reword gives a scene in the words of another one, as far as both say the same; else as it is. Neither is
// changed.
func (Kind) Reword(was, is *element.Element) *element.Element {
	if was.Sum() == is.Sum() {
		return is
	}
	out := *is
	out.Props = rewordProps(was, is)
	out.Children = nil
	type id struct{ typ, key string }
	before := map[id]*element.Element{}
	for i, c := range was.Children {
		before[id{c.Type, keyOrPlace(c, i)}] = c
	}
	here := map[id]bool{}
	for i, c := range is.Children {
		k := id{c.Type, keyOrPlace(c, i)}
		here[k] = true
		old := before[k]
		switch {
		case old != nil:
			out.Children = append(out.Children, Kind{}.Reword(old, c))
		case !saysNothing(c):
			out.Children = append(out.Children, c)
		}
	}
	for i, c := range was.Children { // what says nothing may be missing
		if !here[id{c.Type, keyOrPlace(c, i)}] && saysNothing(c) {
			out.Children = append(out.Children, c)
		}
	}
	return &out
}

func keyOrPlace(e *element.Element, i int) string {
	if e.Key != "" {
		return e.Key
	}
	return "#" + strconv.Itoa(i)
}

// saysNothing reports whether an object has only what is presumed without it.
func saysNothing(e *element.Element) bool {
	if e.Type != "object" {
		return false
	}
	table := presumedIn(e)
	for _, p := range e.Props {
		if d, ok := table[p.Name]; !ok || !alike(p.Value.String(), d) {
			return false
		}
	}
	for _, c := range e.Children {
		if !saysNothing(c) {
			return false
		}
	}
	return true
}

// rewordProps gives the properties of an element in another one's words.
func rewordProps(was, is *element.Element) []element.Prop {
	e := element.Element{Props: append([]element.Prop{}, is.Props...)}
	if is.Type == "node" && samePlace(was, is) {
		for _, name := range append([]string{"matrix"}, "translation", "rotation", "scale") {
			e.Set(name, was.Prop(name))
		}
	}
	table := presumedIn(is)
	derived := map[string]bool{"min": true, "max": true} // of data that is the same
	bounds := (is.Type == "attribute" || is.Type == "values") && was.Prop("data").Equal(is.Prop("data"))
	for _, p := range is.Props {
		old := was.Prop(p.Name)
		d, presumes := table[p.Name]
		switch {
		case !old.IsAbsent() && old.Sort() == p.Value.Sort() && alike(old.String(), p.Value.String()):
			e.Set(p.Name, old)
		case old.IsAbsent() && (presumes && alike(p.Value.String(), d) || bounds && derived[p.Name]):
			e.Set(p.Name, old)
		}
	}
	for _, p := range was.Props {
		d, presumes := table[p.Name]
		if is.Prop(p.Name).IsAbsent() && e.Prop(p.Name).IsAbsent() && (presumes && p.Name != "matrix" && alike(p.Value.String(), d) ||
			bounds && derived[p.Name]) {
			if is.Type == "node" && !is.Prop("matrix").IsAbsent() {
				continue
			}
			e.Set(p.Name, p.Value)
		}
	}
	return inOrderOf(was, e.Props)
}

// inOrderOf sorts properties as another element has them; the order says nothing.
func inOrderOf(was *element.Element, props []element.Prop) []element.Prop {
	var out []element.Prop
	e := element.Element{Props: props}
	for _, p := range was.Props {
		if v := e.Prop(p.Name); !v.IsAbsent() {
			out = append(out, element.Prop{Name: p.Name, Value: v})
		}
	}
	for _, p := range props {
		if was.Prop(p.Name).IsAbsent() {
			out = append(out, p)
		}
	}
	return out
}

// alike reports whether two values, written out, are one: the same words, or numbers that are one in 32
// bits, as the format has them.
func alike(a, b string) bool {
	if a == b {
		return true
	}
	x, y := strings.Fields(a), strings.Fields(b)
	if len(x) != len(y) {
		return false
	}
	for i := range x {
		if x[i] == y[i] {
			continue
		}
		f, err1 := strconv.ParseFloat(x[i], 64)
		g, err2 := strconv.ParseFloat(y[i], 64)
		if err1 != nil || err2 != nil {
			return false
		}
		whole := f == math.Trunc(f) && g == math.Trunc(g)
		if f != g && (whole || float32(f) != float32(g)) {
			return false
		}
	}
	return true
}

// samePlace reports whether one node has a matrix and the other the three parts that make it up, within
// what 32 bits lose in between.
func samePlace(a, b *element.Element) bool {
	m, parts := a.Prop("matrix"), b
	if m.IsAbsent() {
		m, parts = b.Prop("matrix"), a
	}
	if m.IsAbsent() || !parts.Prop("matrix").IsAbsent() {
		return false
	}
	want, ok := numbers(m, 16)
	t, ok1 := numbers(parts.Prop("translation"), 3)
	q, ok2 := numbers(parts.Prop("rotation"), 4)
	s, ok3 := numbers(parts.Prop("scale"), 3)
	if !ok || !ok1 || !ok2 || !ok3 {
		return false
	}
	const lost = 1e-6
	for i, v := range compose(t, q, s) {
		if math.Abs(v-want[i]) > lost*max(1, math.Abs(v), math.Abs(want[i])) {
			return false
		}
	}
	return true
}

func numbers(v element.Value, n int) ([]float64, bool) {
	items := v.Items()
	if len(items) != n {
		return nil, false
	}
	out := make([]float64, n)
	for i, it := range items {
		f, err := strconv.ParseFloat(it.String(), 64)
		if err != nil || it.Sort() != element.Number {
			return nil, false
		}
		out[i] = f
	}
	return out, true
}

// compose gives the matrix T × R × S in columns, R from a unit quaternion.
func compose(t, q, s []float64) [16]float64 {
	x, y, z, w := q[0], q[1], q[2], q[3]
	return [16]float64{
		(1 - 2*(y*y+z*z)) * s[0], 2 * (x*y + z*w) * s[0], 2 * (x*z - y*w) * s[0], 0,
		2 * (x*y - z*w) * s[1], (1 - 2*(x*x+z*z)) * s[1], 2 * (y*z + x*w) * s[1], 0,
		2 * (x*z + y*w) * s[2], 2 * (y*z - x*w) * s[2], (1 - 2*(x*x+y*y)) * s[2], 0,
		t[0], t[1], t[2], 1,
	}
}
