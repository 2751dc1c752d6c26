package scene

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

// glb makes a .glb of some JSON and a buffer.
func glb(json string, bin []byte) []byte {
	doc, err := jsondoc.Parse([]byte(json))
	if err != nil {
		panic(err)
	}
	return (&file{doc: doc, binary: true, bin: bin, hasBin: bin != nil}).bytes()
}

func floats(fs ...float32) []byte {
	var out []byte
	for _, f := range fs {
		out = binary.LittleEndian.AppendUint32(out, math.Float32bits(f))
	}
	return out
}

const reefJSON = `{"asset":{"version":"2.0","generator":"by hand"},"scene":0,
 "scenes":[{"name":"Reef","nodes":[0,2]}],
 "nodes":[{"name":"Rock","mesh":0,"children":[1]},{"name":"Lamp","mesh":0,"scale":[1,1,1],"extensions":{"KHR_lights_punctual":{"light":0}}},{"name":"Camera","camera":0,"rotation":[0,0,0,1.0]}],
 "meshes":[{"name":"Blob","primitives":[{"attributes":{"POSITION":0},"indices":1,"material":0}]}],
 "materials":[{"name":"Sand","pbrMetallicRoughness":{"baseColorFactor":[1,0.9,0.5,1],"baseColorTexture":{"index":0}}}],
 "textures":[{"source":0,"sampler":0}],"samplers":[{"magFilter":9729}],
 "images":[{"name":"sand","mimeType":"image/png","bufferView":2}],
 "cameras":[{"name":"Eye","type":"perspective","perspective":{"yfov":0.7,"znear":0.1}}],
 "animations":[{"name":"Sway","channels":[{"sampler":0,"target":{"node":1,"path":"rotation"}}],"samplers":[{"input":2,"output":3,"interpolation":"LINEAR"}]}],
 "accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[1,1,0]},{"bufferView":1,"componentType":5123,"count":3,"type":"SCALAR"},
  {"bufferView":3,"componentType":5126,"count":2,"type":"SCALAR","min":[0],"max":[1]},{"bufferView":4,"componentType":5126,"count":2,"type":"VEC4"}],
 "bufferViews":[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":36,"byteLength":6},{"buffer":0,"byteOffset":44,"byteLength":12},{"buffer":0,"byteOffset":56,"byteLength":8},{"buffer":0,"byteOffset":64,"byteLength":32}],
 "buffers":[{"byteLength":96}],
 "extensionsUsed":["KHR_lights_punctual"],"extensions":{"KHR_lights_punctual":{"lights":[{"name":"Glow","type":"point","intensity":40}]}}}`

func reef(edits ...string) []byte {
	bin := floats(0, 0, 0, 1, 0, 0, 0, 1, 0)
	bin = append(bin, 0, 0, 1, 0, 2, 0, 0, 0)
	bin = append(bin, "\x89PNG\r\n\x1a\nsand"...)
	bin = append(bin, floats(0, 1, 0, 0, 0, 1, 0, 0.1, 0, 1)...)
	return glb(strings.NewReplacer(edits...).Replace(reefJSON), bin)
}

func source(data []byte) kind.FileSource {
	return kind.FileSource{Name: "exhibit/reef.glb", Data: data}
}

func tree(t testing.TB, data []byte) *kind.Reading {
	t.Helper()
	r, err := Kind{}.Read(source(data))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func changes(a, b *element.Element) string {
	var out []string
	for _, c := range element.Compare(a, b).Changes("reef.glb") {
		out = append(out, fmt.Sprint(c.Kind, " ", c.Address, " ", c.From, " → ", c.To))
	}
	return strings.Join(out, "\n")
}

func TestChangesAreNamed(t *testing.T) {
	base := tree(t, reef()).Root
	for _, c := range []struct{ old, new, want string }{
		{`"scale":[1,1,1]`, `"scale":[1.2,1.2,1.2]`, "edited reef.glb::node:Lamp.scale 1 1 1 → 1.2 1.2 1.2"},
		{`"intensity":40`, `"intensity":55`, "edited reef.glb::light:Glow.intensity 40 → 55"},
		{`"name":"Camera",`, `"name":"Camera","translation":[0,0,0],`, ""},
		{`0.9,0.5`, `0.8,0.5`, "edited reef.glb::material:Sand/object:pbrMetallicRoughness.baseColorFactor 1 0.9 0.5 1 → 1 0.8 0.5 1"},
		{`"nodes":[0,2]}`, `"nodes":[2,0]}`, ""},
		{`"name":"Blob"`, `"name":"Lump"`,
			"renamed reef.glb::mesh:Lump Blob → Lump\nedited reef.glb::node:Lamp.mesh Blob → Lump\n" +
				"edited reef.glb::node:Rock.mesh Blob → Lump"},
		{`"magFilter":9729`, `"magFilter":9728`, "edited reef.glb::texture:sand/object:sampler.magFilter 9729 → 9728"},
	} {
		got := changes(base, tree(t, reef(c.old, c.new)).Root)
		if c.old == `"name":"Blob"` { // the order of nodes and meshes is not the point
			got = sortedLines(got)
			c.want = sortedLines(c.want)
		}
		if got != c.want {
			t.Errorf("%s: got\n%s", c.new, got)
		}
	}
}

func sortedLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		for j := i + 1; j < len(lines); j++ {
			if lines[j] < lines[i] {
				lines[i], lines[j] = lines[j], lines[i]
			}
		}
	}
	return strings.Join(lines, "\n")
}

func TestAnEditChangesItsBytesAlone(t *testing.T) {
	from, to := reef(), reef(`"scale":[1,1,1]`, `"scale":[9,1,1]`)
	files, err := Kind{}.Write(source(from), tree(t, to).Root, nil)
	if err != nil || !bytes.Equal(files["reef.glb"], to) {
		t.Errorf("%v\n%s", err, files["reef.glb"])
	}
}

// variants are scenes that any of the others must be able to become.
func variants(t testing.TB) map[string][]byte {
	more := reef()
	f, err := open(source(more))
	if err != nil {
		t.Fatal(err)
	}
	root := tree(t, more).Root.Clone()
	held := map[element.Digest][]byte{}
	mesh := root.Find([]element.Step{{Type: "mesh", Key: "Blob"}}).Clone()
	mesh.Key = "Spike"
	pos := mesh.Children[0].Find([]element.Step{{Type: "attribute", Key: "POSITION"}})
	data := floats(0, 0, 0, 5, 0, 0, 0, 5, 0)
	held[element.DigestOf(data)] = data
	pos.Set("data", element.BytesValue(element.DigestOf(data), 36))
	root.Add(mesh, &element.Element{Type: "node", Key: "Urchin", Props: []element.Prop{{Name: "parent", Value: element.TextValue("Camera")},
		{Name: "mesh", Value: element.TextValue("Spike")},
		{Name: "translation", Value: defaultPlacement("1 2 3")}, {Name: "rotation", Value: defaultPlacement("0 0 0 1")}, {Name: "scale",
			Value: defaultPlacement("1 1 1")}}})
	grown, err := write(f, root, kind.Held(held))
	if err != nil {
		t.Fatal(err)
	}
	return map[string][]byte{
		"reef":  reef(),
		"grown": grown,
		"lampless": reef(`{"name":"Lamp","mesh":0,"scale":[1,1,1],"extensions":{"KHR_lights_punctual":{"light":0}}},`, "",
			`,"children":[1]`, "", `"nodes":[0,2]`, `"nodes":[0,1]`,
			`"node":1`, `"node":0`, `,"extensions":{"KHR_lights_punctual":{"lights":[{"name":"Glow","type":"point","intensity":40}]}}`, "",
			`"extensionsUsed":["KHR_lights_punctual"]`, `"extras":{"a":[{"b":1}]}`),
		"hung": reef(`,"children":[1]`, "", `"nodes":[0,2]`, `"nodes":[1,2]`, `"name":"Camera"`, `"name":"Camera","children":[0]`),
	}
}

func TestAnySceneBecomesAnyOther(t *testing.T) {
	all := variants(t)
	for a, from := range all {
		for b, to := range all {
			want := tree(t, to)
			files, err := Kind{}.Write(source(from), want.Root, want.Content)
			if err != nil {
				t.Errorf("%s to %s: %v", a, b, err)
				continue
			}
			got := from
			if files != nil {
				got = files["reef.glb"]
			}
			if left := changes(tree(t, got).Root, want.Root); left != "" {
				t.Errorf("%s to %s: still differ\n%s", a, b, left)
			}
		}
	}
}

func TestTwoMovesMergeAndOneMovedTwiceConflicts(t *testing.T) {
	base := tree(t, reef())
	mine, theirs := reef(`"scale":[1,1,1]`, `"scale":[2,2,2]`), reef(`"name":"Rock",`, `"name":"Rock","translation":[0,3,0],`)
	merged, conflicts := element.Merge("reef.glb", base.Root, tree(t, mine).Root, tree(t, theirs).Root, nil)
	files, err := Kind{}.Write(source(mine), merged, base.Content)
	if err != nil || len(conflicts) > 0 {
		t.Fatal(err, conflicts)
	}
	both := reef(`"scale":[1,1,1]`, `"scale":[2,2,2]`, `"name":"Rock",`, `"name":"Rock","translation":[0,3,0],`)
	if left := changes(tree(t, files["reef.glb"]).Root, tree(t, both).Root); left != "" {
		t.Error(left)
	}
	_, conflicts = element.Merge("reef.glb", base.Root, tree(t, mine).Root, tree(t, reef(`"scale":[1,1,1]`, `"scale":[3,3,3]`)).Root, nil)
	if len(conflicts) != 1 || conflicts[0].Address.String() != "reef.glb::node:Lamp.scale" {
		t.Errorf("conflicts: %v", conflicts)
	}
}

func TestSplitAndJoinAreInverse(t *testing.T) {
	for name, data := range variants(t) {
		parts, err := Kind{}.Split(source(data))
		if err != nil {
			t.Fatal(err)
		}
		joined, err := Kind{}.Join(parts)
		if err != nil {
			t.Fatal(name, err)
		}
		if left := changes(tree(t, data).Root, tree(t, joined).Root); left != "" {
			t.Errorf("%s: %s", name, left)
		}
		again, err := Kind{}.Split(source(joined))
		if err != nil || fmt.Sprint(again) != fmt.Sprint(parts) {
			t.Errorf("%s: split of the joined scene gives other parts, %v", name, err)
		}
	}
}

func TestBuffersBesideTheScene(t *testing.T) {
	bin := floats(0, 0, 0, 1, 0, 0, 0, 1, 0)
	text := `{"asset":{"version":"2.0"},"meshes":[{"name":"A","primitives":[{"attributes":{"POSITION":0}}]}],"accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3"}],` +
		`"bufferViews":[{"buffer":0,"byteLength":36}],"buffers":[{"byteLength":36,"uri":"%s"}]}`
	beside := kind.FileSource{Name: "a/tank.gltf", Data: fmt.Appendf(nil, text, "tank%20one.bin"), Sibling: func(n string) ([]byte, error) {
		if n != "tank one.bin" {
			return nil, kind.ErrNoFile
		}
		return bin, nil
	}}
	r, err := Kind{}.Read(beside)
	if err != nil || len(r.Uses) != 1 || r.Uses[0] != "tank one.bin" {
		t.Fatal(r, err)
	}
	inside, err := Kind{}.Read(kind.FileSource{Name: "a/tank.gltf",
		Data: fmt.Appendf(nil, text, "data:application/octet-stream;base64,"+base64.StdEncoding.EncodeToString(bin))})
	if err != nil || inside.Root.Sum() != r.Root.Sum() {
		t.Errorf("the same scene with its buffer inside: %v", err)
	}
	want := r.Root.Clone()
	other := floats(9, 9, 9, 1, 0, 0, 0, 1, 0)
	want.Find([]element.Step{{Type: "mesh", Key: "A"}, {Type: "primitive", Ordinal: 1}, {Type: "attribute", Key: "POSITION"}}).Set("data",
		element.BytesValue(element.DigestOf(other), 36))
	files, err := Kind{}.Write(beside, want, kind.Held(map[element.Digest][]byte{element.DigestOf(other): other}))
	if err != nil {
		t.Fatal(err)
	}
	beside.Data = files["tank.gltf"]
	if got, err := (Kind{}).Read(beside); err != nil || got.Root.Sum() != want.Sum() {
		t.Errorf("new values in a .gltf: %v", err)
	}
	for _, uri := range []string{"../x.bin", "/etc/passwd", "http://x/y.bin", "none.bin"} {
		beside.Data = fmt.Appendf(nil, text, uri)
		if _, err := (Kind{}).Read(beside); err == nil {
			t.Errorf("a buffer at %s is read", uri)
		}
	}
}

func TestDamagedScenesAreRefused(t *testing.T) {
	good := reef()
	for name, data := range map[string][]byte{
		"cut": good[:len(good)-8], "head": good[:10], "long": append(bytes.Clone(good), 1, 2, 3, 4),
		"old":   glb(`{"asset":{"version":"1.0"}}`, nil),
		"child": reef(`"children":[1]`, `"children":[7]`), "two parents": reef(`"name":"Camera"`, `"name":"Camera","children":[1]`),
		"view": reef(`"byteOffset":64,"byteLength":32`, `"byteOffset":64,"byteLength":320`), "accessor": reef(`"count":3,"type":"SCALAR"`,
			`"count":4000000000,"type":"SCALAR"`),
		"material": reef(`"material":0`, `"material":3`),
	} {
		if _, err := (Kind{}).Read(source(data)); err == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
}

// TestScenesOfOthers reads every scene in the folder that OAKEN_SCENES names:
// each must split, join and become itself.
func TestScenesOfOthers(t *testing.T) {
	dir := os.Getenv("OAKEN_SCENES")
	if dir == "" {
		t.Skip("set OAKEN_SCENES to a folder of .gltf and .glb files")
	}
	read, refused := 0, 0
	err := filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if ext := strings.ToLower(filepath.Ext(p)); err != nil || ext != ".gltf" && ext != ".glb" {
			return err
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		src := kind.FileSource{Name: filepath.Base(p), Data: data,
			Sibling: func(n string) ([]byte, error) { return os.ReadFile(filepath.Join(filepath.Dir(p), n)) }}
		r, err := Kind{}.Read(src)
		if err != nil {
			t.Logf("%s: %v", p, err)
			refused++
			return nil
		}
		read++
		parts, err := Kind{}.Split(src)
		if err != nil {
			t.Errorf("%s: %v", p, err)
			return nil
		}
		joined, err := Kind{}.Join(parts)
		if err != nil {
			t.Errorf("%s: %v", p, err)
			return nil
		}
		if left := changes(r.Root, tree(t, joined).Root); left != "" {
			t.Errorf("%s joined differs:\n%.600s", p, left)
		}
		return nil
	})
	t.Logf("%d scenes read, %d refused", read, refused)
	if err != nil || read == 0 {
		t.Errorf("%d scenes read, %v", read, err)
	}
}

func FuzzScene(f *testing.F) {
	for _, data := range variants(f) {
		f.Add(data)
	}
	f.Add([]byte(reefJSON))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Kind{}.Read(source(data))
		if err != nil {
			return
		}
		if files, err := (Kind{}).Write(source(data), r.Root, nil); err != nil || files != nil {
			t.Fatalf("an equal tree: %v", err)
		}
		want := tree(t, reef())
		files, err := Kind{}.Write(source(data), want.Root, want.Content)
		if err != nil || files == nil {
			return
		}
		if left := changes(tree(t, files["reef.glb"]).Root, want.Root); left != "" {
			t.Fatalf("%q does not become the reef:\n%s", data, left)
		}
	})
}

func TestSeamsAreTheViewsOfTheBuffer(t *testing.T) {
	data := glb(`{"asset":{"version":"2.0"},"buffers":[{"byteLength":12}],"bufferViews":[{"buffer":0,"byteLength":4},{"buffer":0,"byteOffset":4,"byteLength":8},{"buffer":1,"byteOffset":2,"byteLength":1}]}`, floats(1, 2, 3))
	at := int64(len(data) - 12)
	if got := (Kind{}).Seams(bytes.NewReader(data), int64(len(data))); !slices.Equal(got, []int64{at, at + 4, at + 12}) {
		t.Errorf("%v, the buffer begins at %d", got, at)
	}
	for n := range len(data) { // nothing that is cut short upsets it
		Kind{}.Seams(bytes.NewReader(data[:n]), int64(n))
	}
}

func TestRotationsAreSaidAsAngles(t *testing.T) {
	for quaternion, want := range map[string]string{
		"0 0 0 1": "0°", "0 0.70710678 0 0.70710678": "90° about y", "0.38268343 0 0 -0.92387953": "45° about −x",
		"0.5 0.5 0.5 0.5": "120° about 0.58 0.58 0.58", "1 1 1 1": "", "0 0 1": "",
	} {
		var items []element.Value
		for f := range strings.FieldsSeq(quaternion) {
			items = append(items, element.NumberValue(f))
		}
		if got := (Kind{}).Say("rotation", element.ListValue(items...)); got != want {
			t.Errorf("%s is %q, want %q", quaternion, got, want)
		}
	}
}

func TestMeshesSayHowLargeTheyAre(t *testing.T) {
	part := func(mode string) *element.Element {
		p := &element.Element{Type: "primitive"}
		at := &element.Element{Type: "attribute", Key: "POSITION"}
		at.Set("count", element.NumberValue("8"))
		at.Set("min", element.ListValue(element.NumberValue("-1"), element.NumberValue("0"), element.NumberValue("2.125")))
		at.Set("max", element.ListValue(element.NumberValue("1"), element.NumberValue("0.5"), element.NumberValue("3")))
		indices := &element.Element{Type: "values", Key: "indices"}
		indices.Set("count", element.NumberValue("36"))
		if mode != "" {
			p.Set("mode", element.NumberValue(mode))
		}
		return p.Add(indices, at)
	}
	mesh := (&element.Element{Type: "mesh"}).Add(part(""), part("1"))
	if got := meshGist(mesh); got != "16 vertices, 12 triangles, from −1 0 2.13 to 1 0.5 3" {
		t.Error(got)
	}
	if got := meshGist(&element.Element{Type: "mesh"}); got != "" {
		t.Error(got)
	}
}
