package cli

import (
	"time"

	"github.com/spf13/cobra"

	"oakenchest/core/element"
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
				if a.json {
					a.printJSON(map[string]any{"schema": "oaken.tidy/1", "packs": t.Packs, "bytes": t.Bytes})
					return nil
				}
				if t.Packs == 0 {
					a.say("Nothing to tidy.")
					return nil
				}
				a.say("%s won back from %s.", element.SizeText(t.Bytes), count(t.Packs, "pack"))
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
		Long: `Show what takes the space in the chest, by artifact with all its versions, and what
has to be read for one more full workspace of the branch.`,
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
				list, rows := []any{}, [][]cell{{{"stored", faint}, {"versions", faint}, {"newest", faint}, {"artifact", faint}}}
				for i, x := range u.Artifacts {
					list = append(list, map[string]any{"path": x.Path, "versions": x.Versions, "bytes": x.Size, "stored": x.Stored})
					if i < limit {
						rows = append(rows, []cell{{element.SizeText(x.Stored), plain}, {itoa(x.Versions), plain}, {element.SizeText(x.Size), plain}, {x.Path, strong}})
					}
				}
				if a.json {
					a.printJSON(map[string]any{"schema": "oaken.usage/1", "stored": u.Stored, "whole": u.Whole, "workspace": full, "files": len(files), "artifacts": list})
					return nil
				}
				a.say("The chest holds %s of content in %s.", element.SizeText(u.Whole), element.SizeText(u.Stored))
				a.say("One more workspace of %s: %s, %s.", workspace.Label(w.Base), count(len(files), "file"), element.SizeText(full))
				a.table(a.Out, "  ", rows)
				if len(u.Artifacts) > limit {
					a.say("  and %d more; --limit says how many are listed.", len(u.Artifacts)-limit)
				}
				return nil
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", limit, "list at most `N` artifacts")
	return cmd
}
