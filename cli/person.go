package cli

import (
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"
)

// settings are what is remembered of a person on this machine, beside the workspaces.
type settings struct {
	// Person is the name under which workspaces are made, unless it is said.
	Person string `toml:"person"`
}

// settingsFile is where they lie; empty where the system has no place for such.
func settingsFile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "oaken", "settings.toml")
}

// rememberedPerson gives the name that was said last when a workspace was made.
func rememberedPerson() string {
	data, err := os.ReadFile(settingsFile())
	var s settings
	if err != nil || toml.Unmarshal(data, &s) != nil {
		return ""
	}
	return s.Person
}

// rememberPerson keeps a name that was said; that it can't be kept harms nothing.
func rememberPerson(name string) {
	file := settingsFile()
	if name == "" || file == "" || rememberedPerson() == name {
		return
	}
	data, err := toml.Marshal(settings{name})
	if err == nil && os.MkdirAll(filepath.Dir(file), 0o777) == nil {
		_ = os.WriteFile(file, data, 0o666)
	}
}
