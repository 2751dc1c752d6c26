package settings

import "testing"

// TestWhatIsPutIntoTOMLIsLaidOutAsPeopleWriteIt turns one file into the tree of another
// and looks at the text.
func TestWhatIsPutIntoTOMLIsLaidOutAsPeopleWriteIt(t *testing.T) {
	for name, c := range map[string][3]string{
		"a key in a section": {"[a]\nx = 1\n\n[b]\ny = 2\n", "[a]\nx = 1\nz = [1, 2]\n[b]\ny = 2\n",
			"[a]\nx = 1\nz = [1, 2]\n\n[b]\ny = 2\n"},
		"a key before all sections": {"# head\n\n[a]\nx = 1\n", "k = true\n[a]\nx = 1\n", "k = true\n# head\n\n[a]\nx = 1\n"},
		"signs as in the last line": {"[a]\nx=1\n", "[a]\nx=1\ny=2\n", "[a]\nx=1\ny=2\n"},
		"a section":                 {"a = 1\n", "a = 1\n[b]\nx = 'q\"'\n", "a = 1\n\n[b]\nx = \"q\\\"\"\n"},
		"sections in sections":      {"a = 1\n", "a = 1\n[b.c]\nx = 1\n[b]\ny = 2\n", "a = 1\n\n[b]\ny = 2\n\n[b.c]\nx = 1\n"},
		"an item of a list": {"[[t]]\nid = 1\n\n[z]\nx = 1\n", "[[t]]\nid = 1\n[[t]]\nid = 2\n[z]\nx = 1\n",
			"[[t]]\nid = 1\n\n[[t]]\nid = 2\n\n[z]\nx = 1\n"},
		"a section of an item": {"[[t]]\nid = 1\n[[t]]\nid = 2\n", "[[t]]\nid = 1\n[t.more]\nx = 1\n[[t]]\nid = 2\n",
			"[[t]]\nid = 1\n\n[t.more]\nx = 1\n[[t]]\nid = 2\n"},
		"an item goes":               {"[[t]]\nid = 1\nv = 'x'\n\n[[t]]\nid = 2\n", "[[t]]\nid = 2\n", "[[t]]\nid = 2\n"},
		"a section without a header": {"[a.b]\nx = 1\n", "[a]\ny = 2\n[a.b]\nx = 1\n", "[a]\ny = 2\n[a.b]\nx = 1\n"},
		"a text over lines":          {"t = '''\none\ntwo'''\n", "t = \"one\\nthree\"\n", "t = '''\none\nthree'''\n"},
		"a table in one line":        {"t = { a = 1, b = 'x' } # kept\n", "t = { a = 2, b = 'x' }\n", "t = { a = 2, b = \"x\" } # kept\n"},
		"a dotted key goes":          {"a.x = 1\na.y = 2\nb = 3\n", "a.y = 2\nb = 3\n", "a.y = 2\nb = 3\n"},
		"a key that needs quotes":    {"a = 1\n", "a = 1\n\"two words\" = 2\n", "a = 1\n\"two words\" = 2\n"},
		"windows line ends":          {"a = 1\r\n", "a = 1\nb = 2\n", "a = 1\r\nb = 2\r\n"},
	} {
		if got := written(t, TOML(), c[0], c[1]); got != c[2] {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c[2])
		}
	}
}

// TestWhatIsPutIntoSettingsIsLaidOutAsPeopleWriteIt does the same for INI files.
func TestWhatIsPutIntoSettingsIsLaidOutAsPeopleWriteIt(t *testing.T) {
	for name, c := range map[string][3]string{
		"an entry": {"[a]\nx = 1\n\n; note\n[b]\ny=2\n", "[a]\nx=1\nz=3\n[b]\ny=2\n",
			"[a]\nx = 1\nz = 3\n\n; note\n[b]\ny=2\n"},
		"an indented entry":      {"[a]\n[b]\n\tx = 1\n", "[a]\n[b]\nx=1\ny=2\n", "[a]\n[b]\n\tx = 1\n\ty = 2\n"},
		"a section":              {"[a]\nx=1\n", "[a]\nx=1\n[b]\ny=2\n", "[a]\nx=1\n\n[b]\ny=2\n"},
		"an entry goes":          {"[a]\n; about x\nx=1\ny=2\n", "[a]\ny=2\n", "[a]\ny=2\n"},
		"a section goes":         {"[a]\nx=1\n\n[b]\ny=2\n", "[b]\ny=2\n", "[b]\ny=2\n"},
		"a value over two lines": {"path=one,\\\n  two\nx=1\n", "path=one\nx=1\n", "path=one\nx=1\n"},
	} {
		if got := written(t, INI(), c[0], c[1]); got != c[2] {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c[2])
		}
	}
}
