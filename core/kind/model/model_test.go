package model

import (
	"encoding/binary"
	"math"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

const rock = "# a rock\nmtllib reef.mtl\no Rock\nv 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 2\nusemtl stone\nf 1 2 3\nf 1/1 2/2 4/3\no Weed\n" +
	"v 5 5 5\nv 6 5 5\nv 5 6 5\nusemtl green\nf -3 -2 -1\n"

const cloud = "ply\nformat ascii 1.0\ncomment by Ravi\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n" +
	"element face 1\nproperty list uchar int vertex_index\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"

const solid = "solid rock\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\nendsolid rock\n"

// binarySTLOf writes one triangle.
func binarySTLOf(corners ...float32) string {
	out := append(make([]byte, 80), 1, 0, 0, 0)
	out = append(out, make([]byte, 12)...)
	for _, v := range corners {
		out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
	}
	return string(append(out, 0, 0))
}

// binaryPLYOf writes one point.
func binaryPLYOf(order binary.AppendByteOrder, name string, x float32) string {
	out := []byte("ply\nformat " + name + " 1.0\nelement vertex 1\nproperty float x\nproperty double y\nproperty uchar z\nend_header\n")
	out = order.AppendUint32(out, math.Float32bits(x))
	out = order.AppendUint64(out, math.Float64bits(2))
	return string(append(out, 3))
}

func read(t *testing.T, name, data string) *element.Element {
	t.Helper()
	r, err := Kind{}.Read(kind.FileSource{Name: name, Data: []byte(data)})
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return r.Root
}

func TestMeshesSayWhatTheyHold(t *testing.T) {
	for name, c := range map[string]struct{ data, want string }{
		"rock.obj": {rock, `materials in="reef.mtl"|vertices="7"|greatest="6 6 5"|object:Rock faces="2" materials="stone" least="0 0 0" greatest="1 1 2"|object:Weed faces="1" materials="green" least="5 5 5"`},
		"a.ply":    {cloud, `comment 1="by Ravi"|vertices="3"|object:face faces="1"|greatest="1 1 0"`},
		"b.ply":    {binaryPLYOf(binary.LittleEndian, "binary_little_endian", 1.5), `vertices="1" least="1.5 2 3"`},
		"c.ply":    {binaryPLYOf(binary.BigEndian, "binary_big_endian", 1.5), `vertices="1" least="1.5 2 3"`},
		"a.stl":    {solid, `vertices="3"|object:rock faces="1"|greatest="1 1 0"`},
		"b.stl":    {binarySTLOf(0, 0, 0, 1, 0, 0, 0, 1, 0), `vertices="3"|object:triangles faces="1"|greatest="1 1 0"`},
	} {
		dump := read(t, name, c.data).Dump()
		for part := range strings.SplitSeq(c.want, "|") {
			if !strings.Contains(dump, part) {
				t.Errorf("%s: no %s in\n%s", name, part, dump)
			}
		}
	}
}

func TestMovedVerticesAreMeasured(t *testing.T) {
	moved := strings.Replace(rock, "v 0 0 2", "v 0 0 5", 1)
	changes := element.Compare(read(t, "a.obj", rock), read(t, "a.obj", moved)).Changes("a.obj")
	var got []string
	for _, c := range changes {
		got = append(got, c.Address.String())
	}
	if s := strings.Join(got, " "); s != "a.obj::.shape a.obj::object:Rock.greatest" {
		t.Errorf("changes: %s", s)
	}
	notes, err := Kind{}.Measure(kind.FileSource{Name: "a.obj", Data: []byte(rock)}, kind.FileSource{Name: "a.obj", Data: []byte(moved)})
	if err != nil || notes["shape"] != "1 of 7 vertices lie elsewhere, by up to 3" {
		t.Errorf("%v, %v", notes, err)
	}
}

func TestDamagedMeshesAreRefused(t *testing.T) {
	for name, data := range map[string]string{
		"a.obj": "words\n", "b.obj": "v 1 2\n", "c.obj": "v 0 0 0\nf 1 2 3\n", "a.ply": cloud[:len(cloud)-4],
		"b.ply": "ply\nformat ascii 1.0\n", "c.ply": "ply\nformat odd 1.0\nend_header\n",
		"d.ply": strings.Replace(cloud, "vertex 3", "vertex 999999999", 1), "a.stl": "solid x\nfacet\n", "b.stl": binarySTLOf(1, 2, 3),
		"c.stl": "nothing",
	} {
		if _, err := (Kind{}).Read(kind.FileSource{Name: name, Data: []byte(data)}); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

func FuzzModel(f *testing.F) {
	for _, s := range []string{rock, cloud, solid, binarySTLOf(0, 0, 0, 1, 0, 0, 0, 1, 0),
		binaryPLYOf(binary.LittleEndian, "binary_little_endian", 1)} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, name := range []string{"a.obj", "a.ply", "a.stl"} {
			src := kind.FileSource{Name: name, Data: data}
			if _, err := (Kind{}).Read(src); err != nil {
				continue
			}
			if _, err := (Kind{}).Measure(src, src); err != nil {
				t.Fatal(err)
			}
		}
	})
}
