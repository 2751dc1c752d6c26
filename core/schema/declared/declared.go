// Package declared keeps folders of declarative SQL: one object a file, as people
// wrote it. It knows where each object's statements stand, what is wrong on which
// line, what things were called formerly, and how to change the files of a few
// objects while every other byte stays.
//
// It knows no engine: statements and their meaning come from the engine's package.
package declared

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/sqltext"
)

// Files are the files of a folder, by name below it; nil stands for one that goes.
type Files = map[string][]byte

// Place is where a statement stands in a file, in bytes.
type Place struct {
	File     string
	From, To int
	Line     int
}

// FileError says what is wrong with a declared file.
type FileError struct {
	File string
	Line int
	Err  error
}

// Error writes `FILE, line N: what`.
func (e *FileError) Error() string { return fmt.Sprintf("%s, line %d: %v", e.File, e.Line, e.Err) }

// Unwrap gives the cause.
func (e *FileError) Unwrap() error { return e.Err }

// Names lists the SQL files of a folder, sorted.
func Names(files Files) []string { return Which(files, Owns) }

// Which lists the files of a folder that something owns, sorted, without those that go.
func Which(files Files, owns func(name string) bool) (names []string) {
	for name, data := range files {
		if data != nil && owns(name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// StepsFolder is where data steps stand, which declare nothing; see package datastep.
const StepsFolder = "data-steps/"

// IsStep says that a file of the folder is a data step.
func IsStep(name string) bool {
	return strings.HasPrefix(name, StepsFolder) && strings.EqualFold(path.Ext(name), ".sql")
}

// Owns says that a file of the folder declares something.
func Owns(name string) bool { return strings.EqualFold(path.Ext(name), ".sql") && !IsStep(name) }

const mark = "formerly:"

// Formerly reads a comment that says what a thing was called: `-- formerly: NAME`.
func Formerly(comment string) (old string, ok bool) {
	text := strings.TrimSpace(strings.Trim(strings.TrimPrefix(comment, "--"), "/* \t\r"))
	if !strings.HasPrefix(strings.ToLower(text), mark) {
		return "", false
	}
	return strings.Trim(strings.TrimSpace(text[len(mark):]), "\"`[]"), true
}

// FormerName finds such a comment about one definition among the tokens of its whole
// statement: on the definition's last line, or inside it.
func FormerName(all, definition []sqltext.Token) (old string, ok bool) {
	last := definition[len(definition)-1]
	for _, t := range all {
		if t.Sort == sqltext.Comment && t.From > definition[0].From && (t.From < last.From || t.Line == last.Line) {
			if old, ok := Formerly(t.Text); ok {
				return old, true
			}
		}
	}
	return "", false
}

// Object is a thing with a file of its own, as it is to be written.
type Object struct {
	// ID is the same for the same object, and differs between objects.
	ID string
	// File is its usual place: `tables/tank.sql`.
	File string
	// Shared says that several objects may stand in that file, such as routines of
	// one name.
	Shared bool
	// Text gives its statements, each ended; asked for only when it is written.
	Text func() string
}

// Texts gives what asks for the text of an object by its ID, empty for none.
func Texts(list []Object) func(id string) string {
	byID := make(map[string]Object, len(list))
	for _, o := range list {
		byID[o.ID] = o
	}
	return func(id string) string {
		if o, ok := byID[id]; ok {
			return o.Text()
		}
		return ""
	}
}

// Update gives the files that differ when a folder is to declare what want lists:
// have tells the places of what the files declare by ID, same whether an object is
// as the files declare it. A file with no statement left is nil; empty tells that.
//
// What of a changed object stays as it was keeps the words in which the files say it: was
// gives the text of the object as it is declared, in the usual form, and d is the dialect.
func Update(d *sqltext.Dialect, files Files, have map[string][]Place, want []Object, same func(id string) bool, was func(id string) string,
	empty func(text string) bool) Files {
	u := &updater{files: files, out: Files{}, taken: map[string]bool{}, edits: map[string][]edit{}}
	for name := range files {
		u.taken[strings.ToLower(name)] = true
	}
	left := map[string]bool{}
	for id := range have {
		left[id] = true
	}
	for _, o := range want {
		switch places, known := have[o.ID]; {
		case !known && same != nil && same(o.ID): // it needs no statement
		case !known:
			u.add(o)
		case !same(o.ID):
			before := ""
			if was != nil {
				before = was(o.ID)
			}
			for i, text := range u.texts(d, places, before, o.Text()) {
				u.edits[places[i].File] = append(u.edits[places[i].File], edit{places[i], text})
			}
		}
		delete(left, o.ID)
	}
	for id := range left {
		for _, p := range have[id] {
			u.edits[p.File] = append(u.edits[p.File], edit{p, ""})
		}
	}
	for name, list := range u.edits {
		u.out[name] = splice(files[name], u.more[name], list, empty)
	}
	return u.out
}

// updater gathers what is to be written.
type updater struct {
	files, out Files
	taken      map[string]bool
	edits      map[string][]edit
	more       map[string]string // what is appended to files that are edited too
}

type edit struct {
	Place
	text string
}

// texts gives what is written in the place of each statement of an object.
func (u *updater) texts(d *sqltext.Dialect, places []Place, was, now string) []string {
	old := make([]string, len(places))
	out := make([]string, len(places))
	out[0] = strings.TrimSuffix(now, "\n")
	for i, p := range places {
		if d == nil || p.To > len(u.files[p.File]) {
			return out
		}
		old[i] = string(u.files[p.File][p.From:p.To])
	}
	if kept, ok := keep(d, old, was, now); ok {
		return kept
	}
	return out
}

// add writes an object that no file declares yet.
func (u *updater) add(o Object) {
	name := o.File
	lower := strings.ToLower(name)
	if u.taken[lower] && o.Shared {
		if _, edited := u.out[name]; edited {
			u.out[name] = append(append(u.out[name], '\n'), o.Text()...)
			return
		}
		if _, there := u.files[name]; there {
			if u.more == nil {
				u.more = map[string]string{}
			}
			u.more[name] += "\n" + o.Text()
			u.edits[name] = append(u.edits[name], edit{})
			return
		}
	}
	if u.taken[lower] {
		name = partfile.Names(u.taken).Take(strings.TrimSuffix(name, ".sql"), ".sql", o.ID)
	}
	u.taken[strings.ToLower(name)] = true
	u.out[name] = []byte(o.Text())
}

// splice carries out edits of one file; nil when no statement is left. Comments
// before a statement stay.
func splice(data []byte, more string, list []edit, empty func(string) bool) []byte {
	slices.SortFunc(list, func(a, b edit) int { return b.From - a.From })
	text := string(data)
	for _, e := range list {
		if e.To == 0 {
			continue
		}
		rest := text[e.To:]
		if e.text == "" {
			e.From = withRemarks(text, e.From)
			if behind := remarkBehind.FindString(rest); behind != "" {
				rest = rest[len(behind):]
			}
			rest = strings.TrimLeft(rest, "\r\n")
		}
		text = text[:e.From] + e.text + rest
	}
	text = strings.TrimRight(text, "\n") + "\n" + more
	if empty(text) {
		return nil
	}
	return []byte(text)
}

// remarkBehind is a comment behind a statement, on its line.
var remarkBehind = regexp.MustCompile(`^[ \t]*--[^\n]*`)

// withRemarks gives where the comments begin that stand right above a statement, and are
// about it.
func withRemarks(text string, at int) int {
	for at > 0 {
		above := strings.LastIndexByte(text[:at-1], '\n') + 1
		if !strings.HasPrefix(strings.TrimSpace(text[above:at]), "--") {
			break
		}
		at = above
	}
	return at
}

// Anew writes all objects, in place of files that can't be read together.
func Anew(files Files, want []Object) Files {
	out := Update(nil, nil, nil, want, nil, nil, nil)
	for name, data := range files {
		switch fresh, written := out[name]; {
		case written && string(fresh) == string(data):
			delete(out, name)
		case !written && Owns(name):
			out[name] = nil
		}
	}
	return out
}
