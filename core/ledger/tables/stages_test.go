package tables

import (
	"errors"
	"slices"
	"testing"
	"time"

	"oakenchest/core/ledger"
)

// full is a time as it is kept: to the millisecond.
var full = noon.Truncate(time.Millisecond)

func view(t *testing.T, l *Ledger, fn func(*Tx) error) {
	t.Helper()
	tx, err := l.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	if err := fn(tx); err != nil {
		t.Fatal(err)
	}
}

func TestApprovalsCountByTheLastWord(t *testing.T) {
	l, _ := create(t)
	one, two := sealed("one"), sealed("two")
	say := func(person string, c ledger.Commit, withdrawn bool) {
		update(t, l, func(tx *Tx) error {
			return tx.AddAssent(ledger.Assent{Environment: "live", Commit: c.ID, Person: person, Time: full, Text: "fine",
				Withdrawn: withdrawn})
		})
	}
	say("Ravi", one, false)
	say("Sefa", one, false)
	say("Sefa", one, true)
	say("Imke", two, false)
	say("Odalys", one, true)
	say("Odalys", one, false)
	view(t, l, func(tx *Tx) error {
		got, err := tx.Assents("live", one.ID)
		var who []string
		for _, a := range got {
			who = append(who, a.Person)
			if a.Text != "fine" || !a.Time.Equal(full) || a.Commit != one.ID {
				t.Errorf("assent: %+v", a)
			}
		}
		if !slices.Equal(who, []string{"Ravi", "Odalys"}) {
			t.Errorf("who approves: %v", who)
		}
		if other, err := tx.Assents("test", one.ID); err != nil || len(other) != 0 {
			t.Errorf("elsewhere: %v, %v", other, err)
		}
		return err
	})
}

func TestBookingsMarksAndLooksComeBackAsTheyWent(t *testing.T) {
	l, _ := create(t)
	b := ledger.Booking{Environment: "live", Lane: "Exhibit", Person: "Imke", Workspace: "w", Asked: full, Begins: full.Add(time.Hour),
		Lasts: 2 * time.Hour, Note: "night"}
	c := ledger.Booking{Environment: "live", Lane: "Husbandry", Person: "Odalys", Workspace: "w", Asked: full, Begins: full,
		Ends: full.Add(time.Hour)}
	update(t, l, func(tx *Tx) (err error) {
		if b.ID, err = tx.AddBooking(b); err != nil {
			return err
		}
		if c.ID, err = tx.AddBooking(c); err != nil {
			return err
		}
		ended := c
		ended.Ended = full.Add(time.Minute)
		return errors.Join(tx.EndBooking(ended),
			tx.AddDistinct(ledger.Distinct{One: "a", Other: "b", Person: "Imke", Time: full, Reason: "first"}),
			tx.AddDistinct(ledger.Distinct{One: "a", Other: "b", Person: "Tarek", Time: full, Reason: "second"}),
			tx.PutLook(ledger.Look{Environment: "live", Time: full, Commit: sealed("one").ID, Differences: 2, Person: "Imke"}),
			tx.PutLook(ledger.Look{Environment: "live", Time: full, Commit: sealed("one").ID, Failure: "away", Person: "Imke"}))
	})
	c.Ended = full.Add(time.Minute)
	view(t, l, func(tx *Tx) error {
		list, err := tx.Bookings()
		if err != nil || len(list) != 2 || list[0] != b || list[1] != c {
			t.Errorf("bookings: %+v, %v", list, err)
		}
		marks, err := tx.Distincts()
		if err != nil || len(marks) != 1 || marks[0].Reason != "second" || marks[0].Person != "Tarek" {
			t.Errorf("marks: %+v, %v", marks, err)
		}
		looks, err := tx.Looks()
		if err != nil || len(looks) != 1 || looks["live"].Failure != "away" || looks["live"].Differences != 0 ||
			looks["live"].Commit != sealed("one").ID {
			t.Errorf("looks: %+v, %v", looks, err)
		}
		return nil
	})
	update(t, l, func(tx *Tx) error { return tx.RemoveDistinct("a", "b") })
	if err := l.Update(t.Context(), func(tx *Tx) error { return tx.RemoveDistinct("a", "b") }); !errors.Is(err, ledger.ErrNotFound) {
		t.Errorf("a mark that is gone: %v", err)
	}
}

func TestPicksAndDeeds(t *testing.T) {
	l, _ := create(t)
	one := sealed("one")
	two := sealed("two", one.ID)
	three := sealed("three", one.ID, two.ID)
	update(t, l, func(tx *Tx) error {
		return errors.Join(tx.AddCommit(one), tx.AddCommit(two), tx.AddCommit(three), tx.AddPick(two.ID, one.ID), tx.AddSettled(three.ID),
			tx.AddDeed(one.ID, "same"), tx.AddDeed(two.ID, "same"), tx.AddDeed(three.ID, "other"))
	})
	view(t, l, func(tx *Tx) error {
		picks, err1 := tx.Picks()
		settled, err2 := tx.Settled()
		alike, err3 := tx.Alike()
		if len(picks) != 1 || picks[two.ID] != one.ID || len(settled) != 1 || !settled[three.ID] {
			t.Errorf("picks %v, settled %v", picks, settled)
		}
		if len(alike) != 2 || len(alike[one.ID]) != 1 || alike[one.ID][0].ID != two.ID || alike[two.ID][0].ID != one.ID {
			t.Errorf("alike: %v", alike)
		}
		return errors.Join(err1, err2, err3)
	})
	if err := l.Update(t.Context(), func(tx *Tx) error { return tx.AddPick(two.ID, three.ID) }); err == nil {
		t.Error("a commit was picked from two")
	}
}

func TestKeptOfSeveralTriesBelongsToOneDeployment(t *testing.T) {
	l, _ := create(t)
	c := sealed("one")
	var first, second int64
	update(t, l, func(tx *Tx) (err error) {
		if first, err = tx.Keep(ledger.Kept{Environment: "live", Time: full, Tree: "a"}); err != nil {
			return err
		}
		if second, err = tx.Keep(ledger.Kept{Environment: "live", Time: full, Tree: "b"}); err != nil {
			return err
		}
		if err := tx.AddCommit(c); err != nil {
			return err
		}
		n, err := tx.AddDeployment(ledger.Deployment{Environment: "live", Commit: c.ID, Author: "Imke", Time: full, Source: "x"})
		return errors.Join(err, tx.Number(first, n), tx.Number(second, n))
	})
	view(t, l, func(tx *Tx) error {
		list, err := tx.KeptSince("live")
		if err != nil || len(list) != 2 || list[0].ID != second || list[1].ID != first || list[0].Deployment != list[1].Deployment ||
			list[0].Deployment == 0 {
			t.Errorf("kept: %+v, %v", list, err)
		}
		last, err := tx.LastDeployment("live")
		if err != nil || last.Commit != c.ID || last.Number != list[0].Deployment {
			t.Errorf("last: %v, %v", last, err)
		}
		return nil
	})
}
