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

// AddEnvironment appends a declaration; the rest stays as it is.
func AddEnvironment(data []byte, e Environment) []byte {
	block := fmt.Sprintf("[[environment]]\nname = %s\ntarget = %s\ninto = %s\n", quote(e.Name), quote(e.Target), quote(e.Into))
	for _, f := range [][2]string{{"tier", string(e.Tier)}, {"lane", e.Lane}, {"branch", e.Branch}} {
		if f[1] != "" {
			block += f[0] + " = " + quote(f[1]) + "\n"
		}
	}
	return appendBlock(data, block)
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
		for to < len(lines) && (!strings.HasPrefix(strings.TrimSpace(lines[to]), "[") ||
			strings.HasPrefix(strings.TrimLeft(lines[to], " \t["), "environment.")) {
			to++
		}
		for to > from+1 && to < len(lines) &&
			(strings.TrimSpace(lines[to-1]) == "" || strings.HasPrefix(strings.TrimSpace(lines[to-1]), "#")) {
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

// RenameEnvironment gives an environment another name, wherever the file speaks of it: in its
// own block, in moves and in freezes. The rest stays as it is. An error says that the file is
// not written so that this can be done.
func RenameEnvironment(data []byte, from, to string) ([]byte, error) {
	lines := strings.SplitAfter(string(data), "\n")
	block := ""
	for i, line := range lines {
		text := strings.TrimSpace(line)
		if strings.HasPrefix(text, "[") && !strings.Contains(text, "=") {
			block = strings.Trim(text, "[] ")
		}
		key, _, _ := strings.Cut(text, "=")
		key = strings.TrimSpace(key)
		names := block == "environment" && key == "name" || block == "pipeline.move" && (key == "from" || key == "to") ||
			block == "pipeline.freeze" && key == "environments"
		if names {
			lines[i] = strings.NewReplacer(quote(from), quote(to), "'"+from+"'", quote(to)).Replace(line)
		}
	}
	out := []byte(strings.Join(lines, ""))
	m, err := Parse(out)
	if err != nil {
		return nil, err
	}
	for _, e := range m.Environments {
		if e.Name == from {
			return nil, fmt.Errorf("%s has no line of its own for the name of %s", Name, from)
		}
	}
	for _, v := range m.Pipeline.Moves {
		if v.From == from || v.To == from {
			return nil, fmt.Errorf("a move of %s has no line of its own for %s", Name, from)
		}
	}
	if _, err := m.Environment(to); err != nil {
		return nil, err
	}
	return out, nil
}
