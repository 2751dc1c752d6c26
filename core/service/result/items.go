package result

import (
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
)

// Items is a table of work items and environments.
type Items struct {
	Environments []string `json:"environments"`
	Items        []Item   `json:"items"`
	// Files lists what was written.
	Files []string `json:"files"`
}

// Item is a work item in it.
type Item struct {
	Item string `json:"item"`
	// Title is the first line of what its newest work says.
	Title  string     `json:"title"`
	Work   []Commit   `json:"work"`
	Stands []ItemCell `json:"stands"`
}

// ItemCell is how it stands in one environment.
type ItemCell struct {
	Environment string `json:"environment"`
	// State is empty, waits, owed, taken back, partly or there.
	State string `json:"state"`
	// Has counts its pieces of work that are there; Since is when the last of them came.
	Has   int    `json:"has"`
	Since string `json:"since"`
}

// Schema names it.
func (Items) Schema() string { return "oaken.items/1" }

// ItemsOf gives the table, and the files that were written of it.
func ItemsOf(v *pipeline.ItemsView, written []string) Items {
	out := Items{Environments: []string{}, Items: []Item{}, Files: List(written)}
	for _, e := range v.Environments {
		out.Environments = append(out.Environments, e.Name)
	}
	for _, it := range v.Items {
		row := Item{Item: it.Key, Title: it.Title(), Work: CommitsOf(it.Work), Stands: []ItemCell{}}
		for i, c := range it.Cells {
			row.Stands = append(row.Stands, ItemCell{v.Environments[i].Name, string(c.State), c.Has, Time(c.Since)})
		}
		out.Items = append(out.Items, row)
	}
	return out
}

// Bundles lists the releases that are planned.
type Bundles struct {
	Planned []Bundle `json:"planned"`
}

// Bundle is a release that is planned.
type Bundle struct {
	Name   string   `json:"name"`
	Items  []string `json:"items"`
	Text   string   `json:"text"`
	Person string   `json:"person"`
	Time   string   `json:"time"`
	// Outcome is empty while it is planned, then released or dropped.
	Outcome string `json:"outcome"`
	Ended   string `json:"ended"`
}

// Schema names it.
func (Bundles) Schema() string { return "oaken.release-plans/1" }

// BundlesOf gives planned releases.
func BundlesOf(list []ledger.Bundle) Bundles { return Bundles{each(list, bundle)} }

func bundle(b ledger.Bundle) Bundle {
	return Bundle{b.Name, List(b.Items), b.Text, b.Person, Time(b.Time), b.Outcome, Time(b.Ended)}
}

// BundleShown is a planned release against each environment.
type BundleShown struct {
	Bundle
	// Unknown lists items of which there is no work.
	Unknown []string      `json:"unknown"`
	Stages  []BundleStage `json:"stages"`
}

// BundleStage is how it stands in one environment.
type BundleStage struct {
	Environment string `json:"environment"`
	Complete    bool   `json:"complete"`
	// Lacks lists items that are not there whole, More those that are there, are not live yet, and not of it.
	Lacks []string `json:"lacks"`
	More  []string `json:"more"`
}

// Schema names it.
func (BundleShown) Schema() string { return "oaken.release-plan/1" }

// BundleOf gives a planned release against each environment.
func BundleOf(v *pipeline.BundleView) BundleShown {
	return BundleShown{bundle(v.Bundle), List(v.Unknown), each(v.Stages, func(s pipeline.BundleStage) BundleStage {
		return BundleStage{s.Environment, s.Complete, List(s.Lacks), List(s.More)}
	})}
}
