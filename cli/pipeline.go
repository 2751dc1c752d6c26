package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/board"
	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newPipeline(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "pipeline",
		Short: "Show the landscape of environments, and check it",
		Long: `The pipeline is declared in oaken.toml: lanes, environments with their tiers, the
moves that are allowed between them, gates and freezes (docs/pipeline.md).`,
		Example:           "  oaken pipeline show\n  oaken pipeline check",
		GroupID:           groupPipeline,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newPipelineShow(a), newPipelineItems(a), newPipelineCheck(a), newPipelineAdd(a))
	return cmd
}

func newPipelineShow(a *App) *cobra.Command {
	var svg, html string
	var about bool
	cmd := &cobra.Command{
		Use:   "show",
		Short: "Show what every environment has, waits for and is owed",
		Long: `Show the environments lane by lane: what each has, since when and by whom, how much
work waits for it, what it is owed, what was changed there by hand when it was looked
at last, and who has booked it. It is read from the records, so it is quick; oaken
drift looks at the environments themselves.

--html writes the board, a page for a screen on the wall; --svg the picture alone.
--about says what each environment is for, for newcomers.`,
		Example:           "  oaken pipeline show\n  oaken pipeline show --html board.html\n  oaken pipeline show --about",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.showPipeline(cmd.Context(), w, svg, html, about) })
		},
	}
	cmd.Flags().StringVar(&svg, "svg", "", "write the picture to `FILE`")
	cmd.Flags().StringVar(&html, "html", "", "write the board as a page to `FILE`")
	cmd.Flags().BoolVar(&about, "about", false, "say what each environment is for")
	_ = cmd.MarkFlagFilename("svg", "svg")
	_ = cmd.MarkFlagFilename("html", "html")
	return cmd
}

// newestOnBoard is how many deployments the board lists.
const newestOnBoard = 15

func (a *App) showPipeline(ctx context.Context, w *workspace.Workspace, svg, html string, about bool) error {
	m := a.mover(w)
	o, err := m.Overview(ctx)
	if err != nil {
		return err
	}
	var written []string
	write := func(name string, fill func(*strings.Builder) error) error {
		if name == "" {
			return nil
		}
		if err := writeTo(a.at(name), fill); err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", name, err)
		}
		a.keepApart(name)
		written = append(written, name)
		return nil
	}
	if err := write(svg, func(b *strings.Builder) error { return board.Plain(b, o) }); err != nil {
		return err
	}
	err = write(html, func(b *strings.Builder) error {
		recent, err := m.Deployments(ctx, "", time.Time{}, time.Time{})
		if err != nil {
			return err
		}
		return board.Page(b, &board.Board{Overview: o, Recent: recent[:min(newestOnBoard, len(recent))]})
	})
	if err != nil {
		return err
	}
	switch {
	case a.JSON:
		a.print(result.OverviewOf(o, written))
	case len(o.Stages) == 0:
		a.Say("There is no pipeline yet. Declare environments with oaken env add NAME TARGET --tier TIER, and moves in oaken.toml " +
			"(docs/pipeline.md).")
	case len(written) > 0:
		a.Say("Written to %s.", strings.Join(written, " and "))
	default:
		a.drawPipeline(o, about)
		if m.Other(ctx) {
			a.Note("\nThis workspace's oaken.toml declares another pipeline. What branch %s has counts, until it is merged there.",
				chest.FirstBranch)
		}
	}
	return nil
}

func (a *App) drawPipeline(o *pipeline.Overview, about bool) {
	var rows [][]screen.Cell // one table, so that the columns of all lanes stand below each other
	for _, lane := range o.Lanes() {
		stages := slices.DeleteFunc(slices.Clone(o.Stages), func(s pipeline.StageView) bool { return s.Lane != lane })
		if len(stages) == 0 {
			continue
		}
		slices.SortStableFunc(stages, func(x, y pipeline.StageView) int { return x.Column - y.Column })
		if len(rows) > 0 {
			rows = append(rows, []screen.Cell{{}})
		}
		rows = append(rows, []screen.Cell{screen.Plain.Cell(a.laneTitle(o, lane))})
		for _, s := range stages {
			rows = append(rows, a.stageRow(o, &s))
			if about {
				for _, text := range aboutStage(&s) {
					rows = append(rows, []screen.Cell{screen.Faint.Cell("      " + text)})
				}
			}
		}
	}
	a.Table(a.Out, "", rows)
	a.showStands(o)
	a.showComing(o)
	if names := o.Landscape.Outside(); len(names) > 0 {
		a.Say("\n%s", a.Paint(screen.Faint, "Outside of the pipeline, with no move to or from them: "+strings.Join(names, ", ")))
	}
	grave := 0
	for _, f := range o.Findings {
		if f.Grave {
			grave++
		}
	}
	if grave > 0 {
		a.Say("\n%s", a.Paint(screen.Bad, fmt.Sprintf("%s wrong with the landscape: oaken pipeline check.",
			isAreCount(grave, "thing is", "things are"))))
	}
}

// showStands tells what can go now, and what the person can do for it.
func (a *App) showStands(o *pipeline.Overview) {
	var rows [][]screen.Cell
	for _, m := range o.Moves {
		if m.Waiting == 0 || len(m.Has.Parents) == 0 && m.Has.Depth == 0 {
			continue
		}
		stands := screen.Good.Cell("open")
		if shut := m.Stand.Shut(); len(shut) > 0 {
			stands = screen.Bad.Cell("shut: " + strings.Join(shut, ", "))
		} else if run := m.Stand.ToBeRun(); len(run) > 0 {
			stands = screen.Good.Cell("open; to be run: " + strings.Join(run, ", "))
		}
		mine := ""
		if len(m.Stand.Mine) > 0 {
			mine = "you can: " + m.Stand.Mine[0]
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell("  " + m.From + " → " + m.To),
			screen.Plain.Cell(screen.Count(m.Waiting, "commit")),
			stands, screen.Plain.Cell(mine)})
		for _, more := range m.Stand.Mine[min(1, len(m.Stand.Mine)):] {
			rows = append(rows, []screen.Cell{{}, {}, {}, screen.Plain.Cell("         " + more)})
		}
	}
	if len(rows) > 0 {
		a.Say("\n%s", a.Paint(screen.Strong, "What waits to move"))
		a.Table(a.Out, "", rows)
	}
}

// showComing tells which promotions are planned.
func (a *App) showComing(o *pipeline.Overview) {
	var rows [][]screen.Cell
	for _, p := range o.Planned {
		word := ""
		if !p.Due.After(o.At) {
			word = "due: oaken promote --due"
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell("  " + p.Origin + " → " + p.Target), screen.Plain.Cell(screen.Clock(p.Due)),
			screen.Plain.Cell("planned by " + p.Person), screen.Warm.Cell(word)})
	}
	if len(rows) > 0 {
		a.Say("\n%s", a.Paint(screen.Strong, "Planned"))
		a.Table(a.Out, "", rows)
	}
}

func (a *App) laneTitle(o *pipeline.Overview, name string) string {
	switch {
	case name == "" && len(o.Landscape.Manifest.Pipeline.Lanes) == 0:
		return a.Paint(screen.Strong, "Environments")
	case name == "":
		return a.Paint(screen.Strong, "shared")
	}
	lane, _ := o.Landscape.Manifest.Pipeline.Lane(name)
	more := strings.Join(lane.Developers, ", ")
	if lane.Branch != "" {
		more = strings.TrimPrefix(more+", branch "+lane.Branch, ", ")
	}
	return a.Paint(screen.Strong, name) + "  " + a.Paint(screen.Faint, more)
}

// stageRow is one environment of the landscape in a terminal.
func (a *App) stageRow(o *pipeline.Overview, s *pipeline.StageView) []screen.Cell {
	word := s.Word()
	t := map[string]screen.Tone{"level": screen.Good, "drifted": screen.Bad, "in doubt": screen.Bad, "unfinished": screen.Bad,
		"out of reach": screen.Bad,
		"owed work":    screen.Warm, "frozen": screen.Warm}[word]
	has := "nothing deployed yet"
	if s.Has != nil {
		has = workspace.Label(*s.Has)
		if s.Release != "" {
			has += " (" + s.Release + ")"
		}
	}
	when := ""
	if s.Has != nil {
		when = s.When.Local().Format("2 Jan 15:04") + " " + s.By
	}
	var next, notes []string
	for _, m := range o.Moves {
		if m.From == s.Name {
			next = append(next, m.To)
		}
	}
	if n := len(s.Waiting); n > 0 {
		notes = append(notes, fmt.Sprintf("%d waiting", n))
	}
	if n := len(s.Owed); n > 0 {
		notes = append(notes, fmt.Sprintf("%d owed", n))
	}
	if s.After != nil && len(s.After.Failed()) > 0 && s.Word() == "in doubt" {
		notes = append(notes, strings.Join(s.After.Failed(), ", ")+" did not pass")
	}
	if s.Drift != nil && s.Drift.Differences > 0 {
		notes = append(notes, fmt.Sprintf("%d changed by hand", s.Drift.Differences))
	}
	for _, b := range s.Bookings {
		if b.Holds(o.At) {
			notes = append(notes, "booked for "+b.Lane+" until "+b.Until.Local().Format("2 Jan 15:04"))
		} else {
			notes = append(notes, b.Lane+" has it from "+b.From.Local().Format("2 Jan 15:04"))
		}
	}
	for _, p := range s.Settling {
		notes = append(notes, "what comes from "+p.Origin+" is being settled, by "+p.Person)
	}
	if s.Freeze != nil {
		notes = append(notes, "frozen: "+s.Freeze.Why)
	}
	to := ""
	if len(next) > 0 {
		to = "→ " + strings.Join(next, ", ")
	}
	return []screen.Cell{screen.Strong.Cell("  " + s.Name), screen.Faint.Cell(string(s.Tier)), screen.Faint.Cell(to),
		screen.Plain.Cell(has), screen.Faint.Cell(when), t.Cell(word),
		screen.Plain.Cell(strings.Join(notes, ", "))}
}

// aboutStage says what an environment is for.
func aboutStage(s *pipeline.StageView) []string {
	var out []string
	if s.About != "" {
		out = append(out, s.About)
	}
	if len(s.Controllers) > 0 {
		out = append(out, strings.Join(s.Controllers, ", ")+" decides what goes in")
	}
	if len(s.Integrations) > 0 {
		out = append(out, "connected with "+strings.Join(s.Integrations, ", "))
	}
	if s.Volume != "" {
		out = append(out, "data: "+s.Volume)
	}
	return append(out, "target: "+s.Targets())
}

func newPipelineCheck(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Say what is wrong with the landscape",
		Long: `Find what is wrong with the landscape: names that nothing has, environments that no
move leads to or on from, moves in a circle, two who control one environment, a lane
with several developers and no integration environment, lanes that nothing leads back
to from live, two environments at one place, databases that would be compared as mere
text, gates that no move uses, freezes and windows that make no sense. It ends with status 1 when one of the findings is grave.`,
		Example:           "  oaken pipeline check",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				l := landscape.Of(w.Manifest)
				findings := a.mover(w).Check(l)
				grave := slices.ContainsFunc(findings, func(f landscape.Finding) bool { return f.Grave })
				switch {
				case a.JSON:
					a.print(result.PipelineChecked{Good: !grave, Findings: result.FindingsOf(findings)})
				case len(findings) == 0:
					a.Say("Nothing is wrong: %s, %s, %s.", screen.Count(len(l.Staged()), "environment"),
						screen.Count(len(w.Manifest.Pipeline.Lanes), "lane"), screen.Count(len(w.Manifest.Pipeline.Moves), "move"))
				default:
					var rows [][]screen.Cell
					for _, f := range findings {
						t, word := screen.Warm, "doubtful"
						if f.Grave {
							t, word = screen.Bad, "wrong"
						}
						rows = append(rows, []screen.Cell{screen.Strong.Cell(f.Where), t.Cell(word), screen.Plain.Cell(f.What)},
							[]screen.Cell{screen.Plain.Cell(""), screen.Plain.Cell(""), screen.Faint.Cell(f.Do)})
					}
					a.Table(a.Out, "", rows)
				}
				if grave {
					return &foundDifference{}
				}
				return nil
			})
		},
	}
}
