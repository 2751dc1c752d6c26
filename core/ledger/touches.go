package ledger

import (
	"database/sql"
	"errors"
	"strings"
)

// Touch says that a commit changed a path, against all commits that it stands on.
type Touch struct {
	Commit Commit
	Path   string
	// Gone says that the path is no more; From is what it was called before, when
	// the commit moved it.
	Gone bool
	From string
}

// Commits that touch more than these many paths are noted as broad ones instead,
// by the empty path: whoever asks for a path looks into their trees.
const MaxTouches = 2000

// AddTouches notes what a commit touched; nil notes it as broad.
func (tx *Tx) AddTouches(id ID, touches []Touch) error {
	if touches == nil {
		touches = []Touch{{}}
	}
	insert, err := tx.tx.PrepareContext(tx.ctx, insertion("touches")+" on conflict do nothing")
	if err != nil {
		return err
	}
	defer insert.Close()
	for _, t := range touches {
		gone := 0
		if t.Gone {
			gone = 1
		}
		fields := []any{t.Path, id.String(), gone, t.From}
		if _, err := insert.ExecContext(tx.ctx, append(fields, rowSum(fields))...); err != nil {
			return err
		}
	}
	return nil
}

const touchColumns = "t.path, t.gone, t.origin, c.id, c.branch, c.depth, c.generation, c.parent, c.parent2, c.tree, c.author, c.workspace, c.time, c.message, c.item from touches t join commits c on c.id = t.commit_id"

func scanTouch(scan func(...any) error) (Touch, error) {
	var t Touch
	var err error
	t.Commit, err = scanCommit(func(fields ...any) error {
		return scan(append([]any{&t.Path, &t.Gone, &t.From}, fields...)...)
	})
	return t, err
}

// Touches gives what commits did to a path, or to paths below it, in any order.
func (tx *Tx) Touches(path string) ([]Touch, error) {
	own, err := rows(tx, scanTouch, "select "+touchColumns+" where t.path = ?", path)
	if err != nil {
		return nil, err
	}
	below, err := rows(tx, scanTouch, "select "+touchColumns+" where t.path > ? and t.path < ?", path+"/", path+"0") // 0 follows / in every encoding of text
	return append(own, below...), err
}

// TouchesAny reports whether a commit did something to one of some paths, or below it; of a
// broad one that is not known, and counts as yes.
func (tx *Tx) TouchesAny(id ID, paths []string) (bool, error) {
	touched, err := rows(tx, func(scan func(...any) error) (p string, err error) { return p, scan(&p) }, "select path from touches where commit_id = ?", id.String())
	for _, t := range touched {
		for _, p := range paths {
			if t == "" || t == p || strings.HasPrefix(t, p+"/") {
				return true, err
			}
		}
	}
	return false, err
}

// Broad gives the commits that are noted as broad.
func (tx *Tx) Broad() ([]Commit, error) {
	touches, err := rows(tx, scanTouch, "select "+touchColumns+" where t.path = ''")
	out := make([]Commit, len(touches))
	for i, t := range touches {
		out[i] = t.Commit
	}
	return out, err
}

// Extent says which commits one stands on, itself among them: of each branch,
// all up to a depth. That is enough because the commits of a branch stand on
// each other in a row.
type Extent map[string]int

// Holds reports whether a commit is among them.
func (x Extent) Holds(c Commit) bool { return c.Depth <= x[c.Branch] }

// Extent gives the extent of a commit.
func (tx *Tx) Extent(of Commit) (Extent, error) {
	type end struct {
		branch string
		depth  int
	}
	scan := func(scan func(...any) error) (end, error) {
		var e end
		return e, scan(&e.branch, &e.depth)
	}
	x := Extent{}
	waiting := []end{{of.Branch, of.Depth}}
	for len(waiting) > 0 {
		e := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		from := x[e.branch]
		if e.depth <= from {
			continue
		}
		x[e.branch] = e.depth
		merged, err := rows(tx, scan, `select p.branch, max(p.depth) from commits c join commits p on p.id = c.parent2
			where c.branch = ? and c.depth > ? and c.depth <= ? and c.parent2 is not null group by p.branch`, e.branch, from, e.depth)
		if err != nil {
			return nil, err
		}
		waiting = append(waiting, merged...)
		if from > 0 {
			continue
		}
		origin, err := scan(tx.tx.QueryRowContext(tx.ctx, `select p.branch, p.depth from commits c join commits p on p.id = c.parent
			where c.branch = ? order by c.depth limit 1`, e.branch).Scan)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return nil, err
		}
		waiting = append(waiting, origin)
	}
	return x, nil
}

// CommitsWithin asks for so many commits first, and for twice as many each time.
const firstPage, greatestPage = 32, 1024

// CommitsWithin visits the commits of an extent, none before one that stands on
// it, the newest first, until visit gives false.
func (tx *Tx) CommitsWithin(x Extent, visit func(Commit) (bool, error)) error {
	const columns = "select " + commitColumns + " from commits "
	page, err := rows(tx, scanCommit, columns+"order by generation desc, time desc, id limit ?", firstPage)
	for size := firstPage; err == nil && len(page) > 0; size = min(2*size, greatestPage) {
		for _, c := range page {
			if !x.Holds(c) {
				continue
			}
			if more, err := visit(c); err != nil || !more {
				return err
			}
		}
		last := page[len(page)-1]
		ms := last.Time.UnixMilli()
		page, err = rows(tx, scanCommit, columns+`where generation <= ? and (generation < ? or time < ? or time = ? and id > ?)
			order by generation desc, time desc, id limit ?`, last.Generation, last.Generation, ms, ms, last.ID.String(), size)
	}
	return err
}
