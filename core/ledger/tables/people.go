package tables

import "oakenchest/core/ledger"

var workspaces = &table[ledger.Workspace]{name: "workspaces", since: 4, follows: byMoment, bind: func(w *ledger.Workspace) []column {
	return []column{key("name", text(&w.Name)), col("mark", text(&w.Mark)), col("person", text(&w.Person)),
		col("machine", text(&w.Machine)),
		col("folder", text(&w.Folder)), col("branch", text(&w.Branch)), col("base", id(&w.Base)), col("held", number(&w.Held)), col("seen",
			moment(&w.Seen))}
}}

// Workspaces answers ledger.People, as do the other questions here.
func (tx *Tx) Workspaces() ([]ledger.Workspace, error) { return list(tx, workspaces, "order by name") }

func (tx *Tx) Workspace(name string) (ledger.Workspace, error) {
	return one(tx, workspaces, "where name = ?", name)
}

// PutWorkspace records what a workspace tells of itself.
func (tx *Tx) PutWorkspace(w ledger.Workspace) error { return put(tx, workspaces, w) }

var edits = &table[ledger.Edit]{name: "edits", since: 4, follows: byMoment, bind: func(e *ledger.Edit) []column {
	return []column{key("workspace", text(&e.Workspace)), key("path", text(&e.Path)), col("state", text(&e.State)),
		col("kind", text(&e.Kind)),
		col("content", text(&e.Content)), col("merges", flag(&e.Merges)), col("contested", flag(&e.Contested)), col("since",
			moment(&e.Since)),
		col("told", text(&e.Told))}
}, indexes: []index{{name: "edits_path", on: "(path)", since: 4}}}

func (tx *Tx) Edits() ([]ledger.Edit, error) { return list(tx, edits, "order by path, workspace") }

func (tx *Tx) EditsOf(workspace string) ([]ledger.Edit, error) {
	return list(tx, edits, "where workspace = ? order by path", workspace)
}

func (tx *Tx) EditsAt(path string) ([]ledger.Edit, error) {
	return list(tx, edits, "where path = ? order by workspace", path)
}

// PutEdit records that something is edited.
func (tx *Tx) PutEdit(e ledger.Edit) error { return put(tx, edits, e) }

// RemoveEdit takes the record of an edit away.
func (tx *Tx) RemoveEdit(workspace, path string) error {
	return remove(tx, edits, "where workspace = ? and path = ?", workspace, path)
}

var notices = &table[ledger.Notice]{name: "notices", since: 4, follows: byMoment, bind: func(n *ledger.Notice) []column {
	return []column{serial("id", number(&n.ID)), col("workspace", text(&n.Workspace)), col("time", moment(&n.Time)),
		col("text", text(&n.Text))}
}, indexes: []index{{name: "notices_workspace", on: "(workspace)", since: 4}}}

// AddNotice leaves a sentence for a workspace.
func (tx *Tx) AddNotice(n ledger.Notice) error { return insert(tx, notices, n) }

func (tx *Tx) Notices(workspace string) ([]ledger.Notice, error) {
	return list(tx, notices, "where workspace = ? order by id", workspace)
}

// RemoveNotices takes the sentences for a workspace away, up to one.
func (tx *Tx) RemoveNotices(workspace string, upTo int64) error {
	return remove(tx, notices, "where workspace = ? and id <= ?", workspace, upTo)
}

var parked = &table[ledger.Parked]{name: "parked", since: 4, follows: byMoment, bind: func(p *ledger.Parked) []column {
	return []column{key("person", text(&p.Person)), key("name", text(&p.Name)), col("workspace", text(&p.Workspace)),
		col("branch", text(&p.Branch)),
		col("base", id(&p.Base)), col("tree", text(&p.Tree)), col("time", moment(&p.Time)), col("note", text(&p.Note)), col("shared",
			flag(&p.Shared)),
		col("paths", text(&p.Paths))}
}}

func (tx *Tx) AllParked() ([]ledger.Parked, error) { return list(tx, parked, "order by person, name") }

func (tx *Tx) Parked(person, name string) (ledger.Parked, error) {
	return one(tx, parked, "where person = ? and name = ?", person, name)
}

// AddParked records work that is set aside; ErrTaken when the person has used the name.
func (tx *Tx) AddParked(p ledger.Parked) error { return insert(tx, parked, p) }

// RemoveParked takes the record away.
func (tx *Tx) RemoveParked(person, name string) error {
	return remove(tx, parked, "where person = ? and name = ?", person, name)
}

var reviews = &table[ledger.Review]{name: "reviews", since: 4, follows: byMoment, bind: func(r *ledger.Review) []column {
	return []column{serial("number", number(&r.Number)), col("title", text(&r.Title)), col("text", text(&r.Text)),
		col("item", text(&r.Item)),
		col("source", text(&r.Source)), col("target", text(&r.Target)), col("author", text(&r.Author)), col("workspace",
			text(&r.Workspace)),
		col("opened", moment(&r.Opened)), col("state", text(&r.State)), col("closer", text(&r.Closer)), col("closed", moment(&r.Closed)),
		col("outcome", id(&r.Outcome))}
}}

// AddReview records a review and gives its number.
func (tx *Tx) AddReview(r ledger.Review) (number int64, err error) {
	return insertCounted(tx, reviews, r)
}

func (tx *Tx) Review(number int64) (ledger.Review, error) {
	return one(tx, reviews, "where number = ?", number)
}

func (tx *Tx) Reviews() ([]ledger.Review, error) { return list(tx, reviews, "order by number desc") }

// CloseReview writes how a review ended; ErrNotFound when it is not open.
func (tx *Tx) CloseReview(r ledger.Review) error {
	return rewrite(tx, reviews, r, "state = ?", string(ledger.ReviewOpen))
}

var remarks = &table[ledger.Remark]{name: "remarks", since: 4, follows: byMoment, bind: func(r *ledger.Remark) []column {
	return []column{serial("id", number(&r.ID)), col("review", number(&r.Review)), col("kind", text(&r.Kind)),
		col("address", text(&r.Address)),
		col("tip", id(&r.Tip)), col("author", text(&r.Author)), col("time", moment(&r.Time)), col("text", text(&r.Text))}
}, indexes: []index{{name: "remarks_review", on: "(review)", since: 4}}}

// AddRemark records what somebody said in a review.
func (tx *Tx) AddRemark(r ledger.Remark) error { return insert(tx, remarks, r) }

func (tx *Tx) Remarks(review int64) ([]ledger.Remark, error) {
	return list(tx, remarks, "where review = ? order by id", review)
}
