package cli

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/review"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
	"oakenchest/page"
)

func newReview(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "review",
		Short: "Let others look at a branch before it is merged",
		Long: `Let others look at the work of a branch before it goes into another: open a review,
comment on artifacts and single elements, approve or decline, merge. Approvals are for
what was looked at: when the branch moves, the review is open again. What a review
needs (how many approvals, whose, which checks) is said in oaken.toml, under [review].`,
		Example: "  oaken review open --title \"A warmer lamp\"\n  oaken review list\n" +
			"  oaken review show 3 --html review.html\n" +
			"  oaken review comment 3 exhibit/reef.glb::node:Lamp -m \"Too bright for the jellyfish\"\n  oaken review approve 3\n" +
			"  oaken review merge 3",
		GroupID:           groupBranches,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newReviewOpen(a), newReviewList(a), newReviewShow(a), newReviewComment(a), newReviewApprove(a), newReviewDecline(a),
		newReviewMerge(a), newReviewWithdraw(a))
	return cmd
}

func (a *App) desk(w *workspace.Workspace) *review.Desk {
	return &review.Desk{Project: w.Project, Home: w, Now: a.Now, Trust: a.keeper(w)}
}

// reviewNumber reads the number of a review.
func reviewNumber(cmd *cobra.Command, text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, usage(cmd, "%q is no number of a review; oaken review list shows them.", text)
	}
	return n, nil
}

func newReviewOpen(a *App) *cobra.Command {
	var d review.Draft
	cmd := &cobra.Command{
		Use:   "open [BRANCH]",
		Short: "Ask for a branch to be looked at",
		Long: "Open a review of a branch: the one that this workspace works on, or BRANCH. What is\n" +
			"committed on it later belongs to the review too.",
		Example: "  oaken review open --title \"A warmer lamp\" --item AQ-31\n" +
			"  oaken review open kelp --into main --title \"Kelp in the shallows\"",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeBranches,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				d.Source = args[0]
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				r, err := a.desk(w).Open(cmd.Context(), d)
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.ReviewOf(r))
					return nil
				}
				a.Say("Review %s is open: %s", a.Paint(screen.Strong, strconv.FormatInt(r.Number, 10)), r.Title)
				a.Say("  %s into %s, %s.", r.Source, r.Target, screen.Count(len(r.Paths), "file"))
				a.showMissing(r)
				return nil
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&d.Title, "title", "", "say in a line what it is: `TEXT`")
	f.StringVarP(&d.Text, "message", "m", "", "say more: `TEXT`")
	f.StringVar(&d.Item, "item", "", "the work item that this is for: `KEY`")
	f.StringVar(&d.Target, "into", "", "where it is to go: `BRANCH`, main unless it is said")
	_ = cmd.RegisterFlagCompletionFunc("into", a.completeBranches)
	return cmd
}

func (a *App) showMissing(r *review.Review) {
	for _, m := range r.Missing {
		a.Say("  %s", a.Paint(screen.Warm, m))
	}
}

func newReviewList(a *App) *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:               "list",
		Short:             "List the reviews that are open",
		Example:           "  oaken review list\n  oaken review list --all",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				list, err := a.desk(w).List(cmd.Context(), !all)
				if err != nil {
					return err
				}
				if a.JSON {
					rows := []result.ReviewEntry{}
					for _, r := range list {
						rows = append(rows, result.ReviewEntryOf(r))
					}
					a.print(result.Reviews{Reviews: rows})
					return nil
				}
				if len(list) == 0 {
					a.Say("No review is open.")
					return nil
				}
				var rows [][]screen.Cell
				for _, r := range list {
					rows = append(rows, []screen.Cell{screen.Strong.Cell(strconv.FormatInt(r.Number, 10)),
						reviewTones[r.Standing()].Cell(r.Standing()),
						screen.Plain.Cell(screen.OneLine(r.Title, 50)), screen.Faint.Cell(r.Source + " into " + r.Target),
						screen.Plain.Cell(r.Author), screen.Faint.Cell(screen.Clock(r.Opened)),
						screen.Faint.Cell(screen.Count(len(r.Paths), "file"))})
				}
				a.Table(a.Out, "", rows)
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "list those that were merged or withdrawn too")
	return cmd
}

var reviewTones = map[string]screen.Tone{"ready": screen.Good, "declined": screen.Bad, "open": screen.Warm, "open again": screen.Warm,
	"merged": screen.Good, "withdrawn": screen.Faint}

func newReviewShow(a *App) *cobra.Command {
	var html string
	cmd := &cobra.Command{
		Use:   "show NUMBER",
		Short: "Show what a review changes, and what was said",
		Long: `Show a review: what it changes, element by element, what was said where, and what is
still needed. --html makes one page of the comparison with the comments beside the
elements that they are about.`,
		Example:           "  oaken review show 3\n  oaken review show 3 --html review.html",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeReviews,
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := reviewNumber(cmd, args[0])
			if err != nil {
				return err
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.showReview(cmd.Context(), w, n, html) })
		},
	}
	cmd.Flags().StringVar(&html, "html", "", "draw it on one page, in `FILE`")
	return cmd
}

func (a *App) showReview(ctx context.Context, w *workspace.Workspace, n int64, html string) error {
	r, err := a.desk(w).Show(ctx, n)
	if err != nil {
		return err
	}
	to := w.CommitState(r.Tip, r.Source)
	diffs, err := w.Reader().Compare(ctx, r.Base, to, nil)
	if err != nil {
		return err
	}
	diffs = slices.DeleteFunc(diffs, func(d state.Difference) bool { return d.Noise })
	c := &comparison{reader: w.Reader(), from: r.Base, to: to, diffs: diffs}
	if html != "" {
		return a.drawReview(ctx, c, r, html)
	}
	if a.JSON {
		a.print(result.ReviewOf(r))
		return nil
	}
	a.Say("%s  %s  %s", a.Paint(screen.Strong, fmt.Sprintf("Review %d", r.Number)), r.Title,
		a.Paint(reviewTones[r.Standing()], r.Standing()))
	a.Say("%s", a.Paint(screen.Faint, reviewFacts(r)))
	if r.Text != "" {
		a.Say("\n%s", r.Text)
	}
	a.showMissing(r)
	for _, m := range r.Remarks {
		a.showRemark(r, m)
	}
	a.Say("")
	a.showComparison(c, false)
	return nil
}

func reviewFacts(r *review.Review) string {
	out := fmt.Sprintf("%s into %s, opened by %s in %s, %s", r.Source, r.Target, r.Author, r.Workspace, screen.Clock(r.Opened))
	if r.Item != "" {
		out += ", for " + r.Item
	}
	if r.State == ledger.ReviewMerged {
		out += ", merged by " + r.Closer + " as " + workspace.Label(r.Tip)
	}
	return out
}

// remarkWord says what a remark did.
func remarkWord(r *review.Review, m ledger.Remark) (word, sort string) {
	before := ""
	if m.Tip != r.Tip.ID && r.State == ledger.ReviewOpen {
		before = ", before the branch moved"
	}
	name := string(m.Kind)
	switch {
	case m.Kind == ledger.Approval:
		return "approved" + before, "approved"
	case m.Kind == ledger.Decline:
		return "declined" + before, "declined"
	case strings.HasPrefix(name, "check:"):
		return "ran the check " + strings.TrimPrefix(name, "check:") + ", which passed", "passed"
	case strings.HasPrefix(name, "failed:"):
		return "ran the check " + strings.TrimPrefix(name, "failed:") + ", which did not pass", "failed"
	}
	return "commented", "comment"
}

func (a *App) showRemark(r *review.Review, m ledger.Remark) {
	word, sort := remarkWord(r, m)
	t := map[string]screen.Tone{"approved": screen.Good, "declined": screen.Bad, "failed": screen.Bad, "passed": screen.Good}[sort]
	at := ""
	if m.Address != "" {
		at = " at " + m.Address
	}
	a.Say("\n%s %s%s  %s", a.Paint(screen.Strong, m.Author), a.Paint(t, word), at, a.Paint(screen.Faint, screen.Clock(m.Time)))
	for line := range strings.SplitSeq(strings.TrimRight(m.Text, "\n"), "\n") {
		if m.Text != "" {
			a.Say("    %s", line)
		}
	}
}

func (a *App) drawReview(ctx context.Context, c *comparison, r *review.Review, file string) error {
	p := page.New(r.Target, r.Source)
	p.Head = &page.Head{Title: fmt.Sprintf("Review %d: %s", r.Number, r.Title), Text: r.Text, Facts: []string{r.Standing(), reviewFacts(r)},
		Missing: r.Missing}
	for _, m := range r.Remarks {
		word, sort := remarkWord(r, m)
		remark := page.Remark{Address: m.Address, Author: m.Author, When: screen.Clock(m.Time), Word: word, Sort: sort, Text: m.Text}
		shown := slices.ContainsFunc(c.diffs, func(d state.Difference) bool {
			path, _, _ := strings.Cut(m.Address, "::")
			return path == d.Path || strings.HasPrefix(path, d.Path+"/")
		})
		if shown {
			p.Remarks = append(p.Remarks, remark)
			continue
		}
		remark.At = m.Address
		p.Head.Remarks = append(p.Head.Remarks, remark)
	}
	return a.drawOn(ctx, p, c, file)
}

// drawOn puts a comparison on a page, and writes it.
func (a *App) drawOn(ctx context.Context, p *page.Page, c *comparison, file string) error {
	show := a.Progress()
	for i, d := range c.diffs {
		if err := ctx.Err(); err != nil {
			return err
		}
		if show != nil {
			show("drawing", i, len(c.diffs))
		}
		was, is, err := c.reader.Versions(ctx, c.from, c.to, d)
		if err != nil {
			return err
		}
		p.Add(page.Artifact{Difference: d, Was: was, Is: is})
	}
	a.EndProgress()
	return a.writePage(p, len(c.diffs), file)
}

// keepApart leaves what was drawn into the project's folder out of this workspace's commits: nobody made it.
func (a *App) keepApart(file string) {
	if a.current == nil {
		return
	}
	if fresh, err := a.current.KeepApart(a.folder(), file); err == nil && fresh {
		a.Note("%s lies in the project and is left out of this workspace's commits. To record it, copy it under another name.", file)
	}
}

func (a *App) writePage(p *page.Page, artifacts int, file string) error {
	var b bytes.Buffer
	if err := p.Write(&b); err != nil {
		return err
	}
	if err := writeWhole(a.at(file), b.Bytes()); err != nil {
		return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", file, err)
	}
	a.keepApart(file)
	if a.JSON {
		a.print(result.ComparePage{File: file, Artifacts: artifacts, Bytes: b.Len()})
		return nil
	}
	a.Say("%s shows %s, in %s. Open it in a browser.", file, screen.Count(artifacts, "artifact"), element.SizeText(int64(b.Len())))
	return nil
}

func newReviewComment(a *App) *cobra.Command {
	var text string
	cmd := &cobra.Command{
		Use:   "comment NUMBER [ADDRESS]",
		Short: "Say something of a review, an artifact or an element",
		Example: "  oaken review comment 3 -m \"Looks good on the big screen\"\n" +
			"  oaken review comment 3 exhibit/reef.glb::node:Lamp.scale -m \"Why so large?\"",
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeReviews,
		RunE: func(cmd *cobra.Command, args []string) error {
			address := ""
			if len(args) == 2 {
				address = args[1]
			}
			return a.onReview(cmd, args[0], "Said.", func(d *review.Desk, n int64) error {
				return d.Comment(cmd.Context(), n, address, text)
			})
		},
	}
	cmd.Flags().StringVarP(&text, "message", "m", "", "what you say: `TEXT`")
	return cmd
}

// onReview does something to a review, and tells how it stands.
func (a *App) onReview(cmd *cobra.Command, number, done string, fn func(*review.Desk, int64) error) error {
	n, err := reviewNumber(cmd, number)
	if err != nil {
		return err
	}
	return a.with(cmd.Context(), func(w *workspace.Workspace) error {
		d := a.desk(w)
		if err := fn(d, n); err != nil {
			return err
		}
		r, err := d.Show(cmd.Context(), n)
		if err != nil {
			return err
		}
		if a.JSON {
			a.print(result.ReviewOf(r))
			return nil
		}
		a.Say("%s Review %d is %s.", done, n, a.Paint(reviewTones[r.Standing()], r.Standing()))
		a.showMissing(r)
		return nil
	})
}

func newReviewApprove(a *App) *cobra.Command {
	return a.verdict(&cobra.Command{
		Use:     "approve NUMBER",
		Short:   "Approve the branch as it is now",
		Example: "  oaken review approve 3\n  oaken review approve 3 -m \"Tried on the big screen\"",
	}, "say more: `TEXT`", "Approved.", (*review.Desk).Approve)
}

func newReviewDecline(a *App) *cobra.Command {
	return a.verdict(&cobra.Command{
		Use:     "decline NUMBER",
		Short:   "Say that the work should not go in as it is",
		Example: "  oaken review decline 3 -m \"The lamp dazzles the jellyfish\"",
	}, "say why: `TEXT`", "Declined.", (*review.Desk).Decline)
}

// verdict completes a command that says what one thinks of a review.
func (a *App) verdict(cmd *cobra.Command, message, done string,
	say func(*review.Desk, context.Context, int64, string) error) *cobra.Command {
	var text string
	cmd.Args, cmd.ValidArgsFunction = cobra.ExactArgs(1), a.completeReviews
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.onReview(cmd, args[0], done, func(d *review.Desk, n int64) error { return say(d, cmd.Context(), n, text) })
	}
	cmd.Flags().StringVarP(&text, "message", "m", "", message)
	return cmd
}

func newReviewWithdraw(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "withdraw NUMBER",
		Short:             "Close your own review without a merge",
		Example:           "  oaken review withdraw 3",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeReviews,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onReview(cmd, args[0], "Closed.", func(d *review.Desk, n int64) error { return d.Withdraw(cmd.Context(), n) })
		},
	}
}

func newReviewMerge(a *App) *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use:   "merge NUMBER",
		Short: "Bring the reviewed work into its target branch",
		Long: `Bring the work of a review into its target branch, when nothing is missing and the
checks pass; these run in a folder with what the merge comes to. The workspace stays
as it is, unless it stands on the target branch and its edits let it follow.`,
		Example:           "  oaken review merge 3",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeReviews,
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := reviewNumber(cmd, args[0])
			if err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				r, c, err := a.desk(w).Merge(cmd.Context(), n, message, func(check string) {
					if !a.JSON {
						a.Note("running the check %s", check)
					}
				})
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.ReviewOf(r))
					return nil
				}
				a.Say("%s  %s", a.Paint(screen.Strong, workspace.Label(c.Commit)), screen.FirstLine(c.Commit.Message))
				a.Say("  review %d, %s, is merged into %s, published as %s", r.Number, screen.Count(len(r.Paths), "file"), r.Target,
					c.Commit.ID.Short())
				a.showCombined("combined by element", c.Combined)
				return nil
			})
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "the commit's message: `TEXT`, the title unless it is said")
	return cmd
}

// completeReviews offers the numbers of open reviews.
func (a *App) completeReviews(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		all, _ := w.Chest.Reviews(cmd.Context())
		for _, r := range all {
			if r.State == ledger.ReviewOpen {
				out = append(out, strconv.FormatInt(r.Number, 10)+"\t"+r.Title)
			}
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}
