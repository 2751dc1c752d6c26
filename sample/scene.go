package sample

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
)

// Lamp is what the story changes in the reef scene.
type Lamp struct {
	Scale, Brightness float64
	// RockHeight moves the rock, in metres above the sand.
	RockHeight float64
}

// meshOf is a mesh of the scene: positions in metres and triangles.
type meshOf struct {
	name      string
	material  int
	positions [][3]float32
	triangles []uint16
}

// Reef makes the reef scene as a .glb: sand, a rock, a coral, a lamp that hangs
// above them and a camera.
func Reef(l Lamp) ([]byte, error) {
	meshes := []meshOf{grid("sand", 0, 8, 4), ball("rock", 1, 6, 5, 1.2, 0.7), ball("coral", 2, 9, 7, 0.5, 1.1),
		ball("lamp", 3, 5, 4, 0.3, 0.3)}
	var bin []byte
	var views, accessors, list []string
	view := func(data []byte) int {
		for len(bin)%4 != 0 {
			bin = append(bin, 0)
		}
		views = append(views, fmt.Sprintf(`{"buffer":0,"byteOffset":%d,"byteLength":%d}`, len(bin), len(data)))
		bin = append(bin, data...)
		return len(views) - 1
	}
	for _, m := range meshes {
		low, high := bounds(m.positions)
		var pos, tri []byte
		for _, p := range m.positions {
			for _, f := range p {
				pos = binary.LittleEndian.AppendUint32(pos, math.Float32bits(f))
			}
		}
		for _, t := range m.triangles {
			tri = binary.LittleEndian.AppendUint16(tri, t)
		}
		accessors = append(accessors,
			fmt.Sprintf(`{"bufferView":%d,"componentType":5126,"count":%d,"type":"VEC3","min":%s,"max":%s}`, view(pos), len(m.positions),
				triple(low), triple(high)),
			fmt.Sprintf(`{"bufferView":%d,"componentType":5123,"count":%d,"type":"SCALAR"}`, view(tri), len(m.triangles)))
		list = append(list, fmt.Sprintf(`{"name":%q,"primitives":[{"attributes":{"POSITION":%d},"indices":%d,"material":%d}]}`, m.name,
			len(accessors)-2, len(accessors)-1, m.material))
	}
	picture := view(SandPNG(32))
	s := fmt.Sprintf("%g", l.Scale)
	json := fmt.Sprintf(`{
 "asset":{"version":"2.0","generator":"Brindle Bay exhibit workshop"},
 "extensionsUsed":["KHR_lights_punctual"],
 "extensions":{"KHR_lights_punctual":{"lights":[{"name":"Lamp light","type":"point","color":[1,0.86,0.6],"intensity":%g,"range":6}]}},
 "scene":0,
 "scenes":[{"name":"Reef","nodes":[0,1,3,4]}],
 "nodes":[
  {"name":"Sand","mesh":0},
  {"name":"Rock","mesh":1,"translation":[-1.5,%g,0],"children":[2]},
  {"name":"Coral","mesh":2,"translation":[0.4,0.6,0.3]},
  {"name":"Lamp","mesh":3,"translation":[0,2.6,0],"scale":[%s,%s,%s],"extensions":{"KHR_lights_punctual":{"light":0}}},
  {"name":"Visitor camera","camera":0,"translation":[0,1.6,5]}],
 "cameras":[{"name":"Eye level","type":"perspective","perspective":{"yfov":0.9,"znear":0.05,"zfar":60}}],
 "meshes":[%s],
 "materials":[
  {"name":"Sand","pbrMetallicRoughness":{"baseColorTexture":{"index":0},"metallicFactor":0,"roughnessFactor":0.95}},
  {"name":"Rock","pbrMetallicRoughness":{"baseColorFactor":[0.35,0.33,0.32,1],"metallicFactor":0}},
  {"name":"Coral","pbrMetallicRoughness":{"baseColorFactor":[0.92,0.38,0.31,1],"metallicFactor":0}},
  {"name":"Lamp glass","emissiveFactor":[1,0.86,0.6],"pbrMetallicRoughness":{"baseColorFactor":[1,1,1,1]}}],
 "textures":[{"source":0}],
 "images":[{"name":"sand","mimeType":"image/png","bufferView":%d}],
 "accessors":[%s],
 "bufferViews":[%s],
 "buffers":[{"byteLength":%d}]}`, l.Brightness, l.RockHeight, s, s, s, strings.Join(list, ","), picture, strings.Join(accessors, ","),
		strings.Join(views, ","), len(bin))
	return glb(json, bin), nil
}

// glb puts the two chunks of a binary glTF file together.
func glb(json string, bin []byte) []byte {
	for len(json)%4 != 0 {
		json += " "
	}
	for len(bin)%4 != 0 {
		bin = append(bin, 0)
	}
	out := []byte("glTF")
	for _, n := range []int{2, 12 + 8 + len(json) + 8 + len(bin), len(json), 0x4E4F534A} {
		out = binary.LittleEndian.AppendUint32(out, uint32(n))
	}
	out = append(out, json...)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(bin)))
	out = binary.LittleEndian.AppendUint32(out, 0x004E4942)
	return append(out, bin...)
}

func bounds(ps [][3]float32) (low, high [3]float32) {
	low, high = ps[0], ps[0]
	for _, p := range ps {
		for i := range p {
			low[i], high[i] = min(low[i], p[i]), max(high[i], p[i])
		}
	}
	return low, high
}

func triple(p [3]float32) string { return fmt.Sprintf("[%g,%g,%g]", p[0], p[1], p[2]) }

// grid makes a flat square of n by n cells.
func grid(name string, material, n int, size float32) meshOf {
	m := meshOf{name: name, material: material}
	for i := range n + 1 {
		for j := range n + 1 {
			x, z := (float32(i)/float32(n)-0.5)*size, (float32(j)/float32(n)-0.5)*size
			m.positions = append(m.positions, [3]float32{x, 0.05 * float32(math.Sin(float64(3*x+z))), z})
		}
	}
	m.quads(n, n, n+1)
	return m
}

// ball makes a sphere that is stretched to a width and a height.
func ball(name string, material, across, down int, width, height float32) meshOf {
	m := meshOf{name: name, material: material}
	for i := range down + 1 {
		for j := range across + 1 {
			a, b := math.Pi*float64(i)/float64(down), 2*math.Pi*float64(j)/float64(across)
			m.positions = append(m.positions, [3]float32{width * float32(math.Sin(a)*math.Cos(b)), height * float32(math.Cos(a)),
				width * float32(math.Sin(a)*math.Sin(b))})
		}
	}
	m.quads(down, across, across+1)
	return m
}

// quads adds two triangles for each cell of a grid of points.
func (m *meshOf) quads(rows, columns, stride int) {
	for i := range rows {
		for j := range columns {
			a := uint16(i*stride + j)
			b := a + uint16(stride)
			m.triangles = append(m.triangles, a, b, a+1, a+1, b, b+1)
		}
	}
}
