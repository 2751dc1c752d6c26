package server

import (
	"context"
	"strconv"
	"time"

	"oakenchest/core/access"
	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

func loggedIn(token string, p access.Person) wire.LoggedIn {
	return wire.LoggedIn{Token: token, Person: p.Name, ID: p.ID, Administrator: p.Administrator}
}

func (a *asked) login() error {
	var call wire.Login
	if err := a.read(&call); err != nil {
		return err
	}
	token, p, err := a.server.Book.SignIn(a.Context(), call.Name, call.Secret, call.Machine, a.from())
	if err != nil {
		return err
	}
	return a.answer(loggedIn(token, p))
}

func (a *asked) join() error {
	var call wire.Login
	if err := a.read(&call); err != nil {
		return err
	}
	p, err := a.server.Book.Join(a.Context(), call.Invitation, call.Name, call.Secret, a.from())
	if err != nil {
		return err
	}
	token, err := a.server.Book.Open(a.Context(), p, call.Machine, a.from())
	if err != nil {
		return err
	}
	return a.answer(loggedIn(token, p))
}

// invited says whom an invitation is for.
func (a *asked) invited() error {
	var call wire.Login
	if err := a.read(&call); err != nil {
		return err
	}
	name, err := a.server.Book.Invited(a.Context(), call.Invitation, a.from())
	if err != nil {
		return err
	}
	return a.answer(wire.LoggedIn{Person: name})
}

func (a *asked) logout() error {
	if err := a.server.Book.SignOut(a.Context(), a.token); err != nil {
		return err
	}
	return a.answer(struct{}{})
}

func (a *asked) whoAmI() error { return a.answer(sessionOf(a.session)) }

func sessionOf(s access.Session) wire.Session {
	return wire.Session{Person: s.Person.Name, ID: s.Person.ID, Administrator: s.Person.Administrator, Number: s.Number, Purpose: s.Purpose,
		Machine: s.Machine, ReadsOnly: s.ReadsOnly, Project: s.Project, Made: s.Made, Ends: s.Ends, Used: s.Used}
}

func (a *asked) changeSecret() error {
	var call wire.NewSecret
	if err := a.read(&call); err != nil {
		return err
	}
	if a.session.Purpose != "" {
		return fault.New(fault.Refused, "Sign in with oaken login.", "A token does not change secrets.")
	}
	if err := a.server.Book.ChangeSecret(a.Context(), a.session, a.token, call.Now, call.Next, a.from()); err != nil {
		return err
	}
	return a.answer(struct{}{})
}

func (a *asked) people() error {
	list, err := a.server.Book.People(a.Context())
	if err != nil {
		return err
	}
	out := []wire.Person{}
	for _, p := range list {
		out = append(out, personOf(p))
	}
	return a.answer(out)
}

func personOf(p access.Person) wire.Person {
	return wire.Person{Name: p.Name, Administrator: p.Administrator, Since: p.Since, Ended: p.Ended, EndedBy: p.By, Waiting: p.Waiting,
		Groups: p.Groups, Seen: p.Seen}
}

func (a *asked) addPerson() error {
	var call wire.PersonCall
	if err := a.read(&call); err != nil {
		return err
	}
	ctx, by := a.Context(), a.session.Person.Name
	_, known := a.server.Book.Person(ctx, call.Name)
	if known == nil && call.Administrator != nil {
		if err := a.server.Book.SetAdministrator(ctx, call.Name, *call.Administrator, by); err != nil {
			return err
		}
		return a.answer(struct{}{})
	}
	if err := a.server.Book.Add(ctx, call.Name, call.Administrator != nil && *call.Administrator, by); err != nil {
		return err
	}
	return a.answer(struct{}{})
}

func (a *asked) invite() error {
	var call wire.PersonCall
	if err := a.read(&call); err != nil {
		return err
	}
	lasts := invitationLasts
	if call.Lasts > 0 {
		lasts = min(call.Lasts, 90*24*time.Hour)
	}
	invitation, ends, err := a.server.Book.Invite(a.Context(), call.Name, call.Administrator != nil && *call.Administrator, lasts,
		a.session.Person.Name)
	if err != nil {
		return err
	}
	return a.answer(wire.Invited{Invitation: invitation, Ends: ends})
}

// end ends an account, and says what is left of the person in each project. With somebody to hand over to, parked work
// becomes theirs, and locks end.
func (a *asked) end() error {
	var call wire.PersonCall
	if err := a.read(&call); err != nil {
		return err
	}
	ctx := a.Context()
	to := access.Person{}
	if call.To != "" {
		var err error
		if to, err = a.server.Book.Person(ctx, call.To); err != nil {
			return err
		}
		if !to.Ended.IsZero() {
			return fault.New(fault.Refused, "Name somebody else.", "The account of %s has ended.", to.Name)
		}
	}
	p, err := a.server.Book.End(ctx, call.Name, a.session.Person.Name)
	if err != nil {
		return err
	}
	out := wire.Ended{Person: p.Name, Projects: []wire.Left{}}
	projects, err := a.server.Book.Projects(ctx)
	if err != nil {
		return err
	}
	for _, info := range projects {
		in, err := a.server.project(ctx, info.Name)
		if err != nil {
			return err
		}
		left, err := in.left(ctx, p.Name)
		if err != nil {
			return err
		}
		if call.To != "" {
			if err := in.handOver(ctx, left, p.Name, to.Name, a.session.Person.Name, a.server.o.Now()); err != nil {
				return err
			}
		}
		if !left.Empty() {
			out.Projects = append(out.Projects, left)
		}
	}
	return a.answer(out)
}

// left lists what a person has in a project.
func (p *served) left(ctx context.Context, person string) (wire.Left, error) {
	out := wire.Left{Project: p.Name}
	err := p.chest.View(ctx, func(r ledger.Records) error {
		locks, err := r.Locks()
		if err != nil {
			return err
		}
		for _, l := range locks {
			if l.Holder == person {
				out.Locks = append(out.Locks, l.Address)
			}
		}
		spaces, err := r.Workspaces()
		if err != nil {
			return err
		}
		for _, w := range spaces {
			if w.Person == person && w.Held > 0 {
				out.Unsent = append(out.Unsent, wire.UnsentWork{Workspace: w.Name, Machine: w.Machine, Commits: w.Held})
			}
		}
		parked, err := r.AllParked()
		if err != nil {
			return err
		}
		for _, x := range parked {
			if x.Person == person {
				out.Parked = append(out.Parked, x.Name)
			}
		}
		bookings, err := r.Bookings()
		if err != nil {
			return err
		}
		for _, b := range bookings {
			if b.Person == person && b.Ended.IsZero() {
				out.Bookings = append(out.Bookings, wire.NumberedAt{Number: b.ID, Environment: b.Environment})
			}
		}
		planned, err := r.Planned()
		if err != nil {
			return err
		}
		for _, x := range planned {
			if x.Person == person && x.Ended.IsZero() {
				out.Planned = append(out.Planned, wire.NumberedAt{Number: x.ID, Environment: x.Target})
			}
		}
		return nil
	})
	return out, err
}

// handOver gives what a person has to somebody else: parked work is theirs, locks end. Unsent work lies on the person's
// machine, and bookings and plans end when somebody ends them.
func (p *served) handOver(ctx context.Context, left wire.Left, from, to, by string, now time.Time) error {
	do := func(act chest.Act) error {
		_, err := p.folder.Do(ctx, chest.Request{Actor: chest.Actor{Person: by, Workspace: "the server"}, Act: act})
		return err
	}
	defer p.moved.tell()
	if len(left.Locks) > 0 {
		if err := do(chest.FreeLocks{Holder: by, Workspace: "the server", Addresses: left.Locks, Force: true,
			Reason: "the account of " + from + " has ended", Now: now}); err != nil {
			return err
		}
	}
	var all []ledger.Parked
	if err := p.chest.View(ctx, func(r ledger.Records) (err error) { all, err = r.AllParked(); return err }); err != nil {
		return err
	}
	taken := map[string]bool{}
	for _, x := range all {
		taken[x.Person+"\n"+x.Name] = true
	}
	for _, x := range all {
		if x.Person != from {
			continue
		}
		theirs := x
		theirs.Person = to
		for n := 2; taken[to+"\n"+theirs.Name]; n++ {
			theirs.Name = x.Name + "-" + strconv.Itoa(n)
		}
		taken[to+"\n"+theirs.Name] = true
		if err := do(chest.Park{Parked: theirs}); err != nil {
			return err
		}
		if err := do(chest.Unpark{Person: from, Name: x.Name}); err != nil {
			return err
		}
	}
	return nil
}

// mayLookAfter refuses to look after another's sessions, but to administrators.
func (a *asked) mayLookAfter(name string) error {
	if name == a.session.Person.Name || a.session.Person.Administrator && a.session.Purpose == "" {
		return nil
	}
	return fault.New(fault.Refused, "Ask an administrator: oaken people list says who is one.",
		"That is of %s alone, and of administrators.",
		name)
}

func (a *asked) sessions() error {
	var call wire.PersonCall
	if err := a.read(&call); err != nil {
		return err
	}
	p, err := a.server.Book.Person(a.Context(), call.Name)
	if err != nil {
		return err
	}
	if err := a.mayLookAfter(p.Name); err != nil {
		return err
	}
	list, err := a.server.Book.Sessions(a.Context(), p.Name)
	if err != nil {
		return err
	}
	out := []wire.Session{}
	for _, s := range list {
		out = append(out, sessionOf(s))
	}
	return a.answer(out)
}

func (a *asked) newToken() error {
	var call wire.TokenCall
	if err := a.read(&call); err != nil {
		return err
	}
	if a.session.Purpose != "" {
		return fault.New(fault.Refused, "Sign in with oaken login.", "A token makes no tokens.")
	}
	if call.Name == "" {
		call.Name = a.session.Person.Name
	}
	p, err := a.server.Book.Person(a.Context(), call.Name)
	if err != nil {
		return err
	}
	if err := a.mayLookAfter(p.Name); err != nil {
		return err
	}
	if call.Project != "" {
		if _, err := a.server.Book.Project(a.Context(), call.Project); err != nil {
			return err
		}
	}
	token, err := a.server.Book.NewToken(a.Context(), access.Session{Person: p, Purpose: call.Purpose, ReadsOnly: call.ReadsOnly,
		Project: call.Project, Ends: call.Ends}, a.session.Person.Name)
	if err != nil {
		return err
	}
	return a.answer(wire.LoggedIn{Token: token, Person: p.Name, ID: p.ID})
}

func (a *asked) revoke() error {
	var call wire.TokenCall
	if err := a.read(&call); err != nil {
		return err
	}
	if err := a.mayLookAfter(call.Name); err != nil {
		return err
	}
	if err := a.server.Book.Revoke(a.Context(), call.Name, call.Number, a.session.Person.Name); err != nil {
		return err
	}
	return a.answer(struct{}{})
}

func (a *asked) groups() error {
	list, err := a.server.Book.Groups(a.Context())
	if err != nil {
		return err
	}
	out := []wire.Group{}
	for _, g := range list {
		out = append(out, wire.Group{Name: g.Name, People: g.People})
	}
	return a.answer(out)
}

func (a *asked) putInGroup() error {
	var call wire.GroupCall
	if err := a.read(&call); err != nil {
		return err
	}
	by := a.session.Person.Name
	err := a.server.Book.PutInGroup(a.Context(), call.Name, call.People, by)
	if call.Out {
		err = a.server.Book.TakeFromGroup(a.Context(), call.Name, call.People, by)
	}
	if err != nil {
		return err
	}
	return a.answer(struct{}{})
}

func (a *asked) events() error {
	const most = 1000
	list, err := a.server.Book.Events(a.Context(), most)
	if err != nil {
		return err
	}
	return a.answer(list)
}

func (a *asked) listProjects() error {
	list, err := a.server.Book.Projects(a.Context())
	if err != nil {
		return err
	}
	out := []wire.Project{}
	for _, p := range list {
		if a.session.Project == "" || a.session.Project == p.Name {
			out = append(out, wire.Project{Name: p.Name, Made: p.Made, By: p.By})
		}
	}
	return a.answer(out)
}

func (a *asked) addProject() error {
	var call wire.Project
	if err := a.read(&call); err != nil {
		return err
	}
	if err := a.server.create(a.Context(), call.Name, a.session.Person.Name); err != nil {
		return err
	}
	return a.answer(struct{}{})
}
