package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/lines"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/trust"
	"oakenchest/page"
)

// drawComparison writes the page of a comparison.
func (a *App) drawComparison(ctx context.Context, c *comparison, file string) error {
	return a.drawOn(ctx, page.New(c.from.Label(), c.to.Label()), c, file)
}

// showLines shows what differs line by line; artifacts that are no text as else.
func (a *App) showLines(ctx context.Context, c *comparison) error {
	if len(c.diffs) == 0 {
		a.showComparison(c, false)
		return nil
	}
	a.Say("%s", a.Paint(screen.Faint, c.from.Label()+" → "+c.to.Label()))
	for _, d := range c.diffs {
		was, is, err := c.reader.Versions(ctx, c.from, c.to, d)
		if err != nil {
			return err
		}
		texts := state.Texts(was, is)
		if len(texts) == 0 {
			a.showDifferences([]state.Difference{d}, false)
			continue
		}
		for _, t := range texts {
			a.showText(t)
		}
	}
	return nil
}

// around is how many lines are shown before and after one that differs.
const around = 3

// showText writes the lines of a text that differ: their numbers in the two
// versions, and was or is before those that only one of them has.
func (a *App) showText(t state.TextPair) {
	rows, ok := lines.Compare(t.Was, t.Is)
	name := t.Address.String()
	if !ok {
		a.Say("  %s  %s", name, a.Paint(screen.Faint, "too long to be shown line by line"))
		return
	}
	if t.LaidOut {
		name += a.Paint(screen.Faint, "  laid out for reading")
	}
	a.Say("  %s", name)
	for i, run := range lines.Fold(rows, around) {
		if i > 0 {
			a.Say("%s", a.Paint(screen.Faint, "           ⋯"))
		}
		for _, r := range run {
			if r.Same() {
				a.Say("  %s  %s", a.Paint(screen.Faint, fmt.Sprintf("    %5d %5d", r.Was, r.Is)), r.After)
				continue
			}
			if r.Was > 0 {
				a.Say("  %s  %s", a.Paint(screen.Bad, fmt.Sprintf("was %5d      ", r.Was)), a.marked(r.Before, r.WasMarks, screen.Bad))
			}
			if r.Is > 0 {
				a.Say("  %s  %s", a.Paint(screen.Good, fmt.Sprintf(" is       %5d", r.Is)), a.marked(r.After, r.IsMarks, screen.Good))
			}
		}
	}
}

// marked paints the marks of a line, or all of it when there are none.
func (a *App) marked(s string, marks [][2]int, t screen.Tone) string {
	if len(marks) == 0 {
		return a.Paint(t, s)
	}
	var b strings.Builder
	at := 0
	for _, m := range marks {
		b.WriteString(s[at:m[0]] + a.Paint(t, s[m[0]:m[1]]))
		at = m[1]
	}
	return b.String() + s[at:]
}

// openViewers opens, one after another, the outside programs for what differs.
func (a *App) openViewers(ctx context.Context, c *comparison, k trust.Keeper) error {
	opened := 0
	for _, d := range c.diffs {
		i := slices.IndexFunc(c.reader.Manifest.Viewers, func(v manifest.Viewer) bool { return v.Kind == d.Kind })
		if i < 0 {
			a.Note("No viewer is named for the kind %s, of which %s is.", d.Kind, d.Path)
			continue
		}
		v := c.reader.Manifest.Viewers[i]
		if k != nil {
			if err := k.Allow(ctx, trust.Command(trust.Viewer, v.Kind, v.Command)); err != nil {
				return err
			}
		}
		if err := a.openViewer(ctx, c, d, v); err != nil {
			return err
		}
		opened++
	}
	if opened == 0 && len(c.diffs) > 0 {
		return fault.New(fault.Usage, "Name one in oaken.toml, as oaken help compare shows.", "There is no viewer for what differs.")
	}
	return nil
}

// openViewer lays both versions of an artifact out in a folder of their own and
// runs a program on them.
func (a *App) openViewer(ctx context.Context, c *comparison, d state.Difference, v manifest.Viewer) error {
	was, is, err := c.reader.Versions(ctx, c.from, c.to, d)
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "oaken-view-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	var files [2]string
	for i, art := range []*state.Artifact{was, is} {
		if files[i], err = layOut(filepath.Join(folder, []string{"from", "to"}[i]), d.Path, art); err != nil {
			return err
		}
	}
	words := slices.Clone(v.Command)
	for i := range words {
		words[i] = strings.NewReplacer("{from}", files[0], "{to}", files[1]).Replace(words[i])
	}
	run := exec.CommandContext(ctx, words[0], words[1:]...)
	run.Stdin, run.Stdout, run.Stderr = os.Stdin, a.Err, a.Err
	if err := run.Run(); err != nil {
		var failed *exec.ExitError
		if errors.As(err, &failed) {
			return nil // a viewer may say by its status that the two differ
		}
		return fault.New(fault.Usage, "Correct the viewer for "+v.Kind+" in oaken.toml.", "%s can't be started: %w.", words[0], err)
	}
	return nil
}

// layOut writes the files of one version into a folder and gives the path of the
// artifact there; of one that is not there, that of an empty file.
func layOut(folder, name string, art *state.Artifact) (string, error) {
	target := filepath.Join(folder, path.Base(name))
	files := map[string][]byte{path.Base(name): nil}
	if art != nil && art.Source != nil {
		if all := art.Source.Files(); len(all) != 1 || all[0] != path.Base(name) {
			delete(files, path.Base(name))
			for _, n := range all {
				files[path.Join(path.Base(name), n)] = nil
			}
		}
		for n := range files {
			data, err := art.Source.File(strings.TrimPrefix(n, path.Base(name)+"/"))
			if err != nil {
				return "", err
			}
			files[n] = data
		}
		for _, u := range art.Reading.Uses {
			if data, err := art.Source.File(u); err == nil && filepath.IsLocal(filepath.FromSlash(u)) {
				files[u] = data
			}
		}
	}
	for n, data := range files {
		full := filepath.Join(folder, filepath.FromSlash(n))
		if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
			return "", err
		}
		if err := os.WriteFile(full, data, 0o444); err != nil {
			return "", err
		}
	}
	return target, nil
}
