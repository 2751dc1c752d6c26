package page

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// Head stands above a comparison that is under review.
type Head struct {
	Title, Text string
	// Facts are short: who, from where to where, how it stands.
	Facts []string
	// Missing lists what is still needed, in sentences.
	Missing []string
	Remarks []Remark
}

// Remark is what somebody said.
type Remark struct {
	// Address is what it is about; empty for the whole.
	Address      string
	Author, When string
	// Word says what was done: commented, approved, declined. Sort is a word for the style.
	Word, Sort string
	Text       string
	// At is the address, where the remark does not stand beside it.
	At string
}

// place puts remarks beside the changes that they are about, or above the artifact.
func (p *Page) place(a Artifact, s *section) {
	rows := map[string]int{}
	for i, c := range a.Changes {
		if i < len(s.Changes) && len(s.Changes) == min(len(a.Changes), mostChanges) { // none was left out
			rows[c.Address.String()] = i
		}
	}
	for _, r := range p.Remarks {
		if path, _, _ := strings.Cut(r.Address, "::"); path != a.Path && !strings.HasPrefix(r.Address, a.Path+"/") {
			continue
		}
		at := r.Address
		i, ok := rows[at]
		for key, n := range rows { // a remark about an element stands by its first property
			if !ok && strings.HasPrefix(key, at+".") {
				i, ok = n, true
			} else if ok && strings.HasPrefix(key, at+".") {
				i = min(i, n)
			}
		}
		if ok {
			s.Changes[i].Remarks = append(s.Changes[i].Remarks, r)
			continue
		}
		if at != a.Path {
			r.At = strings.TrimPrefix(at, a.Path+"::")
		}
		s.Remarks = append(s.Remarks, r)
	}
}

// Clash is a conflict as the page shows it.
type Clash struct {
	At, Base, Mine, Theirs string
	// Keep lists what may be kept; Command is what settles it.
	Keep, Command string
}

// AddConflicts puts the open conflicts of a merge on the page, by artifact; options are those
// that a command needs to settle them.
func (p *Page) AddConflicts(all []element.Conflict, options string, kindOf func(path string) string) {
	for _, c := range all {
		i := slices.IndexFunc(p.artifacts, func(s section) bool { return s.Path == c.Address.Path })
		if i < 0 {
			i = len(p.artifacts)
			p.artifacts = append(p.artifacts, section{ID: fmt.Sprintf("a%d", i+1), Path: c.Address.Path, Kind: kindOf(c.Address.Path),
				Word: "edited"})
		}
		s := &p.artifacts[i]
		at := strings.TrimPrefix(c.Address.String(), c.Address.Path+"::")
		if c.Address.Whole() {
			at = "the whole"
		}
		var keep []string
		for _, k := range c.Allows {
			keep = append(keep, string(k))
		}
		s.Clashes = append(s.Clashes, Clash{at, shorten(c.Base.String()), shorten(c.Mine.String()), shorten(c.Theirs.String()),
			strings.Join(keep, ", "), "oaken resolve " + quoted(c.Address.String()) + options + " --keep mine"})
		s.Count++
	}
}

// quoted writes an address so that a shell takes it as one word.
func quoted(s string) string {
	if strings.ContainsAny(s, " \"'$`\\()*?[]{}#&;<>|!") {
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	return s
}
