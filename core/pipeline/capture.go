package pipeline

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// CaptureOptions are the choices of a capture.
type CaptureOptions struct {
	// Mine takes only what this person has changed or locked.
	Mine bool
	// Removes is how many files it may remove, where that is more than half of them.
	Removes int
	// Commit records it at once, under a message and a work item, beside the workspace.
	Commit        bool
	Message, Item string
	// Onto names the branch that it goes to in place of the environment's; empty for that. One
	// that does not have what the environment stood on gets what was captured alone.
	Onto string
	// IsRenamed, when set, is asked of a column that seems to have another name, and may be a
	// new one.
	IsRenamed func(environment.Rename) bool
	// StoodOn is what the environment held before it was changed, where that is not what the
	// chest knows; nil for that.
	StoodOn *ledger.Commit
}

// brake refuses a capture that would remove all files, or more than half of them: of an
// empty database, of one that was taken for another, or through a filter that lets nothing
// pass.
func (o CaptureOptions) brake(env manifest.Environment, have environment.Files, edits map[string][]byte) error {
	gone := 0
	for name, data := range edits {
		if _, had := have[name]; data == nil {
			gone++
		} else if !had {
			gone-- // a file may have come in the place of another
		}
	}
	if gone*2 <= len(have) || gone == o.Removes {
		return nil
	}
	return fault.New(fault.Refused,
		fmt.Sprintf("Look at its target and filters in oaken.toml. If it is right, say so: oaken capture %s --removes %d.", env.Name, gone),
		"%s lacks what %d of %d files in %s declare; nothing was captured.", env.Name, gone, len(have),
		strings.Join(env.Folders(), " and "))
}

// Capture is what came of capturing an environment.
type Capture struct {
	Environment manifest.Environment
	// Record is what it was known to hold before; nil when nothing was known.
	Record *ledger.Commit
	// Differences lead from that to what is there.
	Differences []state.Difference
	// Written lists the files that were written or removed in the workspace, by project path.
	Written []string
	// Rescued is the folder with copies of edits that were overwritten; empty for none.
	Rescued string
	Objects int
	// Untracked lists what the environment has and no file can say.
	Untracked []string
	// Unseen lists what was kept as it is, because the user may not see it.
	Unseen []string
	// Renamed lists columns that seem to have another name; those that are Sure are told so in
	// the files, and are renamed elsewhere by the next deployment.
	Renamed []environment.Rename
	// By tells who is behind the objects that differed, by address; those that nothing is
	// known of are not in it.
	By []Attribution

	// Branch is the one that it goes to; empty where it stays beside all of them, because
	// that lacks Apart, which the environment stood on.
	Branch string
	Apart  []ledger.Commit
	// Proposed is the branch that it is for, where that takes work by reviews alone: Commit's
	// branch is then to be reviewed.
	Proposed string
	// Commit is what was recorded, or what the environment was found to hold; Recorded says
	// which. Merged is what the branch became, where that is another commit; nil for none.
	Commit   ledger.Commit
	Recorded bool
	Merged   *ledger.Commit
	// Combined lists what both the environment and the branch had changed.
	Combined []state.Combined
	// Conflicts stand between the two; Open says that they are laid open in the workspace.
	Conflicts []element.Conflict
	Open      bool
	// Lacks lists work of the branch that the environment has not.
	Lacks []ledger.Commit
	// Pending says that it lies in the workspace, as an edit or a merge, until it is committed.
	Pending bool
}

// capturing is a capture under way.
type capturing struct {
	*Capture
	o      CaptureOptions
	m      *Mover
	driver environment.Driver
	tip    ledger.Commit // of the branch
	record chest.Record
	known  bool
	have   environment.Files // what the environment was known to hold
	got    *environment.Captured
	own    []ledger.Commit // captured before, and not in the branch yet
}

// Capture brings what an environment holds into the chest: what was changed there since it
// was known to hold a commit, as a commit on that one, is merged into the environment's
// branch like any other branch's work. It never takes away what the environment never had.
// Without Commit it lies in the workspace until that is committed.
func (m *Mover) Capture(ctx context.Context, name string, o CaptureOptions) (*Capture, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return nil, err
	}
	release, err := m.Project.Chest.Reserve(ctx, name)
	if err != nil {
		return nil, err
	}
	defer release()
	c := &capturing{Capture: &Capture{Environment: env}, o: o, m: m}
	if err := c.where(ctx); err != nil {
		return nil, err
	}
	if err := c.read(ctx); err != nil {
		return nil, err
	}
	defer c.driver.Close()
	found, err := c.foundElsewhere(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.describe(ctx); err != nil {
		return nil, err
	}
	if found != nil {
		return c.Capture, c.standsOn(ctx, *found)
	}
	if err := o.brake(env, c.have, c.got.Edits); err != nil && !o.Mine {
		return nil, err
	}
	if o.Commit {
		err = c.commit(ctx)
	} else {
		err = c.layOut(ctx)
	}
	if err == nil && c.Branch != "" && c.known {
		err = c.whatIsLacking(ctx)
	}
	return c.Capture, err
}

// where finds the branch that the capture goes to, and what the environment was known to
// hold.
func (c *capturing) where(ctx context.Context) (err error) {
	m, w := c.m, c.m.Project
	if m.Desk.Away() {
		return fault.New(fault.Unreachable, "Try again when it can be reached.",
			"What %s held is written in the chest, which is out of reach.", c.Environment.Name)
	}
	env, err := m.environment(m.rules(ctx), c.Environment.Name)
	if err != nil {
		return err
	}
	c.Branch = m.branch()
	if named := m.rules(ctx).Manifest.BranchOf(env); named != "" {
		tip, err := m.tipOf(ctx, named)
		if err != nil {
			return err
		}
		if tip.Depth > 0 {
			c.Branch = named
		}
	}
	if c.o.Onto != "" {
		b, err := w.Chest.Branch(ctx, c.o.Onto)
		if err != nil {
			return err
		}
		c.Branch = b.Name
	}
	if !c.o.Commit {
		if c.Branch != m.branch() {
			return fault.New(fault.Refused,
				"Run oaken go "+fault.Word(c.Branch)+" first, or record it at once: oaken capture "+fault.Word(env.Name)+
					" --commit -m TEXT. For this branch: --onto "+m.branch()+".",
				"What is changed in %s goes to branch %s, and this workspace is on %s.", env.Name, c.Branch, m.branch())
		}
		if p, err := m.Desk.Pending(); err != nil || p != nil {
			return orUnderWay(p, err)
		}
		if _, err := m.Desk.Sync(ctx); err != nil {
			return err
		}
	}
	if c.tip, err = m.tipOf(ctx, c.Branch); err != nil {
		return err
	}
	if c.record, c.known, err = m.record(ctx, c.Environment); err != nil || c.o.StoodOn == nil {
		return err
	}
	c.record.Commit, c.known = *c.o.StoodOn, true
	return nil
}

func orUnderWay(p *workspace.Pending, err error) error {
	if err != nil {
		return err
	}
	return fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.", "%s is under way.", p.What)
}

// read reads what the environment holds, beside what it was known to hold; of one that
// nothing is known of, beside what its branch declares.
func (c *capturing) read(ctx context.Context) (err error) {
	m := c.m
	before := c.tip
	if c.known {
		before = c.record.Commit
		c.Record = &before
	}
	if _, c.driver, err = m.stage(ctx, c.Environment.Name); err != nil {
		return err
	}
	if c.have, err = holding(ctx, m.Project.CommitState(before, label(before)), c.Environment); err == nil {
		c.got, err = c.driver.Capture(ctx, c.have)
	}
	if err == nil && !c.o.Mine {
		c.sayRenamed()
	}
	if err == nil && c.o.Mine {
		c.got.Files, c.By, err = m.onlyMineIn(ctx, c.Environment, c.have, c.got.Files)
		c.got.Edits = edits(c.have, c.got.Files)
	}
	if err != nil {
		c.driver.Close()
	}
	return err
}

// sayRenamed writes into what was captured what columns were called before.
func (c *capturing) sayRenamed() {
	for _, r := range c.got.Renamed {
		sure := r.Sure || c.o.IsRenamed != nil && c.o.IsRenamed(r)
		r.Sure = sure && environment.SayFormerly(c.got.Edits, r)
		c.Renamed = append(c.Renamed, r)
	}
	for name, data := range c.got.Edits {
		if data != nil {
			c.got.Files[name] = data
		}
	}
}

// describe says what differs, and who is behind it.
func (c *capturing) describe(ctx context.Context) (err error) {
	m := c.m
	c.Objects, c.Untracked, c.Unseen = objects(c.got.Tree), c.got.Untracked, c.got.Unseen
	if len(c.got.Edits) > 0 && !c.o.Mine {
		if c.By, err = m.whoIsBehind(ctx, c.Environment, c.have, c.got.Files); err != nil {
			return err
		}
	}
	c.Differences, err = m.reader(ctx, c.Environment).Compare(ctx, heldState(c.Environment, c.have), heldState(c.Environment, c.got.Files),
		c.Environment.Folders())
	if c.first() { // what the branch has and this has not nobody took away
		for i := range c.Differences {
			d := &c.Differences[i]
			d.Changes = slices.DeleteFunc(d.Changes, func(ch element.Change) bool { return ch.Kind == element.Removed })
		}
		c.Differences = slices.DeleteFunc(c.Differences, func(d state.Difference) bool { return len(d.Changes) == 0 })
	}
	return err
}

// standsOn moves the record to a commit that the environment was found to hold.
func (c *capturing) standsOn(ctx context.Context, at ledger.Commit) error {
	c.Commit = at
	if !c.o.Mine {
		if err := c.m.found(ctx, c.Environment, at); err != nil {
			return err
		}
	}
	c.record.Commit, c.known = at, true
	return c.whatIsLacking(ctx)
}

func (c *capturing) whatIsLacking(ctx context.Context) error {
	tip, err := c.m.tipOf(ctx, c.Branch)
	if err != nil {
		return err
	}
	at := c.record.Commit
	if c.Commit.Depth > 0 {
		at = c.Commit
	}
	lacks, err := c.m.lacks(ctx, at, tip)
	for _, x := range lacks {
		touched, err := c.m.touchesFolders(ctx, x, c.Environment)
		if err != nil {
			return err
		}
		if touched {
			c.Lacks = append(c.Lacks, x)
		}
	}
	return err
}

// touchesFolders reports whether a commit changed something that an environment holds.
func (m *Mover) touchesFolders(ctx context.Context, c ledger.Commit, env manifest.Environment) (bool, error) {
	pairs, err := m.Project.Did(ctx, c)
	return slices.ContainsFunc(pairs, func(p chest.Pair) bool {
		return p.Is.Mode != chest.Folder && p.Was.Mode != chest.Folder && state.Under(env.Folders(), p.Path)
	}), err
}

// first says that nothing is known of what the environment held, and the branch holds
// something for it already.
func (c *capturing) first() bool { return !c.known && len(c.have) > 0 }

// tree stores what the environment holds on top of what it was known to hold.
func (c *capturing) tree(ctx context.Context) (content.Digest, error) {
	var before content.Digest
	if c.known {
		before = c.record.Commit.Tree
	}
	if c.first() { // nothing but what is there
		return c.m.Project.TreeWith(ctx, before, c.got.Files)
	}
	return c.m.Project.TreeWith(ctx, before, c.got.Edits)
}

// note describes the capture for the workspace, which records it.
func (c *capturing) note(ctx context.Context) (workspace.Capture, error) {
	tree, err := c.tree(ctx)
	n := workspace.Capture{Environment: c.Environment.Name, Folders: c.Environment.Folders(), Rules: c.m.rulesOf(ctx, c.Environment),
		Number: c.record.Number, Tree: fmt.Sprintf("%x", tree[:])}
	if c.known {
		n.Record = c.record.Commit.ID.String()
	}
	return n, err
}

// plain says that the branch holds for the environment just what that was known to hold,
// so that what was changed there can lie on top as it is.
func (c *capturing) plain(ctx context.Context) (bool, error) {
	if !c.known {
		return len(c.have) == 0, nil
	}
	if len(c.Apart)+len(c.own) > 0 {
		return false, nil
	}
	return c.m.Project.SameIn(c.Environment.Folders(), c.record.Commit.Tree, c.tip.Tree)
}

// apart finds out what the environment stood on that the branch has not.
func (c *capturing) apart(ctx context.Context) (err error) {
	if c.known {
		c.own, c.Apart, err = c.m.apartFrom(ctx, c.tip, c.record.Commit)
	}
	return err
}

// layOut brings what was captured into the workspace.
func (c *capturing) layOut(ctx context.Context) error {
	if err := c.apart(ctx); err != nil {
		return err
	}
	if len(c.Apart) > 0 && len(c.got.Edits) > 0 {
		return fault.New(fault.Refused,
			"Work on the branch that was deployed there, or record it beside all branches: oaken capture "+fault.Word(c.Environment.Name)+
				" --commit -m TEXT; with --onto "+c.Branch+" it comes to that branch alone.",
			"%s stood on %s, which branch %s has not.", c.Environment.Name, labels(c.Apart, 2), c.Branch)
	}
	if c.o.Mine && !c.known || len(c.got.Edits) == 0 && len(c.own) == 0 {
		paths, rescued, err := c.m.Desk.WriteFiles(ctx, "", c.got.Edits)
		c.Written, c.Rescued = paths, rescued
		return err
	}
	plain, err := c.plain(ctx)
	if err != nil {
		return err
	}
	note, err := c.note(ctx)
	if err != nil {
		return err
	}
	c.Pending = true
	if plain {
		have, err := holding(ctx, c.m.Desk.Work(), c.Environment)
		if err != nil {
			return err
		}
		for name, data := range c.got.Edits { // some may lie here already
			if old, is := have[name]; is == (data != nil) && string(old) == string(data) {
				delete(c.got.Edits, name)
			}
		}
		c.Written, c.Rescued, err = c.m.Desk.TakeCaptured(ctx, note, c.got.Edits)
		return err
	}
	var r *workspace.MergeResult
	if len(c.got.Edits) == 0 { // what was captured before is not in the branch yet
		if r, err = c.m.Desk.Merge(ctx, c.record.Commit, c.record.Commit.Branch, ""); err == nil && r.Committed != nil {
			c.Merged, c.Pending = &r.Committed.Commit, false
		}
	} else {
		r, err = c.m.Desk.MergeCaptured(ctx, note)
	}
	if err != nil {
		return err
	}
	c.Conflicts, c.Combined, c.Open = r.Conflicts, r.Artifacts, len(r.Conflicts) > 0
	for name := range c.got.Edits {
		c.Written = append(c.Written, name)
	}
	slices.Sort(c.Written)
	return nil
}

// objects counts what has a file of its own: what a schema holds, not the schema.
func objects(root *element.Element) int {
	n := 0
	for _, e := range root.Children {
		if root.Type == "environment" {
			for _, inside := range e.Children {
				n += objects(inside)
			}
		} else if e.Type == "schema" {
			n += len(e.Children)
		} else {
			n++
		}
	}
	return n
}
