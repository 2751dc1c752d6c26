package server

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakenchest/core/access"
	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// reef starts a server with a project, and somebody who has signed in.
func reef(t *testing.T) (*playing, remote.Signed) {
	t.Helper()
	p := start(t)
	who := p.person("Imke", true)
	if err := p.create(t.Context(), "reef", "Imke"); err != nil {
		t.Fatal(err)
	}
	return p, who
}

// raw makes a request by hand, and gives its status and what was answered.
func (p *playing) raw(token, method, path string, body io.Reader) (int, string) {
	p.t.Helper()
	q, err := http.NewRequest(method, p.http.URL+"/"+path, body)
	if err != nil {
		p.t.Fatal(err)
	}
	if token != "" {
		q.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		p.t.Fatal(err)
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	return answer.StatusCode, string(said)
}

// TestNobodyGetsInWithoutASession tries every address with no token, a foreign one, one that has ended, one of another
// project, one that may look alone, and as somebody who is no administrator.
func TestNobodyGetsInWithoutASession(t *testing.T) {
	p, imke := reef(t)
	if err := p.create(t.Context(), "other", "Imke"); err != nil {
		t.Fatal(err)
	}
	tarek := p.person("Tarek", false)
	token := func(s access.Session) string {
		t.Helper()
		is, err := p.Book.Check(t.Context(), tarek.Token)
		if err != nil {
			t.Fatal(err)
		}
		s.Person = is.Person
		text, err := p.Book.NewToken(t.Context(), s, "Tarek")
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	looks := token(access.Session{Purpose: "look", ReadsOnly: true, Ends: time.Now().Add(time.Hour)})
	elsewhere := token(access.Session{Purpose: "other", Project: "other", Ends: time.Now().Add(time.Hour)})
	short := token(access.Session{Purpose: "short", Ends: time.Now().Add(300 * time.Millisecond)})
	time.Sleep(310 * time.Millisecond)
	for _, r := range p.routes() {
		method, path, _ := strings.Cut(r.pattern, " /")
		path = strings.NewReplacer("{project}", "reef", "{name}", "abc", "{id}", "abc").Replace(path)
		if path == wire.API+"/"+wire.CallLogout { // it would end what is tried
			continue
		}
		try := func(token string) (int, string) { return p.raw(token, method, path, strings.NewReader("{}")) }
		if r.who == anybody {
			continue
		}
		for name, bad := range map[string]string{"none": "", "foreign": "oaken-session-AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "ended": short} {
			if status, said := try(bad); status != http.StatusUnauthorized || strings.Contains(said, "reef") {
				t.Errorf("%s %s with %s token: %d %s", method, path, name, status, said)
			}
		}
		if strings.HasSuffix(path, wire.CallSignals) { // who may listen does so for as long as there is something to hear
			continue
		}
		if status, said := try(looks); r.writes && (status != http.StatusConflict || !strings.Contains(said,
			"may look, and change nothing")) {
			t.Errorf("%s %s with a token that may look: %d %s", method, path, status, said)
		}
		if status, said := try(elsewhere); r.who == member && status != http.StatusNotFound {
			t.Errorf("%s %s with another project's token: %d %s", method, path, status, said)
		}
		if status, said := try(tarek.Token); r.who == administrator && !strings.Contains(said, "Administrators alone") {
			t.Errorf("%s %s as nobody's administrator: %d %s", method, path, status, said)
		}
	}
	if _, err := p.Book.End(t.Context(), "Tarek", "Imke"); err != nil {
		t.Fatal(err)
	}
	if status, _ := p.raw(tarek.Token, "POST", "reef/news", strings.NewReader("{}")); status != http.StatusUnauthorized {
		t.Errorf("a session of an account that has ended: %d", status)
	}
	if status, said := p.raw(imke.Token, "POST", "reef/news", strings.NewReader("{}")); status != http.StatusOK {
		t.Errorf("%d %s", status, said)
	}
}

// aBale gives a bale of some contents in a folder, and the digests of them and of the folder.
func aBale(t *testing.T, contents ...string) ([]byte, []content.Digest) {
	t.Helper()
	c := chesttest.New(t, "Imke")
	b := c.Contents.Begin(t.Context())
	defer b.Abandon()
	var out []content.Digest
	var files []chest.File
	for i, text := range contents {
		d, err := b.PutBytes([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, d)
		files = append(files, chest.File{Path: fmt.Sprint(i), Mode: chest.Plain, Size: int64(len(text)), Digest: d})
	}
	tree, err := c.WriteTree(b, files)
	if err == nil {
		err = b.Commit()
	}
	if err != nil {
		t.Fatal(err)
	}
	out = append(out, tree)
	names, err := filepath.Glob(filepath.Join(c.Place(), "bales", "*.bale"))
	if err != nil || len(names) != 1 {
		t.Fatal(names, err)
	}
	data, err := os.ReadFile(names[0])
	if err != nil {
		t.Fatal(err)
	}
	return data, out
}

// TestABadBaleIsRefused sends bales that are not what they say: each is refused, and nothing of it is there.
func TestABadBaleIsRefused(t *testing.T) {
	p, who := reef(t)
	large := strings.Repeat("kelp and sand, ", 60_000)
	good, digests := aBale(t, large, "small")
	send := func(name string, data []byte, size int) (int, string) {
		return p.raw(who.Token, "PUT", fmt.Sprintf("reef/bales/%s?from=0&size=%d", name, size), bytes.NewReader(data))
	}
	inside, err := p.project(t.Context(), "reef")
	if err != nil {
		t.Fatal(err)
	}
	nothing := func(what string, status int, said string) {
		t.Helper()
		if status == http.StatusOK {
			t.Errorf("%s was taken: %s", what, said)
		}
		for _, d := range digests {
			if inside.folder.Contents().Has(d) {
				t.Errorf("%s left something", what)
			}
		}
	}
	for at := 1; at < len(good); at += max(1, len(good)/60) {
		bent := bytes.Clone(good)
		bent[at] ^= 0x40
		status, said := send("bent", bent, len(bent))
		nothing(fmt.Sprintf("a bale with a bit flipped at %d", at), status, said)
	}
	status, said := send("large", good, mostBale+1)
	nothing("a bale that is said to be too large", status, said)
	status, said = p.raw(who.Token, "PUT", "reef/bales/x?from=9&size=20", bytes.NewReader(good[9:20]))
	nothing("the end of a bale", status, said)
	for _, query := range []string{"", "?from=-1&size=2", "?from=3&size=2", "?from=a&size=2"} {
		if status, said := p.raw(who.Token, "PUT", "reef/bales/x"+query, nil); status != http.StatusBadRequest {
			t.Errorf("%q: %d %s", query, status, said)
		}
	}
	whole := func(what string) {
		t.Helper()
		for _, d := range digests {
			if !inside.folder.Contents().Has(d) {
				continue
			}
			in, err := inside.folder.Contents().OpenExact(d)
			if err == nil {
				_, err = io.Copy(io.Discard, in)
			}
			if err != nil {
				t.Errorf("%s left content that can't be read: %v", what, err)
			}
		}
	}
	for at := 1; at < len(good); at += max(1, len(good)/200) { // it may end between two records
		send("half", good[:at], at)
		whole(fmt.Sprintf("a bale cut at %d", at))
		send("less", good[:at], len(good))
		whole(fmt.Sprintf("a bale of which %d bytes came", at))
	}
	if status, said := send("good", good, len(good)); status != http.StatusOK {
		t.Errorf("%d %s", status, said)
	}
	for _, d := range digests {
		if !inside.folder.Contents().Has(d) {
			t.Error("a good bale is not there")
		}
	}
}

// TestWhatIsNotOnesOwnIsNotThere lets somebody ask for, and name, what another has sent and no commit names.
func TestWhatIsNotOnesOwnIsNotThere(t *testing.T) {
	p, imke := reef(t)
	tarek := p.person("Tarek", false)
	data, digests := aBale(t, "a secret plan")
	if status, said := p.raw(imke.Token, "PUT", fmt.Sprintf("reef/bales/x?from=0&size=%d", len(data)),
		bytes.NewReader(data)); status != 200 {
		t.Fatal(status, said)
	}
	theirs := p.open(tarek, "reef", t.TempDir())
	for _, d := range digests {
		if _, err := theirs.Contents().Open(d); !errors.Is(err, content.ErrMissing) {
			t.Errorf("another's content: %v", err)
		}
	}
	q := chest.Request{Key: "k", Act: chest.Publish{Drafts: []chest.Draft{{Branch: chest.FirstBranch, Tree: digests[1], Author: "Tarek",
		Time: time.Now(), Message: "not mine"}}}}
	var refusal *chest.Refusal
	request, err := wire.EncodeRequest(q)
	if err != nil {
		t.Fatal(err)
	}
	body, err := json.Marshal(wire.ActCall{Request: request})
	if err != nil {
		t.Fatal(err)
	}
	status, said := p.raw(tarek.Token, "POST", "reef/act", bytes.NewReader(body))
	if err := wire.DecodeError(status, []byte(said)); !errors.As(err, &refusal) || refusal.Reason != chest.Unsent ||
		len(refusal.Lacking) != 1 || refusal.Lacking[0] != digests[1] {
		t.Errorf("it was named: %d %s", status, said)
	}
	missing := q
	missing.Act = chest.Publish{Drafts: []chest.Draft{{Branch: chest.FirstBranch, Tree: content.Digest{7}, Author: "Tarek",
		Time: time.Now()}}}
	if request, err = wire.EncodeRequest(missing); err != nil {
		t.Fatal(err)
	}
	body, _ = json.Marshal(wire.ActCall{Request: request})
	other, how := p.raw(tarek.Token, "POST", "reef/act", bytes.NewReader(body))
	var alike *chest.Refusal
	if err := wire.DecodeError(other, []byte(how)); !errors.As(err, &alike) || alike.Reason != refusal.Reason || other != status {
		t.Errorf("what is there of others is told apart from what is not: %d %s, and %d %s", status, said, other, how)
	}
	mine := p.open(imke, "reef", t.TempDir())
	if _, err := mine.Do(t.Context(), q); err == nil { // Tarek is its author: that is said of it
		if _, err := mine.Contents().Open(digests[0]); err != nil {
			t.Errorf("one's own content: %v", err)
		}
	} else {
		t.Error(err)
	}
	c := chest.New(theirs)
	tip, err := c.Branch(t.Context(), chest.FirstBranch)
	if err != nil {
		t.Fatal(err)
	}
	commit, err := c.Commit(t.Context(), tip.Tip)
	if err != nil {
		t.Fatal(err)
	}
	if files, err := c.Files(commit.Tree); err != nil || len(files) != 1 {
		t.Errorf("%v, %v", files, err)
	}
	if data, err := content.ReadAll(c.Contents, digests[0], 100); err != nil || string(data) != "a secret plan" {
		t.Errorf("what a commit names: %q, %v", data, err)
	}
}

// TestNobodySpeaksForOthers tries acts in another's name, and of a newer program.
func TestNobodySpeaksForOthers(t *testing.T) {
	p, _ := reef(t)
	tarek := p.person("Tarek", false)
	s := p.open(tarek, "reef", t.TempDir())
	for _, a := range []chest.Act{
		chest.TakeLocks{Wanted: []ledger.Lock{{Address: "a", Holder: "Imke"}}}, chest.FreeLocks{Holder: "Imke", Addresses: []string{"a"}},
		chest.Assent{Assent: ledger.Assent{Person: "Imke"}}, chest.Park{Parked: ledger.Parked{Person: "Imke", Name: "x"}},
		chest.Remark{Remark: ledger.Remark{Author: "Imke"}}, chest.Book{Booking: ledger.Booking{Person: "Imke"}},
		chest.Plan{Planned: ledger.Planned{Person: "Imke"}},
	} {
		if _, err := s.Do(t.Context(), chest.Request{Key: "k", Act: a}); err == nil || !strings.Contains(err.Error(), "can't act as Imke") {
			t.Errorf("%T: %v", a, err)
		}
	}
	if err := s.Tell(t.Context(), chest.News{Workspace: ledger.Workspace{Name: "w", Person: "Imke"}}); err == nil {
		t.Error("somebody told of another's workspace")
	}
	for _, body := range []string{`{"request":"` + base64.StdEncoding.EncodeToString([]byte(`{"key":"k","act":"fly","is":{}}`)) + `"}`,
		`{"request":"` + base64.StdEncoding.EncodeToString([]byte(`{"key":"k","act":"unpark","is":{"Wings":1}}`)) + `"}`, `{"wings":1}`} {
		status, said := p.raw(tarek.Token, "POST", "reef/act", strings.NewReader(body))
		if err := wire.DecodeError(status, []byte(said)); status != http.StatusBadRequest || !errors.Is(err, wire.ErrNewer) {
			t.Errorf("%s: %d %s", body, status, said)
		}
	}
}

// TestAWrongClockTakesNothing takes locks with clocks that are a day off: they count by the server's.
func TestAWrongClockTakesNothing(t *testing.T) {
	p, imke := reef(t)
	tarek := p.person("Tarek", false)
	a, b := p.open(imke, "reef", t.TempDir()), p.open(tarek, "reef", t.TempDir())
	now := time.Now()
	own := ledger.Lock{Address: "reef.glb", Holder: "Imke", Workspace: "desk", Since: now, Ends: now.Add(time.Hour)}
	if _, err := a.Do(t.Context(), chest.Request{Act: chest.TakeLocks{Wanted: []ledger.Lock{own}, Now: now}}); err != nil {
		t.Fatal(err)
	}
	for _, off := range []time.Duration{-24 * time.Hour, 24 * time.Hour} {
		theirs := ledger.Lock{Address: "reef.glb", Holder: "Tarek", Workspace: "lab", Since: now.Add(off), Ends: now.Add(off + time.Hour)}
		_, err := b.Do(t.Context(), chest.Request{Act: chest.TakeLocks{Wanted: []ledger.Lock{theirs}, Now: now.Add(off), TakeSilent: true,
			SilentAfter: time.Hour}})
		var refusal *chest.Refusal
		if !errors.As(err, &refusal) || refusal.Reason != chest.Locked && refusal.Reason != chest.LockSilent {
			t.Errorf("a clock that is %s off took a lock: %v", off, err)
		}
		theirs.Address = "other.glb"
		q := chest.Request{Key: "k" + off.String(), Act: chest.TakeLocks{Wanted: []ledger.Lock{theirs}, Now: now.Add(off)}}
		for range 2 {
			if _, err := b.Do(t.Context(), q); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := b.Do(t.Context(), chest.Request{Act: chest.FreeLocks{Holder: "Tarek", Workspace: "lab",
			Addresses: []string{"other.glb"}}}); err != nil {
			t.Error(err)
		}
	}
}

// TestLimits asks for more than is given: large bodies, bodies that unpack to more, and too often.
func TestLimits(t *testing.T) {
	p, imke := reef(t)
	status, said := p.raw(imke.Token, "POST", "reef/lease", io.LimitReader(zeros{}, small+10))
	if status != http.StatusTooManyRequests {
		t.Errorf("a large body: %d %s", status, said)
	}
	refused := 0
	for n := 0; n < 8*burst && refused == 0; n++ { // a slow machine is slow to ask, too
		if status, _ := p.raw(imke.Token, "POST", "reef/lease", strings.NewReader("{")); status == http.StatusTooManyRequests {
			refused++
		}
	}
	if refused == 0 {
		t.Error("nobody is slowed")
	}
	if status, said := p.raw("", "GET", "health", nil); status != http.StatusOK {
		t.Errorf("%d %s", status, said)
	}
	status, said = p.raw("", "GET", "metrics", nil)
	if status != http.StatusOK || !strings.Contains(said, `oaken_requests_total{route="/{project}/lease",status="429"}`) {
		t.Errorf("%d %.300s", status, said)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = ' '
	}
	return len(p), nil
}

// TestIdleConnectionsHarmNothing holds many connections that say nothing, while others work.
func TestIdleConnectionsHarmNothing(t *testing.T) {
	p, imke := reef(t)
	const many = 1500
	var idle []net.Conn
	defer func() {
		for _, c := range idle {
			c.Close()
		}
	}()
	for range many {
		c, err := net.Dial("tcp", strings.TrimPrefix(p.http.URL, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		idle = append(idle, c)
	}
	s := p.open(imke, "reef", t.TempDir())
	if _, err := s.Do(t.Context(), chest.Request{Act: chest.OpenReview{Review: ledger.Review{Title: "x",
		State: ledger.ReviewOpen}}}); err != nil {
		t.Error(err)
	}
}

// TestASignComes waits for signs while somebody acts, and after the server's connections were cut.
func TestASignComes(t *testing.T) {
	p, imke := reef(t)
	a, b := p.open(imke, "reef", t.TempDir()), p.open(imke, "reef", t.TempDir())
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	signs := a.Signals(ctx)
	await := func(what string) {
		t.Helper()
		select {
		case <-signs:
		case <-time.After(10 * time.Second):
			t.Fatal("no sign came when " + what)
		}
	}
	await("the connection stood")
	for n := range 3 {
		if _, err := b.Do(t.Context(), chest.Request{Act: chest.Notify{Notice: ledger.Notice{Workspace: "w",
			Text: fmt.Sprint(n)}}}); err != nil {
			t.Fatal(err)
		}
		await("something was done")
	}
	p.http.CloseClientConnections()
	await("the connection was cut")
}

// TestADamagedCopyComesAnew damages what a machine keeps of a server: contents, and records.
func TestADamagedCopyComesAnew(t *testing.T) {
	p, imke := reef(t)
	caches := t.TempDir()
	data, digests := aBale(t, "kelp", strings.Repeat("sand and kelp, ", 40_000))
	if status, said := p.raw(imke.Token, "PUT", fmt.Sprintf("reef/bales/x?from=0&size=%d", len(data)),
		bytes.NewReader(data)); status != 200 {
		t.Fatal(status, said)
	}
	s := p.open(imke, "reef", caches)
	tree := digests[2]
	if _, err := s.Do(t.Context(), chest.Request{Key: "k", Act: chest.Publish{Drafts: []chest.Draft{{Branch: chest.FirstBranch, Tree: tree,
		Author: "Imke", Time: time.Now(), Message: "one"}}}}); err != nil {
		t.Fatal(err)
	}
	look := func(what string) {
		t.Helper()
		s := p.open(imke, "reef", caches)
		defer s.Close()
		c := chest.New(s)
		files, err := c.Files(tree)
		if err != nil || len(files) != 2 {
			t.Fatalf("%s: %v, %v", what, files, err)
		}
		for _, f := range files {
			if got, err := content.ReadAll(c.Contents, f.Digest, 1<<20); err != nil || int64(len(got)) != f.Size {
				t.Errorf("%s: %d bytes, %v", what, len(got), err)
			}
		}
		if b, err := c.Branch(t.Context(), chest.FirstBranch); err != nil || b.Tip == (ledger.ID{}) {
			t.Errorf("%s: %v, %v", what, b, err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	look("whole")
	bales, err := filepath.Glob(filepath.Join(caches, "*", "bales", "*.bale"))
	if err != nil || len(bales) == 0 {
		t.Fatal(bales, err)
	}
	for _, at := range []int64{3, 60, 200} {
		for _, name := range bales {
			data, err := os.ReadFile(name)
			if err != nil {
				continue // it was taken away before
			}
			if int64(len(data)) > at {
				data[at] ^= 1
			}
			os.Chmod(name, 0o600)
			if err := os.WriteFile(name, data, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		look(fmt.Sprintf("bales that are bent at %d", at))
	}
	records, err := filepath.Glob(filepath.Join(caches, "*", "records.db"))
	if err != nil || len(records) != 1 {
		t.Fatal(records, err)
	}
	if err := os.WriteFile(records[0], []byte("this is no database"), 0o600); err != nil {
		t.Fatal(err)
	}
	look("records that are none")
	if err := os.RemoveAll(filepath.Dir(records[0])); err != nil {
		t.Fatal(err)
	}
	look("nothing")
}
