// Package datastep reads data steps: SQL files in the folder data-steps/ of a database, that
// change rows where a declared schema alone can't say how, such as a name that is split in two.
//
// The format is our own, in comments that every SQL client passes over:
//
//	-- run: between
//	update keeper set first = split_part(name, ' ', 1);
//
//	-- check:
//	select id from keeper where first is null;
//
//	-- back:
//	update keeper set name = first || ' ' || last;
//
// `run` says when in a deployment: before it, between what is added and what is taken away
// (the default), or after it. What stands under `check` are queries that must give no row
// afterwards; what stands under `back` takes the step back, and `-- back: nothing` says that
// there is nothing to take back.
package datastep

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/schema/declared"
)

// Folder is where data steps stand, below the folder of the database.
const Folder = declared.StepsFolder

// When says when in a deployment a step runs.
type When string

// The times of a step.
const (
	Before  When = "before"
	Between When = "between"
	After   When = "after"
)

// Statement is one statement of a file, without what ends it.
type Statement struct {
	Text string
	// From and To are its place in the file in bytes, with what ends it.
	From, To int
	Line     int
}

// Split cuts a file into its statements, as an engine does.
type Split func(text string) ([]Statement, error)

// Script is a data step as its file says it.
type Script struct {
	File, Name string
	Text       string // of the whole file
	When       When
	// Body does it, Back takes it back, and Checks are queries that give no row when it is done.
	Body, Checks, Back []string
	// Harmless says that there is nothing to take back.
	Harmless bool
}

// Owns says that a file of a database's folder is a data step.
func Owns(name string) bool { return declared.IsStep(name) }

// Names lists the data steps of a folder in the order in which they run: by name.
func Names(files declared.Files) []string {
	return declared.Which(files, Owns)
}

// NameOf gives the name of a step by that of its file.
func NameOf(file string) string {
	return strings.TrimSuffix(strings.TrimPrefix(file, Folder), path.Ext(file))
}

var (
	mark = regexp.MustCompile(`(?im)^[ \t]*--[ \t]*(run|check|back)[ \t]*:[ \t]*([^\r\n]*)`)
	word = regexp.MustCompile(`[A-Za-z]+`)
	// transactions are what a step must not begin or end: it runs in that of the deployment.
	transactions = []string{"begin", "commit", "rollback", "start", "savepoint", "release", "end", "abort", "use", "delimiter"}
	queries      = []string{"select", "with", "values", "table"}
)

// Parse reads a file. Errors are a *declared.FileError with the line.
func Parse(split Split, file string, data []byte) (*Script, error) {
	s := &Script{File: file, Name: NameOf(file), Text: string(data), When: Between}
	list, err := split(s.Text)
	if err != nil {
		return nil, fmt.Errorf("%s, %w", file, err)
	}
	p := &parser{Script: s, list: list, seen: map[string]bool{}}
	for _, m := range mark.FindAllStringSubmatchIndex(s.Text, -1) {
		if err := p.mark(m); err != nil {
			return nil, &declared.FileError{File: file, Line: 1 + strings.Count(s.Text[:m[0]], "\n"), Err: err}
		}
	}
	if err := p.rest(len(s.Text)); err != nil {
		return nil, err
	}
	switch {
	case len(s.Body) == 0:
		err = errors.New("it has no statement that does something")
	case p.seen["back"] && !s.Harmless && len(s.Back) == 0:
		err = errors.New("nothing stands under `-- back:`; write statements there, or `-- back: nothing`")
	case p.seen["check"] && len(s.Checks) == 0:
		err = errors.New("no query stands under `-- check:`")
	default:
		return s, nil
	}
	return nil, &declared.FileError{File: file, Line: 1, Err: err}
}

// parser goes through a file.
type parser struct {
	*Script
	list    []Statement // those that are not taken yet
	section string      // the mark that they stand under
	seen    map[string]bool
}

// mark takes what stands before a mark, and reads it.
func (p *parser) mark(m []int) error {
	name, value := strings.ToLower(p.Text[m[2]:m[3]]), strings.ToLower(strings.TrimSpace(p.Text[m[4]:m[5]]))
	for _, st := range p.list {
		if st.From < m[0] && m[0] < st.To {
			return fmt.Errorf("`-- %s:` stands within a statement: end that with ; first", name)
		}
	}
	if err := p.rest(m[0]); err != nil {
		return err
	}
	if p.seen[name] {
		return fmt.Errorf("`-- %s:` is there twice", name)
	}
	p.seen[name] = true
	switch {
	case name == "run" && (len(p.Body) > 0 || p.section != ""):
		return errors.New("`-- run:` belongs above the first statement")
	case name == "run":
		p.When = When(value)
		if p.When != Before && p.When != Between && p.When != After {
			return fmt.Errorf("%q is no time to run: it is before, between or after", value)
		}
	case name == "back" && value == "nothing":
		p.Harmless, p.section = true, "nothing"
	case value != "":
		return fmt.Errorf("what belongs to `-- %s:` stands on the lines under it", name)
	default:
		p.section = name
	}
	return nil
}

// rest takes the statements up to a place.
func (p *parser) rest(upTo int) error {
	for len(p.list) > 0 && p.list[0].From < upTo {
		st := p.list[0]
		p.list = p.list[1:]
		first := strings.ToLower(word.FindString(st.Text))
		var err error
		switch {
		case slices.Contains(transactions, first):
			err = fmt.Errorf("%s has no place in a data step: the deployment sees to its transaction", first)
		case p.section == "":
			p.Body = append(p.Body, st.Text)
		case p.section == "nothing":
			err = errors.New("after `-- back: nothing` no statement follows")
		case p.section == "back":
			p.Back = append(p.Back, st.Text)
		case !slices.Contains(queries, first):
			err = errors.New("a check is a query that gives no row when all is well")
		default:
			p.Checks = append(p.Checks, st.Text)
		}
		if err != nil {
			return &declared.FileError{File: p.File, Line: st.Line, Err: err}
		}
	}
	return nil
}

// overwrites are the statements that take the place of what is there, with what stands between
// their first word and the name of the table.
var overwrites = regexp.MustCompile("(?is)^\\s*(?:update(?:\\s+only|\\s+ignore|\\s+or\\s+\\w+)?|delete\\s+from(?:\\s+only)?|truncate(?:\\s+table)?(?:\\s+only)?|replace\\s+into|merge\\s+into)\\s+((?:\"[^\"]+\"|`[^`]+`|[\\w$]+)(?:\\.(?:\"[^\"]+\"|`[^`]+`|[\\w$]+))?)")

// Overwrites lists the names of tables, as they are written, in which a step without a way back
// may change or remove what is there; sure is false where that can't be told.
func (s *Script) Overwrites() (tables []string, sure bool) {
	if s.Harmless || len(s.Back) > 0 {
		return nil, true
	}
	sure = true
	for _, st := range s.Body {
		first := strings.ToLower(word.FindString(stripped(st)))
		if m := overwrites.FindStringSubmatch(stripped(st)); m != nil {
			if !slices.Contains(tables, m[1]) {
				tables = append(tables, m[1])
			}
			continue
		}
		if replacing.MatchString(st) || first != "insert" && first != "select" && first != "set" && first != "analyze" {
			sure = false
		}
	}
	return tables, sure
}

// replacing is what an insert says that takes the place of rows which are there.
var replacing = regexp.MustCompile(`(?is)\bon\s+conflict\b.*\bdo\s+update\b|\bon\s+duplicate\s+key\s+update\b|^\s*insert\s+or\s+replace\b`)

var comments = regexp.MustCompile(`(?s)^(?:\s*(?:--[^\n]*\n|/\*.*?\*/))*\s*`)

// stripped gives a statement without the comments that it begins with.
func stripped(sql string) string { return sql[len(comments.FindString(sql)):] }
