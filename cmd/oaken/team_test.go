package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakenchest/sample"
)

// team gives workspaces of Imke and Tarek on one chest in a folder that both can write.
func team(t *testing.T) (imke, tarek *project) {
	t.Helper()
	dir := t.TempDir()
	imke, tarek = &project{t: t, dir: filepath.Join(dir, "imke")}, &project{t: t, dir: filepath.Join(dir, "tarek")}
	imke.write(sample.Notes, "one\ntwo\nthree\n")
	imke.write("art/coral.bin", strings.Repeat("\x00coral", 50))
	imke.write("art/sand.bin", strings.Repeat("\x00sand", 50))
	imke.write("art/sounds/surf.dat", strings.Repeat("\x00surf", 50))
	imke.reef(sample.Lamp{Scale: 1, Brightness: 40})
	imke.ok("begin", "--as", "Imke", "--chest", filepath.Join(dir, "chest"))
	imke.ok("commit", "-m", "First")
	(&project{t: t, dir: dir}).ok("open", "chest", "tarek", "--as", "Tarek")
	return imke, tarek
}

// tells makes a call that must succeed and say something.
func (p *project) tells(want string, args ...string) string {
	p.t.Helper()
	out := p.ok(args...)
	if !strings.Contains(out, want) {
		p.t.Errorf("oaken %s does not say %q:\n%s", strings.Join(args, " "), want, out)
	}
	return out
}

// conflicts makes a call that must leave conflicts, and gives what it says.
func (p *project) conflicts(args ...string) string {
	p.t.Helper()
	r := p.run(args...)
	if r.status != 3 {
		p.t.Fatalf("oaken %s: status %d, want 3\n%s%s", strings.Join(args, " "), r.status, r.out, r.err)
	}
	return r.out + r.err
}

// readOnly reports whether nobody may write a file.
func readOnly(p *project, name string) bool {
	info, err := os.Stat(p.path(name))
	return err == nil && info.Mode()&0o222 == 0
}

func TestLocksReachPatternsFoldersAndElements(t *testing.T) {
	imke, tarek := team(t)
	if !readOnly(imke, "art/coral.bin") || !readOnly(tarek, "art/coral.bin") || readOnly(tarek, sample.Notes) {
		t.Error("what can't be merged is to be read-only in a shared project, and nothing else")
	}
	tarek.tells("is locked for Tarek", "lock", "art/**/*.bin", "--for", "2h")
	if readOnly(tarek, "art/coral.bin") || !readOnly(tarek, "art/sounds/surf.dat") {
		t.Error("the pattern's files are not writable, or others are")
	}
	imke.fails(4, "art/**/*.bin is locked by Tarek", "lock", "art/coral.bin")
	imke.fails(4, "art/**/*.bin is locked by Tarek", "lock", "art")
	imke.fails(4, "art/**/*.bin is locked by Tarek", "lock", "art/c*")
	imke.ok("lock", "art/sounds/*.dat")
	imke.ok("lock", sample.Scene+"::node:Lamp")
	tarek.fails(4, "::node:Lamp is locked by Imke", "lock", sample.Scene)
	tarek.fails(4, "::node:Lamp is locked by Imke", "lock", sample.Scene+"::node:Lamp.scale")
	tarek.ok("lock", sample.Scene+"::node:Rock")
	imke.fails(4, "::node:Rock is locked by Tarek", "lock", "exhibit")
	tarek.fails(2, "No path of this project fits", "lock", "none/*.png")
	tarek.fails(2, "There is no nothing.bin", "lock", "nothing.bin")
	tarek.fails(2, "takes a time", "lock", "art", "--for", "soon")
	tarek.fails(2, "is locked as a part of art/**/*.bin", "unlock", "art/coral.bin")
	// An edit inside of an element that somebody else holds is refused, another one is not.
	tarek.reef(sample.Lamp{Scale: 2, Brightness: 40})
	tarek.fails(4, "node:Lamp is locked by Imke", "commit", "-m", "Not mine")
	tarek.reef(sample.Lamp{Scale: 1, Brightness: 40, RockHeight: 0.4})
	imke.reef(sample.Lamp{Scale: 1.5, Brightness: 40})
	tarek.tells("lock ended: exhibit/reef.glb::node:Rock", "commit", "-m", "The rock")
	imke.tells("combined by element: exhibit/reef.glb", "commit", "-m", "The lamp", "--keep-locks")
	imke.tells("node:Lamp", "locks", "--mine")
	tarek.ok("sync")
	want, err := sample.Reef(sample.Lamp{Scale: 1.5, Brightness: 40, RockHeight: 0.4})
	if err != nil {
		t.Fatal(err)
	}
	if tarek.read(sample.Scene) != string(want) {
		t.Error("the two edits of one scene were not combined")
	}
}

func TestLocksEndAndAreTakenOver(t *testing.T) {
	imke, tarek := team(t)
	imke.write("oaken.toml", imke.read("oaken.toml")+"\n[team]\nlock-for = \"1s\"\nsilent-after = \"1s\"\nmay-free-locks = [\"Imke\"]\n")
	imke.ok("commit", "-m", "Short locks")
	tarek.ok("sync")
	imke.tells("until", "lock", "art/coral.bin")
	imke.ok("lock", sample.Notes, "--for", "1h")
	time.Sleep(2100 * time.Millisecond)
	if out := tarek.tells("has ended: may be taken over", "locks"); strings.Index(out, "coral") > strings.Index(out, "opening") {
		t.Errorf("what may be taken over does not come first:\n%s", out)
	}
	if locks := tarek.object("locks", "--stale")["locks"].([]any); len(locks) != 2 || locks[0].(map[string]any)["stale"] != "ended" ||
		locks[1].(map[string]any)["stale"] != "silent" {
		t.Errorf("stale locks: %v", locks)
	}
	tarek.tells("Taken over: art/coral.bin, which was locked by Imke", "lock", "art/coral.bin")
	tarek.fails(4, "has given no sign of life", "lock", sample.Notes)
	tarek.tells("is locked for Tarek", "lock", sample.Notes, "--take-over", "--for", "1h")
	if r := imke.run("locks"); !strings.Contains(r.err, "taken over by Tarek in tarek-") {
		t.Errorf("the holder is not told: %s", r.err)
	}
	if r := imke.run("locks"); strings.Contains(r.err, "taken over") {
		t.Errorf("the holder is told twice: %s", r.err)
	}
	tarek.fails(4, "may not end the locks", "unlock", "art/coral.bin", "--force", "-m", "now")
	imke.fails(2, "needs a reason", "unlock", sample.Notes, "--force")
	imke.fails(4, "is locked by Tarek", "unlock", sample.Notes)
	imke.tells("Tarek is told", "unlock", sample.Notes, "--force", "-m", "Tarek is on leave")
	if r := tarek.run("changes"); !strings.Contains(r.err, "was ended by Imke in imke-") || !strings.Contains(r.err, "Tarek is on leave") {
		t.Errorf("the former holder is not told: %s", r.err)
	}
}

func TestLockBringsTheNewest(t *testing.T) {
	imke, tarek := team(t)
	imke.reef(sample.Lamp{Scale: 1.2, Brightness: 40})
	imke.ok("commit", "-m", "Larger")
	out := tarek.tells("came in first: this workspace is at main:2 now", "lock", sample.Scene)
	if !strings.Contains(out, "node:Lamp.scale  1 1 1 → 1.2 1.2 1.2") {
		t.Errorf("what was newer is not told:\n%s", out)
	}
	imke.write(sample.Notes, "ONE\ntwo\nthree\n")
	imke.ok("commit", "-m", "Notes")
	if out := tarek.ok("lock", "art"); strings.Contains(out, "came in") {
		t.Errorf("what was not asked for came in:\n%s", out)
	}
	tarek.write(sample.Notes, "Two of them\ntwo\nthree\n")
	tarek.tells("Commit it: it is then unsent", "lock", sample.Notes)
}

func TestWaivedEditsAreContested(t *testing.T) {
	imke, tarek := team(t)
	tarek.ok("lock", "art/coral.bin")
	imke.tells("stays out of commits until you have the lock", "lock", "art/coral.bin", "--waive")
	if readOnly(imke, "art/coral.bin") {
		t.Error("a waived file is read-only")
	}
	imke.write("art/coral.bin", "\x00mine")
	imke.write(sample.Notes, "one\n")
	imke.tells("contested", "changes")
	imke.tells("Left out: art/coral.bin is contested", "commit", "-m", "Notes")
	imke.fails(4, "art/coral.bin is contested", "commit", "art/coral.bin", "-m", "Coral")
	if row := tarek.object("overlaps")["overlaps"].([]any); len(row) != 0 {
		t.Errorf("one edit is no overlap: %v", row)
	}
	tarek.write("art/coral.bin", "\x00theirs")
	if out := tarek.tells("can't be merged: one side will be lost", "changes"); !strings.Contains(out, "edited in imke-") {
		t.Errorf("changes:\n%s", out)
	}
	if row := imke.object("overlaps")["overlaps"].([]any); len(row) != 1 || row[0].(map[string]any)["verdict"] != "exclusive" {
		t.Errorf("overlaps: %v", row)
	}
	tarek.ok("commit", "-m", "Coral")
	imke.tells("which is free: oaken lock takes it", "changes")
	imke.ok("lock", "art/coral.bin")
	imke.conflicts("commit", "-m", "My coral")
	imke.tells("settled: both", "resolve", "art/*", "--keep", "both")
	imke.tells("published", "commit")
	if imke.read("art/coral.bin") != "\x00mine" || imke.read("art/coral (theirs).bin") != "\x00theirs" {
		t.Error("one of the two is lost")
	}
}

func TestWarningsComeBeforeTheWork(t *testing.T) {
	imke, tarek := team(t)
	tarek.ok("branch", "night")
	tarek.ok("go", "night")
	tarek.reef(sample.Lamp{Scale: 1, Brightness: 20})
	tarek.ok("commit", "-m", "Dim")
	out := imke.tells("Also changed by others", "lock", sample.Scene)
	if !strings.Contains(out, "Tarek  on night, night:2") || !strings.Contains(out, "40 → 20") {
		t.Errorf("lock does not tell who, where and what:\n%s", out)
	}
	imke.reef(sample.Lamp{Scale: 1.2, Brightness: 40})
	imke.tells("a merge combines them", "changes")
	imke.reef(sample.Lamp{Scale: 1.2, Brightness: 60})
	o := imke.object("overlaps")["overlaps"].([]any)[0].(map[string]any)
	if o["verdict"] != "clashing" || !strings.Contains(fmt.Sprint(o["clashes"]), "intensity") || len(o["sides"].([]any)) != 2 {
		t.Errorf("overlaps: %v", o)
	}
	if r := imke.run("overlaps", "--check"); r.status != 1 {
		t.Errorf("overlaps --check: %d", r.status)
	}
	imke.ok("overlaps", sample.Notes, "--check")
	tarek.write(sample.Notes, "night\ntwo\nthree\n")
	imke.write(sample.Notes, "day\ntwo\nthree\n")
	tarek.ok("changes")
	imke.tells("edited in tarek-", "changes")
	imke.ok("discard", sample.Scene)
	imke.ok("branch", "day")
	imke.tells("clashes", "go", "day")
}

func TestHeldCommitsTravelLater(t *testing.T) {
	imke, tarek := team(t)
	imke.write(sample.Notes, "one\ntwo\nTHREE\n")
	imke.tells("kept here as unsent commit 1", "commit", "-m", "Held", "--hold")
	imke.tells("1 commit is unsent", "changes")
	imke.fails(4, "A commit is unsent", "go", "main")
	if tarek.tells("has the newest", "sync"); len(tarek.object("history")["commits"].([]any)) != 1 {
		t.Error("a held commit was published")
	}
	tarek.write("plan.txt", "plan\n")
	tarek.ok("commit", "-m", "Plan")
	imke.tells("1 newer commit", "changes")
	imke.tells("was unsent, published as", "sync")
	if got := fmt.Sprint(imke.object("history")["commits"]); strings.Index(got, "Held") > strings.Index(got, "Plan") {
		t.Errorf("the held commit is not on top: %s", got)
	}
	// A held commit that clashes is laid open, and nothing is lost by putting it off.
	imke.write(sample.Notes, "one\ntwo\nmine\n")
	imke.ok("commit", "-m", "Mine", "--hold")
	tarek.ok("sync")
	tarek.write(sample.Notes, "one\ntwo\ntheirs\n")
	tarek.ok("commit", "-m", "Theirs")
	if out := imke.conflicts("sync"); !strings.Contains(out, "what you committed is unsent") {
		t.Errorf("sync: %s", out)
	}
	imke.ok("merge", "--abandon")
	if imke.read(sample.Notes) != "one\ntwo\nmine\n" {
		t.Error("putting it off lost the work")
	}
	imke.conflicts("sync")
	imke.ok("resolve", ".", "--keep", "theirs")
	imke.ok("commit")
	if imke.read(sample.Notes) != "one\ntwo\ntheirs\n" || strings.Contains(imke.ok("changes"), "unsent") {
		t.Error("the settled work was not published")
	}
	imke.write(sample.Notes, "another\n")
	imke.ok("commit", "-m", "Another", "--hold")
	imke.tells("1 unsent commit taken back", "discard", "--unsent")
	imke.tells("edited", "changes")
}

// knowsWhatIsHere plays what works without the chest, and what says so where it does not: never that
// something is damaged. fresh.txt was committed here; oaken.toml lies in the chest alone.
func (p *project) knowsWhatIsHere() {
	p.t.Helper()
	p.write("fresh.txt", "edited\n")
	p.tells("edited", "compare")
	p.tells("edited", "compare", "fresh.txt")
	p.write("brand.txt", "new\n")
	p.ok("discard", "fresh.txt", "brand.txt")
	if p.read("fresh.txt") != "fresh\n" {
		p.t.Errorf("fresh.txt: %q", p.read("fresh.txt"))
	}
	manifest := p.read("oaken.toml")
	p.write("oaken.toml", manifest+"\n# edited\n")
	for _, call := range []string{"compare", "discard .", "compare main:1 work", "restore oaken.toml --from main",
		"restore fresh.txt --from main:1", "health"} {
		p.fails(5, "The chest is out of reach", strings.Fields(call)...)
	}
	p.write("oaken.toml", manifest)
}

func TestWorkGoesOnWithoutTheChest(t *testing.T) {
	imke, tarek := team(t)
	chest := filepath.Join(filepath.Dir(imke.dir), "chest")
	away := func() {
		if err := os.Rename(chest, chest+".away"); err != nil {
			t.Fatal(err)
		}
	}
	back := func() {
		if err := os.Rename(chest+".away", chest); err != nil {
			t.Fatal(err)
		}
	}
	away()
	imke.write(sample.Notes, "one\ntwo\nOFFLINE\n")
	imke.tells("out of reach", "changes")
	imke.tells("kept here as unsent commit 1", "commit", "-m", "Offline")
	imke.write("fresh.txt", "fresh\n")
	imke.tells("kept here as unsent commit 2", "commit", "-m", "Offline too")
	for _, call := range []string{"sync", "history", "locks", "branch", "overlaps", "review list", "park x"} {
		if r := imke.run(strings.Fields(call)...); r.status != 5 && r.status != 4 && r.status != 2 ||
			strings.Contains(r.err, "mistake of oaken") || strings.Contains(r.err, "panic") {
			t.Errorf("%s without the chest: %d %s", call, r.status, r.err)
		}
	}
	imke.tells("are alike", "compare")
	imke.knowsWhatIsHere()
	back()
	tarek.write(sample.Notes, "ONE\ntwo\nthree\n")
	tarek.ok("commit", "-m", "Meanwhile")
	imke.ok("sync")
	if imke.read(sample.Notes) != "ONE\ntwo\nOFFLINE\n" {
		t.Errorf("the two were not combined: %q", imke.read(sample.Notes))
	}
	tarek.ok("sync")
	if tarek.read("fresh.txt") != "fresh\n" {
		t.Error("what was held did not arrive")
	}
	// The connection is lost again and again in the middle of calls.
	done := make(chan bool)
	go func() {
		defer close(done)
		for range 25 {
			time.Sleep(7 * time.Millisecond)
			if os.Rename(chest, chest+".away") == nil {
				time.Sleep(5 * time.Millisecond)
				if err := os.Rename(chest+".away", chest); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	for n := 0; ; n++ {
		select {
		case <-done:
			imke.run("merge", "--abandon")
			imke.ok("sync")
			imke.ok("health")
			tarek.ok("sync")
			if imke.tree(".") != tarek.tree(".") {
				t.Error("the two sides differ")
			}
			if len(imke.object("changes")["changes"].([]any)) != 0 {
				t.Error("something was not recorded")
			}
			return
		default:
		}
		imke.write("lines.txt", fmt.Sprintln("line", n))
		if r := imke.run("commit", "-m", fmt.Sprint("line ", n)); r.status != 0 && r.status != 5 && r.status != 3 &&
			strings.Contains(r.err, "mistake of oaken") {
			t.Errorf("a commit while the connection fails: %d %s", r.status, r.err)
		}
		if imke.run("changes", "--check").status == 1 {
			imke.run("commit", "-m", "again")
		}
	}
}

func TestParkedWork(t *testing.T) {
	imke, tarek := team(t)
	imke.write(sample.Notes, "one\nTWO\nthree\n")
	imke.write("extra.txt", "extra\n")
	imke.tells("set aside as later", "park", "later", sample.Notes, "-m", "for later", "--shared")
	if imke.read(sample.Notes) != "one\ntwo\nthree\n" || imke.read("extra.txt") != "extra\n" {
		t.Error("park took back too little or too much")
	}
	imke.fails(2, "as later already", "park", "later")
	imke.fails(2, "Nothing is parked as none", "unpark", "none")
	tarek.tells("line:#2.text  two → TWO", "compare", "main", "parked:later")
	tarek.ok("unpark", "Imke/later")
	if tarek.read(sample.Notes) != "one\nTWO\nthree\n" {
		t.Error("shared work did not arrive")
	}
	tarek.ok("discard", sample.Notes)
	tarek.write(sample.Notes, "one\nZWEI\nthree\n")
	tarek.write("other.txt", "other\n")
	tarek.fails(3, "can't be combined with what is here", "unpark", "later")
	tarek.ok("commit", "-m", "Zwei")
	imke.ok("sync")
	imke.ok("park", "extra")
	imke.conflicts("unpark", "later")
	imke.ok("resolve", sample.Notes, "--keep", "theirs")
	imke.ok("commit")
	if list := imke.tells("extra", "park"); strings.Contains(list, "later") {
		t.Errorf("what was brought back is still parked:\n%s", list)
	}
	imke.ok("park", "extra", "--drop")
	imke.tells("Nothing is parked", "park")
	imke.ok("tidy", "--grace", "0s")
	imke.ok("health")
}

func TestReviewsKeepTheRules(t *testing.T) {
	imke, tarek := team(t)
	imke.write("oaken.toml", imke.read("oaken.toml")+`
[review]
approvals = 1
only = ["main"]

[[review.path]]
match = "exhibit/**"
from = ["Ravi"]

[[review.check]]
name = "notes"
command = ["grep", "-q", "^one", "notes/opening.txt"]
`)
	imke.ok("commit", "-m", "Reviews are asked for")
	imke.write("x.txt", "x")
	imke.fails(4, "takes work by reviews alone", "commit", "-m", "straight")
	imke.ok("discard", "x.txt")
	tarek.ok("sync")
	tarek.ok("branch", "night")
	tarek.ok("go", "night")
	tarek.fails(2, "Everything of night is in main", "review", "open", "--title", "Nothing")
	tarek.write(sample.Notes, "none\ntwo\nthree\n")
	tarek.reef(sample.Lamp{Scale: 1, Brightness: 20})
	tarek.ok("commit", "-m", "Night")
	tarek.fails(2, "needs a title", "review", "open")
	tarek.tells("Review 1 is open", "review", "open", "--title", "The night", "--item", "AQ-9")
	tarek.fails(2, "is open already", "review", "open", "--title", "Again")
	tarek.fails(4, "is your own", "review", "approve", "1")
	imke.tells("It needs 1 more approval of Ravi, for exhibit/**.", "review", "show", "1")
	imke.ok("review", "comment", "1", sample.Scene+"::node:Lamp", "-m", "Too dim?")
	imke.fails(2, "There is no "+sample.Scene+"::node:None", "review", "comment", "1", sample.Scene+"::node:None", "-m", "?")
	imke.fails(2, "needs a reason", "review", "decline", "1")
	imke.tells("Review 1 is declined", "review", "decline", "1", "-m", "Too dim")
	imke.tells("Review 1 is open", "review", "approve", "1")
	imke.fails(4, "It needs 1 more approval of Ravi", "review", "merge", "1")
	imke.ok("--as", "Ravi", "review", "approve", "1")
	imke.fails(4, "The check notes did not pass", "review", "merge", "1")
	tarek.write(sample.Notes, "one\nnight\nthree\n")
	tarek.ok("commit", "-m", "Better notes")
	imke.tells("open again", "review", "list")
	imke.ok("review", "approve", "1")
	imke.ok("--as", "Ravi", "review", "approve", "1")
	imke.tells("ready", "review", "list")
	page := filepath.Join(t.TempDir(), "review.html")
	imke.ok("review", "show", "1", "--html", page)
	data, err := os.ReadFile(page)
	if err != nil || !strings.Contains(string(data), "Too dim?") || !strings.Contains(string(data), "before the branch moved") {
		t.Errorf("the page lacks what was said: %v", err)
	}
	imke.tells("is merged into main", "review", "merge", "1")
	if imke.read(sample.Notes) != "one\nnight\nthree\n" {
		t.Error("the workspace on the target branch did not follow")
	}
	r := imke.object("review", "show", "1")
	if r["state"] != "merged" || !strings.Contains(fmt.Sprint(r["remarks"]), "failed:notes") {
		t.Errorf("the review: %v", r)
	}
	tarek.fails(4, "Review 1 is merged", "review", "comment", "1", "-m", "late")
	tarek.fails(2, "There is no review 7", "review", "show", "7")
	// A review that does not merge is settled on its branch.
	tarek.write(sample.Notes, "one\nmidnight\nthree\n")
	tarek.ok("commit", "-m", "Midnight")
	tarek.ok("review", "open", "--title", "Midnight")
	imke.ok("branch", "noon")
	imke.ok("go", "noon")
	imke.write(sample.Notes, "one\nnoon\nthree\n")
	imke.ok("commit", "-m", "Noon")
	imke.ok("review", "open", "--title", "Noon")
	tarek.ok("review", "approve", "3")
	tarek.ok("review", "merge", "3")
	imke.ok("review", "approve", "2")
	imke.fails(3, "Review 2 does not merge", "review", "merge", "2")
	tarek.conflicts("merge", "main")
	tarek.ok("resolve", ".", "--keep", "mine")
	tarek.ok("commit")
	imke.ok("review", "approve", "2")
	imke.ok("review", "merge", "2")
	tarek.ok("go", "main")
	if tarek.read(sample.Notes) != "one\nmidnight\nthree\n" {
		t.Errorf("main has %q", tarek.read(sample.Notes))
	}
}

func TestWatchTellsAndTakesLocks(t *testing.T) {
	imke, tarek := team(t)
	tarek.write(sample.Notes, "tarek\ntwo\nthree\n")
	tarek.ok("changes")
	cmd := imke.command("--json", "watch", "--for", "6s", "--news-every", "1s", "--commit-every", "4s", "-m", "By itself")
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(700 * time.Millisecond)
	imke.write("art/.~lock.sand.bin#", "a program has it open")
	imke.write("art/coral.bin", "\x00edited")
	imke.write(sample.Notes, "imke\ntwo\nthree\n")
	time.Sleep(1500 * time.Millisecond)
	tarek.write("plan.txt", "plan\n")
	tarek.ok("commit", "plan.txt", "-m", "A plan")
	if err := os.MkdirAll(imke.path("new/folder"), 0o777); err != nil {
		t.Fatal(err)
	}
	imke.write("new/folder/file.txt", "late\n")
	if err := cmd.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	for _, want := range []string{`"event":"edited","path":"art/coral.bin"`, `"event":"locked","path":"art/coral.bin"`,
		`"event":"locked","path":"art/sand.bin"`, `"event":"overlap"`, `"verdict":"clashing"`, `"event":"arrived"`, "A plan",
		`"event":"committed"`} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("watch does not tell %s:\n%s", want, out.String())
		}
	}
	tarek.ok("discard", ".")
	tarek.ok("sync")
	if tarek.read("art/coral.bin") != "\x00edited" || tarek.read("new/folder/file.txt") != "late\n" {
		t.Error("what was watched was not committed")
	}
	tarek.tells("art/coral.bin  Imke", "locks")
}

func TestPeopleAndWorkspacesAreToldApart(t *testing.T) {
	imke, _ := team(t)
	dir := filepath.Dir(imke.dir)
	second := &project{t: t, dir: filepath.Join(dir, "deep", "imke")}
	if err := os.MkdirAll(filepath.Dir(second.dir), 0o777); err != nil {
		t.Fatal(err)
	}
	(&project{t: t, dir: dir}).ok("open", "chest", "deep/imke", "--as", "Imke")
	a, b := imke.object("changes")["workspace"].(string), second.object("changes")["workspace"].(string)
	if a == b || !strings.HasPrefix(b, a) {
		t.Errorf("two workspaces of one name: %s and %s", a, b)
	}
	imke.ok("lock", sample.Notes)
	second.fails(4, "is locked by you, in another workspace", "lock", sample.Notes)
	cmd := exec.Command(program, "--as", "Odalys", "lock", "art")
	cmd.Dir = second.dir
	out, err := cmd.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "Odalys has not worked in it before") {
		t.Errorf("a stranger: %s", out)
	}
	second.ok("--as", "Odalys", "lock", "art") // says --yes
	cmd = exec.Command(program, "--as", "Odalys", "unlock", "art")
	cmd.Dir = second.dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("who was accepted is asked again: %s", out)
	}
	imke.tells(a, "history")
}

func TestConflictsAreForeseenAndSettledByPattern(t *testing.T) {
	imke, _ := team(t)
	imke.write("rules/a.properties", "depth=1\nwidth=1\n")
	imke.write("rules/b.properties", "depth=1\n")
	imke.ok("commit", "-m", "Rules")
	imke.ok("branch", "kelp")
	for _, b := range []string{"main", "kelp"} {
		imke.ok("go", b)
		imke.write("rules/a.properties", "depth="+b+"\nwidth="+b+"\n")
		imke.write("rules/b.properties", "depth="+b+"\n")
		imke.ok("commit", "-m", b)
	}
	before := imke.tree(".")
	if out := imke.conflicts("merge", "main", "--dry-run"); !strings.Contains(out, "3 conflicts would be open") ||
		imke.tree(".") != before {
		t.Errorf("the dry run: %s", out)
	}
	imke.conflicts("merge", "main")
	page := imke.path("../conflicts.html")
	imke.ok("conflicts", "--html", page)
	if data, err := os.ReadFile(page); err != nil || strings.Count(string(data), "oaken resolve ") != 3 {
		t.Errorf("the page does not say how to settle each: %v", err)
	}
	imke.fails(2, "No conflict is open at none/**", "resolve", "none/**", "--keep", "mine")
	imke.tells("1 conflict is still open", "resolve", "**depth*", "--keep", "theirs")
	imke.fails(2, "--keep takes mine", "resolve", ".", "--keep", "yours")
	imke.ok("resolve", "rules/a*", "--keep", "mine")
	imke.ok("commit")
	if imke.read("rules/a.properties") != "depth=main\nwidth=kelp\n" || imke.read("rules/b.properties") != "depth=main\n" {
		t.Errorf("%q %q", imke.read("rules/a.properties"), imke.read("rules/b.properties"))
	}
}

// TestALockOfOneThingLetsItBeEdited locks an object of a file that must be locked: the file can be written,
// that object goes in, anything else is refused with the way back.
func TestALockOfOneThingLetsItBeEdited(t *testing.T) {
	p := empty(t)
	p.ok("begin", "--chest", "../chest")
	p.write("s.json", `{"a": {"v": 1}, "b": {"v": 2}}`+"\n")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[lock]]\nmatch = \"s.json\"\npolicy = \"required\"\n")
	p.ok("commit", "-m", "First")
	p.ok("lock", "s.json")
	p.ok("unlock", "s.json")
	if !readOnly(p, "s.json") {
		t.Error("it may be written without a lock")
	}
	p.ok("lock", "s.json::object:a")
	if readOnly(p, "s.json") {
		t.Error("it may not be written with the lock of something in it")
	}
	p.write("s.json", `{"a": {"v": 5}, "b": {"v": 6}}`+"\n")
	p.fails(4, "s.json::object:b.v was changed", "commit", "-m", "Both")
	p.ok("restore", "s.json::object:b.v")
	p.ok("commit", "-m", "One")
	if got := p.read("s.json"); got != `{"a": {"v": 5}, "b": {"v": 2}}`+"\n" || !readOnly(p, "s.json") {
		t.Errorf("after the commit: %q, read-only %v", got, readOnly(p, "s.json"))
	}
}

// TestAPartOfTheProjectGrows brings more into a workspace of a part: by a lock, and by restore.
func TestAPartOfTheProjectGrows(t *testing.T) {
	p := empty(t)
	p.ok("begin", "--chest", "../chest")
	for _, name := range []string{"a/1.txt", "b/2.txt", "b/3.txt"} {
		p.write(name, name)
	}
	p.write("b/p.bin", "x\x00y")
	p.ok("commit", "-m", "First")
	p.ok("open", "../chest", "../part", "--only", "a/**")
	part := &project{t: t, dir: p.path("../part")}
	part.says(part.ok("lock", "b/p.bin"), "b/p.bin was brought into this workspace")
	if part.read("b/p.bin") != "x\x00y" || readOnly(part, "b/p.bin") {
		t.Error("what was locked can't be edited")
	}
	part.says(part.ok("restore", "b/2.txt"), "1 file as in main:1 again")
	if part.read("b/2.txt") != "b/2.txt" || part.has("b/3.txt") {
		t.Error("restore brings what was named")
	}
	part.write("b/2.txt", "edited")
	part.ok("commit", "-m", "Second")
	part.says(part.ok("changes"), "Nothing has changed")
	p.ok("sync")
	if p.read("b/2.txt") != "edited" || p.read("b/3.txt") != "b/3.txt" {
		t.Error("the whole project")
	}
}
