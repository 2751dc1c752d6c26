package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/trust"
	"oakenchest/core/workspace"
)

func newCompare(a *App) *cobra.Command {
	o := &compareOptions{}
	cmd := &cobra.Command{
		Use:   "compare [FROM [TO]] [PATH...]",
		Short: "Show what differs between two states, in each artifact's own terms",
		Long: `Show what differs between two states. FROM is the commit that the workspace
stands on, and TO the workspace, unless they are named.

A state is work (this workspace), BRANCH, BRANCH:NUMBER, release:NAME, env:NAME,
file:PATH, or the first characters of a commit's id. To name a path that is also
the name of a state, write ./PATH.

--lines shows texts line by line, those inside packages too. --html makes one page
to look at in a browser: pictures side by side, sounds as waves, a scene's nodes as
a table. --viewer runs the programs that oaken.toml names for kinds, so look there
first in a project that is not yours:

  [[viewer]]
  kind = "picture"
  command = ["my-viewer", "{from}", "{to}"]`,
		Example: "  oaken compare\n  oaken compare main:1 main exhibit\n  oaken compare env:test env:dev\n" +
			"  oaken compare file:old.glb file:new.glb\n  oaken compare main:1 main --html changes.html",
		GroupID:           groupDaily,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: a.completeStates,
		RunE: func(cmd *cobra.Command, args []string) error {
			if fileStates(args) {
				return a.compareFiles(cmd.Context(), args, o)
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				from, to, paths, err := a.comparison(cmd.Context(), w, args)
				if err != nil {
					return err
				}
				o.trust = a.keeper(w)
				return a.compareStates(cmd.Context(), w.Reader(), from, to, paths, o)
			})
		},
	}
	cmd.Flags().BoolVar(&o.check, "check", false, "end with status 1 when something differs")
	cmd.Flags().BoolVar(&a.All, "all", false, "show each change in its line, and addresses whole")
	cmd.Flags().BoolVar(&o.summary, "summary", false, "show one line an artifact")
	cmd.Flags().BoolVar(&o.lines, "lines", false, "show texts line by line")
	cmd.Flags().StringVar(&o.html, "html", "", "draw the comparison on one page, in `FILE`")
	cmd.Flags().BoolVar(&o.viewer, "viewer", false, "open the programs that oaken.toml names for kinds")
	cmd.MarkFlagsMutuallyExclusive("summary", "lines", "html", "viewer")
	return cmd
}

// compareOptions say how a comparison is shown.
type compareOptions struct {
	check, summary, lines, viewer bool
	trust                         trust.Keeper // asked before a viewer is opened; nil where no project names one
	html                          string
}

// compareStates compares two states and shows what differs.
func (a *App) compareStates(ctx context.Context, r *state.Reader, from, to state.State, paths []string, o *compareOptions) error {
	diffs, err := r.Compare(ctx, from, to, paths)
	if err != nil {
		return err
	}
	diffs = slices.DeleteFunc(diffs, func(d state.Difference) bool { return d.Noise })
	c := &comparison{reader: r, from: from, to: to, diffs: diffs}
	switch {
	case o.html != "":
		err = a.drawComparison(ctx, c, o.html)
	case o.viewer:
		if err = a.openViewers(ctx, c, o.trust); err == nil && a.JSON {
			a.showComparison(c, false)
		}
	case o.lines && !a.JSON:
		err = a.showLines(ctx, c)
	default:
		a.showComparison(c, o.summary)
	}
	if err == nil && o.check && len(diffs) > 0 {
		return &foundDifference{}
	}
	return err
}

// comparison is what was found between two states.
type comparison struct {
	reader   *state.Reader
	from, to state.State
	diffs    []state.Difference
}

func fileStates(args []string) bool {
	return len(args) == 2 && strings.HasPrefix(args[0], "file:") && strings.HasPrefix(args[1], "file:")
}

// comparison reads the states and paths of a call.
func (a *App) comparison(ctx context.Context, w *workspace.Workspace, args []string) (from, to state.State, paths []string, err error) {
	from, to = w.BaseState(), w.Work()
	var states []state.State
	for len(args) > 0 && len(states) < 2 {
		is, err := a.asked(w).IsState(ctx, args[0])
		if err != nil {
			return nil, nil, nil, err
		}
		if !is {
			break
		}
		s, err := a.asked(w).State(ctx, args[0])
		if err != nil {
			return nil, nil, nil, err
		}
		states, args = append(states, s), args[1:]
	}
	if len(states) > 0 {
		from = states[0]
	}
	if len(states) > 1 {
		to = states[1]
	}
	if paths, err = a.asked(w).Paths(args); err != nil {
		return nil, nil, nil, err
	}
	return a.alignFiles(ctx, from, to, paths)
}

// alignFiles lets a file on disk be compared with one artifact of a state, and
// refuses paths that neither state has.
func (a *App) alignFiles(ctx context.Context, from, to state.State, paths []string) (state.State, state.State, []string, error) {
	for i, s := range []*state.State{&from, &to} {
		m, ok := (*s).(state.Memory)
		if !ok || !strings.HasPrefix(m.Name, "file:") {
			continue
		}
		if len(paths) != 1 {
			return nil, nil, nil, fault.New(fault.Usage, "Write, for example, oaken compare "+[]string{m.Name + " main PATH",
				"main " + m.Name + " PATH"}[i]+".", "A file is compared with one artifact, and its path is missing.")
		}
		for _, data := range m.Contents {
			*s = state.Memory{Name: m.Name, Contents: map[string][]byte{paths[0]: data}}
		}
	}
	if len(paths) == 0 {
		return from, to, paths, nil
	}
	var files []state.File
	for _, s := range []state.State{from, to} {
		list, err := s.Files(ctx)
		if err != nil {
			return nil, nil, nil, err
		}
		files = append(files, list...)
	}
	for _, p := range paths {
		if slices.ContainsFunc(files, func(f state.File) bool { return state.Under([]string{p}, f.Path) }) {
			continue
		}
		names := state.NamesOf(files)
		if a.current != nil {
			names = append(names, a.current.StateNames(ctx)...)
		}
		return nil, nil, nil, fault.New(fault.Usage,
			"States are work, BRANCH, BRANCH:NUMBER, release:NAME, env:NAME, file:PATH or a commit's id; paths are those of the project.",
			"%q is neither a state nor a path in %s or %s.", p, from.Label(), to.Label()).Among(p, names)
	}
	return from, to, paths, nil
}

// compareFiles compares two files on disk; no workspace is needed.
func (a *App) compareFiles(ctx context.Context, args []string, o *compareOptions) error {
	var sides [2]state.State
	for i, arg := range args {
		s, err := service.FileState(a.folder(), strings.TrimPrefix(arg, "file:"))
		if err != nil {
			return err
		}
		sides[i] = s
	}
	name := ""
	for n := range sides[1].(state.Memory).Contents {
		name = n
	}
	for _, data := range sides[0].(state.Memory).Contents {
		sides[0] = state.Memory{Name: args[0], Contents: map[string][]byte{name: data}}
	}
	sides[1] = state.Memory{Name: args[1], Contents: sides[1].(state.Memory).Contents}
	full := a.at(strings.TrimPrefix(args[1], "file:"))
	reader, below, err := a.readerAt(full)
	if err != nil {
		return err
	}
	o.trust = a.keeperOf(strings.TrimSuffix(filepath.ToSlash(full), "/"+below), reader.Manifest)
	return a.compareStates(ctx, reader, sides[0], sides[1], nil, o)
}

func (a *App) showComparison(c *comparison, summary bool) {
	from, to := c.from.Label(), c.to.Label()
	if a.JSON {
		a.print(result.Compared{From: from, To: to, Changes: result.ChangesOf(c.diffs)})
	} else if len(c.diffs) == 0 {
		a.Say("%s and %s are alike.", from, to)
	} else {
		a.Say("%s", a.Paint(screen.Faint, from+" → "+to))
		a.showDifferences(c.diffs, summary)
	}
}

// valueWidth is how much of a value is shown on a line.
const valueWidth = 60

// showDifferences writes a line for each change, its address first.
func (a *App) showDifferences(diffs []state.Difference, summary bool) {
	if a.Quiet {
		return
	}
	diffs, rows := a.gatherMoves(diffs)
	for _, d := range diffs {
		switch {
		case d.Noise:
			continue
		case summary && len(d.Changes) != 1:
			rows = append(rows, []screen.Cell{screen.Plain.Cell(d.Path), screen.Warm.Cell(screen.Count(len(d.Changes), "change")),
				screen.Faint.Cell(d.Kind)})
			continue
		case d.Quiet:
			rows = append(rows, []screen.Cell{screen.Plain.Cell(d.Path), screen.Faint.Cell(result.OnlyBytes)})
		}
		var told []toldChange
		for _, c := range d.Changes {
			text, t := changeText(c, a.words(d.Kind))
			if note := d.Note(c); note != "" {
				text = note
			}
			told = append(told, toldChange{address: c.Address, text: text, tone: t})
		}
		for _, c := range a.repeated(a.gathered(d.Kind, told)) {
			row := []screen.Cell{screen.Plain.Cell(a.shortAddress(c.address.String())), c.tone.Cell(c.text)}
			if c.more > 0 {
				row = append(row, screen.Faint.Cell("and in "+screen.Count(c.more, "more place")+"; --all shows each"))
			}
			rows = append(rows, row)
		}
		if d.Why != "" {
			rows = append(rows, []screen.Cell{screen.Plain.Cell(d.Path), screen.Warm.Cell(result.UnreadNote(d.Kind, d.Why))})
		}
	}
	a.Table(a.Out, "  ", rows)
}

// toldChange is a change in words.
type toldChange struct {
	address element.Address
	text    string
	tone    screen.Tone
	more    int // how many others say the same
}

// gathered tells equal changes of elements that lie beside each other as one.
func (a *App) gathered(kindName string, list []toldChange) []toldChange {
	k, _ := a.kinds.Named(kindName)
	ranger, ok := kind.Ability[kind.Ranger](k)
	if !ok {
		return list
	}
	type group struct{ parent, typ, property, text string }
	of := func(c toldChange) (group, bool) {
		n := len(c.address.Steps) - 1
		if n < 0 || c.address.Property == "" {
			return group{}, false
		}
		above := c.address
		above.Steps, above.Property = above.Steps[:n], ""
		return group{above.String(), c.address.Steps[n].Type, c.address.Property, c.text}, true
	}
	keys := map[group][]string{}
	for _, c := range list {
		if g, ok := of(c); ok {
			keys[g] = append(keys[g], c.address.Steps[len(c.address.Steps)-1].Key)
		}
	}
	var out []toldChange
	done := map[group]bool{}
	for _, c := range list {
		g, ok := of(c)
		if !ok || len(keys[g]) < 2 {
			out = append(out, c)
			continue
		}
		if done[g] {
			continue
		}
		done[g] = true
		areas := ranger.Ranges(g.typ, keys[g])
		if areas == nil {
			areas = keys[g]
		}
		for _, area := range areas {
			at := c.address
			at.Steps = append(at.Steps[:len(at.Steps)-1:len(at.Steps)-1], element.Step{Type: g.typ, Key: area})
			out = append(out, toldChange{address: at, text: c.text, tone: c.tone})
		}
	}
	return out
}

// words gives how values of a kind are written for people.
func (a *App) words(kindName string) func(property string, v element.Value) string {
	k, _ := a.kinds.Named(kindName)
	speaker, _ := kind.Ability[kind.Speaker](k)
	return func(property string, v element.Value) string {
		if speaker != nil {
			if text := speaker.Say(property, v); text != "" {
				return text
			}
		}
		return v.String()
	}
}

// changeText says what happened, so that it reads on from the address.
func changeText(c element.Change, say func(string, element.Value) string) (string, screen.Tone) {
	switch c.Kind {
	case element.Added, element.Removed:
		t := screen.Good
		if c.Kind == element.Removed {
			t = screen.Bad
		}
		if c.Element == nil || c.Element.Summary() == "" {
			return string(c.Kind), t
		}
		return string(c.Kind) + "  " + screen.OneLine(c.Element.Summary(), 2*valueWidth), t
	case element.Edited:
		from, to := screen.Cut(say(c.Address.Property, c.From), say(c.Address.Property, c.To), valueWidth)
		return from + " → " + to, screen.Warm
	default:
		return string(c.Kind) + "  " + screen.OneLine(c.From.String(), valueWidth) + " → " + screen.OneLine(c.To.String(),
			valueWidth), screen.Warm
	}
}
