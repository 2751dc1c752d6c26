package manifest

import (
	"fmt"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Recipe is a project's own description of how files of a format are read.
type Recipe struct {
	Name string `toml:"name"`
	// Match is a pattern of paths; a part of a package has the package's path and
	// its own behind it.
	Match string `toml:"match"`
	// Kind is how the files are read where their content does not tell.
	Kind string `toml:"kind"`
	// Root narrows the recipe to documents whose root element is of this type.
	Root string `toml:"root"`
	// Elements are rules, of which the first that says something counts.
	Elements []ElementRule `toml:"element"`
}

// ElementRule says something of the elements that At chooses: the types of an
// element and of those it lies in, with / between; * stands for any one, ** for
// any number. `field` chooses every field, `form/field` those right inside a
// form; a rule that begins with / counts from the root.
type ElementRule struct {
	At string `toml:"at"`
	// Key names the properties that tell an element among its siblings; `a/b` is
	// property b of its child a.
	Key []string `toml:"key"`
	// Ordered says whether the order of the children means something.
	Ordered *bool `toml:"ordered"`
	// Noise names properties and children that say nothing; TYPE=KEY is one child.
	Noise []string `toml:"noise"`
	// Embedded tells how a property's text holds content.
	Embedded map[string]string `toml:"embedded"`
	// Part makes the element a file of its own when the artifact is split.
	Part bool `toml:"part"`
}

func (r Recipe) check() error {
	switch {
	case r.Name == "":
		return fmt.Errorf("a recipe has no name")
	case !doublestar.ValidatePattern(r.Match):
		return fmt.Errorf("the recipe %q has the match %q, which is not well formed", r.Name, r.Match)
	case r.Match == "" && r.Root == "":
		return fmt.Errorf("the recipe %q needs a match, a root, or both", r.Name)
	}
	for _, e := range r.Elements {
		if strings.Trim(e.At, "/") == "" || strings.Contains(strings.Trim(e.At, "/"), "//") {
			return fmt.Errorf("the recipe %q has a rule whose at is %q; write type, parent/type or /root/…/type", r.Name, e.At)
		}
		if len(e.Key) == 0 && e.Ordered == nil && len(e.Noise) == 0 && len(e.Embedded) == 0 && !e.Part {
			return fmt.Errorf("the recipe %q has a rule for %s that says nothing", r.Name, e.At)
		}
	}
	return nil
}
