package pipeline

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/choice"
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// A promotion whose work is in conflict with what the target's branch has is settled before
// anything of it enters that branch. The chest keeps the choices, each bound to the sides that
// it was made of; the merge is computed anew with them whenever somebody looks. What comes of
// it is a tree: approvals are given for that, and lapse when it becomes another one.

// chosenWork says which of the work a promotion that is being settled is of.
type chosenWork struct {
	Lane       string   `json:"lane,omitempty"`
	Item       string   `json:"item,omitempty"`
	Paths      []string `json:"paths,omitempty"`
	WithNeeded bool     `json:"withNeeded,omitempty"`
}

// choices are those that people made for one promotion.
type choices struct {
	byAddress map[string]ledger.Chosen
	used      map[string]bool
	only      map[string]bool // when set, those of these people alone count
	files     func(path string) [][]byte
}

// choicesFor reads the choices that were made for a promotion.
func (m *Mover) choicesFor(ctx context.Context, p *Promotion) (*choices, error) {
	list, err := m.Project.Chest.Chosen(ctx, p.From.Name, p.To.Name)
	if err != nil {
		return nil, err
	}
	c := &choices{byAddress: map[string]ledger.Chosen{}, used: map[string]bool{}, files: m.filesAt(p.onto.Tree, p.Source.Tree)}
	for _, x := range list {
		c.byAddress[x.Address] = x
	}
	return c, nil
}

// filesAt gives what is at a path in some trees, as digests.
func (m *Mover) filesAt(trees ...content.Digest) func(string) [][]byte {
	return func(path string) (out [][]byte) {
		for _, t := range trees {
			f, err := m.Project.Chest.At(t, path)
			if err != nil { // of what can't be read no choice was made
				out = append(out, []byte(err.Error()))
				continue
			}
			out = append(out, f.Digest[:])
		}
		return out
	}
}

// sides is what a choice about a conflict is bound to: what stands against each other, and,
// where that does not tell all of it, the files.
func (c *choices) sides(x element.Conflict) string {
	if x.Address.Whole() || strings.HasPrefix(x.Address.Property, "(") {
		return choice.Sides(x, c.files(x.Address.Path)...)
	}
	return choice.Sides(x)
}

// settle decides a conflict as somebody chose.
func (c *choices) settle(x element.Conflict) (element.Choice, bool) {
	made, ok := c.byAddress[x.Address.String()]
	if !ok || made.Sides != c.sides(x) || c.only != nil && !c.only[made.Person] {
		return element.Choice{}, false
	}
	c.used[made.Address] = true
	return choice.Made{Address: made.Address, Keep: made.Keep, Sort: made.Sort, Value: made.Value}.Choice(), true
}

// counted lists the choices that settled something, in the order of their making.
func (c *choices) counted() (out []ledger.Chosen) {
	for _, x := range c.byAddress {
		if c.used[x.Address] {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b ledger.Chosen) int {
		if n := a.Time.Compare(b.Time); n != 0 {
			return n
		}
		return strings.Compare(a.Address, b.Address)
	})
	return out
}

// people lists who settled something, in the order of their first choices.
func people(list []ledger.Chosen) (out []string) {
	for _, x := range list {
		if !slices.Contains(out, x.Person) {
			out = append(out, x.Person)
		}
	}
	return out
}

// approvedTree is what approvals of a promotion must be for: the tree that people settled;
// empty where nothing was in conflict, and the commit says all.
func (p *Promotion) approvedTree() string {
	if len(p.Settled) == 0 {
		return ""
	}
	return hex.EncodeToString(p.tree[:])
}

// settledText says in a commit's message what was settled, and by whom.
func settledText(list []ledger.Chosen) string {
	if len(list) == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString("\n")
	for _, x := range list {
		fmt.Fprintf(&b, "\n%s settled %s: %s", x.Person, x.Address, x.Keep)
	}
	return b.String()
}

// PendingPromotion is a promotion that is being settled.
type PendingPromotion struct {
	From, To string
	// Branch is where the work goes; its side of a conflict is mine, that of From is theirs.
	Branch string
	Open   []element.Conflict
	// Settled lists the choices that count.
	Settled []ledger.Chosen

	m       *Mover
	p       *Promotion
	choices *choices
}

// Sides gives the two states that stand against each other.
func (s *PendingPromotion) Sides() (mine, theirs state.State, err error) {
	w := s.m.Project
	return w.CommitState(s.p.onto, "mine"), w.CommitState(s.p.Source, "theirs"), nil
}

// BeginSettling records that a promotion is being settled, and gives what is in conflict.
func (m *Mover) BeginSettling(ctx context.Context, from, to string, o PromoteOptions) (*PendingPromotion, error) {
	s, err := m.pending(ctx, from, to, o)
	if err != nil {
		return nil, err
	}
	if len(s.Open)+len(s.Settled) == 0 {
		return nil, fault.New(fault.Usage, "Carry it out: oaken promote "+fault.Word(from)+" "+fault.Word(to)+".",
			"Nothing of it is in conflict.")
	}
	chosen, err := json.Marshal(chosenWork{Lane: o.Lane, Item: o.Item, Paths: o.Paths, WithNeeded: o.WithNeeded})
	if err != nil {
		return nil, err
	}
	err = m.Project.Chest.Settle(ctx, ledger.Pending{Origin: from, Target: to, Chosen: string(chosen), Person: m.Project.Person,
		Time: m.Now()})
	return s, err
}

// Settling gives the promotion into an environment that is being settled; from may be empty
// where there is one alone.
func (m *Mover) Settling(ctx context.Context, from, to string) (*PendingPromotion, error) {
	all, err := m.Project.Chest.PendingPromotions(ctx)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(s ledger.Pending) bool { return s.Target != to || from != "" && s.Origin != from })
	switch len(all) {
	case 0:
		return nil, fault.New(fault.Usage, "oaken promote FROM "+to+" --settle begins it.", "No promotion into %s is being settled.", to)
	case 1:
	default:
		var names []string
		for _, s := range all {
			names = append(names, s.Origin)
		}
		return nil, fault.New(fault.Usage, "Name one with --from.", "Several promotions into %s are being settled: from %s.", to,
			listAnd(names))
	}
	var what chosenWork
	if err := json.Unmarshal([]byte(all[0].Chosen), &what); err != nil {
		return nil, fault.New(fault.Damaged, "Begin it anew: oaken promote "+fault.Word(all[0].Origin)+" "+fault.Word(to)+" --settle.",
			"The record of the promotion that is being settled can't be read: %w.", err)
	}
	return m.pending(ctx, all[0].Origin, to, PromoteOptions{Lane: what.Lane, Item: what.Item, Paths: what.Paths,
		WithNeeded: what.WithNeeded})
}

// pending computes what is in conflict in a promotion, and what was settled of it.
func (m *Mover) pending(ctx context.Context, from, to string, o PromoteOptions) (*PendingPromotion, error) {
	l := m.rules(ctx)
	p, err := m.along(ctx, l, from, to, o.Lane)
	if err != nil {
		return nil, err
	}
	release, err := m.Project.Chest.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := m.compareHistories(ctx, l, p); err != nil {
		return nil, err
	}
	if err := m.takeIn(ctx, p, o); err != nil {
		return nil, err
	}
	return &PendingPromotion{From: from, To: to, Branch: p.Branch, Open: p.Conflicts, Settled: p.Settled, m: m, p: p,
		choices: p.choices}, nil
}

// Resolve settles the conflicts that a person named, as workspace.Resolve does for a merge.
func (s *PendingPromotion) Resolve(ctx context.Context, text string, keep element.Keep, value string) (settled,
	left []element.Conflict, err error) {
	meant, _, err := choice.Meant(text)
	if err != nil {
		return nil, nil, err
	}
	if settled = meant(s.Open); len(settled) == 0 {
		again, err := s.settledBefore(ctx)
		if err != nil {
			return nil, nil, err
		}
		settled = meant(again)
	}
	if len(settled) == 0 {
		return nil, nil, fault.New(fault.Usage, "oaken conflicts --to "+fault.Word(s.To)+" lists the addresses that are open.",
			"No conflict is open at %s.", text)
	}
	left, err = s.choose(ctx, settled, func(element.Conflict) (element.Keep, string) { return keep, value })
	return settled, left, err
}

// settledBefore lists the conflicts that were settled already, to be settled in another way.
func (s *PendingPromotion) settledBefore(ctx context.Context) ([]element.Conflict, error) {
	fresh := *s.p
	fresh.choices = &choices{used: map[string]bool{}, files: s.choices.files}
	fresh.Conflicts, fresh.drafts, fresh.Settled = nil, nil, nil
	release, err := s.m.Project.Chest.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	if len(s.p.take) > 0 {
		err = s.m.pick(ctx, &fresh, s.p.take)
	} else {
		err = s.m.allWork(ctx, &fresh)
	}
	return slices.DeleteFunc(fresh.Conflicts, func(c element.Conflict) bool {
		return !slices.ContainsFunc(s.Settled, func(x ledger.Chosen) bool { return x.Address == c.Address.String() })
	}), err
}

// Decide settles conflicts one by one, all or none, and gives what is left open.
func (s *PendingPromotion) Decide(ctx context.Context, list []workspace.Decision) (left []element.Conflict, err error) {
	var conflicts []element.Conflict
	by := map[string]workspace.Decision{}
	for _, d := range list {
		conflicts = append(conflicts, d.Conflict)
		by[d.Conflict.Address.String()] = d
	}
	return s.choose(ctx, conflicts, func(c element.Conflict) (element.Keep, string) {
		d := by[c.Address.String()]
		return d.Keep, d.Value
	})
}

func (s *PendingPromotion) choose(ctx context.Context, conflicts []element.Conflict,
	how func(element.Conflict) (element.Keep, string)) ([]element.Conflict, error) {
	var list []ledger.Chosen
	for _, c := range conflicts {
		if len(c.Allows) == 0 {
			return nil, fault.New(fault.Refused, "Bring one of the two to what the other has of it first, by a commit.",
				"%s is in conflict with something that was taken back; it can't be settled here.", c.Address)
		}
		keep, value := how(c)
		made, err := choice.Make(c, keep, value)
		if err != nil {
			return nil, err
		}
		list = append(list, ledger.Chosen{Origin: s.From, Target: s.To, Address: made.Address, Sides: s.choices.sides(c), Keep: made.Keep,
			Sort: made.Sort, Value: made.Value, Person: s.m.Project.Person, Time: s.m.Now()})
	}
	if err := s.m.Project.Chest.Choose(ctx, list); err != nil {
		return nil, err
	}
	is, err := s.m.Settling(ctx, s.From, s.To)
	if err != nil {
		return nil, err
	}
	*s = *is
	return s.Open, nil
}
