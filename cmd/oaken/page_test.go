package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"oakenchest/sample"
)

// pageOf makes a project in which something of every sort changed, and its page.
func pageOf(t *testing.T) (*project, string) {
	t.Helper()
	p := world(t)
	p.reef(sample.Lamp{Scale: 1.2, Brightness: 55})
	app, err := sample.RoundsApp("<b>Rounds</b> & more")
	if err != nil {
		t.Fatal(err)
	}
	p.write(sample.App, string(app))
	p.ok("lock", sample.Texture, sample.Sound)
	p.write(sample.Texture, string(sample.SandPNG(64, sample.Spot{X: 40, Y: 20, Radius: 6})))
	wav := sample.BubblesWAV()
	wav[len(wav)/2] ^= 0x40
	p.write(sample.Sound, string(wav))
	p.write(sample.Notes, p.read(sample.Notes)+"</script><script>Bring a coat.\n")
	out := p.ok("compare", "--html", "changes.html")
	if !strings.Contains(out, "shows 5 artifacts") {
		t.Errorf("compare --html: %s", out)
	}
	return p, p.read("changes.html")
}

func TestAPageShowsTheWholeComparison(t *testing.T) {
	_, html := pageOf(t)
	for _, want := range []string{
		`<span class="key">Lamp</span>`, "1.2 1.2 1.2", "Nodes of the scene", `class="wave-is"`, "audio/wave;base64,", "what differs",
		"of the pixels differ",
		"&lt;b&gt;", "&amp; more", "&lt;/script&gt;", "Lines of part:",
	} {
		if !strings.Contains(html, want) {
			t.Errorf("the page lacks %s", want)
		}
	}
	if found := regexp.MustCompile(`(?:src|href)="(?:https?:|//)|@import|url\(`).FindString(html); found != "" {
		t.Errorf("the page needs something from outside: %s", found)
	}
	if strings.Count(html, "<script>") != 1 {
		t.Error("text of an artifact became a script")
	}
}

// pressing writes into the page what pressing keys does to it.
const pressing = `<script>
addEventListener("load", () => {
  const press = key => document.activeElement.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
  const say = (name, value) => document.documentElement.setAttribute("data-" + name, value);
  const current = () => document.querySelector("nav [aria-current] .path").textContent;
  say("first", current());
  press("."); say("second", current()); say("focus", document.activeElement.id);
  press(","); say("back", current());
  const figure = document.querySelector("figure.pictures");
  press("v"); say("view", figure.dataset.view + " " + getComputedStyle(figure.querySelector(".before")).display);
  press("v"); say("curtain", figure.dataset.view + " " + getComputedStyle(figure.querySelector(".curtain-rail")).display);
  press("s"); const search = document.getElementById("search"); search.value = "lamp"; search.dispatchEvent(new Event("input"));
  say("shown", [...document.querySelectorAll("section")].filter(s => !s.hidden).map(s => s.querySelector("h2").firstChild.textContent.trim()).join("|"));
  press("Escape"); say("again", document.querySelectorAll("section[hidden]").length);
  press("u"); say("folded", document.querySelectorAll("details:not([open])").length);
  press("h"); say("help", document.getElementById("help").open);
  say("pictures", [...document.images].every(i => i.complete && i.naturalWidth > 0));
});
</script></body>`

func TestAPageIsUsedByKeyboard(t *testing.T) {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("chromium is not installed; make test installs it")
	}
	p, html := pageOf(t)
	p.write("pressed.html", strings.Replace(html, "</body>", pressing, 1))
	out, err := exec.Command(browser, "--headless", "--no-sandbox", "--disable-gpu",
		"--user-data-dir="+filepath.Join(t.TempDir(), "browser"), "--virtual-time-budget=3000",
		"--dump-dom", "file://"+p.path("pressed.html")).Output()
	if err != nil {
		t.Fatal(err)
	}
	head := string(out[:min(len(out), 1200)])
	for _, want := range []string{
		`data-first="apps/rounds.app"`, `data-second="exhibit/reef.glb"`, `data-focus="a2"`, `data-back="apps/rounds.app"`,
		`data-view="over none"`, `data-curtain="curtain flex"`,
		`data-shown="exhibit/reef.glb"`, `data-again="0"`, `data-folded="0"`, `data-help="true"`, `data-pictures="true"`,
	} {
		if !strings.Contains(head, want) {
			t.Errorf("no %s in %s", want, head)
		}
	}
}

func TestTextsAreComparedLineByLine(t *testing.T) {
	p := world(t)
	p.write(sample.Notes, strings.Replace(p.read(sample.Notes), "spring", "autumn", 1)+"Bring a coat.\n")
	out := p.ok("compare", "--lines")
	for _, want := range []string{"was     1        The reef exhibit opens in spring.",
		" is           1  The reef exhibit opens in autumn.", " is           4  Bring a coat."} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if got := p.ok("compare", "--summary"); !strings.Contains(got, "2 changes") {
		t.Errorf("summary: %s", got)
	}
	p.fails(2, "exclude each other", "compare", "--lines", "--summary")
}

func TestOutsideViewersAreOpened(t *testing.T) {
	p := world(t)
	p.write(sample.Notes, "Another note.\n")
	p.fails(2, "no viewer", "compare", "--viewer")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[viewer]]\nkind = \"text\"\n"+
		"command = [\"sh\", \"-c\", \"cat $0 $1 >>seen.log; exit 1\", \"{from}\", \"{to}\"]\n")
	p.ok("compare", "--viewer", sample.Notes)
	if got := p.read("seen.log"); !strings.Contains(got, "opens in spring") || !strings.Contains(got, "Another note.") {
		t.Errorf("the viewer saw %q", got)
	}
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), `"sh", "-c"`, `"no-such-viewer"`, 1))
	p.fails(2, "no-such-viewer can't be started", "compare", "--viewer", sample.Notes)
}

// TestAPageIsNobodysWork draws pages into the project's folder: no commit records them, unless they were
// recorded before.
func TestAPageIsNobodysWork(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.write("note.txt", "one\n")
	p.write("kept.html", "<p>ours</p>\n")
	p.ok("commit", "-m", "First")
	p.write("note.txt", "two\n")
	r := p.run("compare", "--html", "a page.html")
	if p.says(r.err, "left out of this workspace's commits"); r.status != 0 {
		t.Fatal(r.err)
	}
	if err := os.MkdirAll(p.path("sub"), 0o777); err != nil {
		t.Fatal(err)
	}
	p.ok("compare", "--html", "sub/b.html")
	p.ok("compare", "--html", "sub/b.html")
	p.ok("compare", "--html", "kept.html")
	p.ok("compare", "--html", "../outside.html")
	p.says(p.ok("changes"), "edited  kept.html", "edited  note.txt")
	if list := p.object("changes")["changes"].([]any); len(list) != 2 {
		t.Errorf("changes: %v", list)
	}
	p.ok("commit", "-m", "Second")
	p.ok("open", ".", "../second")
	second := &project{t: t, dir: p.path("../second")}
	if second.has("a page.html") || second.has("sub/b.html") || !second.has("kept.html") {
		t.Error("a page was committed")
	}
	second.write("sub/b.html", "made by hand\n")
	second.ok("commit", "-m", "Elsewhere it is a file like others")
	if !p.has("a page.html") || !p.has("sub/b.html") {
		t.Error("a page is gone")
	}
}
