package pipeline

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Direction says where an object's version goes when two sides are settled.
type Direction string

// The directions.
const (
	ToChest       Direction = "to-chest"
	ToEnvironment Direction = "to-environment"
	Leave         Direction = "leave"
)

// Directions lists them in the order in which a person goes through them.
var Directions = []Direction{ToChest, ToEnvironment, Leave}

// Prefer says which side is right where nothing else is said.
type Prefer string

// The sides. PreferNone lets the last deployment decide: what changed on one side only
// goes to the other, and the rest is left.
const (
	PreferNone        Prefer = ""
	PreferChest       Prefer = "chest"
	PreferEnvironment Prefer = "environment"
	PreferNeither     Prefer = "neither"
)

// The states of an object on one side, against the last deployment.
const (
	AsDeployed = "as deployed"
	Edited     = "edited"
	New        = "new"
	Gone       = "gone"
	There      = "there"   // when nothing was deployed yet
	Missing    = "missing" // likewise
)

// Settled is one object in which the workspace and an environment differ.
type Settled struct {
	// Address is below the environment's folder; where an environment has several, it is that of
	// the project.
	Address string `toml:"address"`
	// Chest and Environment are the states on both sides.
	Chest       string `toml:"chest"`
	Environment string `toml:"environment"`
	// Seen tells the versions that the plan was made for.
	Seen string `toml:"seen"`
	// Direction is what is to be done.
	Direction Direction `toml:"direction"`
	// Changes lead from the chest's version to the environment's, when both have one.
	Changes []element.Change `toml:"-"`
}

// SettlePlan lists what differs, and what is to become of it. As a file it is TOML.
type SettlePlan struct {
	Format      string    `toml:"format"`
	Environment string    `toml:"environment"`
	Made        time.Time `toml:"made"`
	Objects     []Settled `toml:"object"`
}

// settleFormat names the form of plan files.
const settleFormat = "oaken.settle/1"

// Settlement is the two sides of an environment, opened to be settled.
type Settlement struct {
	Plan SettlePlan
	// Deployed is what was deployed last; nil when nothing ever was.
	Deployed *ledger.Commit
	// Deployment, once Direct has run, is what is done to the environment.
	Deployment *Deployment

	env    manifest.Environment
	places []*settledPlace
	driver environment.Driver
	have   environment.Files // of the workspace, by path of the project
	files  environment.Files // what the workspace is to hold
}

// settledPlace is one target of an environment with its folder, on both sides.
type settledPlace struct {
	folder      folder
	within      bool // the environment has others
	here, there *contents
	// base is what both sides have in common, drifted the environment against that; nil when
	// that is not known.
	base, drifted *contents
}

// name gives the address of an object as the plan has it.
func (p *settledPlace) name(address string) string {
	if !p.within {
		return address
	}
	o, ok := p.here.objects[address]
	if !ok {
		o = p.there.objects[address]
	}
	return p.folder.address(o)
}

// PrepareSettle lists the objects in which the workspace and an environment differ, each
// with a direction. Close the settlement.
func (m *Mover) PrepareSettle(ctx context.Context, name string, prefer Prefer) (*Settlement, error) {
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return nil, err
	}
	s := &Settlement{env: env, driver: d,
		Plan: SettlePlan{Format: settleFormat, Environment: name, Made: m.Now().UTC().Truncate(time.Second)}}
	err = m.compareSides(ctx, s, prefer)
	if err == nil {
		err = m.stepsBefore(ctx, s)
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return s, nil
}

// stepsBefore refuses to settle while data steps are due, which only a deployment runs.
func (m *Mover) stepsBefore(ctx context.Context, s *Settlement) error {
	steps, _, err := m.dataSteps(ctx, s.env, s.have, works{of: []ledger.Commit{m.base()}})
	if err == nil && len(steps.Due) > 0 {
		err = fault.New(fault.Refused, "Capture what is new there, deploy, and settle then what is left.",
			"Data steps are due in %s, which a deployment runs: %s.", s.env.Name, strings.Join(steps.Due, ", "))
	}
	return err
}

func (m *Mover) compareSides(ctx context.Context, s *Settlement, prefer Prefer) error {
	var err error
	if s.have, err = holding(ctx, m.Desk.Work(), s.env); err != nil {
		return err
	}
	got, err := whole(ctx, s.driver, s.have)
	if err != nil {
		return err
	}
	for _, site := range s.env.Sites() {
		p := &settledPlace{within: len(s.env.Also) > 0}
		if p.folder, err = m.folderOf(site.Into, site.Target); err != nil {
			return err
		}
		if p.here, err = p.folder.read(environment.Inside(s.have, site.Into)); err != nil {
			return err
		}
		if p.there, err = p.folder.read(environment.Inside(got.Files, site.Into)); err != nil {
			return err
		}
		s.places = append(s.places, p)
	}
	if err := m.sinceDeployed(ctx, s); err != nil {
		return err
	}
	for _, p := range s.places {
		for _, address := range differing(p.here, p.there) {
			s.Plan.Objects = append(s.Plan.Objects, p.settled(address, prefer))
		}
	}
	return nil
}

// settled tells of one object in which the two sides differ.
func (p *settledPlace) settled(address string, prefer Prefer) Settled {
	o := Settled{Address: p.name(address), Seen: p.seen(address), Chest: presence(p.here, address), Environment: presence(p.there, address),
		Direction: Leave}
	changedHere, changedThere := true, true
	if p.base != nil {
		o.Chest, changedHere = stateSince(p.base, p.here, address)
		o.Environment, changedThere = stateSince(p.base, p.drifted, address)
	} else {
		_, inChest := p.here.objects[address]
		_, inEnvironment := p.there.objects[address]
		changedHere, changedThere = inChest && !inEnvironment, inEnvironment && !inChest
	}
	o.Direction = direction(prefer, changedHere, changedThere)
	if x, y := p.here.objects[address], p.there.objects[address]; x.e != nil && y.e != nil {
		o.Changes = element.Compare(x.e, y.e).Changes("")
	}
	return o
}

func direction(prefer Prefer, here, there bool) Direction {
	switch prefer {
	case PreferChest:
		return ToEnvironment
	case PreferEnvironment:
		return ToChest
	case PreferNeither:
		return Leave
	}
	switch {
	case here && !there:
		return ToEnvironment
	case there && !here:
		return ToChest
	}
	return Leave
}

// sinceDeployed reads what the environment's record and the workspace have in common, and
// the environment against that: what means the same stays as it is there.
func (m *Mover) sinceDeployed(ctx context.Context, s *Settlement) error {
	r, known, err := m.record(ctx, s.env)
	if err != nil || !known {
		return err
	}
	common, err := m.Project.Common(ctx, m.base(), r.Commit)
	if err != nil {
		return err
	}
	files, err := holding(ctx, common, s.env)
	if err != nil {
		return err
	}
	got, err := whole(ctx, s.driver, files)
	if err != nil {
		return err
	}
	s.Deployed = &r.Commit
	for i, site := range s.env.Sites() {
		p := s.places[i]
		base, err := p.folder.read(environment.Inside(files, site.Into))
		if err != nil { // what was deployed by other rules can't be told any more
			continue
		}
		p.base = base
		if p.drifted, err = p.folder.read(environment.Inside(got.Files, site.Into)); err != nil {
			return err
		}
	}
	return nil
}

func presence(c *contents, address string) string {
	if _, ok := c.objects[address]; ok {
		return There
	}
	return Missing
}

// stateSince says what became of an object since a state.
func stateSince(base, now *contents, address string) (word string, changed bool) {
	_, was := base.objects[address]
	_, is := now.objects[address]
	switch {
	case same(base, now, address) && !was:
		return Missing, false
	case same(base, now, address):
		return AsDeployed, false
	case !was:
		return New, true
	case !is:
		return Gone, true
	}
	return Edited, true
}

// seen names the two versions of an object.
func (p *settledPlace) seen(address string) string {
	name := func(c *contents) string {
		o, ok := c.objects[address]
		if !ok {
			return "none"
		}
		d := o.e.Sum()
		return hex.EncodeToString(d[:8])
	}
	return name(p.here) + "/" + name(p.there)
}

// Close lets go of the environment.
func (s *Settlement) Close() error { return s.driver.Close() }

// Direct computes what the directions of the plan do to the environment, in Deployment,
// and to the workspace.
func (s *Settlement) Direct(ctx context.Context) error {
	going := map[string]Direction{}
	for _, o := range s.Plan.Objects {
		going[o.Address] = o.Direction
	}
	s.files = environment.Files{}
	target := environment.Files{}
	for _, p := range s.places {
		goes := func(d Direction) func(string) bool { return func(a string) bool { return going[p.name(a)] == d } }
		work, err1 := p.folder.mix(p.here, p.there, goes(ToChest))
		there, err2 := p.folder.mix(p.there, p.here, goes(ToEnvironment))
		if err := errors.Join(err1, err2); err != nil {
			return unmixable(err)
		}
		environment.Put(s.files, p.folder.path, work)
		environment.Put(target, p.folder.path, there)
	}
	plan, err := s.driver.Plan(ctx, target, nil)
	if err != nil {
		return err
	}
	s.Deployment = &Deployment{Environment: s.env, Label: "the plan", Plan: plan, driver: s.driver}
	return nil
}

func unmixable(err error) error {
	return fault.New(fault.Refused, "Give objects that need each other the same direction; nothing was changed.",
		"The two sides can't be put together like this: %w.", err)
}

// Count gives the number of objects that go in a direction.
func (p *SettlePlan) Count(d Direction) int {
	n := 0
	for _, o := range p.Objects {
		if o.Direction == d {
			n++
		}
	}
	return n
}

// Outcome is what settling did to the workspace.
type Outcome struct {
	// Written lists the files that were written or removed, by project path.
	Written []string
	// Rescued is the folder with copies of edits that were overwritten; empty for none.
	Rescued string
}

// Settle carries the directions out: first in the environment, whole or not at all where
// it can be, then in the workspace.
func (m *Mover) Settle(ctx context.Context, s *Settlement, o DeployOptions) (*Outcome, error) {
	if len(s.Deployment.Plan.Steps) > 0 {
		if err := m.mayPass(ctx, s.env, o.Reason, "settle it"); err != nil {
			return nil, err
		}
	}
	if err := m.change(ctx, s.Deployment, o); err != nil {
		return nil, err
	}
	out := &Outcome{}
	var err error
	out.Written, out.Rescued, err = m.Desk.WriteFiles(ctx, "", edits(s.have, s.files))
	return out, err
}

// Agrees records that an environment holds what a commit declares: the new baseline.
func (m *Mover) Agrees(ctx context.Context, s *Settlement, c ledger.Commit) error {
	return m.proved(ctx, s.env, c, evidence{ActionSettle, ActionSettle, len(s.Deployment.Plan.Steps)})
}

// Text writes a plan as a file that people may edit.
func (p *SettlePlan) Text() ([]byte, error) {
	data, err := toml.Marshal(p)
	if err != nil {
		return nil, err
	}
	words := make([]string, len(Directions))
	for i, d := range Directions {
		words[i] = string(d)
	}
	return append([]byte("# What becomes of each object in which the workspace and the environment differ.\n# direction is one of "+
		strings.Join(words, ", ")+".\n"), data...), nil
}

// ParseSettlePlan reads such a file.
func ParseSettlePlan(data []byte) (*SettlePlan, error) {
	var p SettlePlan
	dec := toml.NewDecoder(strings.NewReader(string(data)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&p); err != nil {
		reason := strings.TrimPrefix(err.Error(), "toml: ")
		var at *toml.DecodeError
		if errors.As(err, &at) {
			row, _ := at.Position()
			reason = fmt.Sprintf("line %d: %s", row, reason)
		}
		return nil, fault.New(fault.Usage, "Correct it, or write a new one with --plan.", "The plan can't be read: %s.", reason)
	}
	if p.Format != settleFormat {
		return nil, fault.New(fault.Usage, "Write a new one with --plan.", "The plan has the format %q; this program knows %s.",
			p.Format, settleFormat)
	}
	for _, o := range p.Objects {
		if !slices.Contains(Directions, o.Direction) {
			return nil, fault.New(fault.Usage, "Directions are to-chest, to-environment and leave.", "The direction %q of %s is none.",
				o.Direction, o.Address)
		}
	}
	return &p, nil
}

// Follow takes the directions of a plan that was made before. It is refused when an
// object that the plan moves has changed since, on either side; what is new since is
// left.
func (s *Settlement) Follow(p *SettlePlan) error {
	if p.Environment != s.env.Name {
		return fault.New(fault.Usage, "Name that environment, or write a plan for this one.", "The plan is one for %s, not for %s.",
			p.Environment, s.env.Name)
	}
	given := map[string]Settled{}
	for _, o := range p.Objects {
		given[o.Address] = o
	}
	for i, o := range s.Plan.Objects {
		g, ok := given[o.Address]
		delete(given, o.Address)
		if !ok {
			s.Plan.Objects[i].Direction = Leave
			continue
		}
		if g.Seen != o.Seen && g.Direction != Leave {
			return stale(o.Address)
		}
		s.Plan.Objects[i].Direction = g.Direction
	}
	for address, g := range given {
		if g.Direction != Leave {
			return stale(address)
		}
	}
	return nil
}

func stale(address string) error {
	at := address
	if a, err := element.ParseAddress("x::" + address); err == nil {
		at = strings.TrimPrefix(a.String(), "x::")
	}
	return fault.New(fault.Refused, "Nothing was changed. Write a new plan with --plan, and look at it again.",
		"%s has changed since the plan was made.", at)
}
