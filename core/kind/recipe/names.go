package recipe

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// Documents of OpenDocument number the styles that their programs make by themselves: T1
// may be italic today and bold tomorrow. The view calls each by what it says, so that a
// reference means the same in every version.

const (
	ownStyles = "office:automatic-styles"
	styleName = "style:name"
)

// namesByContent gives the styles of a document, in place, names that come from what they
// say, and gives the former names by these. Styles that say the same are one.
func namesByContent(root *element.Element) map[string]string {
	if root.Type != "office:document-content" && root.Type != "office:document-styles" {
		return nil
	}
	holder := stylesOf(root)
	if holder == nil {
		return nil
	}
	holder.Ordered = false
	names := map[string]string{} // by former names
	twice := map[string]bool{}
	for _, s := range holder.Children {
		name := s.Prop(styleName).Text()
		twice[name] = twice[name] || names[name] != ""
		names[name] = name
	}
	// Styles that refer to others come after those.
	for round := 0; round < 3; round++ {
		next := map[string]string{}
		for _, s := range holder.Children {
			if name := s.Prop(styleName).Text(); name != "" && !twice[name] {
				next[name] = nameOfContent(s, names)
			}
		}
		names = next
	}
	former := map[string]string{}
	kept := holder.Children[:0:0]
	for _, s := range holder.Children {
		name := s.Prop(styleName).Text()
		if fresh := names[name]; fresh != "" {
			if former[fresh] != "" {
				continue
			}
			former[fresh] = name
		}
		kept = append(kept, s)
	}
	holder.Children = kept
	rename(root, names)
	return former
}

// stylesOf gives what holds the styles that a program made by itself; nil for none.
func stylesOf(root *element.Element) *element.Element {
	for _, c := range slices.Backward(root.Children) {
		if c.Type == ownStyles {
			return c
		}
	}
	return nil
}

// fitsNames says which style of want has neither the name that the view gives it nor the
// name and content of one in have.
func fitsNames(have, want *element.Element) error {
	was := map[string]element.Digest{}
	if styles := stylesOf(have); styles != nil {
		for _, s := range styles.Children {
			was[s.Prop(styleName).Text()] = s.Sum()
		}
	}
	styles := stylesOf(want)
	if styles == nil {
		return nil
	}
	for _, s := range styles.Children {
		name := s.Prop(styleName).Text()
		if old, there := was[name]; there && old == s.Sum() {
			continue
		}
		if name != nameOfContent(s, nil) {
			return fmt.Errorf("the style %q is known by what it says, and does not say it", name)
		}
	}
	return nil
}

// nameOfContent gives the name that a style has by what it says.
func nameOfContent(s *element.Element, names map[string]string) string {
	c := s.Clone()
	c.Key = ""
	c.Set(styleName, element.Value{})
	rename(c, names)
	sum := c.Sum()
	letters := s.Prop("style:family").Text()
	if letters == "" {
		_, letters, _ = strings.Cut(s.Type, ":")
	}
	return letters + "-" + hex.EncodeToString(sum[:6])
}

// namesStyle reports whether a property names a style.
func namesStyle(property string) bool {
	return property == styleName || strings.HasSuffix(property, ":style-name") || strings.HasSuffix(property, "-style-name")
}

// rename puts names in place of others, in all references of a tree.
func rename(e *element.Element, names map[string]string) {
	for i, p := range e.Props {
		if !namesStyle(p.Name) {
			continue
		}
		if fresh := names[p.Value.Text()]; fresh != "" && fresh != p.Value.Text() {
			if e.Key == p.Value.Text() {
				e.Key = fresh
			}
			e.Props = slices.Clone(e.Props)
			e.Props[i].Value = element.TextValue(fresh)
		}
	}
	for _, c := range e.Children {
		rename(c, names)
	}
}
