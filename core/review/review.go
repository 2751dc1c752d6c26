// Package review lets the work of one branch be looked at, commented on and approved
// before it goes into another. Everything about a review lies in the chest.
//
// Approvals are for the state that was looked at: when the branch moves, they count no
// more, and the review is open again.
package review

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/trust"
)

// Home is the folder of whoever reviews, as far as a review needs one: a workspace.
type Home interface {
	// Stands gives the branch that is worked on; Unsent says that commits of it wait to be published.
	Stands() (branch string, base ledger.Commit)
	Unsent() bool
	// Follow brings the newest state of a branch in, where it was worked on at a commit.
	Follow(ctx context.Context, branch string, before ledger.Commit) error
}

// Desk is where reviews are made.
type Desk struct {
	// Project says who acts.
	Project *project.Project
	// Home is the folder that they work in; nil when there is none.
	Home Home
	Now  func() time.Time
	// Trust, when set, is asked before a command of the project is run.
	Trust trust.Keeper
}

// Review is a review with everything that was said, and what stands between it and the
// merge.
type Review struct {
	ledger.Review
	// Tip is where the source branch is now, Onto where the target branch is.
	Tip, Onto ledger.Commit
	// Base is the state that both have in common.
	Base    state.State
	Remarks []ledger.Remark
	// Paths lists the files that the source changed.
	Paths []string
	// Conflicts is what a merge would leave open.
	Conflicts []element.Conflict
	// Missing says in sentences what is still needed; none when it may be merged.
	Missing []string
}

// Standing is the word for how a review stands.
func (r *Review) Standing() string {
	switch {
	case r.State != ledger.ReviewOpen:
		return string(r.State)
	case len(r.Missing) == 0:
		return "ready"
	case len(r.Said(ledger.Decline, true)) > 0:
		return "declined"
	case r.moved():
		return "open again"
	}
	return "open"
}

// moved reports whether something was said of a state of the branch that it is not in any
// more.
func (r *Review) moved() bool {
	return len(r.Said(ledger.Approval, false)) > len(r.Said(ledger.Approval, true))
}

// Said gives who approved or declined, each by the last word; current narrows it to words
// on the branch as it is now.
func (r *Review) Said(kind ledger.RemarkKind, current bool) []ledger.Remark {
	last := map[string]ledger.Remark{}
	var people []string
	for _, m := range r.Remarks {
		if m.Kind != ledger.Approval && m.Kind != ledger.Decline {
			continue
		}
		if _, seen := last[m.Author]; !seen {
			people = append(people, m.Author)
		}
		last[m.Author] = m
	}
	var out []ledger.Remark
	for _, p := range people {
		if m := last[p]; m.Kind == kind && (!current || m.Tip == r.Tip.ID) {
			out = append(out, m)
		}
	}
	return out
}

// Draft is a review to be opened.
type Draft struct {
	Title, Text, Item string
	// Source is the branch whose work it is; empty for the workspace's. Target is where it
	// is to go; empty for the first branch.
	Source, Target string
}

// Open opens a review.
func (d *Desk) Open(ctx context.Context, o Draft) (*Review, error) {
	w := d.Project
	branch, unsent := "", false
	if d.Home != nil {
		branch, _ = d.Home.Stands()
		unsent = d.Home.Unsent()
	}
	if o.Source == "" {
		o.Source = branch
	}
	if o.Target == "" {
		o.Target = chest.FirstBranch
	}
	if o.Source == o.Target {
		return nil, fault.New(fault.Usage,
			"Make a branch with oaken branch NAME, switch to it (edits come along), commit there, and open the review from it.",
			"A review brings the work of one branch into another, and both are %s.", o.Source)
	}
	if strings.TrimSpace(o.Title) == "" {
		return nil, fault.New(fault.Usage, "Give it with --title TEXT.", "A review needs a title.")
	}
	for _, name := range []string{o.Source, o.Target} {
		if b, err := w.Chest.Branch(ctx, name); err != nil {
			return nil, err
		} else if b.Tip == (ledger.ID{}) {
			return nil, fault.New(fault.Usage, "Commit something on it first.", "Branch %s has no commit yet.", name)
		}
	}
	if branch == o.Source && unsent {
		return nil, fault.New(fault.Refused, "Publish them first, with oaken sync.", "Commits of %s are unsent, so others can't see them.",
			o.Source)
	}
	all, err := w.Chest.Reviews(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if r.State == ledger.ReviewOpen && r.Source == o.Source && r.Target == o.Target {
			return nil, fault.New(fault.Usage, fmt.Sprintf("It takes new commits of %s by itself: oaken review show %d.", o.Source,
				r.Number), "Review %d of %s into %s is open already.", r.Number, o.Source, o.Target)
		}
	}
	r := &Review{Review: ledger.Review{Title: o.Title, Text: o.Text, Item: o.Item, Source: o.Source, Target: o.Target, Author: w.Person,
		Workspace: w.Name, Opened: d.now(), State: ledger.ReviewOpen}}
	if err := d.fill(ctx, r); err != nil {
		return nil, err
	}
	if len(r.Paths) == 0 {
		return nil, fault.New(fault.Usage, "Commit something on "+o.Source+" first.", "Everything of %s is in %s already.",
			o.Source, o.Target)
	}
	r.Number, err = w.Chest.AddReview(ctx, r.Review)
	return r, err
}

func (d *Desk) now() time.Time { return d.Now().UTC().Truncate(time.Millisecond) }

// Show gives a review as it stands.
func (d *Desk) Show(ctx context.Context, number int64) (*Review, error) {
	row, remarks, err := d.Project.Chest.Review(ctx, number)
	if err != nil {
		return nil, err
	}
	r := &Review{Review: row, Remarks: remarks}
	return r, d.fill(ctx, r)
}

// List gives all reviews as they stand, the newest first; open narrows it.
func (d *Desk) List(ctx context.Context, open bool) ([]*Review, error) {
	all, err := d.Project.Chest.Reviews(ctx)
	if err != nil {
		return nil, err
	}
	var out []*Review
	for _, row := range all {
		if open && row.State != ledger.ReviewOpen {
			continue
		}
		r, err := d.Show(ctx, row.Number)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// fill finds out how a review stands.
func (d *Desk) fill(ctx context.Context, r *Review) error {
	w := d.Project
	if r.State == ledger.ReviewMerged {
		return d.fillMerged(ctx, r)
	}
	var err error
	if r.Tip, err = w.Chest.Resolve(ctx, r.Source); err != nil {
		return err
	}
	if r.Onto, err = w.Chest.Resolve(ctx, r.Target); err != nil {
		return err
	}
	bases, err := w.Chest.MergeBases(ctx, r.Onto, r.Tip)
	if err != nil {
		return err
	}
	var base ledger.Commit
	if len(bases) > 0 {
		base = bases[0]
	}
	r.Base = w.CommitState(base, project.Label(base))
	if r.Paths, err = changedPaths(w.Chest, base, r.Tip); err != nil || r.State != ledger.ReviewOpen {
		return err
	}
	m, err := w.ForeseeInto(ctx, r.Onto, r.Tip)
	if err != nil {
		return err
	}
	r.Conflicts = m.Conflicts
	rules, err := d.rules(ctx, r.Onto)
	if err != nil {
		return err
	}
	r.Missing = missing(r, rules)
	return nil
}

// fillMerged gives what a merged review brought: from before its merge to that.
func (d *Desk) fillMerged(ctx context.Context, r *Review) error {
	w := d.Project
	c, err := w.Chest.Commit(ctx, r.Outcome)
	if err != nil {
		return err
	}
	r.Tip, r.Base = c, w.CommitState(ledger.Commit{}, "nothing")
	if len(c.Parents) > 0 {
		if r.Onto, err = w.Chest.Commit(ctx, c.Parents[0]); err != nil {
			return err
		}
		r.Base = w.CommitState(r.Onto, project.Label(r.Onto))
	}
	r.Paths, err = changedPaths(w.Chest, r.Onto, c)
	return err
}

func changedPaths(c *chest.Chest, from, to ledger.Commit) ([]string, error) {
	pairs, err := c.Diff(from.Tree, to.Tree)
	out := make([]string, len(pairs))
	for i, p := range pairs {
		out[i] = p.Path
	}
	return out, chest.Explain(err)
}

// rules gives the rules as the target branch has them: the work under review can't change
// its own.
func (d *Desk) rules(ctx context.Context, onto ledger.Commit) (manifest.ReviewRules, error) {
	if first, err := d.Project.FirstManifest(ctx); err != nil {
		return manifest.ReviewRules{}, err
	} else if first != nil { // rules of reviews count as the first branch has them
		return first.Review, nil
	}
	text, err := d.Project.CommittedManifest(onto)
	if err != nil {
		return manifest.ReviewRules{}, nil // it has none
	}
	m, err := d.Project.ReadManifest(text)
	if err != nil {
		return manifest.ReviewRules{}, err
	}
	return m.Review, nil
}

// missing says what the rules still ask for.
func missing(r *Review, rules manifest.ReviewRules) []string {
	var out []string
	if n := len(r.Conflicts); n > 0 {
		out = append(out, fmt.Sprintf("It does not merge: %s%s. Merge %s into %s and settle that there.", r.Conflicts[0].Address,
			others(n-1), r.Target, r.Source))
	}
	var approved []string
	for _, a := range r.Said(ledger.Approval, true) {
		if a.Author != r.Author || rules.SelfApproval {
			approved = append(approved, a.Author)
		}
	}
	for _, m := range r.Said(ledger.Decline, true) {
		out = append(out, m.Author+" declined it.")
	}
	if n := rules.Approvals - len(approved); n > 0 {
		out = append(out, "It needs "+approvals(n)+".")
	}
	for _, p := range rules.Paths {
		if !slices.ContainsFunc(r.Paths, func(path string) bool { ok, _ := doublestar.Match(p.Match, path); return ok }) {
			continue
		}
		n := p.Need()
		for _, who := range p.From {
			if slices.Contains(approved, who) {
				n--
			}
		}
		if n > 0 {
			out = append(out, fmt.Sprintf("It needs %s of %s, for %s.", approvals(n), strings.Join(p.From, " or "), p.Match))
		}
	}
	return out
}

func approvals(n int) string {
	if n == 1 {
		return "1 more approval"
	}
	return fmt.Sprintf("%d more approvals", n)
}

func others(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

// Comment says something of a review, or of an artifact or element in it.
func (d *Desk) Comment(ctx context.Context, number int64, address, text string) error {
	if strings.TrimSpace(text) == "" {
		return fault.New(fault.Usage, "Give it with -m TEXT.", "A comment needs a text.")
	}
	return d.say(ctx, number, ledger.Comment, address, text)
}

// Approve approves the branch as it is now.
func (d *Desk) Approve(ctx context.Context, number int64, text string) error {
	r, err := d.Show(ctx, number)
	if err != nil {
		return err
	}
	rules, err := d.rules(ctx, r.Onto)
	if err != nil {
		return err
	}
	if r.Author == d.Project.Person && !rules.SelfApproval {
		return fault.New(fault.Refused, "Ask somebody else to look at it.",
			"Review %d is your own, and this project lets nobody approve their own work.", number)
	}
	return d.say(ctx, number, ledger.Approval, "", text)
}

// Decline says that the work should not go in as it is.
func (d *Desk) Decline(ctx context.Context, number int64, text string) error {
	if strings.TrimSpace(text) == "" {
		return fault.New(fault.Usage, "Say why with -m TEXT; the author reads it.", "Declining needs a reason.")
	}
	return d.say(ctx, number, ledger.Decline, "", text)
}

func (d *Desk) say(ctx context.Context, number int64, kind ledger.RemarkKind, address, text string) error {
	r, err := d.Show(ctx, number)
	if err != nil {
		return err
	}
	if r.State != ledger.ReviewOpen {
		return fault.New(fault.Refused, "oaken review list shows those that are open.", "Review %d is %s.", number, r.State)
	}
	if address != "" {
		if err := d.known(ctx, r, address); err != nil {
			return err
		}
	}
	text = strings.TrimSpace(text)
	if err := d.Project.Chest.AddRemark(ctx, ledger.Remark{Review: number, Kind: kind, Address: address, Tip: r.Tip.ID,
		Author: d.Project.Person, Time: d.now(), Text: text}); err != nil {
		return err
	}
	if d.Project.Name == r.Workspace {
		return nil
	}
	word := map[ledger.RemarkKind]string{ledger.Comment: "commented on", ledger.Approval: "approved", ledger.Decline: "declined"}[kind]
	notice := fmt.Sprintf("%s %s your review %d (%s).", d.Project.Person, word, number, r.Title)
	return d.Project.Chest.Notify(ctx, ledger.Notice{Workspace: r.Workspace, Time: d.now(), Text: notice})
}

// known refuses an address that neither side of a review has.
func (d *Desk) known(ctx context.Context, r *Review, address string) error {
	a, err := element.ParseAddress(address)
	if err != nil {
		return fault.New(fault.Usage, "Write PATH or PATH::type:key, as oaken review show does.", "That is no address: %w.", err)
	}
	w := d.Project
	for _, s := range []state.State{w.CommitState(r.Tip, r.Source), r.Base} {
		art, err := w.Reader().Read(ctx, s, a.Path)
		if err != nil {
			continue
		}
		if a.Whole() {
			return nil
		}
		if e := art.Reading.Root.Find(a.Steps); e != nil && (a.Property == "" || !e.Prop(a.Property).IsAbsent()) {
			return nil
		}
	}
	return fault.New(fault.Usage, "oaken review show lists what it changes.", "There is no %s in %s.", address, r.Source)
}

// Withdraw closes a review without a merge; its author does so.
func (d *Desk) Withdraw(ctx context.Context, number int64) error {
	r, err := d.Show(ctx, number)
	if err != nil {
		return err
	}
	if r.State != ledger.ReviewOpen {
		return fault.New(fault.Refused, "oaken review list shows those that are open.", "Review %d is %s.", number, r.State)
	}
	if r.Author != d.Project.Person {
		return fault.New(fault.Refused, "Decline it with oaken review decline, and say why.",
			"Only %s, who opened it, withdraws review %d.", r.Author, number)
	}
	row := r.Review
	row.State, row.Closer, row.Closed = ledger.ReviewEnded, d.Project.Person, d.now()
	return d.Project.Chest.CloseReview(ctx, row)
}

// Merge brings the work of a review into its target branch, when nothing is missing and
// the checks pass. The workspace stays as it is, unless it stands on the target branch.
func (d *Desk) Merge(ctx context.Context, number int64, message string, progress func(check string)) (*Review, *project.Arrived, error) {
	r, err := d.Show(ctx, number)
	if err != nil {
		return nil, nil, err
	}
	switch {
	case r.State != ledger.ReviewOpen:
		return nil, nil, fault.New(fault.Refused, "oaken review list shows those that are open.", "Review %d is %s.", number, r.State)
	case len(r.Conflicts) > 0:
		return nil, nil, fault.New(fault.Conflict,
			"Run oaken go "+fault.Word(r.Source)+", oaken merge "+fault.Word(r.Target)+", and settle it there; the review goes on.",
			"Review %d does not merge, at %s%s.", number, r.Conflicts[0].Address, others(len(r.Conflicts)-1))
	case len(r.Missing) > 0:
		return nil, nil, fault.New(fault.Refused, "oaken review show "+fmt.Sprint(number)+" tells all that is missing.",
			"Review %d can't be merged yet: %s", number, strings.TrimSuffix(r.Missing[0], "."))
	}
	first, err := d.Project.Chest.Branch(ctx, chest.FirstBranch)
	if err != nil {
		return nil, nil, err
	}
	rules, err := d.rules(ctx, r.Onto)
	if err != nil {
		return nil, nil, err
	}
	if message == "" {
		message = r.Title
		if r.Text != "" {
			message += "\n\n" + r.Text
		}
	}
	into := project.Into{Branch: r.Target, Onto: r.Onto, Theirs: r.Tip, Message: message, Item: r.Item}
	into.Check = func(s state.State) error { return d.checks(ctx, r, rules.Checks, s, progress) }
	row := r.Review
	row.State, row.Closer, row.Closed = ledger.ReviewMerged, d.Project.Person, d.now()
	into.By = chest.Ruling{Review: &row, Rules: &first.Tip}
	c, err := d.Project.MergeInto(ctx, into)
	if err != nil {
		return nil, nil, err
	}
	row.Outcome = c.Commit.ID
	if d.Home != nil {
		err = d.Home.Follow(ctx, r.Target, r.Onto)
	}
	if d.Project.Name != r.Workspace {
		err = errors.Join(err, d.Project.Chest.Notify(ctx,
			ledger.Notice{Workspace: r.Workspace, Time: d.now(), Text: fmt.Sprintf("%s merged your review %d (%s) as %s.", d.Project.Person,
				number, r.Title, project.Label(c.Commit))}))
	}
	r.Review = row
	return r, c, err
}
