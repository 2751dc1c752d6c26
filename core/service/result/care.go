package result

import (
	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/workspace"
)

// Health is what an examination has found.
type Health struct {
	Findings []Flaw `json:"findings"`
	Bytes    int64  `json:"bytes"`
	Commits  int    `json:"commits"`
	Files    int    `json:"files"`
	// Mended counts the versions that were.
	Mended int `json:"mended"`
}

// Flaw is something damaged.
type Flaw struct {
	Where  string `json:"where"`
	Reason string `json:"reason"`
	// Touches lists the versions of artifacts that can't be read for it.
	Touches []string `json:"touches"`
}

// Schema names it.
func (Health) Schema() string { return "oaken.health/1" }

// HealthOf gives an examination.
func HealthOf(x *chest.Examination, mended int) Health {
	findings := each(x.Findings, func(f chest.Finding) Flaw { return Flaw{f.Where, f.Reason, List(f.Touches)} })
	return Health{findings, x.Bytes, x.Commits, x.Files, mended}
}

// GivenUp is what a killed command had begun, and was ended as far as it came.
type GivenUp struct {
	// Kept is the folder with the record of it; empty when nothing was begun.
	Kept string `json:"kept"`
}

// Schema names it.
func (GivenUp) Schema() string { return "oaken.give-up/1" }

// Tidied is what was won back.
type Tidied struct {
	// Bales counts those that were rewritten; Packs is its former name.
	Bales int   `json:"bales"`
	Packs int   `json:"packs"`
	Bytes int64 `json:"bytes"`
}

// Schema names it.
func (Tidied) Schema() string { return "oaken.tidy/1" }

// Usage is what a chest takes.
type Usage struct {
	// Stored is what its content takes, Whole what it would take in full, in bytes.
	Stored int64 `json:"stored"`
	Whole  int64 `json:"whole"`
	// Workspace is what one more workspace takes, Transfer what is read for it, in bytes, Files how many it has.
	Workspace int64           `json:"workspace"`
	Transfer  int64           `json:"transfer"`
	Files     int             `json:"files"`
	Kinds     []KindUsage     `json:"kinds"`
	Artifacts []ArtifactUsage `json:"artifacts"`
}

// KindUsage is what the artifacts of a kind take.
type KindUsage struct {
	Kind      string `json:"kind"`
	Artifacts int    `json:"artifacts"`
	Versions  int    `json:"versions"`
	Stored    int64  `json:"stored"`
}

// ArtifactUsage is what an artifact takes.
type ArtifactUsage struct {
	Path     string `json:"path"`
	Kind     string `json:"kind"`
	Versions int    `json:"versions"`
	// Bytes is the size of the newest version.
	Bytes  int64 `json:"bytes"`
	Stored int64 `json:"stored"`
}

// Schema names it.
func (Usage) Schema() string { return "oaken.usage/1" }

// Relocated is a chest that has another place.
type Relocated struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Moved is false when only this workspace looks elsewhere.
	Moved bool  `json:"moved"`
	Bytes int64 `json:"bytes"`
	// People are those who are named in a chest that came to a server.
	People []NamedPerson `json:"people"`
}

// NamedPerson is somebody who is named in records.
type NamedPerson struct {
	Person string `json:"person"`
	// Account is the name of the account at the server; empty where there can be none.
	Account string `json:"account"`
	// Invite says that the account waits for an invitation.
	Invite bool `json:"invite"`
}

// Schema names it.
func (Relocated) Schema() string { return "oaken.relocate/1" }

// RelocatedOf gives a chest that has another place.
func RelocatedOf(r *workspace.Relocated) Relocated {
	return Relocated{r.From, r.To, r.Moved, r.Bytes, each(r.People, func(p wire.NamedPerson) NamedPerson {
		return NamedPerson{p.Name, p.Account, p.New}
	})}
}
