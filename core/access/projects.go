package access

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"strings"
	"time"

	"oakenchest/core/fault"
)

// Project is one that the server keeps.
type Project struct {
	Name string `json:"name"`
	// ID names its folder; it never changes.
	ID   string    `json:"-"`
	Made time.Time `json:"made"`
	By   string    `json:"by"`
}

// reserved are names of projects that addresses of the server's own have.
var reserved = []string{"api", "health", "ready", "metrics", "join"}

// NewProjectID makes a name for a project's folder.
func NewProjectID() string { return strings.ToLower(rand.Text()) }

// CheckProject refuses what is no name for a project.
func CheckProject(name string) error {
	bad := name == "" || len(name) > 60 || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-_.") != "" ||
		strings.HasPrefix(name, ".") || strings.HasPrefix(name, "-")
	for _, r := range reserved {
		bad = bad || name == r
	}
	if bad {
		return fault.New(fault.Usage, "Give one of small letters, digits and hyphens, such as brindle-bay.", "%q is no name for a project.", name)
	}
	return nil
}

// AddProject records a project.
func (b *Book) AddProject(ctx context.Context, p Project) error {
	if err := CheckProject(p.Name); err != nil {
		return err
	}
	return b.update(ctx, func(tx *sql.Tx) error {
		n := 0
		if err := tx.QueryRowContext(ctx, "select count(*) from projects where name = ?", p.Name).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return fault.New(fault.Refused, "Choose another name, or open it: oaken open.", "There is a project %s already.", p.Name)
		}
		if _, err := tx.ExecContext(ctx, "insert into projects (name, id, made, made_by) values (?, ?, ?, ?)", p.Name, p.ID,
			b.now().UnixMilli(), p.By); err != nil {
			return err
		}
		return b.note(ctx, tx, "project", p.By, p.Name, "")
	})
}

// Projects gives all, by name.
func (b *Book) Projects(ctx context.Context) ([]Project, error) {
	rs, err := b.db.QueryContext(ctx, "select name, id, made, made_by from projects order by name")
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []Project
	for rs.Next() {
		var p Project
		var ms int64
		if err := rs.Scan(&p.Name, &p.ID, &ms, &p.By); err != nil {
			return nil, err
		}
		p.Made = timeOf(ms)
		out = append(out, p)
	}
	return out, rs.Err()
}

// Project gives one by name.
func (b *Book) Project(ctx context.Context, name string) (p Project, err error) {
	p, at, ok := b.known.project(name)
	if ok {
		return p, nil
	}
	var ms int64
	err = b.db.QueryRowContext(ctx, "select name, id, made, made_by from projects where name = ?", name).Scan(&p.Name, &p.ID, &ms, &p.By)
	p.Made = timeOf(ms)
	if errors.Is(err, sql.ErrNoRows) {
		err = fault.New(fault.Unreachable, "Check the address; oaken begin --chest ADDRESS puts a new one there.",
			"The server has no project %s, or none that you may see.", name)
	}
	if err == nil {
		b.known.keepProject(p, at)
	}
	return p, err
}

// Group is people under one name.
type Group struct {
	Name   string   `json:"name"`
	People []string `json:"people"`
}

// Groups gives all, by name.
func (b *Book) Groups(ctx context.Context) ([]Group, error) {
	rs, err := b.db.QueryContext(ctx, `select g.name, coalesce(p.name, '') from groups g left join members m on m.name = g.name
		left join people p on p.id = m.person order by g.name, p.fold`)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []Group
	for rs.Next() {
		var name, person string
		if err := rs.Scan(&name, &person); err != nil {
			return nil, err
		}
		if n := len(out); n == 0 || out[n-1].Name != name {
			out = append(out, Group{Name: name, People: []string{}})
		}
		if g := &out[len(out)-1]; person != "" {
			g.People = append(g.People, person)
		}
	}
	return out, rs.Err()
}

// PutInGroup puts people into a group, which is made when it is missing.
func (b *Book) PutInGroup(ctx context.Context, group string, people []string, by string) error {
	return b.group(ctx, group, people, by, true)
}

// TakeFromGroup takes people out of a group; without people the group itself goes.
func (b *Book) TakeFromGroup(ctx context.Context, group string, people []string, by string) error {
	return b.group(ctx, group, people, by, false)
}

func (b *Book) group(ctx context.Context, group string, people []string, by string, in bool) error {
	if err := CheckName("group", group); err != nil {
		return err
	}
	ids := make([]string, len(people))
	for i, name := range people {
		p, err := b.Person(ctx, name)
		if err != nil {
			return err
		}
		if ids[i] = p.ID; in && !p.Ended.IsZero() {
			return fault.New(fault.Refused, "Leave that name out.", "The account of %s has ended.", p.Name)
		}
	}
	return b.update(ctx, func(tx *sql.Tx) error {
		n := 0
		if err := tx.QueryRowContext(ctx, "select count(*) from groups where name = ?", group).Scan(&n); err != nil {
			return err
		}
		switch {
		case n == 0 && !in:
			return fault.New(fault.Usage, "oaken people group lists all.", "There is no group %s.", group)
		case n == 0:
			if _, err := tx.ExecContext(ctx, "insert into groups (name, made, made_by) values (?, ?, ?)", group, b.now().UnixMilli(),
				by); err != nil {
				return err
			}
		case !in && len(people) == 0:
			for _, s := range []string{"delete from members where name = ?", "delete from groups where name = ?"} {
				if _, err := tx.ExecContext(ctx, s, group); err != nil {
					return err
				}
			}
		}
		statement := "delete from members where name = ? and person = ?"
		if in {
			statement = "insert into members (name, person) values (?, ?) on conflict do nothing"
		}
		for _, id := range ids {
			if _, err := tx.ExecContext(ctx, statement, group, id); err != nil {
				return err
			}
		}
		return b.note(ctx, tx, "group", by, group+": "+strings.Join(people, ", "), "")
	})
}
