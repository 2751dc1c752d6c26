package tables

import (
	"slices"
	"strings"

	"oakenchest/core/ledger"
	"oakenchest/core/trace"
)

// What is known of commits beside themselves: what they touch, whose work they bring, what they take back.

// touched is a row of what a commit did to a path.
type touched struct {
	path   string
	commit ledger.ID
	gone   bool
	origin string
}

var touches = &table[touched]{name: "touches", since: 2, follows: byCommit, bind: func(t *touched) []column {
	return []column{key("path", text(&t.path)), key("commit_id", id(&t.commit)), col("gone", flag(&t.gone)), col("origin", text(&t.origin))}
}, indexes: []index{{name: "touches_commit", on: "(commit_id)", since: 6}}}

// AddTouches notes what a commit touched; nil notes it as broad.
func (tx *Tx) AddTouches(id ledger.ID, list []ledger.Touch) error {
	if list == nil {
		list = []ledger.Touch{{}}
	}
	statement := touches.insertion() + " on conflict do nothing"
	defer trace.Begin(tx.ctx, trace.Statement, statement)()
	insert, err := tx.tx.PrepareContext(tx.ctx, statement)
	if err != nil {
		return tx.explain(err)
	}
	defer insert.Close()
	for _, t := range list {
		row, err := touches.row(tx, touched{t.Path, id, t.Gone, t.From})
		if err != nil {
			return err
		}
		if _, err := insert.ExecContext(tx.ctx, row...); err != nil {
			return tx.explain(err)
		}
	}
	return nil
}

func (tx *Tx) touches(where string, args ...any) ([]ledger.Touch, error) {
	var t ledger.Touch
	fields, into := joined(&t.Commit)
	gone := flag(&t.Gone)
	return collect(tx, &t, append([]any{&t.Path, gone, &t.From}, into...),
		"select t.path, t.gone, t.origin, "+fields+" from touches t join commits c on c.id = t.commit_id where "+where, args...)
}

// Touches answers ledger.Graph, as do the other questions here.
func (tx *Tx) Touches(path string) ([]ledger.Touch, error) {
	own, err := tx.touches("t.path = ?", path)
	if err != nil {
		return nil, err
	}
	below, err := tx.touches("t.path > ? and t.path < ?", path+"/", path+"0") // 0 follows / in every encoding of text
	return append(own, below...), err
}

func (tx *Tx) TouchesAny(id ledger.ID, paths []string) (bool, error) {
	rows, err := list(tx, touches, "where commit_id = ?", id.String())
	return slices.ContainsFunc(rows, func(t touched) bool {
		return t.path == "" || slices.ContainsFunc(paths, func(p string) bool { return t.path == p || strings.HasPrefix(t.path, p+"/") })
	}), err
}

func (tx *Tx) Broad() ([]ledger.Commit, error) {
	broad, err := tx.touches("t.path = ''")
	out := make([]ledger.Commit, len(broad))
	for i, t := range broad {
		out[i] = t.Commit
	}
	return out, err
}

// pick says that a commit brings what another did.
type pick struct{ commit, origin ledger.ID }

var picks = &table[pick]{name: "picks", since: 5, follows: byCommit, bind: func(p *pick) []column {
	return []column{key("commit_id", id(&p.commit)), col("origin", id(&p.origin))}
}}

// AddPick notes that a commit brings what another did.
func (tx *Tx) AddPick(commit, origin ledger.ID) error {
	return insert(tx, picks, pick{commit, origin})
}

func (tx *Tx) Picks() (map[ledger.ID]ledger.ID, error) {
	rows, err := list(tx, picks, "")
	out := make(map[ledger.ID]ledger.ID, len(rows))
	for _, p := range rows {
		out[p.commit] = p.origin
	}
	return out, err
}

// deed names what a commit did.
type deed struct {
	commit ledger.ID
	name   string
}

var deeds = &table[deed]{name: "deeds", since: 5, follows: byCommit, bind: func(d *deed) []column {
	return []column{key("commit_id", id(&d.commit)), col("deed", text(&d.name))}
}, indexes: []index{{name: "deeds_deed", on: "(deed)", since: 5}}}

// AddDeed notes what a commit did: a name of the change that commits share which change the same files from
// the same content to the same.
func (tx *Tx) AddDeed(id ledger.ID, name string) error { return insert(tx, deeds, deed{id, name}) }

func (tx *Tx) Alike() (map[ledger.ID][]ledger.Commit, error) {
	type doing struct {
		ledger.Commit
		deed string
	}
	var d doing
	fields, into := joined(&d.Commit)
	rows, err := collect(tx, &d, append([]any{&d.deed}, into...),
		"select d.deed, "+fields+` from deeds d join commits c on c.id = d.commit_id
		where d.deed in (select deed from deeds group by deed having count(*) > 1) order by d.deed, c.generation, c.time, c.id`)
	out := map[ledger.ID][]ledger.Commit{}
	for i := range rows {
		for j := i + 1; j < len(rows) && rows[j].deed == rows[i].deed; j++ {
			out[rows[i].ID] = append(out[rows[i].ID], rows[j].Commit)
			out[rows[j].ID] = append(out[rows[j].ID], rows[i].Commit)
		}
	}
	return out, err
}

var settled = &table[ledger.ID]{name: "settled", since: 5, follows: byCommit, bind: func(c *ledger.ID) []column {
	return []column{key("commit_id", id(c))}
}}

// AddSettled notes a merge in which people settled something: it is work of its own.
func (tx *Tx) AddSettled(commit ledger.ID) error { return insert(tx, settled, commit) }

func (tx *Tx) Settled() (map[ledger.ID]bool, error) {
	rows, err := list(tx, settled, "")
	out := make(map[ledger.ID]bool, len(rows))
	for _, id := range rows {
		out[id] = true
	}
	return out, err
}

var takings = &table[ledger.Taking]{name: "takings", since: 6, follows: byCommit, bind: func(t *ledger.Taking) []column {
	return []column{key("commit_id", id(&t.Commit)), key("work", id(&t.Work))}
}}

// AddTaking notes that a commit takes a work back.
func (tx *Tx) AddTaking(commit, work ledger.ID) error {
	return insert(tx, takings, ledger.Taking{Commit: commit, Work: work})
}

func (tx *Tx) Takings() ([]ledger.Taking, error) {
	return list(tx, takings, "order by commit_id, work")
}

var distincts = &table[ledger.Distinct]{name: "distincts", since: 5, follows: byMoment, bind: func(d *ledger.Distinct) []column {
	return []column{key("one", text(&d.One)), key("other", text(&d.Other)), col("person", text(&d.Person)), col("time", moment(&d.Time)),
		col("reason", text(&d.Reason))}
}}

// AddDistinct records that two elements are different things, in place of what was said before.
func (tx *Tx) AddDistinct(d ledger.Distinct) error { return put(tx, distincts, d) }

// RemoveDistinct takes it back, or gives ErrNotFound.
func (tx *Tx) RemoveDistinct(one, other string) error {
	return remove(tx, distincts, "where one = ? and other = ?", one, other)
}

func (tx *Tx) Distincts() ([]ledger.Distinct, error) {
	return list(tx, distincts, "order by one, other")
}
