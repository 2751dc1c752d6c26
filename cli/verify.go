package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

func newVerify(a *App) *cobra.Command {
	var whole, each bool
	cmd := &cobra.Command{
		Use:   "verify STATE STATE... | --pipeline [STATE]",
		Short: "Say whether states hold the same, each with each",
		Long: `Compare every pair of states and give one yes or no, with a table of who differs
from whom. It ends with status 1 unless all are alike.

A state is work, BRANCH, BRANCH:NUMBER, release:NAME, env:NAME, or the first
characters of a commit's id. Where one is an environment, only what it holds is
compared.

--pipeline compares every environment of the pipeline: with a state, such as a
release, that is named; with what was deployed to it last, when none is; with each
other, with --each.`,
		Example: "  oaken verify main env:test env:live\n  oaken verify release:spring env:live --json\n  oaken verify --pipeline\n" +
			"  oaken verify --pipeline release:june",
		GroupID: groupEnvironments,
		Args: func(cmd *cobra.Command, args []string) error {
			if whole {
				return cobra.MaximumNArgs(1)(cmd, args)
			}
			return cobra.MinimumNArgs(2)(cmd, args)
		},
		ValidArgsFunction: a.completeStates,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				if whole && each {
					for _, e := range a.mover(w).Landscape(cmd.Context()).Staged() {
						args = append(args, "env:"+e.Name)
					}
				} else if whole {
					return a.verifyPipeline(cmd.Context(), w, args)
				}
				return a.verify(cmd.Context(), w, args)
			})
		},
	}
	cmd.Flags().BoolVar(&whole, "pipeline", false, "compare every environment of the pipeline")
	cmd.Flags().BoolVar(&each, "each", false, "with --pipeline, compare each environment with each other")
	return cmd
}

// verifyPipeline compares every environment with a state, or with what it is said to hold.
func (a *App) verifyPipeline(ctx context.Context, w *workspace.Workspace, names []string) error {
	m := a.mover(w)
	var fixed state.State
	if len(names) == 1 {
		var err error
		if fixed, err = a.asked(w).State(ctx, names[0]); err != nil {
			return err
		}
	}
	var pairs []pair
	differ := 0
	for _, e := range m.Landscape(ctx).Staged() {
		p, err := a.verifyStage(ctx, w, m, e.Name, fixed)
		if err != nil {
			p.failure = asFault(err).What
		}
		if len(names) == 1 {
			p.to = names[0]
		}
		if len(p.paths) > 0 || p.failure != "" {
			differ++
		}
		pairs = append(pairs, p)
	}
	a.showVerified(pairs, 0, differ)
	if differ > 0 {
		return &foundDifference{}
	}
	return nil
}

// verifyStage compares one environment.
func (a *App) verifyStage(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover, name string, fixed state.State) (pair, error) {
	p := pair{from: "env:" + name, to: "nothing"}
	with := fixed
	if with == nil {
		last, ok, err := w.Chest.LastDeployment(ctx, name)
		if err != nil {
			return p, err
		}
		if !ok {
			return p, fault.New(fault.Failed, "Deploy or promote something to it.", "Nothing was deployed to it yet.")
		}
		c, err := w.Chest.Commit(ctx, last.Commit)
		if err != nil {
			return p, err
		}
		with, p.to = w.CommitState(c, workspace.Label(c)), workspace.Label(c)
	}
	live, err := m.StateBeside(ctx, name, with)
	if err != nil {
		return p, err
	}
	found, err := comparePair(ctx, w.Reader(), with, live)
	p.changes, p.paths, p.unread = found.changes, found.paths, found.unread
	return p, err
}

// pair is what was found between two states.
type pair struct {
	from, to string
	changes  int
	paths    []string
	unread   []string // what can't be read, in sentences
	failure  string   // why it could not be told; empty when it could
}

func (a *App) verify(ctx context.Context, w *workspace.Workspace, names []string) error {
	states := make([]state.State, len(names))
	for i, name := range names {
		var err error
		if states[i], err = a.asked(w).State(ctx, name); err != nil {
			return err
		}
	}
	var pairs []pair
	differ := 0
	for i := range states {
		for j := i + 1; j < len(states); j++ {
			p, err := comparePair(ctx, w.Reader(), states[i], states[j])
			if err != nil {
				return err
			}
			p.from, p.to = names[i], names[j]
			if len(p.paths) > 0 {
				differ++
			}
			pairs = append(pairs, p)
		}
	}
	a.showVerified(pairs, len(names), differ)
	if differ > 0 {
		return &foundDifference{}
	}
	return nil
}

func comparePair(ctx context.Context, r *state.Reader, from, to state.State) (pair, error) {
	var p pair
	diffs, err := r.Compare(ctx, from, to, nil)
	for _, d := range diffs {
		if d.Noise || d.Quiet {
			continue
		}
		p.changes += max(len(d.Changes), 1)
		p.paths = append(p.paths, d.Path)
		p.unread = append(p.unread, d.Unread...)
	}
	slices.Sort(p.paths)
	return p, err
}

func (a *App) showVerified(pairs []pair, states, differ int) {
	if a.JSON {
		list := []result.Pair{}
		for _, p := range pairs {
			list = append(list, result.Pair{
				From: p.from, To: p.to, Same: len(p.paths) == 0 && p.failure == "", Changes: p.changes, Paths: result.List(p.paths),
				Unread:  result.List(p.unread),
				Failure: p.failure,
			})
		}
		a.print(result.Verified{Same: differ == 0, Pairs: list})
		return
	}
	var rows [][]screen.Cell
	for _, p := range pairs {
		verdict := screen.Good.Cell("alike")
		more := ""
		if len(p.paths) > 0 {
			verdict = screen.Bad.Cell("differ")
			more = screen.Count(p.changes, "change") + " in " + p.paths[0]
			if n := len(p.paths) - 1; n > 0 {
				more += " and " + screen.Count(n, "more artifact")
			}
		}
		if p.failure != "" {
			verdict, more = screen.Bad.Cell("not known"), p.failure
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(p.from), screen.Strong.Cell(p.to), verdict, screen.Faint.Cell(more)})
	}
	a.Table(a.Out, "", rows)
	var unread []string
	for _, p := range pairs {
		unread = append(unread, p.unread...)
	}
	slices.Sort(unread)
	for _, text := range slices.Compact(unread) {
		a.Say("No: %s.", strings.TrimSuffix(text, "."))
	}
	switch {
	case len(unread) > 0 && states == 2:
	case differ == 0 && states == 0:
		a.Say("Yes: every environment holds that.")
	case differ == 0 && states == 2:
		a.Say("Yes: both hold the same.")
	case differ == 0:
		a.Say("Yes: all %d hold the same.", states)
	case states == 0:
		a.Say("No: %d of %s differ, or can't be told.", differ, screen.Count(len(pairs), "environment"))
	default:
		a.Say("No: %d of %s differ.", differ, screen.Count(len(pairs), "pair"))
	}
}
