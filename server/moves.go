package server

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/access"
	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// mostMoved bounds one file of a chest that is brought here, in bytes.
const mostMoved = 1 << 40

// moving gives the folder in which a chest arrives, of who asks.
func (a *asked) moving(id string) (string, error) {
	if unsafePart(id) {
		return "", fault.New(fault.Usage, "Look at docs/protocol.md.", "%q is no move.", id)
	}
	return filepath.Join(a.server.dir, "coming", "move-"+a.session.Person.ID+"-"+id), nil
}

// beginMove lets a chest be brought here under a name.
func (a *asked) beginMove() error {
	var call wire.Move
	if err := a.read(&call); err != nil {
		return err
	}
	if err := access.CheckProject(call.Name); err != nil {
		return err
	}
	if _, err := a.server.Book.Project(a.Context(), call.Name); err == nil {
		return fault.New(fault.Refused, "Choose another name.", "There is a project %s already.", call.Name)
	}
	call.ID = access.NewProjectID()
	dir, err := a.moving(call.ID)
	if err == nil {
		err = os.MkdirAll(filepath.Join(dir, "bales"), 0o700)
	}
	if err != nil {
		return err
	}
	return a.answer(call)
}

// moved gives the file that a piece is of: a chest has its records, and bales with their keys.
func (a *asked) moved() (string, error) {
	dir, err := a.moving(a.PathValue("id"))
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(dir); err != nil {
		return "", fault.New(fault.Refused, "Begin again with oaken relocate.", "What was brought here has been given up.")
	}
	name := a.PathValue("name")
	folder, file, nested := strings.Cut(name, "-")
	stem, ending, _ := strings.Cut(file, ".")
	switch {
	case name == "ledger.db":
		return filepath.Join(dir, name), nil
	case nested && folder == "bales" && !unsafePart(stem) && (ending == "bale" || ending == "keys"),
		nested && folder == "packs" && !unsafePart(stem) && (ending == "pack" || ending == "index"):
		return filepath.Join(dir, folder, file), nil
	}
	return "", fault.New(fault.Usage, "Look at docs/protocol.md.", "%q is no file of a chest.", name)
}

func (a *asked) comingMove() error {
	file, err := a.moved()
	if err != nil {
		return err
	}
	return a.comingIn(file)
}

func (a *asked) movePiece() error {
	file, err := a.moved()
	if err != nil {
		return err
	}
	from, size, err := a.piece()
	if err != nil {
		return err
	}
	f, err := a.takePiece(file, from, size)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	return a.answer(struct{}{})
}

// endMove makes a project of what was brought here, after every byte and record of it was looked at.
func (a *asked) endMove() error {
	var call wire.Move
	if err := a.read(&call); err != nil {
		return err
	}
	dir, err := a.moving(call.ID)
	if err != nil {
		return err
	}
	return a.telling(func(progress func(string, int, int)) (any, error) {
		ctx := a.Context()
		names, err := a.arrive(ctx, dir, progress)
		if err != nil {
			return nil, err
		}
		info := access.Project{Name: call.Name, ID: call.ID, By: a.session.Person.Name}
		if err := os.Rename(dir, a.server.folderOf(info)); err != nil {
			return nil, err
		}
		if err := a.server.Book.AddProject(ctx, info); err != nil {
			return nil, errors.Join(err, os.Rename(a.server.folderOf(info), dir))
		}
		return a.accounts(ctx, names)
	})
}

// arrive opens a chest that has arrived, examines it, and gives who is named in it.
func (a *asked) arrive(ctx context.Context, dir string, progress func(string, int, int)) (names []string, err error) {
	if err := local.Adopt(ctx, dir); err != nil {
		return nil, err
	}
	f, err := local.Open(ctx, dir, a.server.o.Now)
	if err != nil {
		return nil, err
	}
	c := chest.New(f)
	x, err := c.Examine(ctx, progress)
	if err == nil && len(x.Findings) > 0 {
		err = fault.New(fault.Damaged, "Look at it with oaken health where it is; nothing was moved.", "The chest is not whole: %s, %s.",
			x.Findings[0].Where, x.Findings[0].Reason)
	}
	if err == nil {
		names, err = named(ctx, c)
	}
	return names, errors.Join(err, c.Close())
}

// named lists everybody who is named in the records.
func named(ctx context.Context, c *chest.Chest) (out []string, err error) {
	seen := map[string]bool{}
	err = c.View(ctx, func(r ledger.Records) error {
		commits, err1 := r.Commits()
		for _, x := range commits {
			seen[x.Author] = true
		}
		spaces, err2 := r.Workspaces()
		for _, x := range spaces {
			seen[x.Person] = true
		}
		locks, err3 := r.Locks()
		for _, x := range locks {
			seen[x.Holder] = true
		}
		branches, err4 := r.Branches()
		for _, x := range branches {
			seen[x.Author] = true
		}
		reviews, err5 := r.Reviews()
		for _, x := range reviews {
			seen[x.Author] = true
		}
		return errors.Join(err1, err2, err3, err4, err5)
	})
	delete(seen, "")
	for name := range seen {
		out = append(out, name)
	}
	slices.Sort(out)
	return out, err
}

// accounts finds the accounts of people, and makes those that are missing: they wait for an invitation.
func (a *asked) accounts(ctx context.Context, names []string) (wire.Arrived, error) {
	out := wire.Arrived{People: []wire.NamedPerson{}}
	for _, name := range names {
		p := wire.NamedPerson{Name: name}
		is, err := a.server.Book.Person(ctx, name)
		switch {
		case err == nil:
			p.Account = is.Name
		case access.CheckName("person", name) == nil:
			if err := a.server.Book.Add(ctx, name, false, a.session.Person.Name); err != nil {
				return out, err
			}
			p.Account, p.New = name, true
		}
		out.People = append(out.People, p)
	}
	return out, nil
}
