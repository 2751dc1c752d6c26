package ledger

import "time"

// Workspace is somebody's copy of the project, as it last told of itself.
type Workspace struct {
	Name string
	// Mark tells two workspaces of one name apart.
	Mark    string
	Person  string
	Machine string
	Folder  string
	Branch  string
	// Base is the commit that its files were brought from; zero before the first.
	Base ID
	// Held counts its commits that are not published yet.
	Held int
	// Seen is when it gave its last sign of life.
	Seen time.Time
}

// Edit is an artifact that is edited in a workspace and not committed.
type Edit struct {
	Workspace string
	Path      string
	// State is a word: new, edited, gone, moved.
	State string
	Kind  string
	// Content is the digest of what is there, in hexadecimal digits; empty for nothing.
	Content string
	// Merges says that the kind can be merged.
	Merges bool
	// Contested says that it is edited though somebody else holds its lock.
	Contested bool
	Since     time.Time
	// Told is what was changed, element by element, as JSON.
	Told string
}

// Notice is a sentence for whoever works in a workspace next.
type Notice struct {
	ID        int64
	Workspace string
	Time      time.Time
	Text      string
}

func scanWorkspace(scan func(...any) error) (Workspace, error) {
	var w Workspace
	var base string
	var seen int64
	if err := scan(&w.Name, &w.Mark, &w.Person, &w.Machine, &w.Folder, &w.Branch, &base, &w.Held, &seen); err != nil {
		return w, err
	}
	w.Seen = time.UnixMilli(seen).UTC()
	var err error
	w.Base, err = parseOptional(base)
	return w, err
}

const workspaceColumns = "select name, mark, person, machine, folder, branch, base, held, seen from workspaces"

// Workspaces gives all workspaces by name.
func (tx *Tx) Workspaces() ([]Workspace, error) {
	return rows(tx, scanWorkspace, workspaceColumns+" order by name")
}

// Workspace gives one workspace, or ErrNotFound.
func (tx *Tx) Workspace(name string) (Workspace, error) {
	w, err := scanWorkspace(tx.tx.QueryRowContext(tx.ctx, workspaceColumns+" where name = ?", name).Scan)
	return w, one(err)
}

// PutWorkspace records what a workspace tells of itself.
func (tx *Tx) PutWorkspace(w Workspace) error {
	return tx.put("workspaces", w.Name, w.Mark, w.Person, w.Machine, w.Folder, w.Branch, optional(w.Base), w.Held, w.Seen.UnixMilli())
}

func scanEdit(scan func(...any) error) (Edit, error) {
	var e Edit
	var since int64
	err := scan(&e.Workspace, &e.Path, &e.State, &e.Kind, &e.Content, &e.Merges, &e.Contested, &since, &e.Told)
	e.Since = time.UnixMilli(since).UTC()
	return e, err
}

const editColumns = "select workspace, path, state, kind, content, merges, contested, since, told from edits"

// Edits gives everything that is edited anywhere, by path and workspace.
func (tx *Tx) Edits() ([]Edit, error) {
	return rows(tx, scanEdit, editColumns+" order by path, workspace")
}

// EditsOf gives what is edited in a workspace, by path.
func (tx *Tx) EditsOf(workspace string) ([]Edit, error) {
	return rows(tx, scanEdit, editColumns+" where workspace = ? order by path", workspace)
}

// EditsAt gives the edits of a path, by workspace.
func (tx *Tx) EditsAt(path string) ([]Edit, error) {
	return rows(tx, scanEdit, editColumns+" where path = ? order by workspace", path)
}

// PutEdit records that something is edited.
func (tx *Tx) PutEdit(e Edit) error {
	return tx.put("edits", e.Workspace, e.Path, e.State, e.Kind, e.Content, flag(e.Merges), flag(e.Contested), e.Since.UnixMilli(), e.Told)
}

// RemoveEdit takes the record of an edit away.
func (tx *Tx) RemoveEdit(workspace, path string) error {
	return tx.remove("delete from edits where workspace = ? and path = ?", workspace, path)
}

// AddNotice leaves a sentence for a workspace.
func (tx *Tx) AddNotice(n Notice) error {
	return tx.insert("notices", n.Workspace, n.Time.UnixMilli(), n.Text)
}

// Notices gives the sentences for a workspace, the oldest first.
func (tx *Tx) Notices(workspace string) ([]Notice, error) {
	return rows(tx, func(scan func(...any) error) (Notice, error) {
		var n Notice
		var ms int64
		err := scan(&n.ID, &n.Workspace, &ms, &n.Text)
		n.Time = time.UnixMilli(ms).UTC()
		return n, err
	}, "select id, workspace, time, text from notices where workspace = ? order by id", workspace)
}

// RemoveNotices takes the sentences for a workspace away, up to one.
func (tx *Tx) RemoveNotices(workspace string, upTo int64) error {
	return tx.remove("delete from notices where workspace = ? and id <= ?", workspace, upTo)
}
