package manifest

import (
	"strings"
	"testing"

	"oakenchest/core/fault"
)

func TestAKeyThatIsNotThereIsToldWithThoseThatAre(t *testing.T) {
	for text, want := range map[string]string{
		"projekt = \"x\"\n": "oaken.toml itself can have project, leave-out,",
		"project = \"x\"\n[[pipeline.after]]\nenvironment = \"live\"\n":                            "pipeline.after can have name, environments, tiers,",
		"project = \"x\"\n[[environment]]\nname = \"a\"\n[[environment.also]]\nscratches = \"\"\n": "environment.also can have target, into,",
		"project = \"x\"\n[[environment]]\ntargets = \"a\"\n":                                      "name,",
		"project = \"x\"\n[nothing]\na = 1\n":                                                      "oaken.toml itself can have project,",
	} {
		_, err := Parse([]byte(text))
		if err == nil || !strings.Contains(fault.HintOf(err), want) {
			t.Errorf("%s: %v, %s", text, err, fault.HintOf(err))
		}
	}
	if keys := strings.Join(keysAt([]string{"environment"}), " "); !strings.Contains(keys, "target") || strings.Contains(keys, "- ") {
		t.Errorf("an environment has %s", keys)
	}
	if keysAt([]string{"team", "roles"}) != nil || keysAt([]string{"no", "such"}) != nil {
		t.Error("tables with any keys")
	}
}
