package sample

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Places says where the environments of the aquarium's landscape are: the databases, and
// the folders of what visitors see.
type Places struct {
	// Database gives the target of an environment's database, Folder that of a folder.
	Database func(environment string) string
	Folder   func(environment, what string) string
	// Kind is the kind of the databases as artifacts.
	Kind string
}

// InFiles keeps databases as SQLite files and folders in a folder beside the workspaces.
func InFiles(beside string) Places {
	return Places{
		Kind:     "schema",
		Database: func(e string) string { return "sqlite:" + beside + "/" + e + ".db" },
		Folder:   func(e, what string) string { return "folder:" + beside + "/" + e + "-" + what },
	}
}

// OnServer keeps the databases on a PostgreSQL server, under names that begin with a
// prefix, and the folders beside the workspaces.
func OnServer(server, prefix, beside string) Places {
	p := InFiles(beside)
	p.Kind = "postgres-schema"
	p.Database = func(e string) string {
		return strings.TrimSuffix(server, "/") + "/" + prefix + strings.ReplaceAll(e, "-", "_")
	}
	return p
}

// stageDecl is an environment of the landscape as it is declared.
type stageDecl struct {
	name, tier, lane, branch, controllers, about, more string
	assets                                             bool // it holds the exhibit and the apps too
}

// Stages lists the names of the landscape's environments.
func Stages() []string {
	var out []string
	for _, s := range stages {
		out = append(out, s.name)
	}
	return out
}

var stages = []stageDecl{
	{name: "imke", tier: "development", lane: "Exhibit", about: "Imke's own database"},
	{name: "tarek", tier: "development", lane: "Exhibit", about: "Tarek's own database"},
	{name: "odalys", tier: "development", lane: "Husbandry", about: "Odalys's own database"},
	{name: "maren", tier: "development", lane: "Husbandry", about: "Maren's own database"},
	{name: "fix", tier: "development", lane: "Hot fix", about: "As live is, for what can't wait"},
	{name: "integration", tier: "integration", branch: "main", about: "Where the work of both lanes meets first", assets: true},
	{name: "test", tier: "test", branch: "main", controllers: "testers", about: "Where the testers test", assets: true},
	{name: "acceptance", tier: "acceptance", branch: "main", controllers: "testers", about: "Where keepers and guides try it",
		assets: true},
	{name: "rehearsal", tier: "rehearsal", branch: "main", controllers: "release", about: "A full copy of live, for the last rehearsal",
		more: "volume = \"as live\"\n", assets: true},
	{name: "live", tier: "live", branch: "live", controllers: "release", about: "What visitors and keepers use",
		more: "integrations = [\"ticket desk\", \"feeding robots\"]\nvolume = \"40 tanks, 9,000 feedings a month\"\n", assets: true},
}

const lanes = `
[team.roles]
testers = ["Sefa", "Ravi"]
release = ["Ravi"]

[pipeline]
may-override = ["release"]
owed-limit = "5d"

[[pipeline.lane]]
name = "Exhibit"
branch = "exhibit"
developers = ["Imke", "Tarek"]
about = "The reef that visitors see"

[[pipeline.lane]]
name = "Husbandry"
branch = "husbandry"
developers = ["Odalys", "Maren"]
about = "The keepers' work"

[[pipeline.lane]]
name = "Hot fix"
branch = "hotfix"
developers = ["Maren"]
about = "What can't wait"

[[pipeline.gate]]
name = "notes"
command = ["grep", "-q", "Release notes", "notes/release.txt"]
within = "1m"

[[pipeline.gate]]
name = "tested"
approvals = 1
by = ["testers"]

[[pipeline.gate]]
name = "released"
approvals = 1
by = ["release"]
self-approval = true

[[pipeline.gate]]
name = "a night's rest"
rest = "12h"

[[pipeline.after]]
name = "no loose ends"
environments = ["test"]
command = ["sh", "-c", "! grep TODO notes/release.txt"]
otherwise = "rollback"

[[mask]]
column = "feeding.food"
with = "shuffle"

[[pipeline.freeze]]
tiers = ["live"]
from = "2026-06-29"
until = "2026-06-30"
why = "the jubilee: nothing goes live"
`

var moves = [][4]string{
	{"imke", "integration"}, {"tarek", "integration"}, {"odalys", "integration"}, {"maren", "integration"},
	{"integration", "test", `"notes"`},
	{"test", "acceptance", `"tested"`},
	{"acceptance", "rehearsal", `"a night's rest"`},
	{"rehearsal", "live", `"released"`},
	{"fix", "live", `"released"`, "the hot-fix path"},
}

// Landscape writes the oaken.toml of the whole landscape: lanes Exhibit and Husbandry with
// two developers each, integration, test, acceptance, a rehearsal that both share, live,
// and a hot-fix path.
func Landscape(p Places) string {
	var b strings.Builder
	b.WriteString("project = \"Brindle Bay\"\n\n[[lock]]\nmatch = \"**\"\npolicy = \"off\"\n")
	fmt.Fprintf(&b, "\n[[artifact]]\npath = \"database\"\nkind = %q\n", p.Kind)
	for _, s := range stages {
		fmt.Fprintf(&b, "\n[[environment]]\nname = %q\ntarget = %q\ninto = \"database\"\ntier = %q\n", s.name, p.Database(s.name), s.tier)
		for _, f := range [][2]string{{"lane", s.lane}, {"branch", s.branch}, {"about", s.about}} {
			if f[1] != "" {
				fmt.Fprintf(&b, "%s = %q\n", f[0], f[1])
			}
		}
		if s.controllers != "" {
			fmt.Fprintf(&b, "controllers = [%q]\n", s.controllers)
		}
		b.WriteString(s.more)
		if s.assets {
			for _, what := range []string{"exhibit", "apps"} {
				fmt.Fprintf(&b, "\n[[environment.also]]\ntarget = %q\ninto = %q\n", p.Folder(s.name, what), what)
			}
		}
	}
	b.WriteString(lanes)
	for _, m := range moves {
		fmt.Fprintf(&b, "\n[[pipeline.move]]\nfrom = %q\nto = %q\n", m[0], m[1])
		if m[2] != "" {
			fmt.Fprintf(&b, "gates = [%s]\n", m[2])
		}
		if m[3] != "" {
			fmt.Fprintf(&b, "about = %q\n", m[3])
		}
	}
	return b.String()
}

// WriteLandscape lays out the project of the landscape in a folder, and fills the database
// of its first developer.
func WriteLandscape(ctx context.Context, folder string, p Places) error {
	if err := writeAssets(folder); err != nil {
		return err
	}
	if err := write(folder, "oaken.toml", []byte(Landscape(p))); err != nil {
		return err
	}
	return RunOn(ctx, folder, p.Database("imke"), Schema+rows)
}

// RunOn runs SQL on the database of a target, as a developer's own tool would. Relative
// paths start from a folder.
func RunOn(ctx context.Context, folder, target, sql string) error {
	if file, ok := strings.CutPrefix(target, "sqlite:"); ok {
		file = filepath.Join(folder, filepath.FromSlash(file))
		if err := os.MkdirAll(filepath.Dir(file), 0o777); err != nil {
			return err
		}
		return Run(ctx, file, sql)
	}
	conn, err := pgx.Connect(ctx, target)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, strings.ReplaceAll(sql, "id integer primary key,", "id integer generated by default as identity primary key,"))
	return err
}
