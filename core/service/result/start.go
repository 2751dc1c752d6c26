package result

import (
	"oakenchest/core/preset"
	"oakenchest/core/workspace"
)

// Begun is a folder that came under control.
type Begun struct {
	Folder    string `json:"folder"`
	Workspace string `json:"workspace"`
	Person    string `json:"person"`
	// Chest is the folder of the chest.
	Chest string `json:"chest"`
	// Waiting counts the files that the first commit would record.
	Waiting int `json:"waiting"`
	// Presets are those that the new oaken.toml has.
	Presets []string `json:"presets"`
}

// Schema names it.
func (Begun) Schema() string { return "oaken.begin/1" }

// BegunOf gives a workspace that has begun, with so many files to record.
func BegunOf(w *workspace.Workspace, waiting int, presets []preset.Preset) Begun {
	return Begun{w.Root, w.Name, w.Person, w.Chest.Place(), waiting, each(presets, func(p preset.Preset) string { return p.Name })}
}

// Presets lists the presets.
type Presets struct {
	Presets []Preset `json:"presets"`
}

// Preset is a proposal for oaken.toml.
type Preset struct {
	Preset string `json:"preset"`
	About  string `json:"about"`
	// Signs are the files by which it is recognised.
	Signs    []string `json:"signs"`
	LeaveOut []string `json:"leaveOut"`
}

// Schema names it.
func (Presets) Schema() string { return "oaken.presets/1" }

// PresetsOf gives presets.
func PresetsOf(list []preset.Preset) Presets {
	return Presets{each(list, func(p preset.Preset) Preset { return Preset{p.Name, p.About, List(p.Signs), List(p.LeaveOut)} })}
}

// Opened is a new workspace of a chest.
type Opened struct {
	Folder    string `json:"folder"`
	Workspace string `json:"workspace"`
	Person    string `json:"person"`
	Chest     string `json:"chest"`
	Branch    string `json:"branch"`
	State     string `json:"state"`
	Files     int    `json:"files"`
	// Only lists the patterns of a workspace of a part of the project.
	Only []string `json:"only"`
}

// Schema names it.
func (Opened) Schema() string { return "oaken.open/1" }

// OpenedOf gives a workspace of so many files.
func OpenedOf(w *workspace.Workspace, files int) Opened {
	return Opened{w.Root, w.Name, w.Person, w.Chest.Place(), w.Branch, workspace.Label(w.Base), files, List(w.Only())}
}

// Demo is a sample world that was laid out.
type Demo struct {
	Folder string `json:"folder"`
	// Commands counts what was run in it.
	Commands int `json:"commands"`
}

// Schema names it.
func (Demo) Schema() string { return "oaken.demo/1" }

// Person is who works here.
type Person struct {
	Person    string `json:"person"`
	Workspace string `json:"workspace"`
	// Owner is who has the workspace.
	Owner string `json:"owner"`
	// Later is the name for workspaces that are still to be made.
	Later string `json:"later"`
}

// Schema names it.
func (Person) Schema() string { return "oaken.person/1" }

// Trust is what a project wants to run or to reach.
type Trust struct {
	Wishes []Wish `json:"wishes"`
	// Digest names all of them, for --trust.
	Digest string `json:"digest"`
	// Forgotten counts, with --forget, what was agreed to and is no more.
	Forgotten *int `json:"forgotten,omitempty"`
}

// Wish is one of those.
type Wish struct {
	Sort   string `json:"sort"`
	Name   string `json:"name"`
	Text   string `json:"text"`
	Agreed bool   `json:"agreed"`
	// By is the administrator who agreed, for the server; empty where a person's own machine is meant.
	By string `json:"by,omitempty"`
}

// Schema names it.
func (Trust) Schema() string { return "oaken.trust/1" }

// Guide is what to do next, the most urgent first.
type Guide struct {
	Advice []Advice `json:"advice"`
}

// Advice is one thing to do, with the call for it.
type Advice struct {
	Text    string `json:"text"`
	Command string `json:"command"`
}

// Schema names it.
func (Guide) Schema() string { return "oaken.guide/1" }
