package manifest

import (
	"fmt"
	"strings"
	"testing"
)

func TestNothingPointsIntoTheOwnFolderOrOutside(t *testing.T) {
	bad := []string{".oaken", ".oaken/chest", "a/.OAKEN/b", "../x", "/etc", "a/../../x", ".oaken./x", `..\\x`, ".oa\u200cken/x", ""}
	for _, p := range bad {
		for _, text := range []string{
			fmt.Sprintf("[[artifact]]\npath = \"%s\"\nkind = \"schema\"\n", p),
			fmt.Sprintf("[[environment]]\nname = \"x\"\ntarget = \"sqlite:x.db\"\ninto = \"%s\"\n", p),
			fmt.Sprintf("[[environment]]\nname = \"x\"\ntarget = \"sqlite:x.db\"\ninto = \"y\"\n"+
				"also = [{target = \"folder:z\", into = \"%s\"}]\n", p),
		} {
			if _, err := Parse([]byte("project = \"x\"\n" + text)); err == nil {
				t.Errorf("%q is taken:\n%s", p, text)
			}
		}
		if strings.Contains(strings.ToLower(p), "oa") {
			for _, scheme := range []string{"sqlite", "folder"} {
				if _, err := Parse([]byte(fmt.Sprintf("project = \"x\"\n[[environment]]\nname = \"x\"\ntarget = \"%s:../w/%s\"\n"+
					"into = \"y\"\n", scheme, p))); err == nil {
					t.Errorf("the target %s:%s is taken", scheme, p)
				}
			}
		}
	}
	m, err := Parse([]byte("project = \"x\"\n[[companion]]\nof = \"**\"\nis = \"{folder}/../../{name}.meta\"\n[[companion]]\n" +
		"of = \"**\"\nis = \"{folder}/.oaken/{name}\"\n[[companion]]\nof = \"**\"\nis = \"{path}.meta\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	if got := m.CompanionsOf("a/b.png"); len(got) != 1 || got[0] != "a/b.png.meta" {
		t.Errorf("companions: %q", got)
	}
	for _, p := range []string{".oaken/x", "sub/.oaken", "sub/.OAKEN/deep/x", "OAKEN~1/x"} {
		if !m.LeftOut(p) {
			t.Errorf("%s is of the project", p)
		}
	}
	for _, p := range []string{"oaken/x", ".oakens", "a.oaken", "oaken.toml"} {
		if m.LeftOut(p) {
			t.Errorf("%s is left out", p)
		}
	}
}
