package recipe

import (
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/manifest"
)

// picture is what the kind of pictures can do.
type picture interface {
	kind.Seamer
	kind.Measurer
}

// described leaves out of a picture what says nothing: what programs write of themselves, and what recipes
// call noise. Rules choose it by `picture`; they name properties, texts and chunks by their keys, or `text`
// and `chunk` for all of them.
type described struct {
	picture
	rules []*Rule
	tell  func(*Report) // nil when nobody asks
}

// ofTools are the keys of texts in which programs say that they were there (PNG, ISO/IEC 15948, 11.3.4.2; EXIF,
// CIPA DC-008, 4.6.4), and when: not when the picture was taken.
var ofTools = []string{"software", "processingsoftware", "hostcomputer", "date:create", "date:modify", "date:timestamp"}

// glanced is described where no recipe speaks of the picture: it is not read to be listed.
type glanced struct{ described }

var _ kind.Quick = glanced{}

// Quick says so.
func (glanced) Quick() {}

// overPicture gives the kind of pictures by recipes.
func overPicture(k kind.Kind, recipes []manifest.Recipe, tell func(*Report)) kind.Kind {
	p, ok := k.(picture)
	if !ok {
		return k
	}
	d := described{picture: p, tell: tell}
	for _, rule := range newRules(recipes, false).all {
		if rule.At == k.Name() && len(rule.Noise) > 0 {
			d.rules = append(d.rules, rule)
		}
	}
	if len(d.rules) == 0 {
		return glanced{d}
	}
	return d
}

// Inner gives the kind that reads the picture.
func (d described) Inner() kind.Kind { return d.picture }

// says gives the rule that calls something noise by one of its names; nil for none.
func (d described) says(names ...string) *Rule {
	for _, rule := range d.rules {
		if slices.ContainsFunc(names, func(n string) bool { return slices.Contains(rule.Noise, n) }) {
			return rule
		}
	}
	return nil
}

// Read reads what a picture says, less what says nothing.
func (d described) Read(src kind.Source) (*kind.Reading, error) {
	r, err := d.picture.Read(src)
	if err != nil {
		return nil, err
	}
	report := newReport(src.Path())
	v := &viewer{rules: &rules{all: d.rules, report: report}}
	report.Elements = len(r.Root.Children)
	leave := func(e *element.Element, names ...string) bool {
		rule := d.says(names...)
		if rule != nil {
			report.uses[rule]++
		}
		return rule != nil && v.drop(e)
	}
	root := *r.Root
	root.Props = slices.DeleteFunc(slices.Clone(root.Props), func(p element.Prop) bool {
		return leave(&element.Element{Props: []element.Prop{p}}, p.Name)
	})
	root.Children = slices.DeleteFunc(slices.Clone(root.Children), func(c *element.Element) bool {
		if (c.Type == "text" || c.Type == "field") && slices.Contains(ofTools, strings.ToLower(c.Key)) {
			return v.drop(c)
		}
		return leave(c, c.Key, c.Type, c.Type+"="+c.Key)
	})
	if d.tell != nil {
		report.finish(v.rules)
		d.tell(report)
	}
	out := *r
	if out.Root = &root; v.hidden != nil {
		out.Hidden = element.Digest(v.hidden.Sum(nil))
	}
	return &out, nil
}
