package cli

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newTidy(a *App) *cobra.Command {
	grace := time.Hour
	cmd := &cobra.Command{
		Use:   "tidy",
		Short: "Reclaim space that no commit needs",
		Long: `Remove from the chest what no commit reaches: what interrupted commands have left,
and damaged copies that were mended. What is younger than the grace time stays.
Nobody can commit meanwhile; they wait.`,
		Example:           "  oaken tidy\n  oaken tidy --grace 24h",
		GroupID:           groupCare,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if grace < 0 {
				return usage(cmd, "--grace takes a time from 0.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				t, err := w.Chest.Tidy(cmd.Context(), a.Now(), grace)
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Tidied{Bales: t.Bales, Packs: t.Bales, Bytes: t.Bytes})
					return nil
				}
				if t.Bales == 0 {
					a.Say("Nothing to tidy.")
					return nil
				}
				a.Say("%s won back from %s.", element.SizeText(t.Bytes), screen.Count(t.Bales, "bale"))
				return nil
			})
		},
	}
	cmd.Flags().DurationVar(&grace, "grace", grace, "leave what is younger than `TIME`")
	return cmd
}

func newUsage(a *App) *cobra.Command {
	limit := 20
	cmd := &cobra.Command{
		Use:   "usage",
		Short: "Show what takes the space, and what one more workspace costs",
		Long: `Show what takes the space in the chest, by kind and by artifact, each with all its
versions, and what has to be read for one more full workspace of the branch. Versions
of binaries cost what is new in them: equal chunks are stored once.`,
		Example:           "  oaken usage\n  oaken usage --limit 5",
		GroupID:           groupCare,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				u, err := w.Chest.Usage(cmd.Context())
				if err != nil {
					return err
				}
				files, err := w.BaseState().Files(cmd.Context())
				if err != nil {
					return err
				}
				full := int64(0)
				for _, f := range files {
					full += f.Size
				}
				transfer, err := w.Chest.Transfer(w.Base.Tree)
				if err != nil {
					return err
				}
				return a.showUsage(w, u, usageOf{len(files), full, transfer}, limit)
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", limit, "list at most `N` artifacts")
	return cmd
}

// usageOf is what one more workspace takes: files, their bytes, and the bytes that
// have to be read for them.
type usageOf struct {
	files          int
	size, transfer int64
}

// kindUse is what the artifacts of one kind take.
type kindUse struct {
	kind      string
	artifacts int
	versions  int
	stored    int64
}

// byKind adds up artifacts by their kind, as their paths and first bytes tell it.
func byKind(w *workspace.Workspace, u *chest.Usage) ([]kindUse, map[string]string, error) {
	r, at, kinds := w.Reader(), map[string]*kindUse{}, map[string]string{}
	for _, x := range u.Artifacts {
		head, err := w.Chest.Head(x.Newest, kind.HeadSize)
		if err != nil {
			return nil, nil, err
		}
		name := r.KindOf(r.Unit(x.Path), head).Name()
		kinds[x.Path] = name
		if at[name] == nil {
			at[name] = &kindUse{kind: name}
		}
		k := at[name]
		k.artifacts, k.versions, k.stored = k.artifacts+1, k.versions+x.Versions, k.stored+x.Stored
	}
	var out []kindUse
	for _, k := range at {
		out = append(out, *k)
	}
	slices.SortFunc(out, func(a, b kindUse) int {
		return cmp.Or(cmp.Compare(b.stored, a.stored), strings.Compare(a.kind, b.kind))
	})
	return out, kinds, nil
}

func (a *App) showUsage(w *workspace.Workspace, u *chest.Usage, one usageOf, limit int) error {
	sums, kinds, err := byKind(w, u)
	if err != nil {
		return err
	}
	list, listed := []result.ArtifactUsage{}, []result.KindUsage{}
	byPath := [][]screen.Cell{{screen.Faint.Cell("stored"), screen.Faint.Cell("versions"), screen.Faint.Cell("newest"),
		screen.Faint.Cell("kind"), screen.Faint.Cell("artifact")}}
	for i, x := range u.Artifacts {
		list = append(list, result.ArtifactUsage{Path: x.Path, Kind: kinds[x.Path], Versions: x.Versions, Bytes: x.Size, Stored: x.Stored})
		if i < limit {
			byPath = append(byPath, []screen.Cell{screen.Plain.Cell(element.SizeText(x.Stored)), screen.Plain.Cell(itoa(x.Versions)),
				screen.Plain.Cell(element.SizeText(x.Size)), screen.Plain.Cell(kinds[x.Path]), screen.Strong.Cell(x.Path)})
		}
	}
	rows := [][]screen.Cell{{screen.Faint.Cell("stored"), screen.Faint.Cell("versions"), screen.Faint.Cell("artifacts"),
		screen.Faint.Cell("kind")}}
	for _, k := range sums {
		listed = append(listed, result.KindUsage{Kind: k.kind, Artifacts: k.artifacts, Versions: k.versions, Stored: k.stored})
		rows = append(rows, []screen.Cell{screen.Plain.Cell(element.SizeText(k.stored)), screen.Plain.Cell(itoa(k.versions)),
			screen.Plain.Cell(itoa(k.artifacts)),
			screen.Strong.Cell(k.kind)})
	}
	if a.JSON {
		a.print(result.Usage{Stored: u.Stored, Whole: u.Whole, Workspace: one.size, Transfer: one.transfer, Files: one.files, Kinds: listed,
			Artifacts: list})
		return nil
	}
	a.Say("The chest holds %s of content in %s.", element.SizeText(u.Whole), element.SizeText(u.Stored))
	a.Say("One more workspace of %s: %s, %s, of which %s are read from the chest.", workspace.Label(w.Base),
		screen.Count(one.files, "file"),
		element.SizeText(one.size), element.SizeText(one.transfer))
	a.Table(a.Out, "  ", rows)
	a.Say("")
	a.Table(a.Out, "  ", byPath)
	if len(u.Artifacts) > limit {
		a.Say("  and %d more; --limit says how many are listed.", len(u.Artifacts)-limit)
	}
	return nil
}
