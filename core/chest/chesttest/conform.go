package chesttest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"sync"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// Conform holds a store to the promises of chest.Store, one sentence for each. open gives two handles on one
// new chest, of which the first branch has no commit; they may be of two processes or machines.
func Conform(t *testing.T, open func(t *testing.T) (one, other chest.Store)) {
	for _, p := range promises {
		t.Run(p.sentence, func(t *testing.T) {
			one, other := open(t)
			p.hold(&trial{T: t, one: one, other: other})
			for _, s := range []chest.Store{one, other} {
				if flaws, err := s.Flaws(t.Context()); err != nil || len(flaws) > 0 {
					t.Errorf("the records are not sound: %v, %v", flaws, err)
				}
			}
		})
	}
}

// promise is a sentence, and a test that tries to make it a lie.
type promise struct {
	sentence string
	hold     func(*trial)
}

var promises = []promise{
	{"a view is of one moment", (*trial).aViewIsOfOneMoment},
	{"an act is done whole or not at all", (*trial).anActIsWhole},
	{"a lost answer is given again by the same key", (*trial).aLostAnswerComesAgain},
	{"a key is for one request", (*trial).aKeyIsForOneRequest},
	{"of many that move a branch from one commit one does", (*trial).aBranchMovesOnce},
	{"a number is given once", (*trial).aNumberIsGivenOnce},
	{"a call that is cut off did all or nothing", (*trial).aCutCallDidAllOrNothing},
	{"a call that was cut off before does nothing", (*trial).aDeadCallDoesNothing},
	{"a lease is taken by one", (*trial).aLeaseIsTakenByOne},
	{"a lease that moved on is not renewed nor given back by who had it", (*trial).aLeaseMovesOn},
	{"what was decided under an older fence is refused", (*trial).anOlderFenceDecidesNothing},
	{"what was decided by rules that may have changed is refused", (*trial).rulesThatMovedAreNoticed},
	{"what was stored before the chest was tidied is refused", (*trial).tidyingIsNoticed},
	{"a lock is held by one workspace", (*trial).aLockIsHeldByOne},
	{"a name is given once", (*trial).aNameIsGivenOnce},
	{"a workspace's name is nobody else's", (*trial).aWorkspacesNameIsItsOwn},
	{"what is told of a workspace is what was told last", (*trial).newsReplaceNews},
	{"a sentence that was not read is not taken away", (*trial).unreadSentencesStay},
	{"contents are there for everybody once a batch is committed", (*trial).contentsAreShared},
	{"a bale that was received is there for everybody", (*trial).aReceivedBaleIsThere},
	{"a deployment is refused when the record moved", (*trial).aRecordThatMovedIsNoticed},
	{"what was planned ends once", (*trial).whatWasPlannedEndsOnce},
	{"a release is planned once under a name", (*trial).aReleaseIsPlannedOnce},
	{"a booking is decided with all others in view", (*trial).aBookingSeesAllOthers},
}

// trial is one test of one promise.
type trial struct {
	*testing.T
	one, other chest.Store
}

// either gives one of the handles by turns.
func (t *trial) either(n int) chest.Store {
	if n%2 == 0 {
		return t.one
	}
	return t.other
}

var somebody = chest.Actor{Person: "Imke", Workspace: "desk"}

func request(key string, a chest.Act) chest.Request {
	return chest.Request{Key: key, Actor: somebody, Act: a}
}

func (t *trial) do(s chest.Store, a chest.Act) chest.Outcome {
	t.Helper()
	out, err := s.Do(t.Context(), request("", a))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// refusedFor fails when an error is no refusal for a reason.
func (t *trial) refusedFor(err error, want chest.Reason) {
	t.Helper()
	var r *chest.Refusal
	if !errors.As(err, &r) || r.Reason != want {
		t.Errorf("got %v, want a refusal: %s", err, want)
	}
}

// draft is a commit with a tree that nobody looks into.
func draft(tip ledger.ID, message string) chest.Draft {
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	return chest.Draft{Branch: chest.FirstBranch, Tip: tip, Author: "Imke", Workspace: "desk", Time: at, Message: message,
		Traces: chest.Traces{Touches: []ledger.Touch{{Path: message}}}}
}

func publish(tip ledger.ID, message string) chest.Publish {
	return chest.Publish{Drafts: []chest.Draft{draft(tip, message)}}
}

// view asks a store something.
func view[V any](t *trial, s chest.Store, ask func(ledger.Records) (V, error)) V {
	t.Helper()
	r, err := s.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	v, err := ask(r)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// tip gives where the first branch is.
func (t *trial) tip(s chest.Store) ledger.Branch {
	t.Helper()
	return view(t, s, func(r ledger.Records) (ledger.Branch, error) { return r.Branch(chest.FirstBranch) })
}

func (t *trial) count(s chest.Store) int {
	t.Helper()
	return len(view(t, s, ledger.Records.Commits))
}

func (t *trial) aViewIsOfOneMoment() {
	t.do(t.one, publish(ledger.ID{}, "first"))
	r, err := t.one.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	before, err := r.Branch(chest.FirstBranch)
	if err != nil {
		t.Fatal(err)
	}
	var done sync.WaitGroup
	done.Go(func() { // may have to wait for the view
		if _, err := t.other.Do(context.WithoutCancel(t.Context()), request("", publish(before.Tip, "second"))); err != nil {
			t.Error(err)
		}
	})
	time.Sleep(50 * time.Millisecond)
	after, err := r.Branch(chest.FirstBranch)
	all, err2 := r.Commits()
	if err := errors.Join(err, err2); err != nil || after != before || len(all) != 1 {
		t.Errorf("the view saw %v, then %v with %d commits: %v", before, after, len(all), err)
	}
	if err := r.Close(); err != nil {
		t.Error(err)
	}
	done.Wait()
	if n := t.count(t.one); n != 2 {
		t.Errorf("a later view sees %d commits", n)
	}
}

func (t *trial) anActIsWhole() {
	first := t.do(t.one, publish(ledger.ID{}, "first")).Commits[0]
	t.do(t.one, chest.TakeLocks{Wanted: []ledger.Lock{{Address: "a", Holder: "Imke", Workspace: "desk"}}})
	d := draft(first.ID, "second")
	d.Release = []string{"a"}
	number := int64(7)
	bad := chest.Publish{
		NewBranch: &ledger.Branch{Name: "live", Author: "Imke"},
		Drafts:    []chest.Draft{d, draft(ledger.ID{}, "third")},
		// which there is not
		Deployment: &chest.Deploying{Deployment: ledger.Deployment{Environment: "live", Author: "Imke"}, Kept: []int64{number}},
	}
	if _, err := t.other.Do(t.Context(), request("", bad)); err == nil {
		t.Fatal("it was carried out")
	}
	for _, s := range []chest.Store{t.one, t.other} {
		names := view(t, s, ledger.Records.Branches)
		locks := view(t, s, ledger.Records.Locks)
		deployed := view(t, s, func(r ledger.Records) ([]ledger.Deployment, error) { return r.Deployments("") })
		if n := t.count(s); n != 1 || len(names) != 1 || len(locks) != 1 || len(deployed) != 0 {
			t.Errorf("%d commits, %d branches, %d locks, %d deployments are there", n, len(names), len(locks), len(deployed))
		}
	}
}

func (t *trial) aLostAnswerComesAgain() {
	for i, a := range []chest.Act{
		publish(ledger.ID{}, "first"),
		chest.OpenReview{Review: ledger.Review{Title: "x", State: ledger.ReviewOpen}},
		chest.TakeLocks{Wanted: []ledger.Lock{{Address: "a", Holder: "Imke", Workspace: "desk"}}},
		chest.FreeLocks{Holder: "Imke", Workspace: "desk", Addresses: []string{"a"}},
	} {
		q := request(fmt.Sprint("key ", i), a)
		first, err := t.one.Do(t.Context(), q)
		if err != nil {
			t.Fatal(err)
		}
		again, err := t.other.Do(t.Context(), q)
		if err != nil || !reflect.DeepEqual(first, again) {
			t.Errorf("%T came to %+v, then to %+v, %v", a, first, again, err)
		}
	}
	if n, all := t.count(t.one), view(t, t.one, ledger.Records.Reviews); n != 1 || len(all) != 1 {
		t.Errorf("%d commits and %d reviews are there", n, len(all))
	}
}

func (t *trial) aKeyIsForOneRequest() {
	if _, err := t.one.Do(t.Context(), request("key", publish(ledger.ID{}, "first"))); err != nil {
		t.Fatal(err)
	}
	_, err := t.other.Do(t.Context(), request("key", publish(ledger.ID{}, "another")))
	t.refusedFor(err, chest.OtherRequest)
}

func (t *trial) aBranchMovesOnce() {
	const rounds, many = 5, 6
	for round := range rounds {
		from := t.tip(t.one).Tip
		var won sync.Map
		var all sync.WaitGroup
		for n := range many {
			all.Go(func() {
				out, err := t.either(n).Do(t.Context(), request("", publish(from, fmt.Sprint(round, n))))
				if err == nil {
					won.Store(n, out.Commits[0].ID)
					return
				}
				t.refusedFor(err, chest.BranchMoved)
			})
		}
		all.Wait()
		winners := map[any]any{}
		won.Range(func(k, v any) bool { winners[k] = v; return true })
		if len(winners) != 1 || !slices.Contains(slices.Collect(maps.Values(winners)), any(t.tip(t.other).Tip)) {
			t.Fatalf("round %d: %d moved it, which is at %s", round, len(winners), t.tip(t.other).Tip.Short())
		}
	}
}

func (t *trial) aNumberIsGivenOnce() {
	const many = 12
	var mu sync.Mutex
	seen := map[string]bool{}
	var all sync.WaitGroup
	for n := range many {
		all.Go(func() {
			a := []chest.Act{
				chest.OpenReview{Review: ledger.Review{Title: fmt.Sprint(n), State: ledger.ReviewOpen}},
				chest.Keep{Kept: ledger.Kept{Environment: "live"}},
			}[n/2%2]
			out, err := t.either(n).Do(t.Context(), request("", a))
			if err != nil {
				t.Error(err)
				return
			}
			mu.Lock()
			defer mu.Unlock()
			if name := fmt.Sprint(a.Verb(), out.Number); out.Number == 0 || seen[name] {
				t.Errorf("the number %s was given twice, or is none", name)
			} else {
				seen[name] = true
			}
		})
	}
	all.Wait()
	for _, r := range view(t, t.one, ledger.Records.Reviews) {
		if !seen[fmt.Sprint(chest.OpenReview{}.Verb(), r.Number)] {
			t.Errorf("nobody was given the review %d", r.Number)
		}
	}
}

func (t *trial) aCutCallDidAllOrNothing() {
	for n := range 40 {
		from, before := t.tip(t.one).Tip, t.count(t.one)
		q := request(fmt.Sprint("cut ", n), publish(from, fmt.Sprint(n)))
		short, cancel := context.WithTimeout(t.Context(), time.Duration(rand.IntN(4000))*time.Microsecond)
		_, cut := t.either(n).Do(short, q)
		cancel()
		between := t.count(t.other)
		if cut == nil && between != before+1 || cut != nil && between != before && between != before+1 {
			t.Fatalf("after %v there are %d commits, before there were %d", cut, between, before)
		}
		out, err := t.either(n+1).Do(t.Context(), q)
		if err != nil {
			t.Fatalf("asked again after %v: %v", cut, err)
		}
		if tip := t.tip(t.one).Tip; t.count(t.one) != before+1 || out.Commits[0].ID != tip {
			t.Fatalf("after %v, and again, there are %d commits, before there were %d", cut, t.count(t.one), before)
		}
	}
}

func (t *trial) aDeadCallDoesNothing() {
	dead, cancel := context.WithCancel(t.Context())
	cancel()
	lease := ledger.Lease{Name: "x", Owner: "o", Fence: 1}
	_, err1 := t.one.Do(dead, request("", publish(ledger.ID{}, "first")))
	err2 := t.one.Lease(dead, chest.LeaseStep{Do: chest.TakeLease, Seen: ledger.Lease{Name: "x"}, Take: lease})
	err3 := t.one.Tell(dead, chest.News{Workspace: ledger.Workspace{Name: "w"}})
	_, err4 := t.one.Register(dead, ledger.Workspace{Name: "w"})
	err5 := t.one.Heard(dead, "w", 1)
	if _, err := t.one.View(dead); err == nil {
		t.Error("a view was given")
	}
	for i, err := range []error{err1, err2, err3, err4, err5} {
		if err == nil {
			t.Errorf("call %d was carried out", i+1)
		}
	}
	if n := t.count(t.other) + len(view(t, t.other, ledger.Records.Workspaces)) + len(view(t, t.other, ledger.Records.Leases)); n != 0 {
		t.Errorf("%d records are there", n)
	}
}

// take takes a lease as it is now.
func (t *trial) take(s chest.Store, name, owner string) (ledger.Lease, error) {
	t.Helper()
	seen := ledger.Lease{Name: name}
	for _, l := range view(t, s, ledger.Records.Leases) {
		if l.Name == name {
			seen = l
		}
	}
	l := ledger.Lease{Name: name, Owner: owner, Fence: seen.Fence + 1}
	return l, s.Lease(t.Context(), chest.LeaseStep{Do: chest.TakeLease, Seen: seen, Take: l})
}

func (t *trial) aLeaseIsTakenByOne() {
	for round := range 5 {
		var taken sync.Map
		var all sync.WaitGroup
		seen := ledger.Lease{Name: "live"}
		if round > 0 {
			seen = view(t, t.one, ledger.Records.Leases)[0]
		}
		for n := range 6 {
			all.Go(func() {
				l := ledger.Lease{Name: "live", Owner: fmt.Sprint(n), Fence: seen.Fence + 1}
				err := t.either(n).Lease(t.Context(), chest.LeaseStep{Do: chest.TakeLease, Seen: seen, Take: l})
				if err == nil {
					taken.Store(n, true)
					return
				}
				t.refusedFor(err, chest.Taken)
			})
		}
		all.Wait()
		n := 0
		taken.Range(func(k, _ any) bool {
			n++
			if l := view(t, t.other, ledger.Records.Leases)[0]; l.Owner != fmt.Sprint(k) || l.Fence != int64(round+1) {
				t.Errorf("%v was told to have it, and it is %+v", k, l)
			}
			return true
		})
		if n != 1 {
			t.Fatalf("round %d: %d have it", round, n)
		}
	}
}

func (t *trial) aLeaseMovesOn() {
	first, err := t.take(t.one, "live", "one")
	if err != nil {
		t.Fatal(err)
	}
	beat := chest.LeaseStep{Do: chest.BeatLease, Seen: first}
	if err := t.one.Lease(t.Context(), beat); err != nil {
		t.Fatal(err)
	}
	old := chest.LeaseStep{Do: chest.TakeLease, Seen: first, Take: ledger.Lease{Name: "live", Owner: "late", Fence: 2}}
	t.refusedFor(t.other.Lease(t.Context(), old), chest.Taken) // it was renewed since it was seen
	if _, err := t.take(t.other, "live", "other"); err != nil {
		t.Fatal(err)
	}
	t.refusedFor(t.one.Lease(t.Context(), beat), chest.LeaseLost)
	t.refusedFor(t.one.Lease(t.Context(), chest.LeaseStep{Do: chest.FreeLease, Seen: first}), chest.LeaseLost)
	if l := view(t, t.one, ledger.Records.Leases)[0]; l.Owner != "other" || l.Fence != 2 {
		t.Errorf("the lease is %+v", l)
	}
}

func (t *trial) anOlderFenceDecidesNothing() {
	first, err := t.take(t.one, "live", "one")
	if err != nil {
		t.Fatal(err)
	}
	under := func(l ledger.Lease, a chest.Act) chest.Request {
		q := request("", a)
		q.On.Leases = []chest.Fence{{Lease: l.Name, Number: l.Fence}}
		return q
	}
	out, err := t.one.Do(t.Context(), under(first, publish(ledger.ID{}, "first")))
	if err != nil {
		t.Fatal(err)
	}
	second, err := t.take(t.other, "live", "other")
	if err != nil {
		t.Fatal(err)
	}
	_, err = t.one.Do(t.Context(), under(first, publish(out.Commits[0].ID, "slept")))
	t.refusedFor(err, chest.LeaseLost)
	if err := t.other.Lease(t.Context(), chest.LeaseStep{Do: chest.FreeLease, Seen: second}); err != nil {
		t.Fatal(err)
	}
	_, err = t.one.Do(t.Context(), under(first, publish(out.Commits[0].ID, "slept"))) // given back is not unmade
	t.refusedFor(err, chest.LeaseLost)
	if n := t.count(t.other); n != 1 {
		t.Errorf("%d commits are there", n)
	}
}

func (t *trial) rulesThatMovedAreNoticed() {
	first := t.do(t.one, publish(ledger.ID{}, "first")).Commits[0]
	t.do(t.one, chest.MakeBranch{Branch: ledger.Branch{Name: "kelp", Tip: first.ID}})
	d := draft(first.ID, "by the rules")
	d.Branch = "kelp"
	q := request("", chest.Publish{Drafts: []chest.Draft{d}})
	q.On.Rules = &first.ID
	second := t.do(t.other, publish(first.ID, "other rules")).Commits[0]
	_, err := t.one.Do(t.Context(), q)
	t.refusedFor(err, chest.RulesMoved)
	q.On.Rules = &second.ID
	if _, err := t.one.Do(t.Context(), q); err != nil {
		t.Error(err)
	}
}

func (t *trial) tidyingIsNoticed() {
	fence := int64(0)
	q := request("", publish(ledger.ID{}, "first"))
	q.On.Tidied = &fence
	l, err := t.take(t.other, chest.TidyLease, "other")
	if err == nil {
		err = t.other.Lease(t.Context(), chest.LeaseStep{Do: chest.FreeLease, Seen: l})
	}
	if err != nil {
		t.Fatal(err)
	}
	_, err = t.one.Do(t.Context(), q)
	t.refusedFor(err, chest.Tidied)
	fence = l.Fence
	if _, err := t.one.Do(t.Context(), q); err != nil {
		t.Error(err)
	}
}

func (t *trial) aLockIsHeldByOne() {
	const many = 6
	var all sync.WaitGroup
	var won sync.Map
	for n := range many {
		all.Go(func() {
			addresses := []string{"exhibit/reef.glb", "exhibit", "exhibit/reef.glb::node:Lamp"}
			l := ledger.Lock{Address: addresses[n%len(addresses)], Holder: fmt.Sprint(n), Workspace: fmt.Sprint(n), Since: time.Now()}
			_, err := t.either(n).Do(t.Context(), request("", chest.TakeLocks{Wanted: []ledger.Lock{l}, Now: time.Now()}))
			if err == nil {
				won.Store(n, l.Address)
				return
			}
			t.refusedFor(err, chest.Locked)
		})
	}
	all.Wait()
	n := 0
	won.Range(func(any, any) bool { n++; return true })
	if held := view(t, t.other, ledger.Records.Locks); n != 1 || len(held) != 1 {
		t.Errorf("%d were told to hold it, %v are there", n, held)
	}
}

func (t *trial) aNameIsGivenOnce() {
	c := t.do(t.one, publish(ledger.ID{}, "first")).Commits[0]
	for _, a := range []chest.Act{
		chest.MakeBranch{Branch: ledger.Branch{Name: "kelp", Tip: c.ID}},
		chest.NameRelease{Release: ledger.Release{Name: "spring", Commit: c.ID}},
		chest.Park{Parked: ledger.Parked{Person: "Imke", Name: "lamp"}},
	} {
		t.do(t.one, a)
		_, err := t.other.Do(t.Context(), request("", a))
		t.refusedFor(err, chest.Taken)
	}
	again := chest.Publish{NewBranch: &ledger.Branch{Name: "kelp"}, OwnName: true, Drafts: publish(c.ID, "second").Drafts}
	_, err := t.other.Do(t.Context(), request("", again))
	t.refusedFor(err, chest.Taken)
	if n := t.count(t.one); n != 1 {
		t.Errorf("%d commits are there", n)
	}
}

func (t *trial) aWorkspacesNameIsItsOwn() {
	var all sync.WaitGroup
	names := make([]string, 6)
	for n := range names {
		all.Go(func() {
			var err error
			if names[n], err = t.either(n).Register(t.Context(), ledger.Workspace{Name: "desk", Mark: fmt.Sprint(n)}); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	slices.Sort(names)
	if known := view(t, t.one, ledger.Records.Workspaces); len(slices.Compact(names)) != 6 || len(known) != 6 {
		t.Errorf("the names are %v", names)
	}
	if again, err := t.other.Register(t.Context(), ledger.Workspace{Name: "desk", Mark: "0"}); err != nil ||
		!slices.Contains(names, again) {
		t.Errorf("one that is known is called %q, %v", again, err)
	}
}

func (t *trial) newsReplaceNews() {
	w := ledger.Workspace{Name: "desk", Person: "Imke", Seen: time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)}
	e := ledger.Edit{Workspace: "desk", Path: "a", State: "edited"}
	for i, n := range []chest.News{{Workspace: w, Put: []ledger.Edit{e}}, {Workspace: w, Put: []ledger.Edit{e}},
		{Workspace: w, Gone: []ledger.Edit{e}}, {Workspace: w, Gone: []ledger.Edit{e}}} {
		if err := t.either(i).Tell(t.Context(), n); err != nil {
			t.Fatal(err)
		}
		told := view(t, t.either(i+1), func(r ledger.Records) ([]ledger.Edit, error) { return r.EditsOf("desk") })
		if want := 1 - i/2; len(told) != want {
			t.Errorf("news %d: %d edits are known, want %d", i, len(told), want)
		}
	}
}

func (t *trial) unreadSentencesStay() {
	say := func(text string) { t.do(t.one, chest.Notify{Notice: ledger.Notice{Workspace: "desk", Text: text}}) }
	read := func() []ledger.Notice {
		return view(t, t.other, func(r ledger.Records) ([]ledger.Notice, error) { return r.Notices("desk") })
	}
	say("one")
	seen := read()
	say("two")
	for range 2 {
		if err := t.other.Heard(t.Context(), "desk", seen[0].ID); err != nil {
			t.Fatal(err)
		}
	}
	if left := read(); len(left) != 1 || left[0].Text != "two" {
		t.Errorf("what is left: %v", left)
	}
}

func (t *trial) contentsAreShared() {
	batch := t.one.Contents().Begin(t.Context())
	defer batch.Abandon()
	var digests []content.Digest
	for n := range 5 {
		d, err := batch.PutBytes([]byte(fmt.Sprint("reef ", n)))
		if err != nil {
			t.Fatal(err)
		}
		digests = append(digests, d)
	}
	if err := batch.Commit(); err != nil {
		t.Fatal(err)
	}
	for n, d := range digests {
		data, err := content.ReadAll(t.other.Contents(), d, 100)
		if err != nil || string(data) != fmt.Sprint("reef ", n) {
			t.Errorf("%q, %v", data, err)
		}
	}
	if _, err := t.other.Contents().Open(content.Digest{9}); !errors.Is(err, content.ErrMissing) {
		t.Errorf("what nobody stored: %v", err)
	}
}

func (t *trial) aReceivedBaleIsThere() {
	elsewhere, err := content.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer elsewhere.Close()
	batch := elsewhere.Begin(t.Context())
	defer batch.Abandon()
	large := bytes.Repeat([]byte("kelp and sand, "), 60000)
	d, err := batch.PutBytes(large)
	if err == nil {
		err = batch.Commit()
	}
	if err != nil {
		t.Fatal(err)
	}
	if n, err := content.Copy(t.Context(), t.one.Contents(), elsewhere, []content.Digest{d}); err != nil || n == 0 {
		t.Fatal(n, err)
	}
	if got, err := content.ReadAll(t.other.Contents(), d, 1<<21); err != nil || !bytes.Equal(got, large) {
		t.Errorf("%d bytes came, %v", len(got), err)
	}
	if missing, err := t.other.Contents().Missing(t.Context(), []content.Digest{{9}, d}); err != nil || len(missing) != 1 {
		t.Errorf("missing: %v, %v", missing, err)
	}
}

func (t *trial) aRecordThatMovedIsNoticed() {
	c := t.do(t.one, publish(ledger.ID{}, "first")).Commits[0]
	deploy := func(expect int64) chest.Publish {
		return chest.Publish{Deployment: &chest.Deploying{Deployment: ledger.Deployment{Environment: "live", Commit: c.ID, Author: "Imke"},
			Expect: &expect}}
	}
	n := t.do(t.one, deploy(0)).Number
	_, err := t.other.Do(t.Context(), request("", deploy(0)))
	t.refusedFor(err, chest.RecordMoved)
	if again := t.do(t.other, deploy(n)).Number; again <= n {
		t.Errorf("after the deployment %d came %d", n, again)
	}
}

func (t *trial) aBookingSeesAllOthers() {
	var all sync.WaitGroup
	var won sync.Map
	first := t.do(t.one, chest.Book{Booking: ledger.Booking{Environment: "live"}}).Number
	for n := range 6 {
		all.Go(func() {
			_, err := t.either(n).Do(t.Context(), request("", chest.Book{Booking: ledger.Booking{Environment: "live"}, Seen: first}))
			if err == nil {
				won.Store(n, true)
				return
			}
			t.refusedFor(err, chest.BookingsMoved)
		})
	}
	all.Wait()
	n := 0
	won.Range(func(any, any) bool { n++; return true })
	if known := view(t, t.other, ledger.Records.Bookings); n != 1 || len(known) != 2 {
		t.Errorf("%d booked, %d bookings are there", n, len(known))
	}
}

func (t *trial) whatWasPlannedEndsOnce() {
	at := time.Date(2026, 5, 4, 22, 0, 0, 0, time.UTC)
	p := ledger.Planned{Origin: "test", Target: "live", Person: "Imke", Asked: at.Add(-time.Hour), Due: at, Paths: []string{"a", "b"},
		Items: []string{"AQ-1"}}
	p.ID = t.do(t.one, chest.Plan{Planned: p}).Number
	if got := view(t, t.other, func(r ledger.Records) ([]ledger.Planned, error) { return r.Planned() }); !reflect.DeepEqual(got,
		[]ledger.Planned{p}) {
		t.Errorf("planned is %+v, want %+v", got, p)
	}
	p.Ended, p.Outcome, p.By = at, ledger.PlannedDone, "Imke"
	var wait sync.WaitGroup
	errs := make([]error, 8)
	for i := range errs {
		wait.Go(func() { _, errs[i] = t.either(i).Do(t.Context(), request("", chest.EndPlanned{Planned: p})) })
	}
	wait.Wait()
	done := 0
	for _, err := range errs {
		if err == nil {
			done++
		} else {
			t.refusedFor(err, chest.Unknown)
		}
	}
	if done != 1 {
		t.Errorf("it ended %d times", done)
	}
}

func (t *trial) aReleaseIsPlannedOnce() {
	b := ledger.Bundle{Name: "autumn", Items: []string{"AQ-1"}, Person: "Imke", Time: time.Date(2026, 5, 4, 22, 0, 0, 0, time.UTC)}
	first := t.do(t.one, chest.PlanRelease{Bundle: b}).Number
	_, err := t.other.Do(t.Context(), request("", chest.PlanRelease{Bundle: b}))
	t.refusedFor(err, chest.Taken)
	b.ID, b.Ended, b.Outcome = first, b.Time, ledger.BundleDropped
	t.do(t.other, chest.PlanRelease{Bundle: b})
	_, err = t.one.Do(t.Context(), request("", chest.PlanRelease{Bundle: b}))
	t.refusedFor(err, chest.Unknown)
	again := ledger.Bundle{Name: "autumn", Person: "Tarek", Time: b.Time}
	t.do(t.one, chest.PlanRelease{Bundle: again})
	if got := view(t, t.one, func(r ledger.Records) ([]ledger.Bundle, error) { return r.Bundles() }); len(got) != 2 ||
		got[0].Outcome == "" ||
		got[1].Person != "Tarek" {
		t.Errorf("planned releases: %+v", got)
	}
}
