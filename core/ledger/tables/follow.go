package tables

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"

	"oakenchest/core/ledger"
)

// A copy of the records is kept up to date by moments: each transaction that changes something has a number of its
// own, one more than the one before it. A row notes the moment at which it was written, and what is taken away leaves
// its key with that moment. So what happened since a moment is what has a later one. Moments are counted within an
// epoch, which is another one after the records were brought back from a backup: then nothing follows from what a
// copy holds.

// momentsSince is the format with which moments came.
const momentsSince = 9

// followed says how a copy is kept up to date with a table.
type followed byte

const (
	// never: it stays where the records are.
	never followed = iota
	// byMoment: its rows note when they were written.
	byMoment
	// byCommit: its rows belong to commits, and come with them.
	byCommit
)

// remembered is for how many moments what went is known; a copy that is further behind comes anew.
const remembered = 1 << 20

const momentColumn = "at integer not null"

func momentIndex(table string) string { return "create index " + table + "_at on " + table + " (at)" }

// following gives the statements that make the tables of moments.
func following() []string {
	return []string{
		"create table moments (epoch text not null, latest integer not null)",
		"create table gone (title text not null, name text not null, at integer not null, primary key (title, name)) without rowid",
		"create index gone_at on gone (at)",
	}
}

// beginMoments begins an epoch.
func (tx *Tx) beginMoments() error {
	if _, err := tx.exec("delete from moments"); err != nil {
		return err
	}
	_, err := tx.exec("insert into moments (epoch, latest) values (?, 1)", rand.Text())
	return err
}

// moment gives that of the transaction.
func (tx *Tx) moment() (int64, error) {
	if tx.at != 0 {
		return tx.at, nil
	}
	err := tx.row("update moments set latest = latest + 1 returning latest").Scan(&tx.at)
	return tx.at, err
}

// remove takes the rows away that a clause chooses; ErrNotFound when there was none.
func remove[T any](tx *Tx, t *table[T], clause string, args ...any) error {
	columns := keys(t.listColumns())
	row, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	rows, err := collectRows(tx, row, into, "delete from "+t.name+" "+clause+" returning "+names(columns, ""), args...)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return ledger.ErrNotFound
	}
	at, err := tx.moment()
	if err != nil {
		return err
	}
	if _, err := tx.exec("delete from gone where at < ?", at-remembered); err != nil {
		return err
	}
	for _, r := range rows {
		name, err := json.Marshal(r)
		if err != nil {
			return err
		}
		if _, err := tx.exec("insert into gone (title, name, at) values (?, ?, ?) on conflict (title, name) do update set at = excluded.at",
			t.name, string(name), at); err != nil {
			return err
		}
	}
	return nil
}

// missingIsFine lets it pass that there was nothing to change.
func missingIsFine(err error) error {
	if errors.Is(err, ledger.ErrNotFound) {
		return nil
	}
	return err
}

// Moment is one of an epoch.
type Moment struct {
	Epoch string
	At    int64
}

// Now gives the moment of the records.
func (tx *Tx) Now() (m Moment, err error) {
	err = tx.row("select epoch, latest from moments").Scan(&m.Epoch, &m.At)
	return m, missing(err)
}

// Rows are rows of one table, as the engine has them: texts, whole numbers and nothing. The last value is the sum
// where the table has sums.
type Rows struct {
	Table string
	Rows  [][]any
}

// Gone is the key of a row that was taken away: a JSON list of the values of its key.
type Gone struct{ Table, Key string }

// Happened is what happened to the records between two moments.
type Happened struct {
	// Since is the moment that it begins after; with At 0 it is everything.
	Since, Until Moment
	Rows         []Rows
	Gone         []Gone
}

// Empty reports whether nothing happened.
func (h *Happened) Empty() bool { return h.Since == h.Until }

// Since gives what happened since a moment; everything, when that is of another epoch, or is to come, or lies so far
// back that what went since is not known.
func (tx *Tx) Since(m Moment) (*Happened, error) {
	now, err := tx.Now()
	if err != nil {
		return nil, err
	}
	if m.Epoch != now.Epoch || m.At > now.At || m.At < now.At-remembered {
		m = Moment{Epoch: now.Epoch}
	}
	h := &Happened{Since: m, Until: now}
	if m == now {
		return h, nil
	}
	since := m.At
	if since == 0 {
		since = -1 // rows from before there were moments have none
	}
	touched, err := tx.touchedSince(since)
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		where := ""
		switch t.followed() {
		case never:
			continue
		case byMoment:
			if !touched[t.title()] {
				continue
			}
			where = "where at > ? order by at"
			if t == declared(commits) { // none before one that it stands on
				where = "where at > ? order by generation"
			}
		case byCommit:
			if !touched[commits.title()] {
				continue
			}
			where = "where commit_id in (select id from commits where at > ?)"
		}
		rows, err := tx.rowsOf(t, where, since)
		if err != nil {
			return nil, err
		}
		if len(rows) > 0 {
			h.Rows = append(h.Rows, Rows{t.title(), rows})
		}
	}
	if m.At == 0 {
		return h, nil
	}
	var g Gone
	h.Gone, err = collect(tx, &g, []any{&g.Table, &g.Key}, "select title, name from gone where at > ?", m.At)
	return h, err
}

// touchedSince gives the tables in which something was written after a moment.
func (tx *Tx) touchedSince(at int64) (map[string]bool, error) {
	var title string
	names, err := collect(tx, &title, []any{&title}, probe(), at)
	out := map[string]bool{}
	for _, n := range names {
		out[n] = true
	}
	return out, err
}

// probe is the question of touchedSince.
var probe = sync.OnceValue(func() string {
	var parts []string
	for _, t := range all {
		if t.followed() == byMoment {
			parts = append(parts, "select '"+t.title()+"' where exists (select 1 from "+t.title()+" where at > ?1)")
		}
	}
	return strings.Join(parts, " union all ")
})

// carried gives the columns of a table that cross, in their order.
func carried(t declared) []string {
	var out []string
	for _, c := range t.listColumns() {
		out = append(out, c.name)
	}
	if t.guarded() {
		out = append(out, "sum")
	}
	return out
}

func (tx *Tx) rowsOf(t declared, where string, args ...any) ([][]any, error) {
	columns := carried(t)
	row, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	return collectRows(tx, row, into, "select "+strings.Join(columns, ", ")+" from "+t.title()+" "+where, args...)
}

// ErrOutOfStep says that a copy is not at the moment that something is said to have happened since.
var ErrOutOfStep = errors.New("the copy of the records is at another moment")

// Take takes into a copy of records what happened to them. A copy that another process has brought further meanwhile
// stays as it is; one that is behind answers an error.
func (l *Ledger) Take(ctx context.Context, h *Happened) error {
	return l.Update(ctx, func(tx *Tx) error {
		now, err := tx.Now()
		if err != nil {
			return err
		}
		switch whole := h.Since.At == 0; {
		case now.Epoch == h.Until.Epoch && now.At >= h.Until.At:
			return nil
		case whole:
			if err := tx.empty(); err != nil {
				return err
			}
		case now.Epoch != h.Since.Epoch || now.At < h.Since.At:
			return ErrOutOfStep
		}
		for _, g := range h.Gone {
			if err := tx.takeGone(g); err != nil {
				return err
			}
		}
		for _, r := range h.Rows {
			if err := tx.takeRows(r, h.Until.At); err != nil {
				return err
			}
		}
		_, err = tx.exec("update moments set epoch = ?, latest = ?", h.Until.Epoch, h.Until.At)
		return err
	})
}

// empty takes all rows out of a copy.
func (tx *Tx) empty() error {
	for _, t := range all {
		if _, err := tx.exec("delete from " + t.title()); err != nil {
			return err
		}
	}
	_, err := tx.exec("delete from gone")
	return err
}

func tableNamed(name string) (declared, error) {
	for _, t := range all {
		if t.title() == name && t.followed() != never {
			return t, nil
		}
	}
	return nil, fmt.Errorf("%w: nobody knows a table %q", ledger.ErrDamaged, name)
}

func (tx *Tx) takeGone(g Gone) error {
	t, err := tableNamed(g.Table)
	if err != nil {
		return err
	}
	var key []any
	in := json.NewDecoder(strings.NewReader(g.Key))
	in.UseNumber()
	columns := keys(t.listColumns())
	if err := in.Decode(&key); err != nil || len(key) != len(columns) {
		return fmt.Errorf("%w: %q is no key of %s", ledger.ErrDamaged, g.Key, g.Table)
	}
	for i, v := range key {
		if n, ok := v.(json.Number); ok {
			if key[i], err = n.Int64(); err != nil {
				return fmt.Errorf("%w: %q is no key of %s", ledger.ErrDamaged, g.Key, g.Table)
			}
		}
	}
	_, err = tx.exec("delete from "+t.title()+" where ("+names(columns, "")+") = (?"+strings.Repeat(", ?", len(columns)-1)+")", key...)
	return err
}

func (tx *Tx) takeRows(r Rows, at int64) error {
	t, err := tableNamed(r.Table)
	if err != nil {
		return err
	}
	columns := carried(t)
	n := len(columns)
	if t.followed() == byMoment {
		columns = append(columns, "at")
	}
	insert, err := tx.tx.PrepareContext(tx.ctx, "insert or replace into "+t.title()+" ("+strings.Join(columns, ", ")+") values (?"+
		strings.Repeat(", ?", len(columns)-1)+")")
	if err != nil {
		return tx.explain(err)
	}
	defer insert.Close()
	for _, row := range r.Rows {
		if len(row) != n {
			return fmt.Errorf("%w: a row of %s has %d fields", ledger.ErrDamaged, r.Table, len(row))
		}
		if len(columns) > n {
			row = append(row[:n:n], at)
		}
		if _, err := insert.ExecContext(tx.ctx, row...); err != nil {
			return tx.explain(err)
		}
	}
	return nil
}
