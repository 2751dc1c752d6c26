package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/sample"
)

// The month is played beside the workspaces' folders: Ravi's is brindle-bay-month, the
// environments are in brindle-bay-month-stages.
const (
	monthFolder = "brindle-bay-month"
	monthBeside = "-stages"
)

// month sets the stage for `oaken demo --pipeline`.
func (s *stage) month(server string) {
	beside := "../" + filepath.Base(s.folder) + monthBeside
	s.places = sample.InFiles(beside)
	if server != "" {
		s.places = sample.OnServer(server, strings.ReplaceAll(filepath.Base(s.folder), "-", "_")+"_", beside)
	}
	s.owner, s.name, s.scenes = "Ravi", monthFolder, monthStory
	s.tries = []string{"oaken pipeline show", "oaken deployments --by-item", "oaken deployments show 20", "oaken owed",
		"oaken promote rehearsal live --dry-run", "oaken pipeline show --html board.html"}
	s.lay = func(ctx context.Context, folder string) error {
		if err := os.MkdirAll(folder+monthBeside, 0o777); err != nil {
			return err
		}
		if server != "" {
			for _, e := range sample.Stages() {
				if _, err := environment.Create(ctx, environment.Host{Root: folder}, s.places.Database(e)); err != nil {
					return err
				}
			}
		}
		return sample.WriteLandscape(ctx, folder, s.places)
	}
}

// firstStates deploys the first state to every environment but the one it came from.
func firstStates() []act {
	var out []act
	for _, e := range sample.Stages() {
		if e != "imke" {
			out = append(out, act{call: "deploy " + e + " main --quiet"})
		}
	}
	return out
}

// writing writes a text file, as an editor would.
func writing(name, text string) func(context.Context, string) error {
	return func(_ context.Context, folder string) error {
		full := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
			return err
		}
		return os.WriteFile(full, []byte(text), 0o666)
	}
}

// bothColumns lets the view show what both lanes wanted, wherever its file is.
func bothColumns(_ context.Context, folder string) error {
	found, err := filepath.Glob(filepath.Join(folder, "database", "views", "hungry_tank.sql"))
	if err == nil && len(found) == 0 {
		found, err = filepath.Glob(filepath.Join(folder, "database", "*", "views", "hungry_tank.sql"))
	}
	for _, full := range found {
		data, err := os.ReadFile(full)
		if err == nil {
			err = os.WriteFile(full, bytes.Replace(data, []byte("tank.litres"), []byte("tank.litres, tank.visible"), 1), 0o666)
		}
		if err != nil {
			return err
		}
	}
	return err
}

// monthStory is what `oaken demo --pipeline` plays: a month in which two lanes share the
// way to live.
var monthStory = []scene{
	{"The landscape, and the first state everywhere", append(append([]act{
		{at: "2026-06-01 09:00", call: `begin`},
		{tell: "What a project runs and reaches outside of its folder, a person agrees to once on each machine.", call: `trust --yes`},
		{call: `commit -m "The exhibit and the app, as they are"`},
		{tell: "The database that Imke has is the first one.", call: `capture imke --commit -m "The database, as it is"`},
		{call: `branch exhibit`}, {call: `branch husbandry`}, {call: `branch hotfix`},
	}, firstStates()...), []act{
		{call: `pipeline check`},
		{call: `pipeline show`},
	}...)},
	{"Two lanes at work", []act{
		{at: "2026-06-02 10:00", by: "Imke", call: `open ../brindle-bay-month . --branch exhibit`},
		{by: "Imke", tell: "Imke makes the lamp larger and brighter.", edit: reef(sample.Lamp{Scale: 1.2, Brightness: 55}),
			call: `commit -m "A larger, brighter lamp" --item AQ-12`},
		{at: "2026-06-02 14:00", by: "Tarek", call: `open ../brindle-bay-month . --branch exhibit`},
		{by: "Tarek", tell: "Tarek's lane wants to show when an animal came, and which tanks are open.", on: "tarek",
			sql:  `alter table specimen add column date_received text; alter table tank add column visible integer not null default 1; drop view hungry_tank; create view hungry_tank as select tank.id, tank.name, tank.visible from tank where not exists (select 1 from feeding where feeding.tank_id = tank.id);`,
			call: `capture tarek --commit -m "When animals came, and which tanks are open" --item AQ-14`},
		{at: "2026-06-03 09:00", by: "Odalys", call: `open ../brindle-bay-month . --branch husbandry`},
		{by: "Odalys", tell: "Odalys's lane needs amounts of food, and the day of arrival; it changes the same view.", on: "odalys",
			sql:  `alter table feeding add column amount_g integer not null default 0; alter table specimen add column arrival_date text; drop view hungry_tank; create view hungry_tank as select tank.id, tank.name, tank.litres from tank where not exists (select 1 from feeding where feeding.tank_id = tank.id);`,
			call: `capture odalys --commit -m "Amounts of food, and the day of arrival" --item AQ-20`},
	}},
	{"A collision, caught in integration and not at the testers'", []act{
		{at: "2026-06-04 09:00", by: "Tarek", call: `promote tarek`},
		{at: "2026-06-04 10:00", by: "Odalys", call: `promote odalys`, status: 3},
		{by: "Odalys", call: `go main`},
		{by: "Odalys", call: `merge husbandry`, status: 3},
		{by: "Odalys", call: `conflicts`},
		{by: "Odalys", tell: "Both lanes are right: the view gets both columns.", call: `resolve "**.definition" --keep theirs`},
		{by: "Odalys", edit: bothColumns, call: `commit -m "The hungry tanks with litres, and whether they are open"`},
		{by: "Odalys", call: `promote odalys`},
	}},
	{"One thing under two names", []act{
		{at: "2026-06-04 16:00", call: `lookalikes`},
		{by: "Tarek", tell: "It is the same day: Exhibit uses Husbandry's column, and drops its own.", call: `merge main`},
		{by: "Tarek", call: `deploy tarek exhibit --quiet`},
		{by: "Tarek", on: "tarek", sql: `alter table specimen drop column date_received;`,
			call: `capture tarek --commit -m "One day of arrival is enough" --item AQ-14`},
		{by: "Tarek", call: `promote tarek --allow-loss`},
		{call: `lookalikes --check`},
	}},
	{"A gate that is shut", []act{
		{at: "2026-06-05 11:00", by: "Sefa", call: `open ../brindle-bay-month .`},
		{by: "Sefa", call: `promote integration`, status: 4},
		{at: "2026-06-05 14:00", by: "Imke", call: `sync`},
		{by: "Imke", tell: "The release notes were not written yet.",
			edit: writing("notes/release.txt", "Release notes\n\nA brighter reef; amounts of food; the day of arrival.\n"),
			call: `commit -m "Release notes" --item AQ-12`},
		{by: "Imke", call: `promote tarek --quiet`},
		{by: "Sefa", call: `promote integration`},
	}},
	{"Somebody changes the test database by hand", []act{
		{at: "2026-06-08 09:00", tell: "At night somebody tried whether an index helps.", on: "test",
			sql: `create index feeding_food on feeding(food);`},
		{by: "Sefa", call: `drift test`},
		{by: "Sefa", call: `drift test --undo --quiet`},
		{by: "Sefa", call: `approve acceptance -m "Tested on three tanks"`},
		{by: "Sefa", call: `promote test --quiet`},
	}},
	{"The rehearsal is booked", []act{
		{at: "2026-06-09 10:00", by: "Tarek", call: `book rehearsal --lane Exhibit --until 2026-06-11 -m "Lights at dusk"`},
		{by: "Odalys", call: `book rehearsal --lane Husbandry --for 2d -m "A week of feedings"`},
		{at: "2026-06-09 15:00", call: `promote acceptance rehearsal --lane Husbandry`, status: 4},
		{call: `promote acceptance rehearsal --lane Exhibit --quiet`},
		{call: `pipeline show`},
	}},
	{"Live", []act{
		{at: "2026-06-12 08:00", call: `approve live --from rehearsal`},
		{call: `promote rehearsal live`},
		{call: `release june --from live -m "The brighter reef"`},
	}},
	{"Acceptance gets live's rows, and none of them as it is", []act{
		{at: "2026-06-12 10:00", by: "Sefa", tell: "Who tries things wants rows as in live; what oaken.toml masks never gets there.",
			call: `env refresh acceptance --from live --allow-loss`},
	}},
	{"A hot fix, and what is owed then", []act{
		{at: "2026-06-15 18:30", by: "Maren", call: `open ../brindle-bay-month . --branch hotfix`},
		{by: "Maren", call: `merge live`},
		{by: "Maren", call: `deploy fix hotfix --quiet`},
		{by: "Maren", tell: "The feeding robots stop at feedings without a food.", on: "fix",
			sql:  `alter table feeding add column robot integer not null default 0;`,
			call: `capture fix --commit -m "Feedings know whether a robot gave them" --item AQ-77`},
		{call: `approve live --from fix`},
		{call: `promote fix live`},
		{call: `owed`},
	}},
	{"What is owed for too long stops the lane", []act{
		{at: "2026-06-22 09:00", by: "Imke", call: `sync`},
		{by: "Imke", edit: reef(sample.Lamp{Scale: 1.2, Brightness: 48}), call: `commit -m "The lamp a little softer" --item AQ-31`},
		{by: "Imke", call: `promote tarek --item AQ-31`, status: 4},
		{by: "Imke", call: `backfill Exhibit --dry-run`},
		{by: "Imke", call: `backfill Exhibit`},
		{by: "Odalys", call: `backfill Husbandry`},
		{by: "Imke", call: `promote tarek --quiet`},
		{by: "Sefa", call: `promote integration --quiet`},
		{call: `owed`},
	}},
	{"A promotion that was a mistake, and back", []act{
		{at: "2026-06-24 13:00", tell: "On a large screen the softer lamp is too dark: the test environment goes back.", by: "Sefa",
			call: `rollback test`},
		{by: "Sefa", call: `deployments test`},
		{by: "Sefa", call: `promote integration --quiet`, status: 4},
		{by: "Sefa", tell: "On the screens of the exhibit it is bright enough: it goes again, and somebody has said so.",
			call: `promote integration --quiet --again`},
		{by: "Sefa", call: `approve acceptance`},
		{by: "Sefa", call: `promote test --quiet`},
	}},
	{"One item is withdrawn", []act{
		{at: "2026-06-26 16:00", tell: "The robots count each feeding twice: that goes from live, and all else stays.",
			call: `withdraw live --item AQ-77 --dry-run`},
		{call: `withdraw live --item AQ-77 --reason "robots count each feeding twice"`},
		{call: `owed`},
	}},
	{"The end of the month", []act{
		{at: "2026-06-29 09:00", call: `promote acceptance --quiet`},
		{call: `approve live --from rehearsal`},
		{call: `promote rehearsal live`, status: 4},
		{call: `deployments live --since 2026-06-01 --until 2026-06-30 --by-item`},
		{call: `deployments live --since 2026-06-01 --until 2026-06-30 --html ../brindle-bay-month-stages/june.html --sheet ../brindle-bay-month-stages/june.xlsx`},
		{call: `verify --pipeline`},
		{call: `pipeline show --html ../brindle-bay-month-stages/board.html --svg ../brindle-bay-month-stages/pipeline.svg`},
		{call: `pipeline show`},
	}},
	{"July is planned", []act{
		{at: "2026-07-01 09:00", call: `release plan july --item AQ-31 --item AQ-80 -m "Softer light, and shows at the tanks"`},
	}},
	{"What does not pass is taken back", []act{
		{at: "2026-07-01 10:00", by: "Tarek", call: `sync`},
		{by: "Tarek", on: "tarek", sql: `alter table tank add column show_at text;`,
			call: `capture tarek --commit -m "Shows at the tanks" --item AQ-80`},
		{by: "Tarek", edit: writing("notes/release.txt", "Release notes\n\nA brighter reef; amounts of food; shows. TODO: at what time?\n"),
			call: `commit -m "Notes of the shows" --item AQ-80`},
		{by: "Tarek", call: `promote tarek --quiet`},
		{by: "Sefa", tell: "A command that must pass after each deployment to test finds a loose end.",
			call: `promote integration`, status: 1},
		{by: "Tarek", edit: writing("notes/release.txt", "Release notes\n\nA brighter reef; amounts of food; shows at three.\n"),
			call: `commit -m "When the shows are" --item AQ-80`},
		{by: "Tarek", call: `promote tarek --quiet`},
		{by: "Sefa", call: `promote integration --again --quiet`},
		{by: "Sefa", call: `approve acceptance`},
		{by: "Sefa", call: `promote test --quiet`},
	}},
	{"A plan is read, signed and followed", []act{
		{at: "2026-07-02 09:00", call: `promote acceptance --quiet`},
		{tell: "July goes live just as the plan says, or not at all.",
			call: `promote rehearsal live --release july --plan ../brindle-bay-month-stages/july.json`},
		{call: `approve live --plan ../brindle-bay-month-stages/july.json -m "Read with the keepers"`},
		{call: `promote rehearsal live --follow ../brindle-bay-month-stages/july.json`},
		{call: `release plan --all`},
		{by: "Imke", call: `sync`},
		{by: "Imke", call: `backfill Exhibit --quiet`},
		{call: `pipeline items`},
	}},
}
