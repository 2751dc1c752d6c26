package access

import (
	"context"
	"database/sql"
	"errors"
	"sync"
	"time"

	"oakenchest/core/fault"
)

const (
	// idle is how long a session lasts without being used.
	idle = 30 * 24 * time.Hour
	// noteEvery is how often it is noted that a session is used.
	noteEvery = 10 * time.Minute
)

// ErrSignedOut: what was shown is no session, or not any more.
var ErrSignedOut = errors.New("nobody is signed in by that")

// Session is what a request is made in.
type Session struct {
	Person Person
	// Number names the session for people.
	Number int64
	// Purpose says what a token is for; empty of somebody who has signed in.
	Purpose string
	Machine string
	// ReadsOnly says that it may look and change nothing; Project that it is for one alone.
	ReadsOnly bool
	Project   string
	Made      time.Time
	Ends      time.Time
	Used      time.Time
}

func (b *Book) open(ctx context.Context, tx *sql.Tx, s Session, kind string) (token string, err error) {
	token = newToken(kind)
	now := b.now()
	_, err = tx.ExecContext(ctx, `insert into sessions (digest, person, purpose, machine, reads_only, project, made, ends, used, number)
		values (?, ?, ?, ?, ?, ?, ?, ?, ?, (select coalesce(max(number), 0) + 1 from sessions))`, digestOf(token), s.Person.ID, s.Purpose,
		s.Machine, s.ReadsOnly, s.Project, now.UnixMilli(), millis(s.Ends), now.UnixMilli())
	return token, err
}

// SignIn opens a session for who knows the secret of a name.
func (b *Book) SignIn(ctx context.Context, name, secret, machine, from string) (token string, p Person, err error) {
	keys := []string{"name " + fold(name), "from " + from}
	if err := b.slowed(ctx, keys...); err != nil {
		return "", p, err
	}
	hash := nobodys
	p, known := scanPerson(b.db.QueryRowContext(ctx, "select "+personFields+" from people where fold = ?", fold(name)))
	if known == nil && p.Ended.IsZero() && !p.Waiting {
		if err := b.db.QueryRowContext(ctx, "select secret from people where id = ?", p.ID).Scan(&hash); err != nil {
			return "", p, err
		}
	}
	if !b.matches(secret, hash) {
		b.guesses.failed(b.now(), keys...)
		if err := b.note(ctx, nil, "guessed", name, "", from); err != nil {
			return "", Person{}, err
		}
		return "", Person{}, fault.New(fault.Refused, "Check both; who has forgotten the secret asks an administrator for an invitation.",
			"The name or the secret is not right.")
	}
	b.guesses.succeeded(keys...)
	err = b.update(ctx, func(tx *sql.Tx) (err error) {
		if token, err = b.open(ctx, tx, Session{Person: p, Machine: machine}, "session"); err != nil {
			return err
		}
		return b.note(ctx, tx, "signed in", p.Name, machine, from)
	})
	return token, p, err
}

// Open opens a session for somebody who has just joined.
func (b *Book) Open(ctx context.Context, p Person, machine, from string) (token string, err error) {
	err = b.update(ctx, func(tx *sql.Tx) (err error) {
		if token, err = b.open(ctx, tx, Session{Person: p, Machine: machine}, "session"); err != nil {
			return err
		}
		return b.note(ctx, tx, "signed in", p.Name, machine, from)
	})
	return token, err
}

// NewToken makes a token for automation, that acts for a person until a day.
func (b *Book) NewToken(ctx context.Context, s Session, by string) (token string, err error) {
	switch {
	case s.Purpose == "":
		return "", fault.New(fault.Usage, "Say what it is for: --for \"nightly build\".", "A token has a purpose.")
	case !s.Ends.After(b.now()):
		return "", fault.New(fault.Usage, "Name a day to come: --until DAY.", "A token ends on a day to come.")
	case s.Ends.After(b.now().Add(2 * 366 * 24 * time.Hour)):
		return "", fault.New(fault.Usage, "Name an earlier day, and make another one then.", "A token lasts two years at most.")
	case !s.Person.Ended.IsZero():
		return "", fault.New(fault.Refused, "Name somebody else.", "The account of %s has ended.", s.Person.Name)
	}
	err = b.update(ctx, func(tx *sql.Tx) (err error) {
		if token, err = b.open(ctx, tx, s, "token"); err != nil {
			return err
		}
		return b.note(ctx, tx, "token", by, s.Person.Name+": "+s.Purpose, "")
	})
	return token, err
}

// Check gives the session of a token; ErrSignedOut when it is none that goes on.
func (b *Book) Check(ctx context.Context, token string) (Session, error) {
	digest, now := digestOf(token), b.now()
	s, at, ok := b.known.get(digest)
	if !ok {
		var err error
		if s, err = b.session(ctx, "digest = ?", digest); err != nil {
			return Session{}, err
		}
		b.known.keep(digest, s, at)
	}
	if !s.Person.Ended.IsZero() || !s.Ends.IsZero() && s.Ends.Before(now) || s.Purpose == "" && now.Sub(s.Used) > idle {
		return Session{}, ErrSignedOut
	}
	if now.Sub(s.Used) > noteEvery {
		if _, err := b.db.ExecContext(ctx, "update sessions set used = ? where digest = ?", now.UnixMilli(), digest); err != nil {
			return Session{}, err
		}
		b.known.forget()
	}
	return s, nil
}

// known remembers sessions and projects until anything changes in the book.
type known struct {
	mu       sync.Mutex // guards what follows
	sessions map[string]Session
	projects map[string]Project
	changes  int // how often something changed
}

// project gives a project, or at what change it was asked for.
func (k *known) project(name string) (Project, int, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	p, ok := k.projects[name]
	return p, k.changes, ok
}

// keepProject remembers a project that was read at a change, unless something has changed since.
func (k *known) keepProject(p Project, at int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if at != k.changes {
		return
	}
	if k.projects == nil || len(k.projects) > 1<<14 {
		k.projects = map[string]Project{}
	}
	k.projects[p.Name] = p
}

// get gives a session, or at what change it was asked for.
func (k *known) get(digest string) (Session, int, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	s, ok := k.sessions[digest]
	return s, k.changes, ok
}

// keep remembers a session that was read at a change, unless something has changed since.
func (k *known) keep(digest string, s Session, at int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if at != k.changes {
		return
	}
	if k.sessions == nil || len(k.sessions) > 1<<14 {
		k.sessions = map[string]Session{}
	}
	k.sessions[digest] = s
}

func (k *known) forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.sessions, k.projects, k.changes = nil, nil, k.changes+1
}

const sessionFields = "s.number, s.purpose, s.machine, s.reads_only, s.project, s.made, s.ends, s.used, p.id, p.name, p.administrator, " +
	"p.since, p.ended, p.ended_by"

func scanSession(row scanner) (s Session, err error) {
	var made, ends, used, since, ended int64
	err = row.Scan(&s.Number, &s.Purpose, &s.Machine, &s.ReadsOnly, &s.Project, &made, &ends, &used, &s.Person.ID, &s.Person.Name,
		&s.Person.Administrator, &since, &ended, &s.Person.By)
	s.Made, s.Ends, s.Used, s.Person.Since, s.Person.Ended = timeOf(made), timeOf(ends), timeOf(used), timeOf(since), timeOf(ended)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrSignedOut
	}
	return s, err
}

func (b *Book) session(ctx context.Context, where string, args ...any) (Session, error) {
	return scanSession(b.db.QueryRowContext(ctx, "select "+sessionFields+
		" from sessions s join people p on p.id = s.person where s."+where, args...))
}

// Sessions lists those of a person, the newest first.
func (b *Book) Sessions(ctx context.Context, person string) ([]Session, error) {
	rs, err := b.db.QueryContext(ctx, "select "+sessionFields+
		" from sessions s join people p on p.id = s.person where p.fold = ? order by s.number desc", fold(person))
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []Session
	for rs.Next() {
		s, err := scanSession(rs)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rs.Err()
}

// SignOut ends the session of a token.
func (b *Book) SignOut(ctx context.Context, token string) error {
	defer b.known.forget()
	_, err := b.db.ExecContext(ctx, "delete from sessions where digest = ?", digestOf(token))
	return err
}

// Revoke ends a session by its number, of a person.
func (b *Book) Revoke(ctx context.Context, person string, number int64, by string) error {
	return b.update(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, "delete from sessions where number = ? and person = (select id from people where fold = ?)", number,
			fold(person))
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fault.New(fault.Usage, "oaken people show "+fault.Word(person)+" lists them.",
				"%s has no session or token %d.", person, number))
		}
		return b.note(ctx, tx, "revoked", by, person, "")
	})
}

// ChangeSecret gives a person who knows the present secret another one, and ends the other sessions.
func (b *Book) ChangeSecret(ctx context.Context, s Session, token, now, next, from string) error {
	if err := b.slowed(ctx, "name "+fold(s.Person.Name)); err != nil {
		return err
	}
	if err := CheckSecret(s.Person.Name, next); err != nil {
		return err
	}
	var hash string
	if err := b.db.QueryRowContext(ctx, "select secret from people where id = ?", s.Person.ID).Scan(&hash); err != nil {
		return err
	}
	if !b.matches(now, hash) {
		b.guesses.failed(b.now(), "name "+fold(s.Person.Name))
		return fault.New(fault.Refused, "Check it, and try again.", "That is not the present secret.")
	}
	hash = b.hash(next)
	return b.update(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "update people set secret = ? where id = ?", hash, s.Person.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "delete from sessions where person = ? and digest <> ? and purpose = ''", s.Person.ID,
			digestOf(token)); err != nil {
			return err
		}
		return b.note(ctx, tx, "secret", s.Person.Name, "", from)
	})
}
