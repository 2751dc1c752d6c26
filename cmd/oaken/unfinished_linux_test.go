package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

// TestALinkThatLeadsOutsideStopsNobody commits a link to a place of this machine: it is told, and
// everybody gets the link, and can go on.
func TestALinkThatLeadsOutsideStopsNobody(t *testing.T) {
	p := empty(t)
	p.ok("begin", "--chest", "../chest")
	p.write("note.txt", "one\n")
	p.ok("commit", "-m", "First")
	p.ok("open", "../chest", "../second", "--as", "Bo")
	second := &project{t: t, dir: filepath.Join(filepath.Dir(p.dir), "second")}
	p.call("ln", "-s", "/etc/hostname", "words")
	p.call("ln", "-s", "../../nowhere", "gone")
	r := p.run("commit", "-m", "Words")
	if r.status != 0 {
		t.Fatal(r.err)
	}
	p.says(r.err, "words is a link that leads outside of the project, to /etc/hostname")
	second.ok("sync")
	for name, want := range map[string]string{"words": "/etc/hostname", "gone": "../../nowhere"} {
		if got, err := os.Readlink(second.path(name)); err != nil || got != want {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	second.ok("changes")
	before, err := os.ReadFile("/etc/hostname")
	if err != nil {
		t.Skip(err)
	}
	p.call("rm", "words")
	p.write("words", "our own\n")
	p.ok("commit", "-m", "A file in its place")
	second.ok("sync")
	if after, err := os.ReadFile("/etc/hostname"); err != nil || !bytes.Equal(before, after) {
		t.Errorf("something was written by way of the link: %q, %v", after, err)
	}
	if second.read("words") != "our own\n" {
		t.Error("the file did not come")
	}
}
