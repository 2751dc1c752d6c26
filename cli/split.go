package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/declare"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/kind/apart"
	"oakenchest/core/manifest"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newSplit(a *App) *cobra.Command {
	asArtifact := false
	cmd := &cobra.Command{
		Use:   "split FILE FOLDER",
		Short: "Take an artifact apart into files that a person can read",
		Long: `Take a package or a scene apart, one component a file; what is embedded in it
becomes a file of its own. oaken join puts the folder together again. The folder
must be new or empty.

With --as-artifact the folder takes the file's place in the project: it is compared
and merged as the one thing that it is, while people edit and lock its files one
by one (two nodes of one scene, say). oaken join makes the file for the program
that reads it.`,
		Example:           "  oaken split apps/rounds.app rounds\n  oaken split exhibit/reef.glb exhibit/reef --as-artifact",
		GroupID:           groupArtifacts,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			src, k, err := a.fileArtifact(args[0])
			if err != nil {
				return err
			}
			s, ok := k.(kind.Splitter)
			if !ok {
				return fault.New(fault.Usage, "oaken kinds shows which kinds can be split.",
					"%s is of the kind %s, which is one part already.", args[0], k.Name())
			}
			parts, err := s.Split(src)
			switch {
			case errors.Is(err, kind.ErrWhole):
				return fault.New(fault.Usage, "A recipe can say what is to become a part; see oaken help recipe.",
					"%s can't be taken apart: %w.", args[0], err)
			case err != nil:
				return fault.New(fault.Damaged, "Nothing was written.", "%s can't be taken apart: %w.", args[0], err)
			}
			if err := writeParts(a.at(args[1]), parts); err != nil {
				return err
			}
			if asArtifact {
				if err := a.declareSplit(cmd.Context(), s, args[1]); err != nil {
					return errors.Join(err, os.RemoveAll(a.at(args[1])))
				}
			}
			if a.JSON {
				a.print(result.Split{Kind: s.Name(), Parts: len(parts), Artifact: asArtifact})
				return nil
			}
			a.Say("%s is split into %s in %s.", args[0], screen.Count(len(parts), "file"), args[1])
			if asArtifact {
				a.Say("%s is an artifact of the project now; take %s out of it, or leave it out in oaken.toml.", args[1], args[0])
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asArtifact, "as-artifact", false, "make the folder an artifact of the project")
	return cmd
}

// declareSplit declares a folder that was split as one artifact.
func (a *App) declareSplit(ctx context.Context, s kind.Splitter, folder string) error {
	if _, ok := apart.Of(s); !ok {
		return fault.New(fault.Usage, "Split it without --as-artifact.", "What is of the kind %s can't stay taken apart.", s.Name())
	}
	return a.with(ctx, func(w *workspace.Workspace) error {
		p, err := w.ProjectPath(a.folder(), folder)
		if err != nil {
			return err
		}
		return w.EditManifest(func(data []byte) ([]byte, error) {
			return declare.Artifact(data, manifest.Artifact{Path: p, Kind: s.Name()})
		})
	})
}

// writeParts writes parts below a folder that is made for them, or is empty. On
// an error, what was written is taken away again.
func writeParts(folder string, parts []kind.Part) error {
	entries, err := os.ReadDir(folder)
	if err == nil && len(entries) > 0 {
		return fault.New(fault.Refused, "Name a new or empty folder.", "%s is not empty, so nothing was written.", folder)
	}
	existed := err == nil
	if err = layParts(folder, parts); err == nil {
		return nil
	}
	if existed {
		left, _ := os.ReadDir(folder)
		for _, e := range left {
			os.RemoveAll(filepath.Join(folder, e.Name()))
		}
	} else {
		os.RemoveAll(folder)
	}
	return err
}

// writers is how many files are written at a time.
const writers = 4

// layParts writes parts below a folder, several at a time.
func layParts(folder string, parts []kind.Part) error {
	made := map[string]bool{}
	for _, p := range parts {
		if !filepath.IsLocal(filepath.FromSlash(p.Name)) {
			return fault.New(fault.Refused, "Nothing was written.", "The part %q would lie outside of the folder.", p.Name)
		}
		dir := filepath.Dir(filepath.Join(folder, filepath.FromSlash(p.Name)))
		if made[dir] {
			continue
		}
		if err := os.MkdirAll(dir, 0o777); err != nil {
			return err
		}
		made[dir] = true
	}
	failed := make([]error, writers)
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for i := w; i < len(parts) && failed[w] == nil; i += writers {
				failed[w] = os.WriteFile(filepath.Join(folder, filepath.FromSlash(parts[i].Name)), parts[i].Data, 0o666)
			}
		})
	}
	all.Wait()
	return errors.Join(failed...)
}

func newJoin(a *App) *cobra.Command {
	var replace bool
	cmd := &cobra.Command{
		Use:   "join FOLDER FILE",
		Short: "Put an artifact together that was split",
		Long: "Put together what oaken split has taken apart. The same files give the same bytes\n" +
			"on every machine. An existing FILE is kept unless --replace is given.",
		Example:           "  oaken join rounds apps/rounds.app --replace",
		GroupID:           groupArtifacts,
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			parts, err := readParts(a.at(args[0]))
			if err != nil {
				return err
			}
			s := a.splitterOf(parts)
			if s == nil {
				return fault.New(fault.Usage, "Name the folder that oaken split has made.",
					"%s is not an artifact that was split.", args[0])
			}
			out, err := s.Join(parts)
			if err != nil {
				return fault.New(fault.Damaged, "Nothing was written.", "%s can't be put together: %w.", args[0], err)
			}
			target := a.at(args[1])
			if _, err := os.Lstat(target); err == nil && !replace {
				return fault.New(fault.Refused, "Name another file, or give --replace.", "%s is there already.", args[1])
			}
			if err := writeWhole(target, out); err != nil {
				return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", args[1], err)
			}
			if a.JSON {
				a.print(result.Joined{Kind: s.Name(), Bytes: len(out)})
				return nil
			}
			a.Say("%s is put together from %s of %s.", args[1], screen.Count(len(parts), "file"), args[0])
			return nil
		},
	}
	cmd.Flags().BoolVar(&replace, "replace", false, "replace FILE when it is there")
	return cmd
}

// splitterOf finds the kind by its marker.
func (a *App) splitterOf(parts []kind.Part) kind.Splitter {
	for _, k := range a.kinds.All() {
		if s, ok := k.(kind.Splitter); ok && slices.ContainsFunc(parts, func(p kind.Part) bool { return p.Name == s.Marker() }) {
			return s
		}
	}
	return nil
}

func readParts(folder string) ([]kind.Part, error) {
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return nil, fault.New(fault.Usage, "Check the spelling of the path.", "There is no folder %s.", folder)
	}
	var parts []kind.Part
	err := filepath.WalkDir(folder, func(full string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !d.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(full)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(folder, full)
		parts = append(parts, kind.Part{Name: filepath.ToSlash(rel), Data: data})
		return err
	})
	slices.SortFunc(parts, func(x, y kind.Part) int { return strings.Compare(x.Name, y.Name) })
	return parts, err
}

// writeWhole writes a file under another name first, so that it is never half there.
func writeWhole(target string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(target), ".oaken-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(0o644), f.Close()); err == nil {
		err = os.Rename(f.Name(), target)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}
