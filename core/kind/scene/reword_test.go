package scene

import (
	"strings"
	"testing"

	"oakenchest/core/element"
)

// TestAnotherExporterSaysTheSame rewrites a scene as programs do, one way at a time and all at once, and
// says small things that are not the same.
func TestAnotherExporterSaysTheSame(t *testing.T) {
	const material = `"pbrMetallicRoughness":{"baseColorFactor":[1,0.9,0.5,1],"baseColorTexture":{"index":0}}}`
	same := [][2]string{
		{`"pbrMetallicRoughness":{"baseColorFactor":[1,0.9,0.5,1],"baseColorTexture":{"index":0}}}`,
			`"alphaMode":"OPAQUE","doubleSided":false,"emissiveFactor":[0.0,0,0],"pbrMetallicRoughness":{"metallicFactor":1.0,"baseColorFactor":[1.0,0.8999999761581421,0.5,1],"baseColorTexture":{"texCoord":0,"index":0}},"extras":{}}`},
		{`"interpolation":"LINEAR"`, `"interpolation":"LINEAR"`},
		{`,"interpolation":"LINEAR"`, ``},
		{`"material":0}`, `"material":0,"mode":4}`},
		{`"type":"point","intensity":40`, `"type":"point","intensity":40,"color":[1,1,1]`},
		{`"samplers":[{"magFilter":9729}]`, `"samplers":[{"magFilter":9729,"wrapS":10497,"wrapT":10497}]`},
		{`,"min":[0],"max":[1]}`, `,"normalized":false}`},
	}
	base := tree(t, reef()).Root
	quiet := func(edits ...string) string {
		t.Helper()
		other := tree(t, reef(edits...)).Root
		back := changes(other, Kind{}.Reword(other, base))
		return changes(base, Kind{}.Reword(base, other)) + back
	}
	var all []string
	for _, s := range same {
		if !strings.Contains(reefJSON, s[0]) {
			t.Fatalf("the scene has no %s", s[0])
		}
		if got := quiet(s[0], s[1]); got != "" {
			t.Errorf("%s shows:\n%s", s[1], got)
		}
		if s[1] != "" {
			all = append(all, s[0], s[1])
		}
	}
	if got := quiet(all...); got != "" {
		t.Errorf("all at once shows:\n%s", got)
	}
	for _, s := range [][2]string{
		{material, `"pbrMetallicRoughness":{"metallicFactor":0.99,"baseColorFactor":[1,0.9,0.5,1],"baseColorTexture":{"index":0}}}`},
		{material, `"alphaMode":"BLEND",` + material}, {material, `"doubleSided":true,` + material},
		{material, `"pbrMetallicRoughness":{"baseColorFactor":[1,0.9001,0.5,1],"baseColorTexture":{"index":0}}}`},
		{material, `"extras":{"a":1},` + material},
		{`"interpolation":"LINEAR"`, `"interpolation":"STEP"`}, {`"material":0}`, `"material":0,"mode":1}`},
		{`"intensity":40`, `"intensity":1`}, {`,"intensity":40`, ``},
	} {
		if got := quiet(s[0], s[1]); got == "" {
			t.Errorf("%s shows nothing", s[1])
		}
	}
}

func TestAMatrixIsItsParts(t *testing.T) {
	node := func(text string) *element.Element {
		return tree(t, glb(`{"asset":{"version":"2.0"},"nodes":[{"name":"N",`+text+`}]}`, nil)).Root
	}
	const parts = `"translation":[1.5,2,-3],"rotation":[0,0.7071068,0,0.7071068],"scale":[2,3,0.5]`
	for matrix, alike := range map[string]bool{
		`"matrix":[0,0,-2,0, 0,3,0,0, 0.5,0,0,0, 1.5,2,-3,1]`:                                           true,
		`"matrix":[-2.384185791015625e-7,0,-2,0, 0,3.0,0,0, 0.5,0,-5.960464477539063e-8,0, 1.5,2,-3,1]`: true,
		`"matrix":[0,0,-2,0, 0,3,0,0, 0.5,0,0,0, 1.5,2.001,-3,1]`:                                       false,
		`"matrix":[0,0,-2,0, 0,3.001,0,0, 0.5,0,0,0, 1.5,2,-3,1]`:                                       false,
		`"matrix":[0,0,2,0, 0,3,0,0, -0.5,0,0,0, 1.5,2,-3,1]`:                                           false, // turned the other way
		`"matrix":[0,0,-2,0, 0,3,0,0, 0.5,0.1,0,0, 1.5,2,-3,1]`:                                         false, // sheared
	} {
		a, b := node(parts), node(matrix)
		one, other := changes(a, Kind{}.Reword(a, b)), changes(b, Kind{}.Reword(b, a))
		if (one == "") != alike || (other == "") != alike {
			t.Errorf("%s: %q, %q", matrix, one, other)
		}
	}
	a, b := node(`"extras":{}`), node(`"matrix":[1,0,0,0,0,1,0,0,0,0,1,0,0,0,0,1],"extras":{}`)
	if got := changes(a, Kind{}.Reword(a, b)); got != "" {
		t.Errorf("no place and the matrix of none: %s", got)
	}
}
