package declared

import (
	"maps"
	"testing"
)

func TestFormerNamesGoBackwards(t *testing.T) {
	table := func(name string, columns ...string) Table {
		x := Table{ID: "table " + name, Names: []string{name}}
		for _, c := range columns {
			x.Columns = append(x.Columns, Column{"table " + name + "/" + c, c})
		}
		return x
	}
	held := []Table{table("basin", "id", "years", "age2"), table("keeper", "id", "nick"), table("other", "id", "x", "old")}
	formerly := map[string]string{"table basin": "tank", "table basin/years": "age", "table keeper/nick": "name", "table other/x": "old"}
	want := []Table{table("tank", "id", "age"), table("keeper", "id", "nick"), table("other", "id", "old")}
	got := Backwards(held, formerly, want)
	// nick is there in both; of other, old is there beside x, so that x is not what it became.
	if !maps.Equal(got, map[string]string{"table tank": "basin", "table tank/age": "years"}) {
		t.Errorf("%v", got)
	}
}
