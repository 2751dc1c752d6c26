package cli

import (
	"context"
	"os"
	"path/filepath"

	"oakenchest/sample"
)

// story is what `oaken demo` plays: Imke builds the reef exhibit's scene; the
// database and the keepers' app belong to the same project.
var story = []scene{
	{"Put the folder under control, and the database with it", []act{
		{call: `begin`},
		{call: `env add dev sqlite:dev.db --into database`},
		{call: `env add test sqlite:test.db`},
		{call: `capture dev`},
		{call: `changes`},
		{call: `commit -m "First state of the reef project"`},
		{call: `deploy test`},
	}},
	{"Change a binary scene, and see what changed in it", []act{
		{call: `lock exhibit/reef.glb -m "a brighter lamp"`},
		{tell: "Imke makes the lamp larger and brighter in her editor, and saves the scene.",
			edit: reef(sample.Lamp{Scale: 1.2, Brightness: 55}), call: `changes`},
		{call: `compare`},
		{call: `commit -m "A larger, brighter lamp above the coral"`},
	}},
	{"Two branches change one scene, and merge by element", []act{
		{call: `branch kelp --from main:1`},
		{call: `go kelp`},
		{tell: "On this branch the rock is lifted; the lamp is as it was before.",
			edit: reef(sample.Lamp{Scale: 1, Brightness: 40, RockHeight: 0.3}), call: `commit -m "Lift the rock out of the sand"`},
		{call: `go main`},
		{call: `merge kelp`},
		{call: `compare main:2 main`},
	}},
	{"Two people work in one scene, each on an object of it", []act{
		{by: "Tarek", call: `open ../brindle-bay .`},
		{call: `lock exhibit/reef.glb::node:Lamp -m "a larger light"`},
		{by: "Tarek", call: `lock exhibit/reef.glb`, status: 4},
		{by: "Tarek", call: `lock exhibit/reef.glb::node:Rock --for 2h`},
		{tell: "Imke makes the lamp larger, Tarek lifts the rock: both save the one file.",
			edit: reef(sample.Lamp{Scale: 1.4, Brightness: 55, RockHeight: 0.3}), call: `changes`},
		{by: "Tarek", edit: reef(sample.Lamp{Scale: 1.2, Brightness: 55, RockHeight: 0.5}), call: `changes`},
		{call: `commit -m "The lamp a little larger"`},
		{by: "Tarek", call: `commit -m "The rock a little higher"`},
		{call: `sync`},
		{call: `compare main:4 main`},
	}},
	{"A warning before the work is done, and not when it is saved", []act{
		{by: "Tarek", call: `branch night`},
		{by: "Tarek", call: `go night`},
		{by: "Tarek", edit: reef(sample.Lamp{Scale: 1.4, Brightness: 20, RockHeight: 0.5}),
			call: `commit -m "A dim lamp for the night show"`},
		{call: `lock "exhibit/reef.glb::light:Lamp light"`},
		{edit: reef(sample.Lamp{Scale: 1.4, Brightness: 70, RockHeight: 0.5}), call: `overlaps`},
		{call: `commit -m "A bright lamp for the school classes"`},
	}},
	{"The conflict is settled on the branch, and a review brings it in", []act{
		{by: "Tarek", call: `merge main --dry-run`, status: 3},
		{by: "Tarek", call: `merge main`, status: 3},
		{by: "Tarek", call: `resolve "**.intensity" --value 35`},
		{by: "Tarek", call: `commit`},
		{by: "Tarek", call: `review open --title "The night show" -m "The lamp is dim after closing time." --item AQ-31`},
		{call: `review show 1`},
		{call: `review comment 1 exhibit/reef.glb::node:Lamp -m "Dim enough for the jellyfish?"`},
		{call: `review approve 1`},
		{call: `review merge 1`},
		{by: "Tarek", call: `go main`},
	}},
	{"Bring a change from the development database to the test database", []act{
		{tell: "A developer's own tool changes the development database.",
			edit: inDev("alter table feeding add column amount_g integer not null default 0; alter table tank add column keeper text;"),
			call: `compare work env:dev`},
		{call: `promote dev test`, status: 4},
		{call: `capture dev`},
		{call: `commit -m "Feedings have an amount, tanks a keeper" --item AQ-12`},
		{call: `promote dev test`},
	}},
	{"Losing data needs consent", []act{
		{tell: "Somebody removes a table's file; the development database has rows in that table.",
			edit: func(_ context.Context, folder string) error {
				return os.Remove(filepath.Join(folder, "database", "tables", "specimen.sql"))
			}, call: `commit -m "Specimens are kept elsewhere now"`},
		{call: `deploy dev`, status: 4},
		{call: `revert main`},
		{call: `deploy dev`},
	}},
	{"Release, go back, look back", []act{
		{call: `release spring -m "As shown at the opening"`},
		{call: `restore exhibit/reef.glb --from main:1`},
		{call: `compare`},
		{call: `restore exhibit/reef.glb --from main`},
		{call: `history`},
	}},
}
