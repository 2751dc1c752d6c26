package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/manifest"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
)

func newInspect(a *App) *cobra.Command {
	depth, summary := 3, false
	cmd := &cobra.Command{
		Use:   "inspect FILE[::ELEMENT]",
		Short: "Show what is inside an artifact",
		Long: "Show the elements of a file, or of a folder that the project declares as one\n" +
			"artifact; with ::ELEMENT, one of them. No workspace is needed for a file.",
		Example: "  oaken inspect exhibit/reef.glb\n  oaken inspect exhibit/reef.glb::node:Lamp\n" +
			"  oaken inspect database --depth 2\n  oaken inspect apps/rounds.app --summary",
		GroupID:           groupArtifacts,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(cmd *cobra.Command, args []string) error {
			address, err := element.ParseAddress(args[0])
			if err != nil {
				return fault.New(fault.Usage, "Write FILE or FILE::type:key.", "That is no address: %w.", err)
			}
			art, err := a.artifact(cmd.Context(), address.Path)
			if err != nil {
				return err
			}
			if art.Why != nil {
				return fault.New(fault.Damaged, "It can be committed and restored all the same, byte for byte, as opaque.",
					"%s can't be read: %w.", address.Path, art.Why)
			}
			root := art.Reading.Root.Find(address.Steps)
			if root == nil || address.Property != "" && root.Prop(address.Property).IsAbsent() {
				return fault.New(fault.Usage, "oaken inspect "+fault.Word(address.Path)+" lists what there is.",
					"%s has no such element.", args[0])
			}
			if address.Property != "" {
				a.Say("%s", root.Prop(address.Property).String())
				return nil
			}
			if summary {
				a.showSummary(address.String(), art.Kind.Name(), root)
				return nil
			}
			if a.JSON {
				a.print(result.Inspected{Path: address.Path, Kind: art.Kind.Name(), Element: result.ElementOf(root)})
				return nil
			}
			about := art.Kind.Name()
			if root.Gist != "" {
				about += ", " + root.Gist
			}
			a.Say("%s  %s", a.Paint(screen.Strong, args[0]), about)
			if m, ok := art.Kind.(kind.Measurer); ok && address.Whole() {
				a.showFacts(m, art)
			}
			a.saying = a.words(art.Kind.Name())
			a.showElement(root, "  ", depth)
			return nil
		},
	}
	cmd.Flags().IntVar(&depth, "depth", depth, "show `N` levels")
	cmd.Flags().BoolVar(&summary, "summary", false, "count what is inside, by type")
	return cmd
}

// showFacts shows what a kind tells with more work; a picture or sound that can't
// be decoded has none.
func (a *App) showFacts(m kind.Measurer, art *state.Artifact) {
	facts, err := m.Facts(art.Source)
	if err != nil {
		return
	}
	for _, f := range facts {
		a.Say("  %s  %s", a.Paint(screen.Faint, f.Name), f.Value.String())
	}
}

// looseReader reads artifacts outside of any project.
func (a *App) looseReader() *state.Reader {
	return &state.Reader{Kinds: recipe.Watched(a.kinds, nil, a.watch), Manifest: &manifest.Manifest{}}
}

// readerAt gives a reader for a file on disk, and the file's path as that knows
// it: in a project, the project's recipes and declarations count.
func (a *App) readerAt(full string) (*state.Reader, string, error) {
	for folder := filepath.Dir(full); ; folder = filepath.Dir(folder) {
		data, err := os.ReadFile(filepath.Join(folder, manifest.Name))
		if err == nil {
			m, err := recipe.Manifest(data, a.kinds)
			if err != nil {
				return nil, "", err
			}
			rel, err := filepath.Rel(folder, full)
			return &state.Reader{Kinds: recipe.Watched(a.kinds, m.Recipes, a.watch), Manifest: m}, filepath.ToSlash(rel), err
		}
		if folder == filepath.Dir(folder) {
			return a.looseReader(), filepath.Base(full), nil
		}
	}
}

// artifact reads a file on disk, or a folder that the project declares.
func (a *App) artifact(ctx context.Context, name string) (*state.Artifact, error) {
	if info, err := os.Stat(a.at(name)); err == nil && info.IsDir() {
		return a.folderArtifact(ctx, name)
	}
	src, k, err := a.fileArtifact(name)
	if err != nil {
		return nil, err
	}
	art := &state.Artifact{Path: name, Source: src}
	reader, _, err := a.readerAt(a.at(name))
	if err != nil {
		return nil, err
	}
	art.Reading, art.Kind, art.Why = reader.Kinds.Read(k, src)
	return art, nil
}

// fileArtifact gives a file on disk and its kind, without reading it as that.
func (a *App) fileArtifact(name string) (kind.FileSource, kind.Kind, error) {
	full := a.at(name)
	info, err := os.Stat(full)
	switch {
	case errors.Is(err, os.ErrNotExist):
		err = fault.New(fault.Usage, "Check the spelling of the path.", "There is no file %s.", name)
	case err != nil:
		err = fault.New(fault.Usage, "Check the rights on it.", "%s can't be read: %w.", name, err)
	case info.IsDir():
		err = fault.New(fault.Usage, "Name a file.", "%s is a folder.", name)
	case info.Size() > kind.MaxFile:
		err = fault.New(fault.Refused, "It can be committed all the same.", "%s is larger than %s, and is treated as opaque.", name,
			element.SizeText(kind.MaxFile))
	}
	if err != nil {
		return kind.FileSource{}, nil, err
	}
	data, err := os.ReadFile(full)
	if err != nil {
		return kind.FileSource{}, nil, fault.New(fault.Usage, "Check the rights on it.", "%s can't be read: %w.", name, err)
	}
	reader, path, err := a.readerAt(full)
	if err != nil {
		return kind.FileSource{}, nil, err
	}
	src := diskSource(full, data)
	src.Name = path
	return src, reader.KindOf(path, data), nil
}

func diskSource(full string, data []byte) kind.FileSource {
	return kind.FileSource{Name: filepath.Base(full), Data: data, Sibling: func(name string) ([]byte, error) {
		beside := filepath.Join(filepath.Dir(full), filepath.FromSlash(name))
		return os.ReadFile(beside)
	}}
}

func (a *App) folderArtifact(ctx context.Context, name string) (*state.Artifact, error) {
	w, err := a.open(ctx)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	p, err := w.ProjectPath(a.folder(), name)
	if err != nil {
		return nil, err
	}
	if _, ok := w.Manifest.Declared(p); !ok {
		return nil, fault.New(fault.Usage, "Name a file, or declare the folder in oaken.toml under [[artifact]].",
			"%s is a folder, and no artifact of its own.", name)
	}
	return w.Reader().Read(ctx, w.Work(), p)
}

// said gives a property's value for people.
func (a *App) said(p element.Prop) string {
	if a.saying == nil {
		return p.Value.String()
	}
	return a.saying(p.Name, p.Value)
}

// showElement writes an element's properties, one a line, and what is below it.
func (a *App) showElement(e *element.Element, indent string, depth int) {
	for _, p := range e.Props {
		a.Say("%s%s  %s", indent, a.Paint(screen.Faint, p.Name), screen.OneLine(a.said(p), 90))
	}
	a.showChildren(e, indent, depth)
}

// showChildren writes a line for each child, with its properties behind it, and
// what is inside below it, down to depth.
func (a *App) showChildren(e *element.Element, indent string, depth int) {
	if depth < 1 {
		return
	}
	steps := e.Steps()
	for i, k := range e.Children {
		var props []screen.Cell
		if k.Gist != "" {
			props = append(props, screen.Faint.Cell(screen.OneLine(k.Gist, 80)))
		}
		if k.Gist == "" || len(k.Children) > 0 || k.Origin != (element.Digest{}) {
			for _, p := range k.Props {
				if p.Value.Text() == k.Key && (p.Name == "id" || p.Name == "name" || p.Name == "key") || strings.HasPrefix(p.Name, "(") {
					continue // the line says it already
				}
				props = append(props, screen.Faint.Cell(p.Name), screen.Plain.Cell(screen.OneLine(a.said(p), 60)))
			}
		}
		if depth == 1 && len(k.Children) > 0 {
			props = append(props, screen.Faint.Cell(screen.Count(k.Count()-1, "element")+" inside"))
		}
		a.wrapped(indent, steps[i].String(), props)
		a.showChildren(k, indent+"    ", depth-1)
	}
}

// wrapped writes a heading and cells behind it, on further lines where the
// terminal ends.
func (a *App) wrapped(indent, heading string, cells []screen.Cell) {
	width := a.Width
	if width < 60 {
		width = 120
	}
	line, at := indent+heading, runewidth.StringWidth(indent+heading)
	for i := 0; i < len(cells); i++ {
		text, size := a.Paint(cells[i].Tone, cells[i].Text), runewidth.StringWidth(cells[i].Text)
		if cells[i].Tone == screen.Faint && i+1 < len(cells) && cells[i+1].Tone == screen.Plain { // a name and its value stay together
			i++
			text += " " + cells[i].Text
			size += 1 + runewidth.StringWidth(cells[i].Text)
		}
		if at+2+size > width && at > len(indent)+4 {
			a.Say("%s", line)
			line, at = indent+"      ", runewidth.StringWidth(indent)+6
		}
		line, at = line+"  "+text, at+2+size
	}
	a.Say("%s", line)
}

func newKinds(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "kinds",
		Short:             "List the kinds of artifact that oaken reads",
		Example:           "  oaken kinds",
		GroupID:           groupArtifacts,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(*cobra.Command, []string) error {
			var rows [][]screen.Cell
			for _, k := range a.kinds.All() {
				_, merges := k.(kind.Writer)
				_, splits := k.(kind.Splitter)
				var can []string
				if merges {
					can = append(can, "merges")
				}
				if splits {
					can = append(can, "splits")
				}
				rows = append(rows, []screen.Cell{screen.Strong.Cell(k.Name()), screen.Plain.Cell(strings.Join(can, ", ")),
					screen.Faint.Cell(k.About())})
			}
			if a.JSON {
				a.print(result.KindsOf(a.kinds.All()))
			} else {
				a.Table(a.Out, "", rows)
			}
			return nil
		},
	}
}
