package tables

import "oakenchest/core/ledger"

// Promotions that are to come, and releases that are planned.

var planned = &table[ledger.Planned]{name: "planned", since: 8, follows: byMoment, bind: func(p *ledger.Planned) []column {
	return []column{serial("id", number(&p.ID)), col("origin", text(&p.Origin)), col("target", text(&p.Target)),
		col("commit_id", id(&p.Commit)),
		col("lane", text(&p.Lane)), col("item", text(&p.Item)), col("items", lines(&p.Items)),
		col("paths", lines(&p.Paths)), col("override", lines(&p.Override)),
		col("reason", text(&p.Reason)), col("options", lines(&p.Options)), col("person", text(&p.Person)),
		col("workspace", text(&p.Workspace)), col("asked", moment(&p.Asked)), col("due", moment(&p.Due)), col("ended", moment(&p.Ended)),
		col("outcome", text(&p.Outcome)), col("ended_by", text(&p.By)), col("said", text(&p.Said))}
}}

// AddPlanned records a promotion that is to come, and gives its number.
func (tx *Tx) AddPlanned(p ledger.Planned) (int64, error) { return insertCounted(tx, planned, p) }

// EndPlanned records what became of one; ErrNotFound when it is none that is to come.
func (tx *Tx) EndPlanned(p ledger.Planned) error { return rewrite(tx, planned, p, "ended = 0") }

// Planned answers ledger.Stages.
func (tx *Tx) Planned() ([]ledger.Planned, error) { return list(tx, planned, "order by due, id") }

var bundles = &table[ledger.Bundle]{name: "bundles", since: 8, follows: byMoment, bind: func(b *ledger.Bundle) []column {
	return []column{serial("id", number(&b.ID)), col("name", text(&b.Name)), col("items", lines(&b.Items)), col("text", text(&b.Text)),
		col("person", text(&b.Person)), col("time", moment(&b.Time)), col("ended", moment(&b.Ended)), col("outcome", text(&b.Outcome))}
}, indexes: []index{{name: "bundles_planned", on: "(name) where ended = 0", unique: true, since: 8}}}

// AddBundle records a planned release, and gives its number; ErrTaken when one of its name is planned already.
func (tx *Tx) AddBundle(b ledger.Bundle) (int64, error) { return insertCounted(tx, bundles, b) }

// PutBundle records it anew; ErrNotFound when it is planned no more.
func (tx *Tx) PutBundle(b ledger.Bundle) error { return rewrite(tx, bundles, b, "ended = 0") }

// Bundles answers ledger.Stages.
func (tx *Tx) Bundles() ([]ledger.Bundle, error) { return list(tx, bundles, "order by id") }
