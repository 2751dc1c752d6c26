package datastep

import (
	"slices"
	"strings"

	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
	"oakenchest/core/schema/step"
)

// Journal is how an engine runs data steps, and how a database says which were run by deployments
// of which nothing is recorded yet: a step and its entry are one transaction, so that a deployment
// that goes on after a cut neither leaves a step out nor does it twice.
type Journal struct {
	// Make are the statements that make the place of the entries; Add makes one.
	Make []string
	Add  func(token, name, text string, back bool) string
	// Begin and End stand around the statements of a step.
	Begin, End []string
	// Check gives the statements that fail when a query gives a row.
	Check func(name, query string) []string
	// Clear takes the entries away.
	Clear []string
}

// ByScript is the token of what a script ran, which the next deployment takes as done.
const ByScript = "script"

// Entry says that a step was run, or taken back.
type Entry struct {
	// Token tells the deployment.
	Token, Name, Text string
	Back              bool
}

// Entries reads entries of which a query gives token, name, text and whether it was taken back.
func Entries(rows interface {
	Next() bool
	Scan(...any) error
	Err() error
}) (out []Entry, err error) {
	for rows.Next() {
		var e Entry
		if err := rows.Scan(&e.Token, &e.Name, &e.Text, &e.Back); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Unmet says that the check of a step gave a row.
func Unmet(name string) string { return "data step " + name + ": its check finds rows" }

// SplitBy cuts the text of a data step into its statements by a dialect.
func SplitBy(d *sqltext.Dialect, text string) ([]Statement, error) {
	list, err := d.Statements(text)
	var out []Statement
	for _, s := range list {
		last := s.Tokens[len(s.Tokens)-1]
		out = append(out, Statement{Text: text[s.From:last.To], From: s.From, To: s.To, Line: s.Line})
	}
	return out, err
}

// Wanted is what data steps a plan is asked for.
type Wanted struct {
	// Due are the files of steps to run, Back the texts of those to take back.
	Due  []string
	Back declared.Files
	// Tokens tell the deployments that were begun and did not end; Undo says that what these ran
	// is taken back.
	Tokens []string
	Undo   bool
	// Unknown are those of which nobody knows whether they were run.
	Unknown []string
}

// Plan gives the steps of a plan; files are those of the folder. table finds a table by the name
// that a statement writes and gives its usual name, that in SQL, and whether rows are there. bare
// lists the steps that are to be taken back and have no way.
func (j Journal) Plan(split Split, files declared.Files, w Wanted, done []Entry,
	table func(name string) (usual, sql string, ok bool)) (out step.DataSteps, bare []string, err error) {
	ran := map[string]Entry{} // the last entry of each
	for _, e := range done {
		if slices.Contains(w.Tokens, e.Token) || e.Token == ByScript && !w.Undo {
			ran[e.Name] = e
		}
	}
	for _, file := range slices.Sorted(slices.Values(w.Due)) {
		s, err := Parse(split, file, files[file])
		if err != nil {
			return out, nil, err
		}
		if e, ok := ran[s.Name]; ok && !e.Back {
			out.Noted = true
			continue
		}
		put(&out, s.When, j.forward(s, table))
	}
	back := declared.Files{}
	for file, text := range w.Back {
		back[file] = text
	}
	for name, e := range ran {
		file := Folder + name + ".sql"
		switch {
		case e.Back:
			out.Noted = true
			delete(back, file)
		case w.Undo && !slices.Contains(w.Due, file):
			back[file] = []byte(e.Text)
		}
	}
	names := Names(back)
	slices.Reverse(names) // the last one first
	for _, file := range names {
		s, err := Parse(split, file, back[file])
		switch {
		case err != nil:
			return out, nil, err
		case len(s.Back) > 0:
			put(&out, opposite[s.When], j.backward(s))
		case !s.Harmless:
			bare = append(bare, s.Name)
		}
	}
	return out, bare, nil
}

// Runs is what a step of a plan says that runs a data step.
const Runs = "run the data step"

// TakesBack is what one says that takes a data step back.
const TakesBack = "take the data step back"

// opposite is when a step is taken back that runs at a time.
var opposite = map[When]When{Before: After, Between: Between, After: Before}

func put(d *step.DataSteps, when When, s step.Step) {
	switch when {
	case Before:
		d.Before = append(d.Before, s)
	case After:
		d.After = append(d.After, s)
	default:
		d.Between = append(d.Between, s)
	}
}

func (j Journal) forward(s *Script, table func(string) (string, string, bool)) step.Step {
	out := step.Step{Address: Address(s.Name), What: Runs, Effect: step.Unknown, Run: &step.Run{Name: s.Name, Text: s.Text, Does: s.Body}}
	out.Statements = slices.Concat(j.Begin, s.Body)
	for _, q := range s.Checks {
		out.Statements = append(out.Statements, j.Check(s.Name, q)...)
	}
	out.Statements = append(out.Statements, j.End...)
	names, sure := s.Overwrites()
	var lost []string
	for _, name := range names {
		if usual, sql, ok := table(name); ok {
			lost = append(lost, "table "+usual)
			out.Saves = append(out.Saves, step.Save{Table: sql, Apart: true})
		}
	}
	switch {
	case !sure:
		out.Loss = "what the step changes or removes is not known beforehand, and it has no way back"
		if len(lost) > 0 {
			out.Loss += "; saved: " + strings.Join(lost, ", ")
		}
	case len(lost) > 0:
		out.Loss = "the step changes or removes rows of " + strings.Join(lost, ", ") + " and has no way back"
	}
	return out
}

func (j Journal) backward(s *Script) step.Step {
	return step.Step{Address: Address(s.Name), What: TakesBack, Effect: step.Unknown,
		Run:        &step.Run{Name: s.Name, Text: s.Text, Back: true, Does: s.Back},
		Statements: slices.Concat(j.Begin, s.Back, j.End)}
}

// Written gives steps with the entries that data steps among them make for a deployment.
func (j Journal) Written(steps []step.Step, token string) []step.Step {
	if token == "" {
		return steps
	}
	out := slices.Clone(steps)
	made := false
	for i, s := range out {
		if s.Run == nil {
			continue
		}
		var first []string
		if !made {
			first, made = j.Make, true
		}
		body := s.Statements[:len(s.Statements)-len(j.End)]
		out[i].Statements = slices.Concat(first, body, []string{j.Add(token, s.Run.Name, s.Run.Text, s.Run.Back)}, j.End)
	}
	return out
}
