package access

import (
	"context"
	"database/sql"
	"time"
)

// Agreed is something that a project may do at the server, because an administrator said so.
type Agreed struct {
	// Wish is the digest of what it is (core/trust), Says what it is for people.
	Wish string    `json:"wish"`
	Says string    `json:"says"`
	By   string    `json:"by"`
	Time time.Time `json:"time"`
}

// Agreements gives what a project, by its id, may do.
func (b *Book) Agreements(ctx context.Context, project string) ([]Agreed, error) {
	rs, err := b.db.QueryContext(ctx, "select wish, says, made_by, made from agreed where project = ? order by says", project)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []Agreed
	for rs.Next() {
		var a Agreed
		var ms int64
		if err := rs.Scan(&a.Wish, &a.Says, &a.By, &ms); err != nil {
			return nil, err
		}
		a.Time = timeOf(ms)
		out = append(out, a)
	}
	return out, rs.Err()
}

// Agree notes that an administrator agrees to what a project wants.
func (b *Book) Agree(ctx context.Context, project, shown string, wishes []Agreed) error {
	return b.update(ctx, func(tx *sql.Tx) error {
		for _, w := range wishes {
			if _, err := tx.ExecContext(ctx, `insert into agreed (project, wish, says, made, made_by) values (?, ?, ?, ?, ?)
				on conflict do nothing`, project, w.Wish, w.Says, b.now().UnixMilli(), w.By); err != nil {
				return err
			}
			if err := b.note(ctx, tx, "agreed", w.By, shown+": "+w.Says, ""); err != nil {
				return err
			}
		}
		return nil
	})
}

// Disagree takes back all that a project may do, and gives how much it was.
func (b *Book) Disagree(ctx context.Context, project, shown, by string) (n int64, err error) {
	err = b.update(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "delete from agreed where project = ?", project)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return b.note(ctx, tx, "agreed no more", by, shown, "")
	})
	return n, err
}

// Key is a secret that a target needs: what ${NAME} in it stands for. It counts for the target just as that is written.
type Key struct {
	Target, Name string
	// Value is empty where keys are listed.
	Value string
	By    string
	Time  time.Time
}

// Keep keeps the keys of a project's targets, in place of those before.
func (b *Book) Keep(ctx context.Context, project, shown, by string, keys []Key) error {
	return b.update(ctx, func(tx *sql.Tx) error {
		for _, k := range keys {
			if _, err := tx.ExecContext(ctx, `insert into keys (project, target, name, value, made, made_by) values (?, ?, ?, ?, ?, ?)
				on conflict do update set value = excluded.value, made = excluded.made, made_by = excluded.made_by`, project, k.Target,
				k.Name, k.Value, b.now().UnixMilli(), by); err != nil {
				return err
			}
			if err := b.note(ctx, tx, "target secret", by, shown+": "+k.Name, ""); err != nil {
				return err
			}
		}
		return nil
	})
}

// Drop forgets the keys of some targets of a project, and gives how many they were.
func (b *Book) Drop(ctx context.Context, project, shown, by string, targets []string) (n int64, err error) {
	err = b.update(ctx, func(tx *sql.Tx) error {
		for _, t := range targets {
			res, err := tx.ExecContext(ctx, "delete from keys where project = ? and target = ?", project, t)
			if err != nil {
				return err
			}
			m, err := res.RowsAffected()
			if err != nil {
				return err
			}
			n += m
		}
		if n == 0 {
			return nil
		}
		return b.note(ctx, tx, "target secret forgotten", by, shown, "")
	})
	return n, err
}

// Keys lists which keys are there for a project, without their values.
func (b *Book) Keys(ctx context.Context, project string) (out []Key, err error) {
	rs, err := b.db.QueryContext(ctx, "select target, name, made_by, made from keys where project = ? order by target, name", project)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	for rs.Next() {
		var k Key
		var ms int64
		if err := rs.Scan(&k.Target, &k.Name, &k.By, &ms); err != nil {
			return nil, err
		}
		k.Time = timeOf(ms)
		out = append(out, k)
	}
	return out, rs.Err()
}

// Key gives the value of a name for a target of a project; empty and false where none was given.
func (b *Book) Key(ctx context.Context, project, target, name string) (value string, ok bool) {
	err := b.db.QueryRowContext(ctx, "select value from keys where project = ? and target = ? and name = ?", project, target, name).Scan(&value)
	return value, err == nil
}
