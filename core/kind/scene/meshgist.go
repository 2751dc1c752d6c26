package scene

import (
	"fmt"
	"math"
	"strconv"

	"oakenchest/core/element"
)

// meshGist says how many vertices and triangles a mesh has, and the box around it:
// the least and the greatest that its POSITION attributes declare.
func meshGist(e *element.Element) string {
	vertices, corners := 0, 0
	low, high := []float64{math.Inf(1), math.Inf(1), math.Inf(1)}, []float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	for _, p := range e.Children {
		at := p.Find([]element.Step{{Type: "attribute", Key: "POSITION"}})
		if at == nil {
			continue
		}
		n := int(numberOf(at.Prop("count")))
		vertices += n
		if indices := p.Find([]element.Step{{Type: "values", Key: "indices"}}); indices != nil {
			n = int(numberOf(indices.Prop("count")))
		}
		if mode := p.Prop("mode"); mode.IsAbsent() || mode.Text() == "4" {
			corners += n
		}
		for i, v := range at.Prop("min").Items() {
			if i < 3 {
				low[i] = min(low[i], numberOf(v))
			}
		}
		for i, v := range at.Prop("max").Items() {
			if i < 3 {
				high[i] = max(high[i], numberOf(v))
			}
		}
	}
	if vertices == 0 {
		return ""
	}
	out := fmt.Sprintf("%d vertices, %d triangles", vertices, corners/3)
	if !math.IsInf(low[0], 1) && !math.IsInf(high[0], -1) {
		out += fmt.Sprintf(", from %s %s %s to %s %s %s", short(low[0]), short(low[1]), short(low[2]), short(high[0]), short(high[1]),
			short(high[2]))
	}
	return out
}

func numberOf(v element.Value) float64 {
	f, err := strconv.ParseFloat(v.Text(), 64)
	if err != nil {
		return 0
	}
	return f
}
