package result

import (
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/recipe"
)

// Element is an element with what is below it.
type Element struct {
	Type string `json:"type"`
	Key  string `json:"key"`
	// Properties are its values by name, as they are shown.
	Properties map[string]string `json:"properties"`
	Children   []Element         `json:"children"`
}

// ElementOf gives an element.
func ElementOf(e *element.Element) Element {
	props := make(map[string]string, len(e.Props))
	for _, p := range e.Props {
		props[p.Name] = p.Value.String()
	}
	return Element{e.Type, e.Key, props, each(e.Children, ElementOf)}
}

// Inspected is what is inside of an artifact.
type Inspected struct {
	Path    string  `json:"path"`
	Kind    string  `json:"kind"`
	Element Element `json:"element"`
}

// Schema names it.
func (Inspected) Schema() string { return "oaken.inspect/1" }

// Summary counts what is inside of an artifact.
type Summary struct {
	Path       string      `json:"path"`
	Kind       string      `json:"kind"`
	About      string      `json:"about"`
	Elements   int         `json:"elements"`
	Properties int         `json:"properties"`
	Depth      int         `json:"depth"`
	Types      []TypeCount `json:"types"`
}

// TypeCount counts the elements of a type.
type TypeCount struct {
	Type     string `json:"type"`
	Elements int    `json:"elements"`
	// Keyed counts those that have a key.
	Keyed int `json:"keyed"`
}

// Schema names it.
func (Summary) Schema() string { return "oaken.inspect-summary/1" }

// Split is an artifact that was taken apart.
type Split struct {
	Kind  string `json:"kind"`
	Parts int    `json:"parts"`
	// Artifact says that the folder of the parts is one of the project now.
	Artifact bool `json:"artifact"`
}

// Schema names it.
func (Split) Schema() string { return "oaken.split/1" }

// Joined is an artifact that was put together.
type Joined struct {
	Kind  string `json:"kind"`
	Bytes int    `json:"bytes"`
}

// Schema names it.
func (Joined) Schema() string { return "oaken.join/1" }

// RecipeTried is how recipes fit an artifact.
type RecipeTried struct {
	Path      string         `json:"path"`
	Documents []RecipeReport `json:"documents"`
	Element   Element        `json:"element"`
}

// RecipeReport is how recipes fit one document.
type RecipeReport struct {
	Path     string          `json:"path"`
	Elements int             `json:"elements"`
	Rules    []RecipeMatched `json:"rules"`
	// Noise counts the properties that are none of anybody's work.
	Noise int `json:"noise"`
	// Unkeyed counts elements without a key, by type; Twice lists keys that siblings share.
	Unkeyed map[string]int `json:"unkeyed"`
	Twice   []string       `json:"twice"`
}

// RecipeMatched is a rule with the elements that it chose.
type RecipeMatched struct {
	Recipe   string `json:"recipe"`
	At       string `json:"at"`
	Elements int    `json:"elements"`
}

// Schema names it.
func (RecipeTried) Schema() string { return "oaken.recipe-try/1" }

// RecipeReportsOf gives how recipes fit.
func RecipeReportsOf(list []*recipe.Report) []RecipeReport {
	return each(list, func(r *recipe.Report) RecipeReport {
		out := RecipeReport{r.Path, r.Elements, []RecipeMatched{}, r.Noise, map[string]int{}, List(r.Twice)}
		for _, u := range r.Unkeyed {
			out.Unkeyed[u.Type] = u.Number
		}
		for _, u := range r.Rules {
			if u.Elements > 0 {
				out.Rules = append(out.Rules, RecipeMatched{u.Rule.Recipe, u.Rule.At, u.Elements})
			}
		}
		return out
	})
}

// RecipesChecked is how the project's recipes fit its files.
type RecipesChecked struct {
	Recipes []RecipeUse `json:"recipes"`
	Twice   []string    `json:"twice"`
}

// RecipeUse is a recipe with the documents and elements that it chose.
type RecipeUse struct {
	Recipe    string    `json:"recipe"`
	Documents int       `json:"documents"`
	Rules     []RuleUse `json:"rules"`
}

// RuleUse is a rule with the elements that it chose.
type RuleUse struct {
	At       string `json:"at"`
	Elements int    `json:"elements"`
}

// Schema names it.
func (RecipesChecked) Schema() string { return "oaken.recipe-check/1" }

// Found lists where a text is.
type Found struct {
	Hits []Hit `json:"hits"`
	// More says that there are more than those.
	More bool `json:"more"`
}

// Hit is a place where it is.
type Hit struct {
	Address string `json:"address"`
	Value   string `json:"value"`
	Kind    string `json:"kind"`
	// Came and Went say, with --history, when it came and when it went, null when it is still there.
	Came *string  `json:"came,omitempty"`
	Went **string `json:"went,omitempty"`
}

// Schema names it.
func (Found) Schema() string { return "oaken.find/1" }

// Authors says who wrote each element.
type Authors struct {
	Elements []Authored `json:"elements"`
}

// Authored is an element with the commit that made it what it is.
type Authored struct {
	Address string `json:"address"`
	Commit  Commit `json:"commit"`
}

// Schema names it.
func (Authors) Schema() string { return "oaken.authors/1" }

// Kinds lists the kinds of artifact.
type Kinds struct {
	Kinds []Kind `json:"kinds"`
}

// Kind is one of them.
type Kind struct {
	Kind   string `json:"kind"`
	About  string `json:"about"`
	Merges bool   `json:"merges"`
	Splits bool   `json:"splits"`
}

// Schema names it.
func (Kinds) Schema() string { return "oaken.kinds/1" }

// KindsOf gives kinds.
func KindsOf(list []kind.Kind) Kinds {
	return Kinds{each(list, func(k kind.Kind) Kind {
		_, merges := k.(kind.Writer)
		_, splits := k.(kind.Splitter)
		return Kind{k.Name(), k.About(), merges, splits}
	})}
}
