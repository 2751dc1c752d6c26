// Package merging is the merge, revert or capture that is under way in a workspace: what it merges, as data beside the
// files; what it comes to with the choices that were made so far; writing that into the files; and settling what is open.
package merging

import (
	"errors"
	"os"

	"oakenchest/core/choice"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Work is the place of a merge under way: a project, and the files of a workspace of it.
type Work struct {
	*project.Project
	Disk *disk.Tree
}

// pendingVersion is the format of merge.json.
const pendingVersion = 2

// Pending is a merge or revert that has begun and is not committed. It is kept
// as data beside the files, which hold mine where a conflict is open.
type Pending struct {
	Format int `json:"format"`
	// What says what is being done, for people: `merge kelp`.
	What    string `json:"what"`
	Message string `json:"message"`
	// Base, Mine and Theirs are the trees that are merged, in hexadecimal.
	Base, Mine, Theirs string
	// Parent is the commit that becomes the second parent; empty for a revert.
	Parent string `json:"parent,omitempty"`
	// Onto is the commit on top of which held commits are to go; empty for other merges.
	Onto string `json:"onto,omitempty"`
	// Bases lists the commits that stand for the base together, when branches were merged
	// crosswise; Base is then not used.
	Bases []string `json:"bases,omitempty"`
	// Apart lists the commits that took something back which one side alone counts as taken
	// back: what they did is done to the base.
	Apart []string `json:"apart,omitempty"`
	// Parked is what was set aside and is brought back; its record goes when the merge is
	// committed.
	Parked *ParkedName `json:"parked,omitempty"`
	// Captured is what was captured of an environment, when that is what is merged; Parent is
	// empty until it has a commit.
	Captured *Capture `json:"captured,omitempty"`
	// Abandoning says that it is being given up.
	Abandoning bool `json:"abandoning,omitempty"`
	// Applying says that files are being brought to the state of the choices.
	Applying bool `json:"applying"`
	// Settled lists the choices that were made.
	Settled []choice.Made `json:"settled"`
	// AsIs lists artifacts that the person has settled by hand.
	AsIs []string `json:"asIs"`
	// Written says what the merge wrote, by path, in hexadecimal; empty for a
	// file that it took away.
	Written map[string]string `json:"written"`
}

// ParkedName names what was set aside.
type ParkedName struct {
	Person string `json:"person"`
	Name   string `json:"name"`
}

// File is where the merge under way is kept.
func (w *Work) File() string { return w.Disk.Own("merge.json") }

// Pending gives the merge under way, nil for none.
func (w *Work) Pending() (*Pending, error) {
	p := &Pending{}
	err := w.Disk.ReadSealed("merge.json", p)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil || p.Format != pendingVersion {
		return nil, fault.New(fault.Damaged, "Bring it back from a copy, or remove it to give the merge up.",
			"The record of the merge under way, .oaken/merge.json, can't be read.")
	}
	return p, nil
}

// Save writes it.
func (w *Work) Save(p *Pending) error {
	p.Format = pendingVersion
	return w.Disk.WriteSealed("merge.json", p)
}

// States gives the three states of a merge under way.
func (w *Work) States(p *Pending) (base, mine, theirs state.State, err error) {
	var trees [3]element.Digest
	for i, s := range []string{p.Base, p.Mine, p.Theirs} {
		if trees[i], err = disk.FromHex(s); err != nil {
			return nil, nil, nil, err
		}
	}
	at := func(d element.Digest, name string) state.State {
		return state.Commit{Chest: w.Chest, Tree: d, Name: name}
	}
	return at(trees[0], "base"), at(trees[1], "mine"), at(trees[2], "theirs"), nil
}

// Capture is what an environment was found to hold, on its way into a commit.
type Capture struct {
	Environment string `json:"environment"`
	// Folders are the environment's, Rules those by which it was read, by folder.
	Folders []string          `json:"folders"`
	Rules   map[string]string `json:"rules"`
	// Record is the commit that it was known to hold before, Number that record's; empty and
	// 0 when nothing was known.
	Record string `json:"record,omitempty"`
	Number int64  `json:"number,omitempty"`
	// Tree, in hexadecimal, is the record's with what is there now.
	Tree string `json:"tree"`
}

// Stand notes what the two sides of a merge have in common.
func (p *Pending) Stand(g project.Ground) {
	var base ledger.Commit
	if len(g.Bases) == 1 {
		base = g.Bases[0]
	}
	p.Base = disk.Hex(base.Tree)
	for _, b := range g.Bases {
		if len(g.Bases) > 1 {
			p.Bases = append(p.Bases, b.ID.String())
		}
	}
	for _, c := range g.Apart {
		p.Apart = append(p.Apart, c.ID.String())
	}
}
