package state

import (
	"strings"
	"testing"

	"oakenchest/core/kind/all"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/manifest"
)

// TestSchemasMergeAsTheyAreWritten merges folders of SQL on three engines: comments and
// what things were called formerly stay, and what the engine would refuse is a conflict.
func TestSchemasMergeAsTheyAreWritten(t *testing.T) {
	const head = "-- The tanks of the aquarium.\nCREATE TABLE tank (\n  id integer primary key, -- a number\n" +
		"  name varchar(40) not null, -- as on the door\n  /* in litres */\n  litres integer"
	const foot = "\n);\n\ncreate index by_name on tank (name); -- for the desk\n"
	plain := head + foot
	keeper := strings.Replace(plain, "  litres integer", "  litres integer,\n  keeper text -- who feeds", 1)
	const fish = "create table fish (\n  code varchar(9) primary key,\n  litres2 integer\n);\n"
	for name, c := range map[string]struct {
		mine, theirs, want string
		conflict           string
	}{
		"a column against a column": {keeper, strings.Replace(plain, "  litres integer", "  litres integer,\n  depth real -- in metres",
			1), "litres integer,\n  keeper text, -- who feeds\n  depth real -- in metres\n", ""},
		"a column against a new name": {keeper, strings.Replace(plain, "  litres integer", "  -- formerly: litres\n  volume integer", 1),
			"-- formerly: litres\n  volume integer,\n  keeper text -- who feeds\n", ""},
		"a column against a comment": {keeper, strings.Replace(plain, "litres integer", "litres integer -- filled", 1),
			"litres integer, -- filled\n  keeper text -- who feeds\n", ""},
		"another width": {keeper, strings.Replace(plain, "varchar(40)", "varchar(60)", 1),
			"name varchar(60) not null, -- as on the door\n", ""},
		"a view on what is gone": {strings.Replace(plain, ", -- as on the door\n  /* in litres */\n  litres integer",
			" -- as on the door", 1), plain + "create view big as select id from tank where litres > 9;\n", "", "database::view:big"},
		"a view on a former name": {strings.Replace(plain, "  litres integer", "  -- formerly: litres\n  volume integer", 1),
			plain + "create view big as select id from tank where litres > 9;\n", "", "database::view:big"},
		"a table that is referred to": {plain, plain + "\x00" + "", "", ""},
		"two checks that were one": {strings.Replace(plain, "litres integer", "litres integer,\n  check (id > 2)", 1),
			strings.Replace(plain, "litres integer", "litres integer,\n  check (id > 3)", 1), "", "constraint:"},
		"two indexes of one name": {plain + "create index by_x on tank (litres);\n", plain + "\x01", "", "by_x"},
	} {
		for _, kindName := range []string{"schema", "postgres-schema", "mariadb-schema"} {
			r := &Reader{Kinds: recipe.Over(all.Table(), nil),
				Manifest: &manifest.Manifest{Artifacts: []manifest.Artifact{{Path: "database", Kind: kindName}}}}
			base := []string{"database/tank.sql", plain, "database/fish.sql", fish}
			mine, theirs := []string{"database/tank.sql", c.mine, "database/fish.sql", fish}, []string{"database/tank.sql", c.theirs,
				"database/fish.sql", fish}
			switch name {
			case "two indexes of one name":
				if kindName == "mariadb-schema" {
					continue // each table names its own
				}
				theirs = []string{"database/tank.sql", plain, "database/fish.sql", fish + "create index by_x on fish (litres2);\n"}
			case "a table that is referred to":
				mine = []string{"database/tank.sql", plain}
				theirs[1] = strings.Replace(plain, "litres integer", "litres integer,\n  kind varchar(9) references fish(code)", 1)
				c.conflict = "database::"
			case "two checks that were one":
				base[1] = strings.Replace(plain, "litres integer", "litres integer,\n  check (id > 1)", 1)
			}
			m, err := r.Merge(t.Context(), memory(base...), memory(mine...), memory(theirs...), nil)
			if err != nil {
				t.Fatal(err)
			}
			text := c.mine
			for _, e := range m.Edits {
				if e.Path == "database/tank.sql" {
					text = string(e.Data)
				}
			}
			var conflicts []string
			for _, x := range m.Conflicts {
				conflicts = append(conflicts, x.Address.String())
			}
			all := strings.Replace(strings.Join(conflicts, " "), "schema:public/", "", 1)
			if (all == "") != (c.conflict == "") || !strings.Contains(all, c.conflict) || !strings.Contains(text, c.want) ||
				c.conflict == "" && !strings.HasPrefix(text,
					"-- The tanks of the aquarium.\nCREATE TABLE tank (\n  id integer primary key, -- a number\n") {
				t.Errorf("%s, %s: conflicts %v, want %q\n%s", kindName, name, conflicts, c.conflict, text)
			}
		}
	}
}
