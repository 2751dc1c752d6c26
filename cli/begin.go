package cli

import (
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/environment"
	"oakenchest/core/manifest"
	"oakenchest/core/preset"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newBegin(a *App) *cobra.Command {
	var o workspace.BeginOptions
	var chosen []string
	cmd := &cobra.Command{
		Use:   "begin [FOLDER]",
		Short: "Put a folder under control",
		Long: `Put a folder under control: its history begins here. The folder's files stay as
they are; oaken.toml is added, where the project says what it consists of. The
chest, which keeps every version, lies inside the folder unless --chest names
another place.

When the folder looks like a sort of project that oaken knows, the right rules for
what to leave out are written into oaken.toml; --preset names them instead, and
--preset none asks for none. oaken preset lists what there is.`,
		Example:           "  oaken begin\n  oaken begin exhibit --chest /shared/chests/exhibit",
		GroupID:           groupStart,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := a.folder()
			if len(args) == 1 {
				folder = a.at(args[0])
			}
			o.Person = a.as
			if o.Chest != "" {
				o.Chest = a.at(o.Chest)
			}
			presets, err := choosePresets(cmd, folder, chosen)
			if err != nil {
				return err
			}
			for _, p := range presets {
				o.Presets = append(o.Presets, manifest.Section{Title: p.Name + ": " + p.About, LeaveOut: p.LeaveOut, Locks: p.Locks,
					Companions: p.Companions})
			}
			a.askName()
			w, err := workspace.Begin(cmd.Context(), a.host(), folder, o)
			if err != nil {
				return err
			}
			defer w.Close()
			return a.showBegun(cmd, w, presets)
		},
	}
	cmd.Flags().StringVar(&o.Chest, "chest", "", "keep the chest in the folder `LOCATION`")
	cmd.Flags().StringArrayVar(&chosen, "preset", nil, "take the rules of the preset `NAME`; may be given again")
	_ = cmd.MarkFlagDirname("chest")
	_ = cmd.RegisterFlagCompletionFunc("preset", cobra.FixedCompletions(presetNames(), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// choosePresets gives the presets that were named, or else recognised.
func choosePresets(cmd *cobra.Command, folder string, names []string) ([]preset.Preset, error) {
	if len(names) == 0 {
		found, err := preset.Recognise(folder)
		if err != nil {
			return nil, nil // the folder is not there: begin says so
		}
		return found, nil
	}
	var out []preset.Preset
	for _, n := range names {
		p, ok := preset.Named(n)
		switch {
		case n == "none":
		case !ok:
			return nil, usage(cmd, "There is no preset %q; oaken preset lists them.", n)
		default:
			out = append(out, p)
		}
	}
	return out, nil
}

func presetNames() []string {
	out := []string{"none"}
	for _, p := range preset.All {
		out = append(out, p.Name)
	}
	return out
}

func newPreset(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "preset [NAME]",
		Short:             "List the sorts of project that are recognised, and what is left out of each",
		Example:           "  oaken preset\n  oaken preset web",
		GroupID:           groupStart,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: cobra.FixedCompletions(presetNames(), cobra.ShellCompDirectiveNoFileComp),
		RunE: func(cmd *cobra.Command, args []string) error {
			var list []preset.Preset
			var rows [][]screen.Cell
			for _, p := range preset.All {
				if len(args) == 1 && p.Name != args[0] {
					continue
				}
				list = append(list, p)
				rows = append(rows, []screen.Cell{screen.Strong.Cell(p.Name), screen.Plain.Cell(p.About),
					screen.Faint.Cell("leaves out " + strings.Join(p.LeaveOut, " "))})
			}
			switch {
			case len(list) == 0:
				return usage(cmd, "There is no preset %q.", args[0])
			case a.JSON:
				a.print(result.PresetsOf(list))
			default:
				a.Table(a.Out, "", rows)
			}
			return nil
		},
	}
}

func (a *App) showBegun(cmd *cobra.Command, w *workspace.Workspace, presets []preset.Preset) error {
	n, err := w.Count(cmd.Context())
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.BegunOf(w, n, presets))
		return nil
	}
	where := w.Chest.Place()
	if rel, err := filepath.Rel(w.Root, where); err == nil && filepath.IsLocal(rel) {
		where = filepath.ToSlash(rel) + ", inside the workspace"
	}
	a.Say("%s is under control. %s for the first commit.", filepath.Base(w.Root), waiting(n))
	a.Say("  workspace  %s, of %s", w.Name, w.Person)
	a.Say("  chest      %s", where)
	a.sayWho(w)
	for _, p := range presets {
		a.Say("  preset     %s, %s; see oaken.toml", p.Name, p.About)
	}
	a.pointOutDatabases(cmd, w)
	a.Say("Next: oaken changes, then oaken commit -m \"First state\"")
	return nil
}

// pointOutDatabases names database files that are no environment yet.
func (a *App) pointOutDatabases(cmd *cobra.Command, w *workspace.Workspace) {
	files, err := w.Files(cmd.Context())
	if err != nil {
		return // begin itself has worked
	}
	for _, f := range files {
		head := func() []byte { return readHead(filepath.Join(w.Root, filepath.FromSlash(f.Path))) }
		if scheme := environment.LooksLike(f.Path, head); scheme != "" {
			a.Say("  database   %s would be recorded as a file. To have its tables in the project, and the file out of it: oaken env add "+
				"NAME %s:%s", f.Path, scheme, f.Path)
		}
	}
}

// readHead gives the first bytes of a file; none when it can't be read.
func readHead(name string) []byte {
	f, err := os.Open(name)
	if err != nil {
		return nil
	}
	defer f.Close()
	head := make([]byte, 16)
	n, _ := io.ReadFull(f, head)
	return head[:n]
}

func waiting(n int) string {
	if n == 1 {
		return "1 file is waiting"
	}
	return screen.Count(n, "file") + " are waiting"
}
