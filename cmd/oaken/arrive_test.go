package main

import (
	"os"
	"strings"
	"testing"
)

// TestWhatBothWroteArrivesEverywhere lets one person change a value, and the other a comment,
// the quotes and the mode of the same file, by every way in which work meets other work.
func TestWhatBothWroteArrivesEverywhere(t *testing.T) {
	const start = "# rates of the tanks\nrates:\n  # per hour\n  reef: 8\n  kelp: 'three'\n"
	imke := empty(t)
	imke.write("rates.yaml", start)
	imke.ok("begin", "--as", "Imke", "--chest", imke.path("../the-chest"))
	imke.ok("commit", "-m", "First")
	imke.ok("open", imke.path("../the-chest"), imke.path("../tarek"), "--as", "Tarek")
	tarek := &project{t: t, dir: imke.path("../tarek")}
	value := func(p *project, to string) {
		info, err := os.Stat(p.path("rates.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		p.write("rates.yaml", replaced(t, p.read("rates.yaml"), "reef: ", to))
		if err := os.Chmod(p.path("rates.yaml"), info.Mode()|0o600); err != nil {
			t.Fatal(err)
		}
	}
	remark := func(p *project, to string) {
		text := replaced(t, p.read("rates.yaml"), "# per ", to)
		p.write("rates.yaml", strings.NewReplacer("'three'", `"three"`).Replace(text))
		if err := os.Chmod(p.path("rates.yaml"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	has := func(p *project, what string, words ...string) {
		t.Helper()
		text := p.read("rates.yaml")
		for _, w := range append(words, `"three"`) {
			if !strings.Contains(text, w+"\n") {
				t.Errorf("%s: %q is missing in\n%s", what, w, text)
			}
		}
		if info, err := os.Stat(p.path("rates.yaml")); err != nil || info.Mode()&0o100 == 0 {
			t.Errorf("%s: it is no program: %v", what, err)
		}
	}

	// Two commits that race: the second goes on top of the first, and both are told.
	value(imke, "9")
	imke.ok("commit", "-m", "Imke's rate")
	remark(tarek, "HOUR")
	tarek.ok("commit", "-m", "Tarek's remark")
	has(tarek, "a race", "# per HOUR", "reef: 9")
	if out := tarek.ok("history"); !strings.Contains(out, "Imke's rate") || !strings.Contains(out, "Tarek's remark") {
		t.Errorf("history:\n%s", out)
	}
	// Edits that are not committed meet what comes in.
	value(imke, "10")
	imke.ok("sync")
	has(imke, "sync", "# per HOUR", "reef: 10")
	imke.ok("commit", "-m", "Ten")
	// Work that was set aside.
	tarek.ok("sync")
	remark(tarek, "day")
	tarek.ok("park", "remark")
	value(imke, "11")
	imke.ok("commit", "-m", "Eleven")
	tarek.ok("sync")
	tarek.ok("unpark", "remark")
	has(tarek, "unpark", "# per day", "reef: 11")
	tarek.ok("commit", "-m", "Per day")
	// A commit undone below later ones.
	imke.ok("sync")
	value(imke, "12")
	imke.ok("commit", "-m", "Twelve")
	imke.ok("revert", "main:6")
	if text := imke.read("rates.yaml"); !strings.Contains(text, "# per HOUR\n") && !strings.Contains(text, "# per day\n") ||
		!strings.Contains(text, "reef: 12\n") {
		t.Errorf("revert:\n%s", text)
	}
	// A branch, merged through a review.
	tarek.ok("sync")
	tarek.ok("branch", "kelp")
	tarek.ok("go", "kelp")
	remark(tarek, "week")
	tarek.ok("commit", "-m", "Per week")
	imke.ok("sync")
	value(imke, "13")
	imke.ok("commit", "-m", "Thirteen")
	tarek.ok("review", "open", "--title", "Weeks")
	imke.ok("review", "approve", "1")
	imke.ok("review", "merge", "1")
	imke.ok("sync")
	has(imke, "review", "# per week", "reef: 13")

	// Two who did the same: both commits are there.
	tarek.ok("go", "main")
	tarek.ok("sync")
	value(imke, "14")
	imke.ok("commit", "-m", "Fourteen, says Imke")
	value(tarek, "14")
	tarek.ok("commit", "-m", "Fourteen, says Tarek")
	if out := tarek.ok("history"); !strings.Contains(out, "says Imke") || !strings.Contains(out, "says Tarek") {
		t.Errorf("one of two equal commits is gone:\n%s", out)
	}
}

// replaced gives a text in which other words stand between some words and the end of
// their line.
func replaced(t *testing.T, text, behind, words string) string {
	t.Helper()
	before, after, ok := strings.Cut(text, behind)
	if !ok {
		t.Fatalf("%q is not in\n%s", behind, text)
	}
	_, rest, _ := strings.Cut(after, "\n")
	return before + behind + words + "\n" + rest
}
