package recipe

import (
	"io"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/manifest"
)

// archive is a kind of what holds files: its documents are read by recipes of their
// own, and a recipe for the archive can call parts of it noise.
type archive interface {
	kind.Writer
	kind.Splitter
}

// archives are the kinds that recipes may speak of beside documents.
var archives = map[string]bool{"package": true, "tar": true, "workbook": true, "document": true}

// packed leaves parts of an archive out that recipes call noise.
type packed struct {
	archive
	rules []*Rule
	tell  func(*Report) // nil when nobody asks
}

var _ kind.Seamer = packed{}

// overArchive gives an archive's kind by recipes; k itself when none speaks of it.
// Rules for an archive choose it by `package`, `tar` or the like, and name parts as noise;
// `workbook/SHEET` says by which columns the rows of a sheet are known.
func overArchive(k kind.Kind, recipes []manifest.Recipe, tell func(*Report)) kind.Kind {
	var chosen []*Rule
	keys := map[string][]string{}
	sheets, keyed := k.(kind.RowKeyed)
	for _, rule := range newRules(recipes, false).all {
		if rule.At == k.Name() && len(rule.Noise) > 0 {
			chosen = append(chosen, rule)
		}
		if sheet, inside := strings.CutPrefix(rule.At, k.Name()+"/"); keyed && inside && keys[sheet] == nil && len(rule.Key) > 0 {
			keys[sheet] = rule.Key
			chosen = append(chosen, rule)
		}
	}
	if len(keys) > 0 {
		k = sheets.WithRowKeys(keys)
	}
	a, ok := k.(archive)
	if !ok || len(chosen) == 0 {
		return k
	}
	return packed{a, chosen, tell}
}

// hides gives the rule that calls a part noise; nil for none.
func (p packed) hides(e *element.Element) *Rule {
	for _, rule := range p.rules {
		if slices.Contains(rule.Noise, e.Type+"="+e.Key) || slices.Contains(rule.Noise, e.Key) {
			return rule
		}
	}
	return nil
}

// sheets counts the sheets that a rule says the keys of.
func (p packed) sheets(rule *Rule, root *element.Element) int {
	name, inside := strings.CutPrefix(rule.At, p.Name()+"/")
	n := 0
	for _, e := range root.Children {
		if inside && e.Type == "sheet" && (e.Key == name || name == "*") {
			n++
		}
	}
	return n
}

// Read reads the archive without the parts that are noise.
func (p packed) Read(src kind.Source) (*kind.Reading, error) {
	r, err := p.archive.Read(src)
	if err != nil {
		return nil, err
	}
	report := newReport(src.Path())
	v := &viewer{rules: &rules{all: p.rules, report: report}}
	report.Elements = len(r.Root.Children)
	for _, rule := range p.rules {
		report.uses[rule] += p.sheets(rule, r.Root)
	}
	r.Root.Children = slices.DeleteFunc(slices.Clone(r.Root.Children), func(e *element.Element) bool {
		rule := p.hides(e)
		if rule != nil {
			report.uses[rule]++
		}
		return rule != nil && v.drop(e)
	})
	if p.tell != nil {
		report.finish(v.rules)
		p.tell(report)
	}
	if v.hidden != nil {
		v.hidden.Write(r.Hidden[:])
		r.Hidden = element.Digest(v.hidden.Sum(nil))
	}
	return r, nil
}

// Write changes the archive so that want is what it shows.
func (p packed) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	r, err := p.archive.Read(src)
	if err != nil {
		return nil, err
	}
	whole := *want
	whole.Children = slices.Clone(want.Children)
	for _, e := range r.Root.Children {
		if p.hides(e) != nil {
			whole.Children = append(whole.Children, e)
		}
	}
	return p.archive.Write(src, &whole, kind.Contents(r.Content, content))
}

// Inner gives the kind of the archive.
func (p packed) Inner() kind.Kind { return p.archive }

// Seams are those of the archive.
func (p packed) Seams(file io.ReaderAt, size int64) []int64 {
	if s, ok := p.archive.(kind.Seamer); ok {
		return s.Seams(file, size)
	}
	return nil
}
