package tables

import (
	"errors"
	"strings"

	"oakenchest/core/ledger"
)

func bindCommit(c *ledger.Commit) []column {
	return []column{
		key("id", id(&c.ID)), col("branch", text(&c.Branch)), col("depth", number(&c.Depth)), col("generation", number(&c.Generation)),
		col("parent", parent(c, 0)), col("parent2", parent(c, 1)), col("tree", digest(&c.Tree)),
		col("author", text(&c.Author)), col("workspace", text(&c.Workspace)), col("time", moment(&c.Time)),
		col("message", text(&c.Message)), col("item", text(&c.Item)),
	}
}

// commits have no sums: their ids say what they are.
var commits = &table[ledger.Commit]{name: "commits", since: 1, unguarded: true, follows: byMoment, bind: bindCommit, indexes: []index{
	{name: "commits_time", on: "(time desc)", since: 1},
	{name: "commits_branch", on: "(branch, depth)", unique: true, since: 2},
	{name: "commits_merges", on: "(branch, depth) where parent2 is not null", since: 2},
	{name: "commits_order", on: "(generation desc, time desc, id)", since: 2},
}}

// AddCommit records a sealed commit; recording it again changes nothing.
func (tx *Tx) AddCommit(c ledger.Commit) error {
	row, err := commits.row(tx, c)
	if err == nil {
		_, err = tx.exec(commits.insertion()+" on conflict (id) do nothing", row...)
	}
	return err
}

// Commit answers ledger.Graph, as do the other questions here.
func (tx *Tx) Commit(id ledger.ID) (ledger.Commit, error) {
	return one(tx, commits, "where id = ?", id.String())
}

func (tx *Tx) CommitAt(branch string, depth int) (ledger.Commit, error) {
	return one(tx, commits, "where branch = ? and depth = ?", branch, depth)
}

func (tx *Tx) FirstOf(branch string) (ledger.Commit, error) {
	return one(tx, commits, "where branch = ? order by depth limit 1", branch)
}

func (tx *Tx) CommitsByPrefix(prefix string) ([]ledger.Commit, error) {
	if strings.ContainsAny(prefix, "%_*?[") {
		return nil, nil
	}
	return list(tx, commits, "where id >= ? and id < ? order by id limit 2", prefix, prefix+"~")
}

func (tx *Tx) Commits() ([]ledger.Commit, error) {
	return list(tx, commits, "order by generation, time, id")
}

func (tx *Tx) CommitsBetween(branch string, above, upTo int) ([]ledger.Commit, error) {
	return list(tx, commits, "where branch = ? and depth > ? and depth <= ? order by depth", branch, above, upTo)
}

func (tx *Tx) CommitsBefore(last ledger.Commit, limit int) ([]ledger.Commit, error) {
	const order = " order by generation desc, time desc, id limit ?"
	if last.ID == (ledger.ID{}) {
		return list(tx, commits, order, limit)
	}
	ms := last.Time.UnixMilli()
	return list(tx, commits, "where generation <= ? and (generation < ? or time < ? or time = ? and id > ?)"+order,
		last.Generation, last.Generation, ms, ms, last.ID.String(), limit)
}

// joined gives the columns of a commit in a query that calls its table c.
func joined(c *ledger.Commit) (fields string, into []any) {
	columns := bindCommit(c)
	return names(columns, "c."), targets(columns)
}

// Extent asks for each branch once, and again where it turns out to be reached from higher up.
func (tx *Tx) Extent(of ledger.Commit) (ledger.Extent, error) {
	type end struct {
		branch string
		depth  int
	}
	x := ledger.Extent{}
	waiting := []end{{of.Branch, of.Depth}}
	for len(waiting) > 0 {
		e := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		from := x[e.branch]
		if e.depth <= from {
			continue
		}
		x[e.branch] = e.depth
		var into end
		merged, err := collect(tx, &into, []any{&into.branch, &into.depth},
			`select p.branch, max(p.depth) from commits c join commits p on p.id = c.parent2
			where c.branch = ? and c.depth > ? and c.depth <= ? and c.parent2 is not null group by p.branch`, e.branch, from, e.depth)
		if err != nil {
			return nil, err
		}
		waiting = append(waiting, merged...)
		if from > 0 {
			continue
		}
		var origin end
		err = missing(tx.row(`select p.branch, p.depth from commits c join commits p on p.id = c.parent
			where c.branch = ? order by c.depth limit 1`, e.branch).Scan(&origin.branch, &origin.depth))
		if errors.Is(err, ledger.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		waiting = append(waiting, origin)
	}
	return x, nil
}

func (tx *Tx) Joints() ([]ledger.Joint, error) {
	var j ledger.Joint
	into := []any{&j.Branch, &j.Depth, &j.OtherBranch, &j.OtherDepth}
	merges, err := collect(tx, &j, into, `select c.branch, c.depth, p.branch, p.depth from commits c join commits p on p.id = c.parent2
		where c.parent2 is not null order by c.branch, c.depth`)
	if err != nil {
		return nil, err
	}
	begins, err := collect(tx, &j, into,
		`select c.branch, c.depth, p.branch, p.depth from (select branch, min(depth) as depth from commits group by branch) b
		join commits c on c.branch = b.branch and c.depth = b.depth join commits p on p.id = c.parent where p.branch <> c.branch`)
	return append(merges, begins...), err
}
