// Package project is a project as those work with it who need no folder on disk: its chest, its manifest with the
// kinds that it brings, who acts, and a clock. Comparing, merging, blending and publishing are here; what reads
// and writes a person's files is package workspace.
package project

import (
	"context"
	"strconv"
	"sync"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/kind"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// Project is an open project.
type Project struct {
	Chest    *chest.Chest
	Manifest *manifest.Manifest
	// Person acts; Name is that of the workspace from which it is done, as others see it.
	Person, Name string
	// Kinds are those that the program knows.
	Kinds *kind.Table
	Now   func() time.Time

	// rules are the manifest of the first branch, when its file had a digest.
	rules struct {
		manifest *manifest.Manifest
		of       content.Digest
	}
	own struct {
		sync.Mutex // guards what follows
		of         *manifest.Manifest
		table      *kind.Table // with the recipes of the manifest
	}
}

// New gives the project of a chest, for whoever acts from a place of some name: with the rules of the first
// branch, which counts where there is no folder that could say otherwise.
func New(ctx context.Context, c *chest.Chest, kinds *kind.Table, who chest.Actor, now func() time.Time) (*Project, error) {
	p := &Project{Chest: c, Kinds: kinds, Person: who.Person, Name: who.Workspace, Now: now, Manifest: &manifest.Manifest{}}
	c.Actor, c.Warden = who, Warden{Project: p}
	m, err := p.FirstManifest(ctx)
	if err == nil && m != nil {
		p.Manifest = m
	}
	return p, err
}

// As gives the project for another person, in whose name something was asked for; whoever calls still does it.
func (p *Project) As(person string) *Project {
	return &Project{Chest: p.Chest, Manifest: p.Manifest, Person: person, Name: p.Name, Kinds: p.Kinds, Now: p.Now}
}

// Reader reads artifacts as this project declares them.
func (p *Project) Reader() *state.Reader {
	p.own.Lock()
	defer p.own.Unlock()
	if p.own.of != p.Manifest {
		p.own.table, p.own.of = recipe.Over(p.Kinds, p.Manifest.Recipes), p.Manifest
	}
	return &state.Reader{Kinds: p.own.table, Manifest: p.Manifest}
}

// ReaderBy reads artifacts by the kinds and recipes of another manifest.
func (p *Project) ReaderBy(m *manifest.Manifest) *state.Reader {
	if m == p.Manifest {
		return p.Reader()
	}
	return &state.Reader{Kinds: recipe.Over(p.Kinds, m.Recipes), Manifest: m}
}

// ReadManifest reads the text of an oaken.toml.
func (p *Project) ReadManifest(text []byte) (*manifest.Manifest, error) {
	return recipe.Manifest(text, p.Kinds)
}

// CommittedManifest gives the text of oaken.toml in a commit.
func (p *Project) CommittedManifest(c ledger.Commit) ([]byte, error) {
	return state.ReadFile(p.CommitState(c, Label(c)), manifest.Name)
}

// CommitState is the state of a commit.
func (p *Project) CommitState(c ledger.Commit, label string) state.State {
	return p.TreeState(c.Tree, label)
}

// TreeState is the state of a tree.
func (p *Project) TreeState(tree content.Digest, label string) state.State {
	return state.Commit{Chest: p.Chest, Tree: tree, Name: label}
}

// Label writes a commit's address for people: BRANCH:NUMBER.
func Label(c ledger.Commit) string {
	if c.ID == (ledger.ID{}) {
		return "nothing"
	}
	return c.Branch + ":" + strconv.Itoa(c.Depth)
}
