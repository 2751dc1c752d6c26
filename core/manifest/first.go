package manifest

import (
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Section is a part of a new manifest that a preset proposes.
type Section struct {
	Title      string
	LeaveOut   []string
	Locks      []LockRule
	Companions []Companion
}

// usual is left out of every new project.
var usual = []string{"**/*.tmp", "**/*.bak", "**/*~", "**/.*.swp"}

// First gives the text of a new project's manifest.
func First(project string, sections ...Section) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `# What Oaken Chest knows of this project. This file is versioned like any
# other; edit it freely.
project = %s

# Never recorded: temporary files, and what belongs to one machine only. What other programs and
# systems keep for themselves, such as folder settings, is left out without being named.
leave-out = [
`, quote(project))
	for _, p := range usual {
		fmt.Fprintf(&b, "  %s,\n", quote(p))
	}
	for _, s := range sections {
		fmt.Fprintf(&b, "  # %s\n", s.Title)
		for _, p := range s.LeaveOut {
			fmt.Fprintf(&b, "  %s,\n", quote(p))
		}
	}
	b.WriteString("]\n")
	for _, s := range sections {
		for _, l := range s.Locks {
			fmt.Fprintf(&b, "\n[[lock]]\nmatch = %s\npolicy = %s\n", quote(l.Match), quote(string(l.Policy)))
		}
		for _, c := range s.Companions {
			fmt.Fprintf(&b, "\n[[companion]]\nof = %s\nis = %s\n", quote(c.Of), quote(c.Is))
		}
	}
	return []byte(b.String())
}

func quote(s string) string {
	data, err := toml.Marshal(map[string]string{"x": s})
	if err != nil {
		return `""`
	}
	text := strings.TrimSpace(strings.TrimPrefix(string(data), "x = "))
	if inner := strings.Trim(text, "'"); len(inner) == len(text)-2 && !strings.ContainsAny(inner, `"\\`) {
		return `"` + inner + `"`
	}
	return text
}
