package cli

import (
	"bytes"
	"flag"
	"os"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"oakenchest/core/kind/all"

	"oakenchest/cli/screen"
)

var update = flag.Bool("update", false, "write docs/commands.md anew")

func tree() *cobra.Command {
	return newRoot(&App{Screen: screen.Screen{Out: &bytes.Buffer{}, Err: &bytes.Buffer{}}, Now: time.Now, kinds: all.Table()})
}

func walk(c *cobra.Command, visit func(*cobra.Command)) {
	visit(c)
	for _, k := range c.Commands() {
		walk(k, visit)
	}
}

func TestEveryCommandIsComplete(t *testing.T) {
	root, seen := tree(), 0
	walk(root, func(c *cobra.Command) {
		seen++
		name := c.CommandPath()
		if c.Example == "" || !strings.Contains(c.Example, "oaken") {
			t.Errorf("%s has no example", name)
		}
		if c.Args == nil {
			t.Errorf("%s has no argument rules", name)
		}
		if c.Short == "" || !unicode.IsUpper(rune(c.Short[0])) || strings.HasSuffix(c.Short, ".") {
			t.Errorf("%s: the short help %q is not a phrase that begins with a capital and has no full stop", name, c.Short)
		}
		if c.Parent() == root && c.GroupID == "" {
			t.Errorf("%s is in no group", name)
		}
		if c != root && c.Name() != "help" && c.ValidArgsFunction == nil {
			t.Errorf("%s does not say how its arguments are completed", name)
		}
		if c.RunE == nil || c.Run != nil {
			t.Errorf("%s does not give errors back", name)
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Usage == "" || strings.HasSuffix(f.Usage, ".") {
				t.Errorf("%s --%s: help %q", name, f.Name, f.Usage)
			}
		})
	})
	if seen < 30 {
		t.Errorf("only %d commands", seen)
	}
}

// TestTheReferenceIsCurrent keeps docs/commands.md equal to the help texts; run
// the test with -update to write it anew.
func TestTheReferenceIsCurrent(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Commands\n\nMade from the program's own help by `go test ./cli -update`.\n")
	walk(tree(), func(c *cobra.Command) {
		if c.Name() == "help" {
			return
		}
		long := c.Long
		if long == "" {
			long = c.Short + "."
		}
		b.WriteString("\n## " + c.CommandPath() + "\n\n" + strings.TrimSpace(long) + "\n\n    " + c.UseLine() + "\n")
		c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
			name, usage := pflag.UnquoteUsage(f)
			if f.Name == "help" || f.Name == "version" {
				return
			}
			b.WriteString("\n- `" + strings.TrimSpace("--"+f.Name+" "+name) + "`: " + usage)
		})
		b.WriteString("\n\nFor example:\n\n    " + strings.ReplaceAll(strings.TrimSpace(c.Example), "\n  ", "\n    ") + "\n")
	})
	want := strings.ReplaceAll(b.String(), "\n\n\n", "\n\n")
	const file = "../docs/commands.md"
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || string(got) != want {
		t.Errorf("docs/commands.md is not what the help texts say: run go test ./cli -update (%v)", err)
	}
}

func TestTheDemoPlays(t *testing.T) {
	var out bytes.Buffer
	app := &App{Screen: screen.Screen{Out: &out, Err: &out}, Dir: t.TempDir(), Now: time.Now}
	if status := Run(t.Context(), app, []string{"demo", "world"}); status != 0 {
		t.Fatalf("status %d\n%s", status, out.String())
	}
	for _, want := range []string{
		"exhibit/reef.glb::node:Lamp.scale             1 1 1 → 1.2 1.2 1.2",
		"database::table:feeding/column:amount_g  added  integer not null default 0", "is locked by Imke",
		"combined by element: exhibit/reef.glb",
		"settled: 35", "2 steps done in one transaction. test and main:8 agree.", "is merged into main",
		"they meet nowhere, no merge was tried", "would lose data: table specimen has 4 rows",
	} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("the output lacks: %s", want)
		}
	}
	if status := Run(t.Context(), app, []string{"demo", "world"}); status != 4 {
		t.Errorf("a second demo in the folder: status %d", status)
	}
}

func TestCompletionsOfferNames(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct{ call, want string }{
		{"begin", ""}, {"env add dev sqlite:dev.db", ""}, {"commit -m x", ""}, {"branch kelp", ""}, {"release spring", ""},
		{"__complete go ", "kelp"}, {"__complete compare ", "release:spring"}, {"__complete capture ", "dev"}, {"__complete deploy dev ",
			"main"}, {"__complete resolve a --keep ", "theirs"}, {"__complete help ", "locks"}, {"__complete lock oaken.toml::",
			"oaken.toml::"},
	} {
		var out bytes.Buffer
		app := &App{Screen: screen.Screen{Out: &out, Err: &out}, Dir: dir, Now: time.Now, Person: "Imke", Machine: "desk"}
		args := strings.Split(c.call, " ")
		if status := Run(t.Context(), app, args); status != 0 {
			t.Fatalf("%s: status %d\n%s", c.call, status, out.String())
		}
		if !strings.Contains(out.String(), c.want) {
			t.Errorf("%s offers %q", c.call, out.String())
		}
	}
}
