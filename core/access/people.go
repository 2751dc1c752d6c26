package access

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"oakenchest/core/fault"
)

// Person is somebody with an account.
type Person struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	// Administrator says that the person looks after people and the server.
	Administrator bool      `json:"administrator"`
	Since         time.Time `json:"since"`
	// Ended is when the account ended; zero for one that goes on. By who ended it.
	Ended time.Time `json:"ended,omitzero"`
	By    string    `json:"ended_by,omitempty"`
	// Waiting says that the person has no secret yet: an invitation gives one.
	Waiting bool     `json:"waiting,omitempty"`
	Groups  []string `json:"groups,omitempty"`
	// Seen is when a session of the person's was last used.
	Seen time.Time `json:"seen,omitzero"`
}

const personFields = `id, name, administrator, since, ended, ended_by, secret = '',
	coalesce((select max(used) from sessions where person = people.id), 0)`

type scanner interface{ Scan(...any) error }

func scanPerson(row scanner) (p Person, err error) {
	var since, ended, seen int64
	err = row.Scan(&p.ID, &p.Name, &p.Administrator, &since, &ended, &p.By, &p.Waiting, &seen)
	p.Since, p.Ended, p.Seen = timeOf(since), timeOf(ended), timeOf(seen)
	if errors.Is(err, sql.ErrNoRows) {
		err = fault.New(fault.Usage, "oaken people list lists all.", "There is nobody of that name.")
	}
	return p, err
}

// People gives all people, by name.
func (b *Book) People(ctx context.Context) ([]Person, error) {
	rs, err := b.db.QueryContext(ctx, "select "+personFields+" from people order by fold")
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []Person
	for rs.Next() {
		p, err := scanPerson(rs)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	if err := errors.Join(rs.Err(), rs.Close()); err != nil {
		return nil, err
	}
	groups, err := b.Groups(ctx)
	for i, p := range out {
		for _, g := range groups {
			if slices.Contains(g.People, p.Name) {
				out[i].Groups = append(out[i].Groups, g.Name)
			}
		}
	}
	return out, err
}

// Person gives one by name.
func (b *Book) Person(ctx context.Context, name string) (Person, error) {
	all, err := b.People(ctx)
	if err != nil {
		return Person{}, err
	}
	var names []string
	for _, p := range all {
		if fold(p.Name) == fold(name) {
			return p, nil
		}
		names = append(names, p.Name)
	}
	return Person{}, fault.New(fault.Usage, "oaken people list lists all.", "There is nobody called %s.", name).Among(name, names)
}

// Founded reports whether there is an administrator who can sign in.
func (b *Book) Founded(ctx context.Context) (bool, error) {
	n := 0
	err := b.db.QueryRowContext(ctx, "select count(*) from people where administrator = 1 and ended = 0 and secret <> ''").Scan(&n)
	return n > 0, err
}

// Add makes an account without a secret; it gives the one that is there already, when it has none either.
func (b *Book) Add(ctx context.Context, name string, administrator bool, by string) error {
	if err := CheckName("person", name); err != nil {
		return err
	}
	return b.update(ctx, func(tx *sql.Tx) error {
		if err := addPerson(ctx, tx, name, administrator, b.now()); err != nil {
			return err
		}
		return b.note(ctx, tx, "added", by, name, "")
	})
}

func addPerson(ctx context.Context, tx *sql.Tx, name string, administrator bool, now time.Time) error {
	n := 0
	if err := tx.QueryRowContext(ctx, "select count(*) from people where fold = ?", fold(name)).Scan(&n); err != nil {
		return err
	}
	if n > 0 {
		return fault.New(fault.Refused, "oaken people show "+fault.Word(name)+" tells who that is.", "There is somebody called %s.", name)
	}
	_, err := tx.ExecContext(ctx, `insert into people (id, name, fold, secret, administrator, since, ended, ended_by)
		values (?, ?, ?, '', ?, ?, 0, '')`, strings.ToLower(rand.Text()), name, fold(name), administrator, now.UnixMilli())
	return err
}

// SetAdministrator says whether a person looks after people and the server. One administrator stays.
func (b *Book) SetAdministrator(ctx context.Context, name string, is bool, by string) error {
	p, err := b.Person(ctx, name)
	if err != nil {
		return err
	}
	return b.update(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "update people set administrator = ? where id = ?", is, p.ID); err != nil {
			return err
		}
		if err := someAdministrator(ctx, tx); err != nil {
			return err
		}
		return b.note(ctx, tx, map[bool]string{true: "made administrator", false: "no administrator any more"}[is], by, p.Name, "")
	})
}

// someAdministrator refuses to leave a server without an administrator.
func someAdministrator(ctx context.Context, tx *sql.Tx) error {
	n := 0
	err := tx.QueryRowContext(ctx, "select count(*) from people where administrator = 1 and ended = 0 and secret <> ''").Scan(&n)
	if err == nil && n == 0 {
		err = fault.New(fault.Refused, "Make somebody else an administrator first: oaken people add NAME --administrator.",
			"That is the last administrator.")
	}
	return err
}

// End ends an account: every session and token of it at once.
func (b *Book) End(ctx context.Context, name, by string) (Person, error) {
	p, err := b.Person(ctx, name)
	if err != nil {
		return p, err
	}
	if !p.Ended.IsZero() {
		return p, fault.New(fault.Refused, "Nothing is left to do.", "%s's account ended before.", p.Name)
	}
	err = b.update(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "update people set ended = ?, ended_by = ?, secret = '' where id = ?", b.now().UnixMilli(), by,
			p.ID); err != nil {
			return err
		}
		if p.Administrator && !p.Waiting {
			if err := someAdministrator(ctx, tx); err != nil {
				return err
			}
		}
		for _, s := range []string{"delete from sessions where person = ?", "delete from members where person = ?"} {
			if _, err := tx.ExecContext(ctx, s, p.ID); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "delete from invitations where name = ?", p.Name); err != nil {
			return err
		}
		return b.note(ctx, tx, "ended", by, p.Name, "")
	})
	return p, err
}

// Invite makes an invitation that one person can use once: for a name, which has an account or gets one then; or for
// whatever name that person chooses, when it is empty.
func (b *Book) Invite(ctx context.Context, name string, administrator bool, lasts time.Duration, by string) (invitation string,
	ends time.Time, err error) {
	if name != "" {
		if err := CheckName("person", name); err != nil {
			return "", ends, err
		}
		if p, err := b.Person(ctx, name); err == nil {
			name = p.Name
		}
	}
	invitation, ends = newToken("invitation"), b.now().Add(lasts)
	err = b.update(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "delete from invitations where ends < ?", b.now().UnixMilli()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "insert into invitations (digest, name, administrator, made, ends, made_by) values (?, ?, ?, ?, ?, ?)",
			digestOf(invitation), name, administrator, b.now().UnixMilli(), ends.UnixMilli(), by)
		if err != nil {
			return err
		}
		return b.note(ctx, tx, "invited", by, name, "")
	})
	return invitation, ends, err
}

// invitationOf gives what an invitation says.
func (b *Book) invitationOf(ctx context.Context, tx *sql.Tx, invitation string) (name string, administrator bool, err error) {
	var ends int64
	err = tx.QueryRowContext(ctx, "select name, administrator, ends from invitations where digest = ?", digestOf(invitation)).Scan(&name,
		&administrator, &ends)
	if err == nil && ends < b.now().UnixMilli() || errors.Is(err, sql.ErrNoRows) {
		err = fault.New(fault.Refused, "Ask whoever invited you for another one.", "The invitation was used before, or has ended.")
	}
	return name, administrator, err
}

// Invited gives the name that an invitation is for; empty for whoever uses it.
func (b *Book) Invited(ctx context.Context, invitation, from string) (name string, err error) {
	if err := b.slowed(ctx, "from "+from); err != nil {
		return "", err
	}
	err = b.update(ctx, func(tx *sql.Tx) (err error) { name, _, err = b.invitationOf(ctx, tx, invitation); return err })
	if fault.CodeOf(err) == fault.Refused {
		b.guesses.failed(b.now(), "from "+from)
	}
	return name, err
}

// Join uses an invitation: the person has the secret from now on, and every session from before ends.
func (b *Book) Join(ctx context.Context, invitation, name, secret, from string) (p Person, err error) {
	if err := b.slowed(ctx, "from "+from); err != nil {
		return p, err
	}
	if err := CheckSecret(name, secret); err != nil {
		return p, err
	}
	hash := b.hash(secret)
	err = b.update(ctx, func(tx *sql.Tx) error {
		guest, administrator, err := b.invitationOf(ctx, tx, invitation)
		if err != nil {
			return err
		}
		if guest != "" && name != "" && fold(name) != fold(guest) {
			return fault.New(fault.Refused, "Leave --name out.", "The invitation is for %s.", guest)
		}
		if guest != "" {
			name = guest
		}
		if err := CheckName("person", name); err != nil {
			return err
		}
		row := tx.QueryRowContext(ctx, "select "+personFields+" from people where fold = ?", fold(name))
		is, known := scanPerson(row)
		switch {
		case known == nil && guest == "":
			return fault.New(fault.Refused, "Choose another name with --name.", "There is somebody called %s.", name)
		case known == nil && !is.Ended.IsZero():
			return fault.New(fault.Refused, "Ask whoever invited you for another one.", "The account of %s has ended.", name)
		case known != nil:
			if err := addPerson(ctx, tx, name, administrator, b.now()); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "update people set secret = ?, administrator = max(administrator, ?) where fold = ?", hash,
			administrator, fold(name)); err != nil {
			return err
		}
		if p, err = scanPerson(tx.QueryRowContext(ctx, "select "+personFields+" from people where fold = ?", fold(name))); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "delete from invitations where digest = ?", digestOf(invitation)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "delete from sessions where person = ?", p.ID); err != nil {
			return err
		}
		return b.note(ctx, tx, "joined", p.Name, "", from)
	})
	if fault.CodeOf(err) == fault.Refused {
		b.guesses.failed(b.now(), "from "+from)
	}
	return p, err
}
