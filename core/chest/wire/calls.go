package wire

import (
	"encoding/json"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// Calls of a project, all of them POST below PROJECT's address. What changes something answers with a Written, and news.
const (
	CallNews     = "news"
	CallAct      = "act"
	CallLease    = "lease"
	CallTell     = "tell"
	CallRegister = "register"
	CallHeard    = "heard"
	CallFlaws    = "flaws"
	CallContents = "contents"
	CallBales    = "bales"
	CallSignals  = "signals"
	CallExamine  = "examine"
	CallTidy     = "tidy"
	CallUsage    = "usage"
	CallTarget   = "target"
	CallJobs     = "jobs"
	CallAgreed   = "agreed"
	CallKeys     = "keys"
)

// WithoutNews behind a call that changes something asks for what came of it alone.
const WithoutNews = "?news=no"

// Since is the moment of the asker's copy; the answer holds what happened since.
type Since = tables.Moment

// ActCall asks for an act; Request is what EncodeRequest writes. Bales are small ones, which are taken in first.
type ActCall struct {
	Since   Since    `json:"since"`
	Request []byte   `json:"request"`
	Bales   [][]byte `json:"bales,omitempty"`
}

// LeaseCall, TellCall, RegisterCall and HeardCall ask for the other things that change something.
type (
	LeaseCall struct {
		Since Since           `json:"since"`
		Step  chest.LeaseStep `json:"step"`
	}
	TellCall struct {
		Since Since      `json:"since"`
		News  chest.News `json:"news"`
	}
	RegisterCall struct {
		Since     Since            `json:"since"`
		Workspace ledger.Workspace `json:"workspace"`
	}
	HeardCall struct {
		Since     Since  `json:"since"`
		Workspace string `json:"workspace"`
		UpTo      int64  `json:"up_to"`
	}
)

// Written is what came of a call that changes something. In the answer its JSON, with its length before it (a uvarint),
// is followed by news.
type Written struct {
	Outcome chest.Outcome `json:"outcome"`
	Name    string        `json:"name,omitempty"`
}

// ContentsCall asks for folders and contents.
type ContentsCall struct {
	Folders []FolderWanted  `json:"folders,omitempty"`
	Of      []ContentsAsked `json:"of,omitempty"`
}

// FolderWanted is a folder with all folders below it, but for those that are the same in another tree at the same place,
// which the asker has.
type FolderWanted struct {
	Place
	Digest content.Digest `json:"digest"`
	// Like is that other tree; the zero digest for none.
	Like content.Digest `json:"like"`
}

// Place says where something lies: at a path of a commit's tree, or of a tree that something else names. Neither is for
// what the asker sent.
type Place struct {
	Commit ledger.ID      `json:"commit,omitzero"`
	Tree   content.Digest `json:"tree,omitzero"`
	Path   string         `json:"path,omitempty"`
}

// ContentsAsked asks for contents of one commit or tree.
type ContentsAsked struct {
	Place
	Items []ContentAsked `json:"items"`
}

// ContentAsked is one content below the place, at a path from there.
type ContentAsked struct {
	Path   string           `json:"path,omitempty"`
	Digest content.Digest   `json:"digest"`
	Parts  []content.Digest `json:"parts,omitempty"`
}

// JobCall asks for something that changes an environment, or for what comes of it. ID names it among all of who asks: asked for
// again, it is not begun again. Seen is how many lines of the answer have been read.
type JobCall struct {
	ID        string          `json:"id"`
	Workspace string          `json:"workspace"`
	Errand    json.RawMessage `json:"errand,omitempty"`
	Seen      int             `json:"seen,omitempty"`
}

// TargetCall puts a question to the driver of a target.
type TargetCall struct {
	At       json.RawMessage `json:"at"`
	Question json.RawMessage `json:"question"`
}

// Agreed is what a project wants to run and to reach at the server, and whether an administrator agreed. Digest names the list.
type Agreed struct {
	Digest string `json:"digest"`
	Wishes []Wish `json:"wishes"`
}

// Wish is one thing of it.
type Wish struct {
	Sort string    `json:"sort"`
	Name string    `json:"name"`
	Text string    `json:"text"`
	By   string    `json:"by,omitempty"`
	Time time.Time `json:"time,omitzero"`
}

// AgreeCall agrees to the list of a digest; Back takes back all that was agreed to.
type AgreeCall struct {
	Digest string `json:"digest,omitempty"`
	Back   bool   `json:"back,omitempty"`
}

// TargetKeys are the secrets that an environment's targets need at the server.
type TargetKeys struct {
	Environment string      `json:"environment"`
	Runs        string      `json:"runs"`
	Targets     []KeyTarget `json:"targets"`
}

// KeyTarget is a target as it is written, and the names of the secrets in it; Given are those that the server has.
type KeyTarget struct {
	Target string   `json:"target"`
	Names  []string `json:"names"`
	Given  []string `json:"given"`
}

// KeysCall gives the server the secrets of an environment, by name, for the targets as they were seen; Back takes them back.
type KeysCall struct {
	Environment string            `json:"environment"`
	Targets     []string          `json:"targets,omitempty"`
	Values      map[string]string `json:"values,omitempty"`
	Back        bool              `json:"back,omitempty"`
}

// Coming is how much of a bale has arrived.
type Coming struct {
	Have int64 `json:"have"`
}

// Calls below the address of the server's own, API.
const (
	API          = "api/" + Version
	CallLogin    = "login"
	CallLogout   = "logout"
	CallJoin     = "join"
	CallWho      = "who"
	CallSecret   = "secret"
	CallPeople   = "people"
	CallGroups   = "groups"
	CallProjects = "projects"
	CallInvite   = "invite"
	CallEnd      = "end"
	CallToken    = "token"
	CallRevoke   = "revoke"
	CallSessions = "sessions"
	CallEvents   = "events"
	CallMoves    = "moves"
)

// Hello is what a server says of itself.
type Hello struct {
	Server string    `json:"server"`
	Time   time.Time `json:"time"`
}

// Login asks for a session; Join with an invitation gives the account a secret first.
type Login struct {
	Name       string `json:"name"`
	Secret     string `json:"secret"`
	Machine    string `json:"machine"`
	Invitation string `json:"invitation,omitempty"`
}

// LoggedIn is a session.
type LoggedIn struct {
	Token         string `json:"token"`
	Person        string `json:"person"`
	ID            string `json:"id"`
	Administrator bool   `json:"administrator"`
}

// Session is a session or token, without what it is shown by.
type Session struct {
	Person        string    `json:"person"`
	ID            string    `json:"id"`
	Administrator bool      `json:"administrator"`
	Number        int64     `json:"number"`
	Purpose       string    `json:"purpose,omitempty"`
	Machine       string    `json:"machine,omitempty"`
	ReadsOnly     bool      `json:"reads_only,omitempty"`
	Project       string    `json:"project,omitempty"`
	Made          time.Time `json:"made"`
	Ends          time.Time `json:"ends,omitzero"`
	Used          time.Time `json:"used"`
}

// NewSecret asks for another secret.
type NewSecret struct {
	Now  string `json:"now"`
	Next string `json:"next"`
}

// Person is somebody with an account.
type Person struct {
	Name          string    `json:"name"`
	Administrator bool      `json:"administrator"`
	Since         time.Time `json:"since"`
	Ended         time.Time `json:"ended,omitzero"`
	EndedBy       string    `json:"ended_by,omitempty"`
	Waiting       bool      `json:"waiting,omitempty"`
	Groups        []string  `json:"groups,omitempty"`
	Seen          time.Time `json:"seen,omitzero"`
}

// PersonCall asks for something about a person.
type PersonCall struct {
	Name          string        `json:"name"`
	Administrator *bool         `json:"administrator,omitempty"`
	Lasts         time.Duration `json:"lasts,omitempty"`
	// To takes over what somebody has whose account ends.
	To string `json:"to,omitempty"`
}

// Invited is an invitation.
type Invited struct {
	Invitation string    `json:"invitation"`
	Ends       time.Time `json:"ends"`
}

// TokenCall asks for a token, or to revoke a session.
type TokenCall struct {
	Name      string    `json:"name"`
	Purpose   string    `json:"purpose,omitempty"`
	ReadsOnly bool      `json:"reads_only,omitempty"`
	Project   string    `json:"project,omitempty"`
	Ends      time.Time `json:"ends,omitzero"`
	Number    int64     `json:"number,omitempty"`
}

// Ended is what is left of somebody whose account has ended.
type Ended struct {
	Person   string `json:"person"`
	Projects []Left `json:"projects"`
}

// Left is what somebody has in a project.
type Left struct {
	Project  string       `json:"project"`
	Locks    []string     `json:"locks,omitempty"`
	Unsent   []UnsentWork `json:"unsent,omitempty"`
	Parked   []string     `json:"parked,omitempty"`
	Bookings []NumberedAt `json:"bookings,omitempty"`
	Planned  []NumberedAt `json:"planned,omitempty"`
}

// Empty reports whether it is nothing.
func (l Left) Empty() bool {
	return len(l.Locks)+len(l.Unsent)+len(l.Parked)+len(l.Bookings)+len(l.Planned) == 0
}

// UnsentWork is work that lies on somebody's machine.
type UnsentWork struct {
	Workspace string `json:"workspace"`
	Machine   string `json:"machine"`
	Commits   int    `json:"commits"`
}

// NumberedAt is a record of an environment by its number.
type NumberedAt struct {
	Number      int64  `json:"number"`
	Environment string `json:"environment"`
}

// Group is people under one name; GroupCall puts people in or takes them out.
type Group struct {
	Name   string   `json:"name"`
	People []string `json:"people"`
}

// GroupCall changes a group.
type GroupCall struct {
	Name   string   `json:"name"`
	People []string `json:"people"`
	Out    bool     `json:"out,omitempty"`
}

// Project is one of the server's.
type Project struct {
	Name string    `json:"name"`
	Made time.Time `json:"made,omitzero"`
	By   string    `json:"by,omitempty"`
}

// Told is one line of an answer that takes long: how far it is, then what came of it.
type Told struct {
	Progress *Progress       `json:"progress,omitempty"`
	Sign     json.RawMessage `json:"sign,omitempty"`
	Result   json.RawMessage `json:"result,omitempty"`
	Error    json.RawMessage `json:"error,omitempty"`
	Status   int             `json:"status,omitempty"`
}

// Progress is how far something is.
type Progress struct {
	What  string `json:"what"`
	Done  int    `json:"done"`
	Total int    `json:"total"`
}

// Move begins to bring a chest to the server, or ends that. Its files come as bales do, below the call moves/ID/files/NAME,
// where NAME has a dash for each slash.
type Move struct {
	Name string `json:"name"`
	ID   string `json:"id,omitempty"`
}

// Arrived is a chest that was brought to the server: who is named in it, and has an account now.
type Arrived struct {
	People []NamedPerson `json:"people"`
}

// NamedPerson is somebody who is named in records.
type NamedPerson struct {
	Name string `json:"name"`
	// Account is the name of the account; empty where the name can be none.
	Account string `json:"account"`
	// New says that the account was made, and waits for an invitation.
	New bool `json:"new,omitempty"`
}
