package lookalike

import (
	"slices"
	"strings"
	"testing"
)

func TestNamesAreCutIntoWords(t *testing.T) {
	for name, want := range map[string]string{
		"arrival_date": "arrival date", "arrivalDate": "arrival date", "ArrivalDate": "arrival date", "ID": "id", "tankID": "tank id",
		"HTTPServer": "http server", "address_line1": "address line 1", "a-b.c d": "a b c d", "": "", "__x__": "x", "größe_cm": "größe cm",
		"2nd": "2 nd",
	} {
		if got := strings.Join(words(name), " "); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

func TestWordsThatSayTheSame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"arrival", "arrived", true}, {"arrival", "received", true}, {"measured", "measurement", true}, {"installed", "install", true},
		{"stopped", "stopping", true}, {"fed", "feeding", true}, {"sold", "seller", true},
		{"qty", "quantity", true}, {"amt", "amount", true}, {"descr", "description", true}, {"temp", "temperature", true},
		{"addr", "address", true}, {"max", "maximum", true},
		{"keeper", "staff", true}, {"begin", "start", true}, {"visitor", "guest", true}, {"organisation", "organization", true},
		{"begin", "end", false}, {"min", "max", false}, {"inflow", "outflow", false}, {"from", "until", false}, {"tank", "pump", false},
		{"name", "number", false}, {"co", "colour", false}, {"weight", "height", false}, {"left", "right", false},
	} {
		for _, p := range [][2]string{{c.a, c.b}, {c.b, c.a}} {
			if sim, why := alike(p[0], p[1]); (sim > 0) != c.want {
				t.Errorf("%s and %s: %.2f %s", p[0], p[1], sim, why)
			}
		}
	}
}

func TestDistances(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"a", "", 1}, {"", "abc", 3}, {"tank", "tank", 0}, {"tank", "tanks", 1}, {"kitten", "sitting", 3}} {
		if got := distance(c.a, c.b); got != c.want {
			t.Errorf("%q and %q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}

func TestPairsComeTheLikeliestFirst(t *testing.T) {
	thing := func(lane, address, in, key, holds string) Thing {
		return Thing{Lane: lane, Address: address, Type: "column", Key: key, Holds: holds, Within: []string{in}}
	}
	things := []Thing{
		thing("A", "a1", "specimen", "arrival_date", "date"), thing("A", "a2", "tank", "volume", "integer"), thing("A", "same", "tank",
			"keeper", "text"),
		thing("B", "b1", "specimen", "date_received", "date"), thing("B", "b2", "specimen", "arrived_on", "date"), thing("B", "same",
			"tank", "keeper", "text"), thing("B", "b3", "tank", "vol", "numeric"),
		{Lane: "B", Address: "b4", Type: "table", Key: "volume"},
	}
	list := Find(things, Likely)
	var got []string
	last := 2.0
	for _, p := range list {
		got = append(got, p.One.Address+"-"+p.Other.Address)
		if p.Score > last || len(p.Why) == 0 {
			t.Errorf("%v", p)
		}
		last = p.Score
	}
	slices.Sort(got)
	if !slices.Equal(got, []string{"a1-b1", "a1-b2", "a2-b3"}) {
		t.Errorf("found %v", got)
	}
	with := Compare(Thing{Key: "arrival", Users: []string{"v1"}, Beside: []string{"x", "y"}},
		Thing{Key: "arrived", Users: []string{"v1"}, Beside: []string{"y", "z"}})
	without := Compare(Thing{Key: "arrival"}, Thing{Key: "arrived"})
	if with.Score <= without.Score || !slices.Contains(with.Why, "the same things use them") ||
		!slices.Contains(with.Why, "their neighbours have names in common") {
		t.Errorf("with neighbours and users %.2f %v, without %.2f", with.Score, with.Why, without.Score)
	}
}

// FuzzCompare judges any two names: the score is from 0 to 1, and the same both ways.
func FuzzCompare(f *testing.F) {
	for _, p := range []string{"arrival_date|date|date_received|date", "|||", "a|b|c|d", "ID|int|idNumber|text", "größe|real|größen|real"} {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p := strings.SplitN(text+"|||", "|", 4)
		a, b := Thing{Lane: "A", Key: p[0], Holds: p[1], Within: []string{"x"}}, Thing{Lane: "B", Key: p[2], Holds: p[3],
			Within: []string{"x"}}
		one, other := Compare(a, b).Score, Compare(b, a).Score
		if one < 0 || one > 1 || one-other > .15 || other-one > .15 {
			t.Errorf("%q: %.3f one way, %.3f the other", text, one, other)
		}
	})
}
