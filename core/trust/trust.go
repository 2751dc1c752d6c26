// Package trust keeps what somebody has agreed that a project may do on this machine: run a command, or
// reach a place outside of the project. A project comes from other people, and what it asks for may change
// with any commit: each wish is agreed to once, as it is written, and asked about again when it is not.
package trust

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// Sort is what a wish is for.
type Sort string

// The sorts of wishes.
const (
	Gate    Sort = "gate"    // a command that judges what moves
	Check   Sort = "check"   // a command that judges what is merged
	Viewer  Sort = "viewer"  // a program that shows two versions
	Target  Sort = "target"  // an environment's place
	Scratch Sort = "scratch" // a server on which declared files are tried
	After   Sort = "after"   // a command that is run after a deployment
)

// Wish is something that a project wants done on this machine.
type Wish struct {
	Sort Sort
	// Name is the gate, the check, the kind, or the environment.
	Name string
	// Text is the command, or the place, as it is written.
	Text string
}

// Shown is the text as people may see it, and as it may be kept: a secret that somebody wrote into a target
// is left out.
func (w Wish) Shown() string {
	if w.Sort == Target || w.Sort == Scratch {
		return environment.Shown(w.Text)
	}
	return w.Text
}

// Digest names the wish by all that it says.
func (w Wish) Digest() string { return DigestOf([]Wish{w}) }

// DigestOf names a list of wishes, in whatever order: 16 hexadecimal digits of SHA-256.
func DigestOf(list []Wish) string {
	var lines []string
	for _, w := range list {
		lines = append(lines, fmt.Sprintf("%q %q %q\n", w.Sort, w.Name, w.Text))
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(slices.Compact(lines), "")))
	return hex.EncodeToString(sum[:8])
}

// Command is the wish to run a command.
func Command(s Sort, name string, words []string) Wish {
	quoted := make([]string, len(words))
	for i, w := range words {
		if quoted[i] = w; w == "" || strings.ContainsAny(w, " \t\"'\\\n") {
			quoted[i] = strconv.Quote(w)
		}
	}
	return Wish{s, name, strings.Join(quoted, " ")}
}

// Reach gives the wishes to reach a target of an environment: none for a file or folder inside of the
// project.
func Reach(environment string, s manifest.Site) (out []Wish) {
	if !manifest.InsideProject(s.Target) {
		out = append(out, Wish{Target, environment, s.Target})
	}
	if s.Scratch != "" && !manifest.InsideProject(s.Scratch) {
		out = append(out, Wish{Scratch, environment, s.Scratch})
	}
	return out
}

// Of lists all wishes of a project's rules on somebody's machine; served says that a server keeps the project, so that some
// of its environments are reached there.
func Of(m *manifest.Manifest, served bool) (out []Wish) {
	if m == nil {
		return nil
	}
	here := func(e manifest.Environment) bool { return !served || !e.RunsAtServer() }
	out = moving(m, here, true)
	for _, c := range m.Review.Checks {
		out = append(out, Command(Check, c.Name, c.Command))
	}
	for _, v := range m.Viewers {
		out = append(out, Command(Viewer, v.Kind, v.Command))
	}
	return out
}

// AtServer lists the wishes of a project's rules at the server that keeps it.
func AtServer(m *manifest.Manifest) []Wish {
	if m == nil {
		return nil
	}
	return moving(m, manifest.Environment.RunsAtServer, false)
}

// moving lists the wishes for some environments: their targets, and the commands that judge what moves there. Those that are
// for no environment yet are listed when loose is set.
func moving(m *manifest.Manifest, here func(manifest.Environment) bool, loose bool) (out []Wish) {
	for _, e := range m.Environments {
		if !here(e) {
			continue
		}
		for _, s := range e.Sites() {
			out = append(out, Reach(e.Name, s)...)
		}
	}
	for _, g := range m.Pipeline.Gates {
		if len(g.Command) > 0 && forSome(m, here, loose, func(e manifest.Environment) bool { return judges(m, g.Name, e) }) {
			out = append(out, Command(Gate, g.Name, g.Command))
		}
	}
	for _, a := range m.Pipeline.Afters {
		if forSome(m, here, loose, a.For) {
			out = append(out, Command(After, a.Name, a.Command))
		}
	}
	return out
}

// judges reports whether a gate stands before an environment.
func judges(m *manifest.Manifest, gate string, e manifest.Environment) bool {
	return slices.Contains(e.Gates, gate) || slices.ContainsFunc(m.Pipeline.Moves, func(v manifest.Move) bool {
		return v.To == e.Name && slices.Contains(v.Gates, gate)
	})
}

// forSome reports whether something is for one of the environments that are here, or, when loose is set, for none at all.
func forSome(m *manifest.Manifest, here func(manifest.Environment) bool, loose bool, is func(manifest.Environment) bool) bool {
	any := false
	for _, e := range m.Environments {
		if is(e) {
			if here(e) {
				return true
			}
			any = true
		}
	}
	return loose && !any
}

// Keeper says what was agreed to, and asks.
type Keeper interface {
	// Allow gives nil when each wish was agreed to, or is now.
	Allow(ctx context.Context, wishes ...Wish) error
}

// Refused is the error for wishes that nobody has agreed to.
func Refused(wishes []Wish) error {
	return fault.New(fault.Refused,
		"oaken trust shows all that it wants, and takes your word for it; nothing was run, and nothing reached. In a script: --trust "+
			"DIGEST, as oaken trust gives it.",
		"The project wants to %s, and nobody on this machine has agreed to that.", wanted(wishes[0], ""))
}

// RefusedAtServer is the error for wishes that nobody has agreed to for the server.
func RefusedAtServer(wishes []Wish) error {
	return fault.New(fault.Refused,
		"An administrator looks at it and agrees with oaken trust --server, in a workspace of the project; nothing was run, and nothing "+
			"reached.",
		"The project wants to %s, and nobody has agreed to that there.", wanted(wishes[0], " at the server"))
}

// wanted says what a wish is, and where.
func wanted(w Wish, where string) string {
	doing := "run"
	if w.Sort == Target || w.Sort == Scratch {
		doing = "reach"
	}
	return fmt.Sprintf("%s %s%s (%s %s)", doing, w.Shown(), where, w.Sort, w.Name)
}
