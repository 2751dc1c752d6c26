package sqlite

import (
	"errors"
	"testing"
)

// TestEveryChangeOfTypeIsForetold changes each declared type into each other one, with rows
// that stand at the edges, and holds what the plan says against the rows before and after.
func TestEveryChangeOfTypeIsForetold(t *testing.T) {
	types := []string{"integer", "text", "real", "numeric", "blob", "varchar(20)", "decimal(10,2)", "datetime", ""}
	strict := []string{"integer", "text", "real", "blob", "any"}
	values := []string{"0", "1", "-7", "1.5", "0.30000000000000004", "9007199254740993", "'007'", "'1.50'", "'reef'", "' 12'", "'1e3'",
		"''", "x'00ff'", "x'31'", "null"}
	counts := map[string]int{}
	pair := func(from, to, before, after string) {
		db := database(t, "create table t (id integer primary key, v "+from+")"+before)
		for _, v := range values {
			if _, err := db.Exec("insert into t (v) values (" + v + ")"); err != nil && before == "" {
				t.Fatal(err)
			}
		}
		if _, err := db.Exec("create temp table was as select * from t"); err != nil {
			t.Fatal(err)
		}
		want := load(t, "create table t (id integer primary key, v "+to+")"+after+";")
		steps, err := Plan(t.Context(), db, read(t, db), want)
		var rows *RowsError
		if errors.As(err, &rows) {
			counts["not taken"]++
			return
		}
		if err != nil {
			t.Errorf("%q → %q: %v", from+before, to+after, err)
			return
		}
		if err := Apply(t.Context(), db, want.Root, steps, ApplyOptions{}); err != nil {
			t.Errorf("%q → %q: %v", from+before, to+after, err)
			return
		}
		var changed int
		if err := db.QueryRow("select count(*) from t join temp.was w using (id) where " + inFull("t.v") + " is not " +
			inFull("w.v")).Scan(&changed); err != nil {
			t.Fatal(err)
		}
		loses := false
		for _, s := range steps {
			loses = loses || s.Effect == Loses
		}
		if !loses && changed > 0 { // written otherwise, but the same number when it goes back
			if _, err := db.Exec("create temp table back (id integer, v " + from + "); insert into back select * from t"); err != nil {
				t.Fatal(err)
			}
			if err := db.QueryRow("select count(*) from temp.back b join temp.was w using (id) where b.v is not w.v").Scan(&changed); err != nil {
				t.Fatal(err)
			}
		}
		switch {
		case changed > 0 && !loses:
			t.Errorf("%q → %q: %d values became others, and the plan says nothing", from+before, to+after, changed)
		case changed == 0 && loses:
			t.Errorf("%q → %q: nothing changed, and the plan says: %s", from+before, to+after, steps[0].Loss)
		case loses:
			counts["loses"]++
		default:
			counts["comes through"]++
		}
	}
	for _, from := range types {
		for _, to := range types {
			if from != to {
				pair(from, to, "", "")
			}
		}
		for _, to := range strict {
			pair(from, to, "", " strict")
		}
	}
	for _, from := range strict {
		for _, to := range strict {
			if from != to {
				pair(from, to, " strict", " strict")
			}
		}
	}
	t.Logf("pairs of types: %v", counts)
}
