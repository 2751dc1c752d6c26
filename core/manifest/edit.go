package manifest

import (
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// First gives the text of a new project's manifest.
func First(project string) []byte {
	return fmt.Appendf(nil, `# What Oaken Chest knows of this project. This file is versioned like any
# other; edit it freely.
project = %s

# Never recorded: temporary files, and what belongs to one machine only.
leave-out = [
  "**/*.tmp",
  "**/*.bak",
  "**/*~",
  "**/~$*",
  "**/.*.swp",
  "**/.DS_Store",
  "**/Thumbs.db",
  "**/desktop.ini",
  "**/.git",
]
`, quote(project))
}

func quote(s string) string {
	data, err := toml.Marshal(map[string]string{"x": s})
	if err != nil {
		return `""`
	}
	return strings.TrimSpace(strings.TrimPrefix(string(data), "x = "))
}

// AddEnvironment appends a declaration; the rest stays as it is.
func AddEnvironment(data []byte, e Environment) []byte {
	return appendBlock(data, fmt.Sprintf("[[environment]]\nname = %s\ntarget = %s\ninto = %s\n", quote(e.Name), quote(e.Target), quote(e.Into)))
}

// AddArtifact appends a declaration; the rest stays as it is.
func AddArtifact(data []byte, a Artifact) []byte {
	return appendBlock(data, fmt.Sprintf("[[artifact]]\npath = %s\nkind = %s\n", quote(a.Path), quote(a.Kind)))
}

func appendBlock(data []byte, block string) []byte {
	text := strings.TrimRight(string(data), "\n")
	if text != "" {
		text += "\n\n"
	}
	return []byte(text + block)
}

// RemoveEnvironment takes the block of one environment out. An error says that
// it is not written as a block of its own.
func RemoveEnvironment(data []byte, name string) ([]byte, error) {
	lines := strings.SplitAfter(string(data), "\n")
	for from := range lines {
		if strings.TrimSpace(lines[from]) != "[[environment]]" {
			continue
		}
		to := from + 1
		for to < len(lines) && !strings.HasPrefix(strings.TrimSpace(lines[to]), "[") {
			to++
		}
		for to > from+1 && to < len(lines) && (strings.TrimSpace(lines[to-1]) == "" || strings.HasPrefix(strings.TrimSpace(lines[to-1]), "#")) {
			to-- // what stands before the next block belongs to that
		}
		block, err := Parse([]byte(strings.Join(lines[from:to], "")))
		if err != nil || len(block.Environments) != 1 || block.Environments[0].Name != name {
			continue
		}
		for from > 0 && strings.TrimSpace(lines[from-1]) == "" {
			from--
		}
		return []byte(strings.Join(lines[:from], "") + strings.Join(lines[to:], "")), nil
	}
	return nil, fmt.Errorf("%s has no block of its own for the environment %s", Name, name)
}
