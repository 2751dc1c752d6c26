// Package sample makes the data of the sample world: the Brindle Bay Aquarium, a
// made-up public aquarium with a reef exhibit, a database of tanks and feedings,
// and an app for the keepers' rounds. Everything is made by this package; the
// same call gives the same bytes.
package sample

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"oakenchest/core/schema/sqlite"
)

// Paths of the sample's files below its folder.
const (
	Scene    = "exhibit/reef.glb"
	Texture  = "exhibit/textures/sand.png"
	Sound    = "exhibit/sounds/bubbles.wav"
	App      = "apps/rounds.app"
	Notes    = "notes/opening.txt"
	Database = "dev.db"
)

// Write lays the sample world out in a folder.
func Write(ctx context.Context, folder string) error {
	if err := writeAssets(folder); err != nil {
		return err
	}
	return DevelopmentDatabase(ctx, filepath.Join(folder, Database))
}

// writeAssets writes the scene with what belongs to it, the app and the notes.
func writeAssets(folder string) error {
	scene, err := Reef(Lamp{Scale: 1, Brightness: 40})
	if err != nil {
		return err
	}
	app, err := RoundsApp("Rounds")
	if err != nil {
		return err
	}
	files := map[string][]byte{Scene: scene, Texture: SandPNG(64), Sound: BubblesWAV(), App: app, Notes: []byte(notes)}
	for name, data := range files {
		if err := write(folder, name, data); err != nil {
			return err
		}
	}
	return nil
}

func write(folder, name string, data []byte) error {
	full := filepath.Join(folder, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
		return err
	}
	return os.WriteFile(full, data, 0o666)
}

const notes = `The reef exhibit opens in spring.
Imke builds the scene, Tarek the database.
Odalys writes the keepers' app; Ravi decides what goes live.
`

// Schema is the database of the aquarium as it is at first.
const Schema = `create table tank (
  id integer primary key,
  name text not null unique,
  litres integer not null check (litres > 0)
);
create table specimen (
  id integer primary key,
  tank_id integer not null references tank(id),
  species text not null,
  arrived text not null default current_date
);
create table feeding (
  id integer primary key,
  tank_id integer not null references tank(id),
  fed_at text not null,
  food text not null
);
create index feeding_tank on feeding(tank_id, fed_at);
create view hungry_tank as
  select tank.id, tank.name from tank
  where not exists (select 1 from feeding where feeding.tank_id = tank.id);`

const rows = `insert into tank (name, litres) values ('Reef', 42000), ('Kelp forest', 31000), ('Jellies', 2600);
insert into specimen (tank_id, species, arrived) values (1, 'Banded coral shrimp', '2026-02-11'), (1, 'Blue tang', '2026-02-11'), (2, 'Garibaldi', '2026-03-02'), (3, 'Moon jelly', '2026-03-20');
insert into feeding (tank_id, fed_at, food) values (1, '2026-04-01 08:00', 'krill'), (1, '2026-04-01 17:30', 'algae'), (2, '2026-04-01 08:20', 'mussels');`

// DevelopmentDatabase makes the developers' SQLite database, with rows.
func DevelopmentDatabase(ctx context.Context, file string) error { return Run(ctx, file, Schema+rows) }

// Run runs SQL on a database file, as a developer's own tool would.
func Run(ctx context.Context, file, sql string) error {
	db, err := sqlite.Open(file, true)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, sql); err != nil {
		return fmt.Errorf("%s: %w", filepath.Base(file), err)
	}
	return nil
}
