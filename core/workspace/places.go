package workspace

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/remote"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Servers are those at which somebody has signed in on this machine.
type Servers interface {
	// Open opens the project at an address, for whoever has signed in there, and gives that person's name.
	Open(ctx context.Context, address string) (store chest.Store, person string, err error)
	// Create makes a project, without a commit.
	Create(ctx context.Context, address string) error
	// Bring brings a chest in a folder there, as a project that is not there yet.
	Bring(ctx context.Context, f *local.Folder, address string, progress func(what string, done, total int)) (remote.Arrived, error)
}

// ChestOf gives the place of the chest of the workspace that a folder lies in; empty where there is none.
func ChestOf(folder string) string {
	root := Above(folder)
	if root == "" {
		return ""
	}
	r, err := readRecord(root)
	if err != nil {
		return ""
	}
	return r.location(root)
}

// found is a chest that was found at a place.
type found struct {
	chest.Store
	// at is the place; person who has signed in there, empty for a folder.
	at, person string
}

// openChest opens the chest at a location, or the one that it was moved to from there, of which the workspace takes note
// when it is claimed.
func (h Host) openChest(ctx context.Context, location string) (f found, err error) {
	const farthest = 8 // moves
	for range farthest {
		if remote.IsAddress(location) {
			return h.openAfar(ctx, location)
		}
		var folder *local.Folder
		folder, err = local.Open(ctx, location, h.Now)
		to := local.MovedTo(err)
		if to == "" {
			return found{Store: folder, at: location}, err
		}
		if !remote.IsAddress(to) {
			if _, gone := os.Stat(to); gone != nil {
				return found{at: to}, err
			}
			if err := local.Arrive(location, to); err != nil {
				return found{at: to}, err
			}
		}
		location = to
	}
	return found{at: location}, err
}

// openAfar opens a project of a server, and makes sure that it answers.
func (h Host) openAfar(ctx context.Context, address string) (found, error) {
	if h.Servers == nil {
		return found{at: address}, fault.New(fault.Unreachable, "Sign in with oaken login.", "The chest is at a server: %s.", address)
	}
	s, person, err := h.Servers.Open(ctx, address)
	if err != nil {
		return found{at: address}, err
	}
	r, err := s.View(ctx)
	if err != nil {
		return found{at: address}, errors.Join(err, s.Close())
	}
	return found{s, address, person}, r.Close()
}

// reachable reports whether a place answers, of which an error came.
func reachable(at string, err error) bool {
	if remote.IsAddress(at) {
		return !errors.Is(err, ledger.ErrAway)
	}
	return local.Exists(at)
}

// placeOf gives the place that somebody wrote: an address as it is, a folder from the root on.
func placeOf(location string) (string, error) {
	if remote.IsAddress(location) {
		a, err := remote.ParseAddress(location)
		return a.String(), err
	}
	return filepath.Abs(location)
}

// named gives who works in a new workspace: the one who has signed in, where the chest is at a server.
func (h Host) named(wanted, signed string) (string, error) {
	switch {
	case signed != "" && wanted != "" && wanted != signed:
		return "", asSomebodyElse(wanted, signed)
	case signed != "":
		return signed, nil
	case wanted != "":
		return wanted, nil
	}
	return h.Person, nil
}

func asSomebodyElse(wanted, signed string) error {
	return fault.New(fault.Refused, "Leave --as out, or sign in as "+wanted+".", "You are signed in as %s at this server, and not as %s.",
		signed, wanted)
}
