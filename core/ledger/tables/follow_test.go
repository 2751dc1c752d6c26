package tables

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"oakenchest/core/ledger"
)

// contents gives every row that a copy has to have.
func contents(t *testing.T, l *Ledger) map[string][][]any {
	t.Helper()
	tx, err := l.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	out := map[string][][]any{}
	for _, d := range all {
		if d.followed() == never {
			continue
		}
		rows, err := tx.rowsOf(d, "order by 1, 2")
		if err != nil {
			t.Fatal(err)
		}
		if len(rows) > 0 {
			out[d.title()] = rows
		}
	}
	return out
}

// since asks what happened since the moment of a copy.
func since(t *testing.T, l, replica *Ledger) *Happened {
	t.Helper()
	at, err := replica.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	m, err := at.Now()
	at.Close()
	if err != nil {
		t.Fatal(err)
	}
	tx, err := l.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	h, err := tx.Since(m)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

// change does something at random to records.
func change(r *rand.Rand, n int, tip *ledger.Commit, tx *Tx) error {
	name := func(what string) string { return fmt.Sprint(what, r.IntN(6)) }
	lenient := func(err error) error {
		if errors.Is(err, ledger.ErrTaken) || errors.Is(err, ledger.ErrNotFound) {
			return nil
		}
		return err
	}
	switch r.IntN(14) {
	case 0:
		c := ledger.Commit{Branch: "main", Depth: tip.Depth + 1, Generation: tip.Generation + 1, Author: name("p"), Time: noon,
			Message: fmt.Sprint(n)}
		if tip.Depth > 0 {
			c.Parents = []ledger.ID{tip.ID}
		}
		c.Seal()
		*tip = c
		return errors.Join(tx.AddCommit(c), tx.AddTouches(c.ID, []ledger.Touch{{Path: name("a")}, {Path: "z", Gone: true}}),
			tx.AddDeed(c.ID, name("d")), tx.AddTaking(c.ID, c.ID), tx.AddSettled(c.ID), tx.AddPick(c.ID, c.ID))
	case 1:
		return lenient(tx.AddLock(ledger.Lock{Address: name("x"), Holder: name("p"), Since: noon}))
	case 2:
		return lenient(tx.RemoveLock(name("x")))
	case 3:
		return tx.PutWorkspace(ledger.Workspace{Name: name("w"), Held: n})
	case 4:
		return tx.PutEdit(ledger.Edit{Workspace: name("w"), Path: name("a"), State: fmt.Sprint(n)})
	case 5:
		return lenient(tx.RemoveEdit(name("w"), name("a")))
	case 6:
		return tx.AddNotice(ledger.Notice{Workspace: name("w"), Text: fmt.Sprint(n)})
	case 7:
		return lenient(tx.RemoveNotices(name("w"), int64(n)))
	case 8:
		return tx.PutPending(ledger.Pending{Origin: name("e"), Target: "live", Person: fmt.Sprint(n)})
	case 9:
		return errors.Join(tx.PutChosen(ledger.Chosen{Origin: name("e"), Target: "live", Address: name("x"), Value: fmt.Sprint(n)}),
			lenient(tx.EndPending(name("e"), "live")))
	case 10:
		d, err := tx.AddDeployment(ledger.Deployment{Environment: name("e"), Time: noon})
		k, err2 := tx.Keep(ledger.Kept{Environment: name("e")})
		return errors.Join(err, err2, lenient(tx.Number(k, d)), tx.AddAccount(ledger.Account{Deployment: d}), tx.Forget(k-1))
	case 11:
		return lenient(tx.RenameEnvironment(name("e"), fmt.Sprint("n", n)))
	case 12:
		seen, err := tx.Lease(name("l"))
		taken := seen
		taken.Owner, taken.Fence = fmt.Sprint(n), seen.Fence+1
		return errors.Join(err, tx.TakeLease(seen, taken), tx.BeatLease(seen.Name, taken.Owner))
	}
	return lenient(tx.FreeLease(name("l"), fmt.Sprint(n-1)))
}

// TestACopyFollows does things at random to records, lets copies follow at random, one of which is given what
// happened late and twice, and holds them against the records, row by row.
func TestACopyFollows(t *testing.T) {
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 7))
		l, _ := create(t)
		replica, _ := create(t)
		late, _ := create(t)
		var tip ledger.Commit
		var held []*Happened
		for n := range 150 {
			if err := l.Update(t.Context(), func(tx *Tx) error { return change(r, n, &tip, tx) }); err != nil {
				t.Fatal(err)
			}
			if r.IntN(4) > 0 {
				continue
			}
			h := since(t, l, replica)
			if err := replica.Take(t.Context(), h); err != nil {
				t.Fatal(err)
			}
			if held = append(held, h); r.IntN(3) == 0 {
				for _, h := range append(held, held...) {
					if err := late.Take(t.Context(), h); err != nil {
						t.Fatal(err)
					}
				}
				held = nil
				if want, got := contents(t, l), contents(t, late); !reflect.DeepEqual(want, got) {
					t.Fatalf("seed %d, after %d: what came late and twice differs", seed, n)
				}
			}
			if want, got := contents(t, l), contents(t, replica); !reflect.DeepEqual(want, got) {
				t.Fatalf("seed %d, after %d: the records are\n%v, the copy holds\n%v", seed, n, want, got)
			}
			if h := since(t, l, replica); !h.Empty() {
				t.Fatalf("since then %+v is said to have happened", h)
			}
		}
		tx, err := replica.View(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if flaws, err := tx.Flaws(); err != nil || len(flaws) > 0 {
			t.Errorf("the copy is not sound: %v, %v", flaws, err)
		}
		tx.Close()
	}
}

// TestACopyOfOtherRecordsComesAnew lets a copy follow records of another epoch, and of one that went back.
func TestACopyOfOtherRecordsComesAnew(t *testing.T) {
	one, _ := create(t)
	other, _ := create(t)
	replica, _ := create(t)
	put := func(l *Ledger, address string) {
		t.Helper()
		if err := l.Update(t.Context(), func(tx *Tx) error {
			return tx.AddLock(ledger.Lock{Address: address, Since: noon})
		}); err != nil {
			t.Fatal(err)
		}
	}
	put(one, "a")
	put(one, "b")
	put(other, "c")
	first := since(t, one, replica)
	if err := replica.Take(t.Context(), first); err != nil {
		t.Fatal(err)
	}
	put(one, "d")
	for _, l := range []*Ledger{other, one, other} {
		if err := replica.Take(t.Context(), since(t, l, replica)); err != nil {
			t.Fatal(err)
		}
		if want, got := contents(t, l), contents(t, replica); !reflect.DeepEqual(want, got) {
			t.Errorf("the records are\n%v, the copy holds\n%v", want, got)
		}
	}
	before := contents(t, replica)
	step := since(t, one, replica)
	step.Since = Moment{Epoch: step.Until.Epoch, At: 2} // said to follow what the copy does not hold
	if err := replica.Take(t.Context(), step); !errors.Is(err, ErrOutOfStep) {
		t.Errorf("out of step: %v", err)
	}
	for _, h := range []*Happened{
		{Until: Moment{"x", 9}, Rows: []Rows{{"answers", [][]any{{"k", "a", int64(1), "s", int64(0)}}}}},
		{Until: Moment{"x", 9}, Rows: []Rows{{"locks", [][]any{{"k"}}}}},
		{Until: Moment{"x", 9}, Gone: []Gone{{"locks", `{"a":1}`}}},
		{Until: Moment{"x", 9}, Gone: []Gone{{"locks", `["a","b"]`}}},
	} {
		if err := replica.Take(t.Context(), h); err == nil {
			t.Errorf("%+v was taken", h)
		}
	}
	if !reflect.DeepEqual(before, contents(t, replica)) {
		t.Error("what was not taken has changed something")
	}
}

func BenchmarkFollowing(b *testing.B) {
	l, err := Create(b.Context(), filepath.Join(b.TempDir(), "a.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	const commits = 20_000
	if err := l.Update(b.Context(), func(tx *Tx) error {
		var last ledger.Commit
		for n := range commits {
			c := ledger.Commit{Branch: "main", Depth: n + 1, Generation: n + 1, Author: "Imke", Message: fmt.Sprint("lamp ", n),
				Time: noon.Add(time.Duration(n) * time.Minute)}
			if n > 0 {
				c.Parents = []ledger.ID{last.ID}
			}
			c.Seal()
			last = c
			if err := errors.Join(tx.AddCommit(c), tx.AddTouches(c.ID, []ledger.Touch{{Path: fmt.Sprint("scenes/", n%700,
				".glb")}})); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		tx, err := l.View(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		h, err := tx.Since(Moment{})
		tx.Close()
		if err != nil {
			b.Fatal(err)
		}
		to, err := Create(b.Context(), filepath.Join(b.TempDir(), fmt.Sprint(b.N, time.Now().UnixNano(), ".db")))
		if err != nil {
			b.Fatal(err)
		}
		if err := errors.Join(to.Take(b.Context(), h), to.Close()); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*commits), "µs/commit")
}
