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

// Of lists all wishes of a project's rules.
func Of(m *manifest.Manifest) (out []Wish) {
	if m == nil {
		return nil
	}
	for _, e := range m.Environments {
		for _, s := range e.Sites() {
			out = append(out, Reach(e.Name, s)...)
		}
	}
	for _, g := range m.Pipeline.Gates {
		if len(g.Command) > 0 {
			out = append(out, Command(Gate, g.Name, g.Command))
		}
	}
	for _, a := range m.Pipeline.Afters {
		out = append(out, Command(After, a.Name, a.Command))
	}
	for _, c := range m.Review.Checks {
		out = append(out, Command(Check, c.Name, c.Command))
	}
	for _, v := range m.Viewers {
		out = append(out, Command(Viewer, v.Kind, v.Command))
	}
	return out
}

// Keeper says what was agreed to, and asks.
type Keeper interface {
	// Allow gives nil when each wish was agreed to, or is now.
	Allow(ctx context.Context, wishes ...Wish) error
}

// Refused is the error for wishes that nobody has agreed to.
func Refused(wishes []Wish) error {
	w := wishes[0]
	doing := "run " + w.Shown()
	if w.Sort == Target || w.Sort == Scratch {
		doing = "reach " + w.Shown()
	}
	return fault.New(fault.Refused,
		"oaken trust shows all that it wants, and takes your word for it; nothing was run, and nothing reached. In a script: --trust "+
			"DIGEST, as oaken trust gives it.",
		"The project wants to %s (%s %s), and nobody on this machine has agreed to that.", doing, w.Sort, w.Name)
}
