package result

import (
	"oakenchest/core/chest/wire"
)

// Serving is a server that has begun to answer.
type Serving struct {
	URL string `json:"url"`
	// Invitation is that of the first administrator; empty when there is one.
	Invitation string `json:"invitation"`
	// Data is the folder of the server.
	Data string `json:"data"`
}

// Schema names it.
func (Serving) Schema() string { return "oaken.serve/1" }

// BackedUp is a backup of a server, or what was brought back from one.
type BackedUp struct {
	Folder   string `json:"folder"`
	Projects int    `json:"projects"`
	// Bytes is how large it is, Copied how much of that was not there before.
	Bytes  int64 `json:"bytes"`
	Copied int64 `json:"copied"`
}

// Schema names it.
func (BackedUp) Schema() string { return "oaken.backup/1" }

// SignedIn is who has signed in at servers.
type SignedIn struct {
	Servers []SignedInAt `json:"servers"`
}

// SignedInAt is one server.
type SignedInAt struct {
	Server string `json:"server"`
	Person string `json:"person"`
	// Standing is a word: signed-in, signed-out, out-of-reach.
	Standing      string `json:"standing"`
	Administrator bool   `json:"administrator"`
	// Purpose is what a token is for; empty of somebody who has signed in.
	Purpose string `json:"purpose"`
}

// Schema names it.
func (SignedIn) Schema() string { return "oaken.who/1" }

// SignedOut is a server at which somebody has signed out.
type SignedOut struct {
	Server string `json:"server"`
}

// Schema names it.
func (SignedOut) Schema() string { return "oaken.logout/1" }

// People lists the people of a server.
type People struct {
	Server string    `json:"server"`
	People []Account `json:"people"`
}

// Account is somebody with an account at a server.
type Account struct {
	Person        string   `json:"person"`
	Administrator bool     `json:"administrator"`
	Since         string   `json:"since"`
	Groups        []string `json:"groups"`
	// Standing is a word: active, invited, ended.
	Standing string `json:"standing"`
	// Seen is when the person was last there, Ended when the account ended.
	Seen  *string `json:"seen"`
	Ended *string `json:"ended"`
}

// Schema names it.
func (People) Schema() string { return "oaken.people/1" }

// PeopleOf gives the people of a server.
func PeopleOf(server string, list []wire.Person) People {
	return People{server, each(list, AccountOf)}
}

// AccountOf gives one.
func AccountOf(p wire.Person) Account {
	a := Account{Person: p.Name, Administrator: p.Administrator, Since: Time(p.Since), Groups: List(p.Groups), Standing: "active",
		Seen: optionalTime(p.Seen), Ended: optionalTime(p.Ended)}
	switch {
	case !p.Ended.IsZero():
		a.Standing = "ended"
	case p.Waiting:
		a.Standing = "invited"
	}
	return a
}

// AccountShown is one account with its sessions and tokens.
type AccountShown struct {
	Account
	Sessions []Session `json:"sessions"`
}

// Session is a session or a token.
type Session struct {
	Number  int64   `json:"number"`
	Purpose string  `json:"purpose"`
	Machine string  `json:"machine"`
	Rights  string  `json:"rights"`
	Project string  `json:"project"`
	Made    string  `json:"made"`
	Used    string  `json:"used"`
	Ends    *string `json:"ends"`
}

// Schema names it.
func (AccountShown) Schema() string { return "oaken.account/1" }

// AccountShownOf gives an account with its sessions.
func AccountShownOf(p wire.Person, list []wire.Session) AccountShown {
	return AccountShown{AccountOf(p), each(list, func(s wire.Session) Session {
		rights := "all"
		if s.ReadsOnly {
			rights = "look"
		}
		return Session{s.Number, s.Purpose, s.Machine, rights, s.Project, Time(s.Made), Time(s.Used), optionalTime(s.Ends)}
	})}
}

// AccountChanged is an account that was made or changed.
type AccountChanged struct {
	Person string `json:"person"`
	// Done is a word: added, administrator, no-administrator, revoked.
	Done string `json:"done"`
}

// Schema names it.
func (AccountChanged) Schema() string { return "oaken.account-changed/1" }

// Invitation lets one person in, once.
type Invitation struct {
	Invitation string `json:"invitation"`
	Server     string `json:"server"`
	Person     string `json:"person"`
	Ends       string `json:"ends"`
}

// Schema names it.
func (Invitation) Schema() string { return "oaken.invitation/1" }

// Token is one for automation.
type Token struct {
	Token  string `json:"token"`
	Person string `json:"person"`
}

// Schema names it.
func (Token) Schema() string { return "oaken.token/1" }

// AccountEnded says what is left of a person.
type AccountEnded struct {
	Person   string       `json:"person"`
	Projects []LeftBehind `json:"projects"`
	// To has parked work now, and locks are free; empty when nothing was handed over.
	To string `json:"to"`
}

// LeftBehind is what somebody has in a project.
type LeftBehind struct {
	Project  string       `json:"project"`
	Locks    []string     `json:"locks"`
	Unsent   []UnsentLeft `json:"unsent"`
	Parked   []string     `json:"parked"`
	Bookings []NumberedAt `json:"bookings"`
	Planned  []NumberedAt `json:"planned"`
}

// UnsentLeft is unsent work on a machine.
type UnsentLeft struct {
	Workspace string `json:"workspace"`
	Machine   string `json:"machine"`
	Commits   int    `json:"commits"`
}

// NumberedAt is a record of an environment by its number.
type NumberedAt struct {
	Number      int64  `json:"number"`
	Environment string `json:"environment"`
}

// Schema names it.
func (AccountEnded) Schema() string { return "oaken.account-ended/1" }

// AccountEndedOf gives what is left of a person.
func AccountEndedOf(e wire.Ended, to string) AccountEnded {
	at := func(n wire.NumberedAt) NumberedAt { return NumberedAt(n) }
	return AccountEnded{e.Person, each(e.Projects, func(l wire.Left) LeftBehind {
		return LeftBehind{l.Project, List(l.Locks), each(l.Unsent, func(u wire.UnsentWork) UnsentLeft { return UnsentLeft(u) }),
			List(l.Parked), each(l.Bookings, at), each(l.Planned, at)}
	}), to}
}

// Groups lists the groups of a server.
type Groups struct {
	Server string  `json:"server"`
	Groups []Group `json:"groups"`
}

// Group is people under one name.
type Group struct {
	Group  string   `json:"group"`
	People []string `json:"people"`
}

// Schema names it.
func (Groups) Schema() string { return "oaken.groups/1" }

// GroupsOf gives groups.
func GroupsOf(server string, list []wire.Group) Groups {
	return Groups{server, each(list, func(g wire.Group) Group { return Group{g.Name, List(g.People)} })}
}

// TargetSecrets are the secrets that the server has for the targets of an environment.
type TargetSecrets struct {
	Environment string `json:"environment"`
	// Given are the names of those that it was given now.
	Given []string `json:"given"`
	// Forgotten counts those that it has no more.
	Forgotten *int `json:"forgotten,omitempty"`
}

// Schema names it.
func (TargetSecrets) Schema() string { return "oaken.target-secrets/1" }
