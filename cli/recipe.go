package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/manifest"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

func newRecipe(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "recipe",
		Short: "See how the project's recipes read its files",
		Long: `A recipe in oaken.toml describes a format of your own, in XML, JSON, YAML, TOML or
settings files, also inside packages: which properties are an element's key, where
order matters, what is noise, what is embedded, what becomes a file of its own.

  [[recipe]]
  name = "keeper forms"
  match = "forms/**/*.xml"

  [[recipe.element]]
  at = "section/field"
  key = ["caption"]
  noise = ["saved", "build"]

docs/recipes.md tells all of it.`,
		Example: "  oaken recipe try forms/round.xml\n  oaken recipe check",
		GroupID: groupArtifacts,
		Args:    cobra.NoArgs,

		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newRecipeTry(a), newRecipeCheck(a))
	return cmd
}

func newRecipeTry(a *App) *cobra.Command {
	depth := 4
	cmd := &cobra.Command{
		Use:               "try FILE",
		Short:             "Show the tree that recipes make of a file, and what stays without a key",
		Example:           "  oaken recipe try forms/round.xml",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			var reports []*recipe.Report
			a.watch = func(r *recipe.Report) { reports = append(reports, r) }
			art, err := a.artifact(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if art.Why != nil {
				return fault.New(fault.Damaged, "Recipes describe files that can be read.", "%s can't be read: %w.", args[0], art.Why)
			}
			if len(reports) == 0 {
				return fault.New(fault.Usage, "Recipes describe XML, JSON, YAML, TOML and settings files, and packages of them.",
					"%s is of the kind %s, which no recipe describes.", args[0], art.Kind.Name())
			}
			if a.JSON {
				a.print(result.RecipeTried{Path: args[0], Documents: result.RecipeReportsOf(reports),
					Element: result.ElementOf(art.Reading.Root)})
				return nil
			}
			a.Say("%s  %s", a.Paint(screen.Strong, args[0]), art.Kind.Name())
			a.showElement(art.Reading.Root, "  ", depth)
			for _, r := range reports {
				a.showReport(r)
			}
			return nil
		},
	}
	cmd.Flags().IntVar(&depth, "depth", depth, "show `N` levels")
	return cmd
}

// showReport tells how the rules fitted one document.
func (a *App) showReport(r *recipe.Report) {
	a.Say("")
	a.Say("%s  %s", a.Paint(screen.Strong, r.Path), screen.Count(r.Elements, "element"))
	for _, u := range r.Rules {
		if u.Elements > 0 {
			a.Say("  %s  %s: %s", a.Paint(screen.Faint, u.Rule.Recipe), u.Rule.At, screen.Count(u.Elements, "element"))
		}
	}
	if r.Noise > 0 {
		a.Say("  %s", screen.Count(r.Noise, "piece")+" of noise left out")
	}
	if len(r.Unkeyed) == 0 {
		a.Say("  %s", a.Paint(screen.Good, "every element among siblings has a key"))
	}
	for _, u := range r.Unkeyed {
		a.Say("  %s", a.Paint(screen.Warm, fmt.Sprintf("%s of the type %s without a key", screen.Count(u.Number, "element"), u.Type)))
	}
	a.showTwice(r)
}

// showTwice lists keys that siblings share.
func (a *App) showTwice(r *recipe.Report) {
	const most = 5
	for i, t := range r.Twice {
		if i == most {
			a.Say("  and %d more", len(r.Twice)-most)
			break
		}
		a.Say("  %s", a.Paint(screen.Bad, "several siblings have the key "+t))
	}
}

func newRecipeCheck(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Find recipes that match nothing or make one key twice",
		Long: `Read every file of the workspace by the project's recipes, and list rules that
choose nothing and keys that siblings share. It ends with status 1 when there
are any.`,
		Example:           "  oaken recipe check",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				c, err := checkRecipes(cmd.Context(), a, w)
				if err != nil {
					return err
				}
				return a.showRecipeCheck(w.Manifest.Recipes, c)
			})
		},
	}
}

// recipeCheck is what reading a whole project tells of its recipes.
type recipeCheck struct {
	documents map[string]int            // by recipe: documents that any of its rules chose something in
	chosen    map[string]map[string]int // by recipe and rule: elements
	twice     []string                  // addresses of keys that siblings share
}

func checkRecipes(ctx context.Context, a *App, w *workspace.Workspace) (*recipeCheck, error) {
	c := &recipeCheck{documents: map[string]int{}, chosen: map[string]map[string]int{}}
	own := map[string]bool{}
	for _, r := range w.Manifest.Recipes {
		own[r.Name] = true
	}
	r := w.Reader()
	r.Kinds = recipe.Watched(a.kinds, w.Manifest.Recipes, func(rep *recipe.Report) {
		seen := map[string]bool{}
		for _, u := range rep.Rules {
			if name := u.Rule.Recipe; own[name] && u.Elements > 0 {
				if c.chosen[name] == nil {
					c.chosen[name] = map[string]int{}
				}
				c.chosen[name][u.Rule.At] += u.Elements
				seen[name] = true
			}
		}
		for name := range seen {
			c.documents[name]++
		}
		for _, t := range rep.Twice {
			c.twice = append(c.twice, rep.Path+"::"+t)
		}
	})
	files, err := w.Files(ctx)
	if err != nil {
		return nil, err
	}
	all, show := state.Listed(w.Work(), files), a.Progress()
	for i, f := range files {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if show != nil {
			show("reading", i, len(files))
		}
		if _, err := r.Check(all, f.Path); err != nil {
			return nil, err
		}
	}
	return c, nil
}

func (a *App) showRecipeCheck(recipes []manifest.Recipe, c *recipeCheck) error {
	list, rows, wrong := []result.RecipeUse{}, [][]screen.Cell{}, len(c.twice)
	for _, r := range recipes {
		rules := []result.RuleUse{}
		for _, e := range r.Elements {
			n := c.chosen[r.Name][e.At]
			rules = append(rules, result.RuleUse{At: e.At, Elements: n})
			t := screen.Plain
			if n == 0 {
				wrong++
				t = screen.Bad
			}
			found := screen.Count(n, "element")
			if n == 0 {
				found = "matches nothing"
			}
			rows = append(rows, []screen.Cell{screen.Strong.Cell(r.Name), screen.Plain.Cell(e.At), t.Cell(found)})
		}
		list = append(list, result.RecipeUse{Recipe: r.Name, Documents: c.documents[r.Name], Rules: rules})
	}
	switch {
	case a.JSON:
		a.print(result.RecipesChecked{Recipes: list, Twice: result.List(c.twice)})
	case len(recipes) == 0:
		a.Say("This project has no recipes of its own. oaken help recipe tells how to write one.")
	case !a.Quiet:
		a.Table(a.Out, "", rows)
		for _, t := range c.twice {
			a.Say("%s", a.Paint(screen.Bad, "several siblings have the key "+t))
		}
	}
	if wrong > 0 {
		return &foundDifference{}
	}
	return nil
}
