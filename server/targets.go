package server

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/access"
	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/wire"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
	"oakenchest/core/project"
	"oakenchest/core/trust"
)

// acting is a project's chest for what the server does itself in somebody's name: it stays open afterwards, who waits for news is
// told, and moves of the first branch are one at a time, as those from afar are.
type acting struct {
	*local.Folder
	project *served
}

func (s *acting) Close() error { return nil }

func (s *acting) Do(ctx context.Context, r chest.Request) (chest.Outcome, error) {
	if ruled(r.Act) {
		s.project.rules.Lock()
		defer s.project.rules.Unlock()
	}
	out, err := s.Folder.Do(ctx, r)
	s.project.moved.tell()
	return out, err
}

func (s *acting) Lease(ctx context.Context, step chest.LeaseStep) error {
	err := s.Folder.Lease(ctx, step)
	s.project.moved.tell()
	return err
}

// mover gives what moves work in the name of who asks, from a workspace of theirs; done ends it.
func (s *Server) mover(ctx context.Context, p *served, who access.Session, workspace string) (m *pipeline.Mover, done func(), err error) {
	c := chest.New(&acting{p.folder, p})
	pr, err := project.New(ctx, c, s.o.Kinds, chest.Actor{Person: who.Person.Name, Workspace: workspace}, s.o.Now)
	if err != nil {
		return nil, nil, errors.Join(err, c.Close())
	}
	c.Warden = project.Warden{Project: pr, Owner: func() bool { return who.Person.Administrator || p.By == who.Person.Name }}
	tip, err := c.Resolve(ctx, chest.FirstBranch)
	if err != nil {
		return nil, nil, errors.Join(err, c.Close())
	}
	own, err := os.MkdirTemp(s.dir, "job-*")
	if err != nil {
		return nil, nil, errors.Join(err, c.Close())
	}
	m = &pipeline.Mover{Project: pr, Desk: pipeline.NoDesk{Project: pr, Newest: tip, Saves: filepath.Join(own, "lost")}, Now: s.o.Now,
		Trust: keeper{s.Book, p.ID}, At: &pipeline.Attended{Reachable: reachable},
		Host: environment.Host{Root: filepath.Join(own, "none"), Cache: filepath.Join(s.folderOf(p.Project), "cache", "schema"),
			Keys:    func(target, name string) (string, bool) { return s.Book.Key(ctx, p.ID, target, name) },
			Refuses: s.refuses}}
	return m, func() {
		_ = c.Close()         // what is held is given back, or is taken over
		_ = os.RemoveAll(own) // the next start tries again
	}, nil
}

// reachable refuses environments that people reach from their own machines.
func reachable(e manifest.Environment) error {
	if e.RunsAtServer() {
		return nil
	}
	return fault.New(fault.Refused, "Say runs = \"server\" of it in oaken.toml, on the first branch; or do it with an oaken that agrees.",
		"%s is reached by people, from their own machines, and not by the server.", e.Name)
}

// refuses keeps projects out of the server's own files.
func (s *Server) refuses(file string) error {
	own, err := filepath.EvalSymlinks(s.dir)
	if err != nil {
		return err
	}
	if !filepath.IsAbs(own) {
		if own, err = filepath.Abs(own); err != nil {
			return err
		}
	}
	real := filepath.Clean(file)
	for at, below := real, ""; ; at, below = filepath.Dir(at), filepath.Join(filepath.Base(at), below) {
		if there, err := filepath.EvalSymlinks(at); err == nil {
			real = filepath.Join(there, below)
			break
		}
		if at == filepath.Dir(at) {
			break
		}
	}
	if rel, err := filepath.Rel(own, real); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return fault.New(fault.Refused, "Name another place in oaken.toml.", "The target lies among the server's own files.")
	}
	return nil
}

// keeper says what administrators agreed to for the server.
type keeper struct {
	book    *access.Book
	project string
}

func (k keeper) Allow(ctx context.Context, wishes ...trust.Wish) error {
	agreed, err := k.book.Agreements(ctx, k.project)
	if err != nil {
		return err
	}
	lacking := slices.DeleteFunc(slices.Clone(wishes), func(w trust.Wish) bool {
		return slices.ContainsFunc(agreed, func(a access.Agreed) bool { return a.Wish == w.Digest() })
	})
	if len(lacking) > 0 {
		return trust.RefusedAtServer(lacking)
	}
	return nil
}

// target answers a question about a target.
func (a *asked) target() error {
	var call wire.TargetCall
	var at pipeline.Spot
	var q environment.Question
	if err := a.read(&call); err != nil {
		return err
	}
	if err := errors.Join(wire.Strict(call.At, &at), wire.Strict(call.Question, &q)); err != nil {
		return misread(err)
	}
	return a.telling(func(progress func(string, int, int)) (any, error) {
		m, done, err := a.server.mover(a.Context(), a.project, a.session, "")
		if err != nil {
			return nil, err
		}
		defer done()
		m.Counting = progress
		return m.Respond(a.Context(), at, q)
	})
}

// rules gives the rules of the project's first branch.
func (a *asked) rules() (*manifest.Manifest, error) {
	p, err := project.New(a.Context(), chest.New(a.project.folder), a.server.o.Kinds, chest.Actor{}, a.server.o.Now)
	if err != nil {
		return nil, err
	}
	return p.Manifest, nil
}

// agreed lists what the project wants at the server, and what of that was agreed to.
func (a *asked) agreed() error {
	m, err := a.rules()
	if err != nil {
		return err
	}
	given, err := a.server.Book.Agreements(a.Context(), a.project.ID)
	if err != nil {
		return err
	}
	wishes := trust.AtServer(m)
	out := wire.Agreed{Digest: trust.DigestOf(wishes), Wishes: []wire.Wish{}}
	for _, w := range wishes {
		said := wire.Wish{Sort: string(w.Sort), Name: w.Name, Text: w.Shown()}
		if i := slices.IndexFunc(given, func(g access.Agreed) bool { return g.Wish == w.Digest() }); i >= 0 {
			said.By, said.Time = given[i].By, given[i].Time
		}
		out.Wishes = append(out.Wishes, said)
	}
	return a.answer(out)
}

// agree notes that an administrator agrees to what was looked at.
func (a *asked) agree() error {
	var call wire.AgreeCall
	if err := a.read(&call); err != nil {
		return err
	}
	by := a.session.Person.Name
	if call.Back {
		n, err := a.server.Book.Disagree(a.Context(), a.project.ID, a.project.Name, by)
		if err != nil {
			return err
		}
		return a.answer(n)
	}
	m, err := a.rules()
	if err != nil {
		return err
	}
	wishes := trust.AtServer(m)
	if trust.DigestOf(wishes) != call.Digest {
		return fault.New(fault.Refused, "Look at it again with oaken trust --server.", "The project wants something else by now.")
	}
	var list []access.Agreed
	for _, w := range wishes {
		list = append(list, access.Agreed{Wish: w.Digest(), Says: string(w.Sort) + " " + w.Name + ": " + w.Shown(), By: by})
	}
	if err := a.server.Book.Agree(a.Context(), a.project.ID, a.project.Name, list); err != nil {
		return err
	}
	return a.answer(len(list))
}

// keysOf gives the targets of an environment that need secrets.
func keysOf(m *manifest.Manifest, name string) (out []wire.KeyTarget, e manifest.Environment, err error) {
	if e, err = m.Environment(name); err != nil {
		return nil, e, err
	}
	add := func(target string) {
		if names := environment.Variables(target); len(names) > 0 {
			out = append(out, wire.KeyTarget{Target: target, Names: names, Given: []string{}})
		}
	}
	for _, s := range e.Sites() {
		add(s.Target)
		add(s.Scratch)
	}
	return out, e, nil
}

// keys lists which secrets the environments of the project need at the server, and which it has.
func (a *asked) keys() error {
	m, err := a.rules()
	if err != nil {
		return err
	}
	given, err := a.server.Book.Keys(a.Context(), a.project.ID)
	if err != nil {
		return err
	}
	out := []wire.TargetKeys{}
	for _, e := range m.Environments {
		targets, _, err := keysOf(m, e.Name)
		if err != nil {
			return err
		}
		one := wire.TargetKeys{Environment: e.Name, Runs: string(manifest.RunsPerson), Targets: []wire.KeyTarget{}}
		if e.RunsAtServer() {
			one.Runs = string(manifest.RunsServer)
		}
		for _, t := range targets {
			for _, k := range given {
				if k.Target == t.Target && slices.Contains(t.Names, k.Name) {
					t.Given = append(t.Given, k.Name)
				}
			}
			t.Target = environment.Shown(t.Target)
			one.Targets = append(one.Targets, t)
		}
		out = append(out, one)
	}
	return a.answer(out)
}

// giveKeys takes the secrets of an environment, for its targets as the administrator saw them.
func (a *asked) giveKeys() error {
	var call wire.KeysCall
	if err := a.read(&call); err != nil {
		return err
	}
	m, err := a.rules()
	if err != nil {
		return err
	}
	targets, e, err := keysOf(m, call.Environment)
	if err != nil {
		return err
	}
	by, id, name := a.session.Person.Name, a.project.ID, a.project.Name
	var are, shown []string
	for _, t := range targets {
		are, shown = append(are, t.Target), append(shown, environment.Shown(t.Target))
	}
	if call.Back {
		n, err := a.server.Book.Drop(a.Context(), id, name, by, are)
		if err != nil {
			return err
		}
		return a.answer(n)
	}
	if err := reachable(e); err != nil {
		return err
	}
	if !slices.Equal(shown, call.Targets) {
		return fault.New(fault.Refused, "Look at oaken env list, and give it again.", "The targets of %s are others by now.", e.Name)
	}
	var keys []access.Key
	for _, t := range targets {
		for _, n := range t.Names {
			if v, ok := call.Values[n]; ok {
				keys = append(keys, access.Key{Target: t.Target, Name: n, Value: v})
			}
		}
	}
	if len(keys) == 0 {
		return fault.New(fault.Usage, "Write ${NAME} in its target in oaken.toml, where the secret belongs.", "%s needs no secret.", e.Name)
	}
	if err := a.server.Book.Keep(a.Context(), id, name, by, keys); err != nil {
		return err
	}
	return a.answer(len(keys))
}

// ownedWorkspace gives the name of a workspace of who asks, for what is done in its name.
func (a *asked) ownedWorkspace(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	var w ledger.Workspace
	err := a.project.chest.View(a.Context(), func(r ledger.Records) (err error) { w, err = r.Workspace(name); return err })
	if err != nil {
		return "", nil // it is not known yet, and then it is in no record either
	}
	return name, a.inOwnName(w.Person)
}

// encoded gives an errand as it came.
func encoded(data json.RawMessage) (e pipeline.Errand, err error) {
	if err := wire.Strict(data, &e); err != nil {
		return e, misread(err)
	}
	if !slices.Contains(pipeline.Errands, e.Do) {
		return e, misread(wire.ErrNewer)
	}
	return e, nil
}
