package server

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"slices"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
)

// news gives what happened to the records since the moment of the asker's copy.
func (a *asked) news() error {
	var since wire.Since
	if err := a.read(&since); err != nil {
		return err
	}
	data, err := a.newsSince(since)
	if err != nil {
		return err
	}
	a.out.Header().Set("Content-Type", "application/octet-stream")
	_, err = a.out.Write(data)
	return gone(err)
}

func (a *asked) newsSince(since wire.Since) ([]byte, error) {
	h, err := a.project.folder.Since(a.Context(), since)
	if err != nil {
		return nil, err
	}
	return wire.EncodeHappened(h)
}

// written answers a call that changed something: what came of it, and what happened since the moment of the asker's copy.
// That it was done counts, whatever becomes of the news.
func (a *asked) written(what wire.Written, since wire.Since) error {
	a.project.moved.tell()
	said, err := json.Marshal(what)
	if err != nil {
		return err
	}
	out := append(binary.AppendUvarint(nil, uint64(len(said))), said...)
	if a.URL.Query().Get("news") != "no" {
		if news, err := a.newsSince(since); err == nil {
			out = append(out, news...)
		}
	}
	a.out.Header().Set("Content-Type", "application/octet-stream")
	_, err = a.out.Write(out)
	return gone(err)
}

// act carries an act out, in the name of who has signed in.
func (a *asked) act() error {
	var call wire.ActCall
	if err := a.read(&call); err != nil {
		return err
	}
	r, err := wire.DecodeRequest(call.Request)
	if err != nil {
		return misread(err)
	}
	for _, b := range call.Bales {
		if _, err := a.takeIn(bytes.NewReader(b)); err != nil {
			return err
		}
	}
	out, err := a.do(r)
	a.server.metrics.acted(wire.NameOf(r.Act), err != nil)
	if err != nil {
		return err
	}
	return a.written(wire.Written{Outcome: out}, call.Since)
}

func (a *asked) do(r chest.Request) (out chest.Outcome, err error) {
	ctx, p := a.Context(), a.project
	r.Actor.Person = a.session.Person.Name
	r.Asked, r.Act = r.Act, onClock(r.Act, a.server.o.Now())
	names := slices.DeleteFunc(wire.People(r.Act), func(name string) bool { return a.planned(r.Act, name) })
	if err := a.inOwnName(names...); err != nil {
		return out, err
	}
	if len(chest.TreesOf(r.Act)) > 0 {
		fence, err := p.chest.Untidied(ctx)
		if err != nil {
			return out, err
		}
		if err := p.provided(ctx, r.Act, a.session.Person.ID); err != nil {
			return out, err
		}
		if r.On.Tidied == nil {
			r.On.Tidied = &fence
		}
	}
	if ruled(r.Act) {
		p.rules.Lock()
		defer p.rules.Unlock()
		if err := a.byTheRules(r); err != nil {
			return out, err
		}
	}
	return p.folder.Do(ctx, r)
}

// onClock gives an act with the server's time, where a wrong clock would take something from others: by it locks end, and
// are told to be of somebody who is gone.
func onClock(act chest.Act, now time.Time) chest.Act {
	switch act := act.(type) {
	case chest.TakeLocks:
		ahead := now.Sub(act.Now)
		act.Wanted = slices.Clone(act.Wanted)
		for i := range act.Wanted {
			l := &act.Wanted[i]
			if l.Since = now; !l.Ends.IsZero() && !act.Now.IsZero() {
				l.Ends = l.Ends.Add(ahead)
			}
		}
		act.Now = now
		return act
	case chest.FreeLocks:
		act.Now = now
		return act
	}
	return act
}

// inOwnName refuses to speak in another's name.
func (a *asked) inOwnName(names ...string) error {
	for _, name := range names {
		if name != "" && name != a.session.Person.Name && !a.server.anyName {
			return fault.New(fault.Refused, "Leave --as out, or sign in as "+name+".", "You are signed in as %s, and can't act as %s.",
				a.session.Person.Name, name)
		}
	}
	return nil
}

// planned reports whether an act carries out what somebody else planned, and is due: that is recorded as who planned it.
func (a *asked) planned(act chest.Act, name string) bool {
	var environment string
	switch act := act.(type) {
	case chest.Publish:
		if act.Deployment == nil || act.Review != nil || len(act.Back) > 0 {
			return false
		}
		environment = act.Deployment.Environment
	case chest.NoteAttempt:
		environment = act.Attempt.Environment
	case chest.NoteLook:
		environment = act.Look.Environment
	default:
		return false
	}
	if name == a.session.Person.Name {
		return false
	}
	list, err := a.project.chest.Planned(a.Context())
	return err == nil && slices.ContainsFunc(list, func(p ledger.Planned) bool {
		due := p.Ended.IsZero() && !p.Due.After(a.server.o.Now())
		return due && p.Person == name && (p.Target == environment || p.Origin == environment)
	})
}

// ruled reports whether an act moves the first branch, and so has to be by its rules.
func ruled(a chest.Act) bool {
	p, ok := a.(chest.Publish)
	return ok && (slices.ContainsFunc(p.Drafts, func(d chest.Draft) bool { return d.Branch == chest.FirstBranch }) ||
		p.Merge != nil && p.Merge.Branch == chest.FirstBranch)
}

// byTheRules asks the warden of the project's rules, as the program of who acts did before: that one may be anybody's.
func (a *asked) byTheRules(r chest.Request) error {
	ctx, act := a.Context(), r.Act.(chest.Publish)
	own := chest.New(a.project.folder)
	p, err := project.New(ctx, own, a.server.o.Kinds, r.Actor, a.server.o.Now)
	if err != nil {
		return nil // rules that can't be read guard nothing, as the warden has it: somebody has to mend them
	}
	warden := project.Warden{Project: p, Owner: func() bool {
		return a.session.Person.Administrator || a.project.By == a.session.Person.Name
	}}
	before := map[ledger.ID]content.Digest{}
	tree := func(id ledger.ID) (content.Digest, error) {
		if t, ok := before[id]; ok || id == (ledger.ID{}) {
			return t, nil
		}
		c, err := own.Commit(ctx, id)
		return c.Tree, err
	}
	drafts := act.Drafts
	if act.Merge != nil {
		drafts = append(slices.Clone(drafts), *act.Merge)
	}
	var last content.Digest
	for i, d := range drafts {
		from, err := tree(d.Tip)
		if i > 0 && act.Merge == nil || i > 0 && i < len(drafts)-1 {
			from, err = last, nil // each stands on the one before
		}
		if err != nil {
			return err
		}
		last = d.Tree
		if d.Branch != chest.FirstBranch || from == (content.Digest{}) {
			continue
		}
		if err := warden.MayMove(ctx, from, d.Tree); err != nil {
			return err
		}
	}
	return nil
}

func (a *asked) lease() error {
	var call wire.LeaseCall
	if err := a.read(&call); err != nil {
		return err
	}
	if call.Step.Do == chest.TakeLease && !a.server.anyName {
		call.Step.Take.Person = a.session.Person.Name
	}
	if err := a.project.folder.Lease(a.Context(), call.Step); err != nil {
		return err
	}
	return a.written(wire.Written{}, call.Since)
}

func (a *asked) tell() error {
	var call wire.TellCall
	if err := a.read(&call); err != nil {
		return err
	}
	if err := a.inOwnName(call.News.Workspace.Person); err != nil {
		return err
	}
	if err := a.ownWorkspace(call.News.Workspace.Name); err != nil {
		return err
	}
	call.News.Workspace.Seen = a.server.o.Now()
	if err := a.project.folder.Tell(a.Context(), call.News); err != nil {
		return err
	}
	return a.written(wire.Written{}, call.Since)
}

// ownWorkspace refuses what only whose workspace it is may do.
func (a *asked) ownWorkspace(name string) error {
	var w ledger.Workspace
	err := a.project.chest.View(a.Context(), func(r ledger.Records) (err error) { w, err = r.Workspace(name); return err })
	if err != nil { // it is not known yet
		return nil
	}
	return a.inOwnName(w.Person)
}

func (a *asked) register() error {
	var call wire.RegisterCall
	if err := a.read(&call); err != nil {
		return err
	}
	if err := a.inOwnName(call.Workspace.Person); err != nil {
		return err
	}
	call.Workspace.Seen = a.server.o.Now()
	name, err := a.project.folder.Register(a.Context(), call.Workspace)
	if err != nil {
		return err
	}
	return a.written(wire.Written{Name: name}, call.Since)
}

func (a *asked) heard() error {
	var call wire.HeardCall
	if err := a.read(&call); err != nil {
		return err
	}
	if err := a.ownWorkspace(call.Workspace); err != nil {
		return err
	}
	if err := a.project.folder.Heard(a.Context(), call.Workspace, call.UpTo); err != nil {
		return err
	}
	return a.written(wire.Written{}, call.Since)
}

func (a *asked) flaws() error {
	list, err := a.project.folder.Flaws(a.Context())
	if err != nil {
		return err
	}
	return a.answer(list)
}

// mostLacking is how many contents a refusal names.
const mostLacking = 20_000

// provided refuses an act that names contents which who acts neither sent nor may see where the act says that they are
// from. What is there of others is not told apart from what is not there.
func (p *served) provided(ctx context.Context, act chest.Act, person string) error {
	named := chest.TreesOf(act)
	if len(named) == 0 {
		return nil
	}
	k := &looking{ctx: ctx, project: p, person: person, seen: map[content.Digest]bool{}}
	for _, n := range named {
		if n.Tree == (content.Digest{}) {
			continue
		}
		like, err := p.treesOf(ctx, n.Like)
		if err != nil {
			return err
		}
		k.like = append(k.like, like...)
		if err := k.look(chest.File{Mode: chest.Folder, Digest: n.Tree}, k.like); err != nil {
			return err
		}
		k.like = append(k.like, n.Tree) // the next may be like this one
	}
	if len(k.lacking) > 0 {
		return &chest.Refusal{Reason: chest.Unsent, Subject: act.Subject(), Lacking: k.lacking}
	}
	return nil
}

// treesOf gives the trees of commits, of the first branch's newest where none is named. A commit that there is not has
// none.
func (p *served) treesOf(ctx context.Context, ids []ledger.ID) (out []content.Digest, err error) {
	err = p.chest.View(ctx, func(r ledger.Records) error {
		if first, err := r.Branch(chest.FirstBranch); err == nil {
			ids = append(slices.Clone(ids), first.Tip)
		}
		for _, id := range ids {
			if c, err := r.Commit(id); err == nil && c.Tree != (content.Digest{}) {
				out = append(out, c.Tree)
			}
		}
		return nil
	})
	return out, err
}

// looking is a look into a tree that somebody names.
type looking struct {
	ctx     context.Context
	project *served
	person  string
	like    []content.Digest
	seen    map[content.Digest]bool
	sent    map[content.Digest]bool // nil before it is asked for
	asked   bool
	visible map[content.Digest]bool // what lies anywhere in the trees that it may be like; nil before it is asked for
	lacking []content.Digest
}

// look looks at a file or folder, and at those that lie at the same place in the trees that it may be like.
func (k *looking) look(f chest.File, like []content.Digest) error {
	if err := k.ctx.Err(); err != nil {
		return err
	}
	if slices.Contains(like, f.Digest) || k.seen[f.Digest] {
		return nil
	}
	k.seen[f.Digest] = true
	ok, err := k.may(f.Digest)
	if err != nil {
		return err
	}
	if !ok || !k.project.chest.Holds(f.Digest) {
		if len(k.lacking) < mostLacking {
			k.lacking = append(k.lacking, f.Digest)
		}
		return nil
	}
	if f.Mode != chest.Folder {
		return nil
	}
	entries, err := k.project.chest.Entries(f.Digest)
	if err != nil {
		return fault.New(fault.Refused, "Run the command again.", "A folder of what would be recorded is none.")
	}
	below := make([]map[string]content.Digest, 0, len(like))
	for _, d := range like {
		others, err := k.project.chest.Entries(d)
		if err != nil {
			continue // it is a file there
		}
		names := make(map[string]content.Digest, len(others))
		for _, o := range others {
			names[o.Path] = o.Digest
		}
		below = append(below, names)
	}
	for _, e := range entries {
		var at []content.Digest
		for _, names := range below {
			if d, ok := names[e.Path]; ok {
				at = append(at, d)
			}
		}
		if err := k.look(e, at); err != nil {
			return err
		}
	}
	return nil
}

// may reports whether the person sent content, or sees it in one of the trees.
func (k *looking) may(d content.Digest) (bool, error) {
	if !k.asked {
		sent, err := k.project.sent.of(k.person)
		if err != nil {
			return false, err
		}
		k.sent, k.asked = sent, true
	}
	if k.sent[d] {
		return true, nil
	}
	if k.visible == nil {
		k.visible = map[content.Digest]bool{}
		for _, tree := range k.like {
			if err := k.see(tree); err != nil {
				return false, err
			}
		}
	}
	return k.visible[d], nil
}

// see notes a folder, and all that lies below it.
func (k *looking) see(folder content.Digest) error {
	if k.visible[folder] {
		return nil
	}
	k.visible[folder] = true
	entries, err := k.project.chest.Entries(folder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Mode != chest.Folder {
			k.visible[e.Digest] = true
		} else if err := k.see(e.Digest); err != nil {
			return err
		}
	}
	return k.ctx.Err()
}
