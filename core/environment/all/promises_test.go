package all

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/core/environment"
	"oakenchest/core/environment/drivertest"
)

// subjects are what each sort of target is tried with; every sort has one.
var subjects = map[string]func(t *testing.T) (target string, one, other, wrong environment.Files){
	"folder": func(t *testing.T) (string, environment.Files, environment.Files, environment.Files) {
		one := environment.Files{"signs/reef.txt": []byte("The reef\n"), "signs/kelp.txt": []byte("Kelp\n"), "map.svg": []byte("<svg/>")}
		other := environment.Files{"signs/reef.txt": []byte("The reef and its fish\n"), "signs/bay.txt": []byte("Bay\n"),
			"map.svg": one["map.svg"]}
		return "folder:" + filepath.Join(t.TempDir(), "signs"), one, other, nil
	},
	"sqlite": func(t *testing.T) (string, environment.Files, environment.Files, environment.Files) {
		one, other, wrong := databaseFiles("", "integer", "text")
		return "sqlite:" + filepath.Join(t.TempDir(), "bay.db"), one, other, wrong
	},
	"postgres": func(t *testing.T) (string, environment.Files, environment.Files, environment.Files) {
		one, other, wrong := databaseFiles("public", "integer", "text")
		target, _ := postgresDatabase(t)
		return target, one, other, wrong
	},
	"mysql": func(t *testing.T) (string, environment.Files, environment.Files, environment.Files) {
		one, other, wrong := databaseFiles("", "int(11)", "varchar(40)")
		target, _ := mariadbDatabase(t)
		return target, one, other, wrong
	},
}

// databaseFiles declare tables with tracked rows, as an engine writes types.
func databaseFiles(schema, number, text string) (one, other, wrong environment.Files) {
	name, folder := func(table string) string { return table }, ""
	if schema != "" {
		name, folder = func(table string) string { return schema + "." + table }, schema+"/"
	}
	table := func(of string, columns ...string) []byte {
		return fmt.Appendf(nil, "create table %s (\n  id %s not null,\n  %s,\n  primary key (id)\n);\n", name(of), number,
			strings.Join(columns, ",\n  "))
	}
	one = environment.Files{
		folder + "tables/tank.sql": table("tank", "name "+text, "litres "+number), folder + "tables/food.sql": table("food", "name "+text),
		folder + "rows/food.csv": []byte("id,name\n1,krill\n2,algae\n"),
	}
	other = environment.Files{
		folder + "tables/tank.sql": table("tank", "name "+text, "litres "+number, "depth "+number), folder +
			"tables/keeper.sql": table("keeper", "name "+text),
		folder + "rows/keeper.csv": []byte("id,name\n1,Imke\n"),
	}
	if schema != "" {
		one[folder+"schema.sql"], other[folder+"schema.sql"] = []byte("create schema "+schema+";\n"), []byte("create schema "+schema+";\n")
	}
	return one, other, environment.Files{folder + "tables/tank.sql": []byte("create table " + name("tank") + " (id no_such_type(;\n")}
}

func TestDriversKeepTheirPromises(t *testing.T) {
	for _, s := range environment.Schemes() {
		make, ok := subjects[s[0]]
		if !ok {
			t.Errorf("nothing is known to try %s with: add it to subjects", s[0])
			continue
		}
		for _, sentence := range drivertest.Promises() {
			t.Run(s[0]+"/"+sentence, func(t *testing.T) {
				t.Parallel()
				target, one, other, wrong := make(t)
				out, err := drivertest.Try(t.Context(), drivertest.Subject{Address: target, One: one, Other: other, Wrong: wrong,
					New: func(context.Context) (drivertest.Target, error) {
						return drivertest.Target{Open: func(ctx context.Context) (environment.Driver, error) {
							return environment.Open(ctx, environment.Host{}, target, environment.Settings{})
						}, Remove: func(context.Context) error { return nil }}, nil
					},
					Scratch: func() (string, error) { return filepath.Join(t.TempDir(), fmt.Sprint(rand.Uint32())), nil }}, sentence)
				if err != nil {
					t.Fatal(err)
				}
				switch out.Verdict {
				case drivertest.Broken:
					t.Error(out.Said)
				case drivertest.NotTried:
					t.Skip(out.Said)
				}
			})
		}
	}
}
