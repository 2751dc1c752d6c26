package environment

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// Copying says how a target is made a copy of another.
type Copying struct {
	// Rows says of which tables rows are taken, by name, with the schema where there are schemas; nil means all. Other
	// tables come empty.
	Rows func(table string) bool
	// Masks are the columns whose values are not taken as they are.
	Masks []manifest.Mask
	// Save is a file that does not exist yet, for all that the target holds; what is kept there is the engine's own dump.
	Save string
	// Salt goes into hashed values, so that nobody who guesses one can tell.
	Salt string
}

// Takes reports whether the rows of a table are taken.
func (c Copying) Takes(table string) bool { return c.Rows == nil || c.Rows(table) }

// Matching says of tables whether they fit one of some patterns (package path), with or without their schema.
func Matching(patterns []string) func(table string) bool {
	return func(table string) bool {
		_, bare, found := strings.Cut(table, ".")
		if !found {
			bare = table
		}
		for _, p := range patterns {
			whole, _ := path.Match(p, table) // checked when it was written
			if part, _ := path.Match(p, bare); whole || part {
				return true
			}
		}
		return false
	}
}

// Copy makes a target a copy of another of its sort: structure and rows, by the engine's own dump and load. Values are
// masked before the target holds them. What the target held is kept in a file first. It is changed whole or not at all, as
// far as the engine allows.
func Copy(ctx context.Context, h Host, from, to string, c Copying) error {
	a, rest, err := split(from)
	if err != nil {
		return err
	}
	b, into, err := split(to)
	if err != nil {
		return err
	}
	if a.Scheme != b.Scheme || a.Copy == nil {
		return fault.New(fault.Refused, "Both must be databases of one engine.", "%s can't be made a copy of %s.", Shown(to), Shown(from))
	}
	if h.Place(from) == h.Place(to) {
		return fault.New(fault.Refused, "Name two environments with databases of their own.", "%s and %s are the same place.", Shown(from),
			Shown(to))
	}
	if rest, err = h.expand(from, rest); err != nil {
		return err
	}
	if into, err = h.expand(to, into); err != nil {
		return err
	}
	return a.Copy(ctx, h, rest, into, c)
}

// Copies reports whether targets of its sort can be made copies of each other.
func Copies(target string) bool {
	s, _, err := split(target)
	return err == nil && s.Copy != nil
}

// NoColumn says that a mask names what is not there: nobody can tell then what it should hide.
func NoColumn(m manifest.Mask) error {
	return fault.New(fault.Refused, "Correct it in oaken.toml, under [[mask]], or take it out. Nothing was changed.",
		"There is no column %s, so nobody can tell what its mask should hide.", m.Column)
}

// Unmaskable says that a mask does not fit its column.
func Unmaskable(m manifest.Mask, why string) error {
	return fault.New(fault.Refused, "Mask it otherwise, in oaken.toml under [[mask]]. Nothing was changed.",
		"The column %s can't be masked with %s: %s.", m.Column, m.With, why)
}

// Tool runs a program of an engine, such as its dump, with variables that no list of processes shows. What it writes goes to
// out, what it reads comes from in; either may be nil.
func Tool(ctx context.Context, variables []string, in io.Reader, out io.Writer, name string, words ...string) error {
	if _, err := exec.LookPath(name); err != nil {
		return fault.New(fault.Refused, "Install the client programs of the engine on this machine.", "The program %s is not there.", name)
	}
	cmd := exec.CommandContext(ctx, name, words...)
	var said bytes.Buffer
	cmd.Env, cmd.Stdin, cmd.Stdout, cmd.Stderr = append(os.Environ(), variables...), in, out, &said
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		text := strings.TrimSpace(said.String())
		if text == "" {
			text = err.Error()
		}
		const most = 600
		return fmt.Errorf("%s: %s", name, strings.ToValidUTF8(text[:min(len(text), most)], "�"))
	}
	return nil
}

// PrivateFile makes a file in a folder of this person's own, which nobody else reads; done removes both.
func PrivateFile() (file string, done func(), err error) {
	dir, err := os.MkdirTemp("", "oaken-copy-*") // with mode 0700
	if err != nil {
		return "", nil, err
	}
	return dir + string(os.PathSeparator) + "dump", func() { _ = os.RemoveAll(dir) }, nil
}

// Uncopied says that a target could not be made a copy, and how it is.
func Uncopied(err error) error {
	var f *fault.Error
	if errors.As(err, &f) || errors.Is(err, context.Canceled) {
		return err
	}
	return fault.New(fault.Failed, "Nothing was changed. Mend what it says, and run it again.", "The copy failed: %w.", err)
}
