package wire

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

// happened makes records, and gives what happened to them since a moment.
func happened(t testing.TB, commits int) *tables.Happened {
	l, err := tables.Create(t.Context(), filepath.Join(t.TempDir(), "a.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var h *tables.Happened
	err = l.Update(t.Context(), func(tx *tables.Tx) error {
		var last ledger.Commit
		people := []string{"Imke", "Tarek", "Ysolde"}
		for n := range commits {
			c := ledger.Commit{Branch: "main", Depth: n + 1, Generation: n + 1, Author: people[n%3], Workspace: people[n%3] + "-desk-reef",
				Message: fmt.Sprint("Lamp ", n, " is brighter"), Time: noon.Add(time.Duration(n*7919) * time.Second),
				Tree: element.DigestOf([]byte(fmt.Sprint(n)))}
			if n > 0 {
				c.Parents = []ledger.ID{last.ID}
			}
			c.Seal()
			last = c
			if err := errors.Join(tx.AddCommit(c), tx.AddTouches(c.ID, []ledger.Touch{{Path: fmt.Sprint("scenes/hall-", n%700,
				"/lamp.glb")},
				{Path: fmt.Sprint("text/", n%97, ".json")}}), tx.AddDeed(c.ID, fmt.Sprintf("%x", c.Tree))); err != nil {
				return err
			}
		}
		return errors.Join(tx.AddLock(ledger.Lock{Address: "a", Since: noon}), tx.RemoveLock("a"),
			tx.AddLock(ledger.Lock{Address: "Ω", Holder: strings.Repeat("x", 64), Since: noon}))
	})
	if err != nil {
		t.Fatal(err)
	}
	tx, err := l.View(t.Context())
	if err == nil {
		h, err = tx.Since(tables.Moment{})
		tx.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	h.Gone = []tables.Gone{{Table: "locks", Key: `["a"]`}}
	return h
}

// TestNewsComeAsTheyWere writes and reads news; ids of commits that are not what their fields say are kept as they are.
func TestNewsComeAsTheyWere(t *testing.T) {
	h := happened(t, 50)
	for i, r := range h.Rows {
		if r.Table == commitsTable {
			h.Rows[i].Rows[7][10] = "another message, so that the id is not its own"
		}
	}
	data, err := EncodeHappened(h)
	if err != nil {
		t.Fatal(err)
	}
	got, err := DecodeHappened(bytes.NewReader(data), 1<<30)
	if err != nil || !reflect.DeepEqual(h, got) {
		t.Errorf("%v\n%+v\n%+v", err, h, got)
	}
	if _, err := DecodeHappened(bytes.NewReader(data), int64(len(data)-1)); err == nil {
		t.Error("news that were cut off were read")
	}
}

// TestNewsAreSmall holds them to what a first copy may take: 110 bytes a commit, and 20 a path that it touched.
func TestNewsAreSmall(t *testing.T) {
	const commits = 3000
	data, err := EncodeHappened(happened(t, commits))
	if err != nil {
		t.Fatal(err)
	}
	each := float64(len(data)) / commits
	t.Logf("%.1f bytes a commit with two paths", each)
	if each > 110+2*20 {
		t.Error("that is too much")
	}
}

func FuzzNews(f *testing.F) {
	data, err := EncodeHappened(happened(f, 3))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Add([]byte("OAKNEWS\x01"))
	f.Fuzz(func(t *testing.T, data []byte) {
		h, err := DecodeHappened(bytes.NewReader(data), 1<<20)
		if err != nil {
			return
		}
		again, err := EncodeHappened(h)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := DecodeHappened(bytes.NewReader(again), 1<<20); err != nil || !reflect.DeepEqual(h, got) {
			t.Errorf("%v: %+v, then %+v", err, h, got)
		}
	})
}

// TestEveryActCrosses sends one of each sort there and back, and holds the list against the interpreter's by their names.
func TestEveryActCrosses(t *testing.T) {
	names := map[string]bool{}
	for _, a := range acts {
		q := chest.Request{Key: "k", Actor: chest.Actor{Workspace: "desk"}, Act: a}
		data, err := EncodeRequest(q)
		if err != nil {
			t.Fatal(err)
		}
		got, err := DecodeRequest(data)
		if err != nil || !reflect.DeepEqual(q, got) {
			t.Errorf("%T: %+v, %v", a, got, err)
		}
		names[NameOf(a)] = true
	}
	if len(names) != len(acts) {
		t.Errorf("%d names for %d acts", len(names), len(acts))
	}
	rules, tidied := ledger.ID{3}, int64(4)
	q := chest.Request{Key: "k", Actor: chest.Actor{Workspace: "desk"}, On: chest.Grounds{Rules: &rules, Tidied: &tidied,
		Leases: []chest.Fence{{Lease: "x", Number: 4}}}, Act: chest.Publish{Drafts: []chest.Draft{{Branch: "main", Tip: ledger.ID{1},
		Tree: element.Digest{2}, Author: "Imke", Time: noon, Traces: chest.Traces{Touches: []ledger.Touch{{Path: "a", Gone: true}},
			Deed: "d"}}}}}
	data, err := EncodeRequest(q)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := DecodeRequest(data); err != nil || !reflect.DeepEqual(q, got) {
		t.Errorf("%+v, %v, want %+v", got, err, q)
	}
	for text, newer := range map[string]bool{
		`{"key":"k","act":"fly","is":{}}`:                                  true,
		`{"key":"k","act":"unpark","is":{"Person":"x","Wings":2}}`:         true,
		`{"key":"k","act":"unpark","is":{},"on":{"Weather":"fine"}}`:       true,
		`{"key":"k","act":"unpark","is":{}} {}`:                            false,
		`{"key":"k","act":"unpark","is":3}`:                                false,
		`{"key":"k","act":"unpark"}`:                                       false,
		`{"key":"k","act":"publish","is":{"Drafts":[{"Tip":"nonsense"}]}}`: false,
	} {
		if _, err := DecodeRequest([]byte(text)); err == nil || errors.Is(err, ErrNewer) != newer {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestErrorsCross sends errors there and back; what nobody knows says nothing of itself.
func TestErrorsCross(t *testing.T) {
	lock := ledger.Lock{Address: "a", Holder: "Imke"}
	for _, err := range []error{
		&chest.Refusal{Reason: chest.Locked, Subject: "a", Lock: &lock, Seen: noon},
		fmt.Errorf("deep: %w", ledger.ErrNotFound), fmt.Errorf("deep: %w", ledger.ErrBusy), ledger.ErrFull,
		fault.New(fault.Conflict, "Do this.", "It is %s.", "so"), &ledger.MovedError{Place: "/x"},
	} {
		data := EncodeError(err, "r1")
		got := DecodeError(data.Status, data.Body)
		for _, is := range sentinels {
			if errors.Is(err, is) != errors.Is(got, is) {
				t.Errorf("%v came as %v", err, got)
			}
		}
		var a, b *chest.Refusal
		if errors.As(err, &a) != errors.As(got, &b) || a != nil && !reflect.DeepEqual(a, b) {
			t.Errorf("%v came as %v", err, got)
		}
		if fault.CodeOf(err) != fault.CodeOf(got) {
			t.Errorf("%v came as %v", fault.CodeOf(err), fault.CodeOf(got))
		}
	}
	data := EncodeError(errors.New("open /srv/secret/ledger.db: no such file"), "r1")
	if strings.Contains(string(data.Body), "secret") || data.Status != 500 || !strings.Contains(string(data.Body), "r1") {
		t.Errorf("%d %s", data.Status, data.Body)
	}
	if err := DecodeError(502, []byte("<html>a proxy")); !errors.Is(err, ledger.ErrAway) {
		t.Errorf("a proxy's words: %v", err)
	}
}
