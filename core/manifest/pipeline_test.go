package manifest

import (
	"strings"
	"testing"
	"time"
)

func TestWhatAPipelineCantSayIsRefused(t *testing.T) {
	for text, want := range map[string]string{
		"[[pipeline.gate]]\nname = \"a\"\n": "needs one of command, approvals, " +
			"needs and rest",
		"[[pipeline.gate]]\nname = \"a\"\ncommand = [\"true\"]\nrest = \"1d\"\n": "needs one of command, approvals, " +
			"needs and rest",
		"[[pipeline.gate]]\nname = \"a\"\napprovals = -1\n":                                "can't ask for less than one",
		"[[pipeline.gate]]\nname = \"a\"\nneeds = \"luck\"\n":                              "which is none of reviews, booking and signal",
		"[[pipeline.gate]]\nname = \"a\"\nrest = \"soon\"\n":                               "is no time such as 90m, 8h or 3d",
		"[[pipeline.gate]]\ncommand = [\"true\"]\n":                                        "a gate has no name",
		"[[pipeline.freeze]]\nwhy = \"x\"\n":                                               "needs from, until or days",
		"[[pipeline.freeze]]\nfrom = \"Christmas\"\n":                                      "is no day such as 2026-12-18",
		"[[pipeline.freeze]]\ndays = [\"Fryday\"]\n":                                       "is no day such as Friday",
		"[[pipeline.freeze]]\nfrom = \"2026-12-18\"\ntiers = [\"lives\"]\n":                "is none of development",
		"[pipeline]\nowed-limit = \"5 days\"\n":                                            "owed-limit",
		"[[pipeline.lane]]\nbranch = \"x\"\n":                                              "a lane has no name",
		"[[pipeline.move]]\nfrom = \"x\"\n":                                                "a move needs from and to",
		"[[pipeline.move]]\nfrom = \"x\"\nto = \"y\"\ngate = \"z\"\n":                      "gate",
		"[[environment]]\nname = \"x\"\ntarget = \"sqlite:x\"\ninto = \"d\"\ntier = \"t\"": "is none of development",
		"[[environment]]\nname = \"x\"\ntarget = \"sqlite:x\"\ninto = \"d\"\n[[environment.also]]\ntarget = \"folder:y\"\ninto = \"d/e\"\n": "two targets of environment x go into d/e",
	} {
		if _, err := Parse([]byte("project = \"p\"\n" + text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func TestFreezesHoldWhenTheySay(t *testing.T) {
	at := func(text string) time.Time {
		x, err := time.ParseInLocation("2006-01-02 15:04", text, time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	live, test := Environment{Name: "live", Tier: Live}, Environment{Name: "test", Tier: "test"}
	for _, c := range []struct {
		f    Freeze
		e    Environment
		when string
		want bool
	}{
		{Freeze{From: "2026-12-18", Until: "2026-12-20"}, live, "2026-12-17 23:59", false},
		{Freeze{From: "2026-12-18", Until: "2026-12-20"}, live, "2026-12-18 00:00", true},
		{Freeze{From: "2026-12-18", Until: "2026-12-20"}, live, "2026-12-20 23:59", true},
		{Freeze{From: "2026-12-18", Until: "2026-12-20"}, live, "2026-12-21 00:00", false},
		{Freeze{From: "2026-12-18", Until: "2026-12-20 14:00"}, live, "2026-12-20 14:00", false},
		{Freeze{From: "2026-12-18", Tiers: []Tier{Live}}, test, "2026-12-19 09:00", false},
		{Freeze{From: "2026-12-18", Environments: []string{"test"}}, test, "2026-12-19 09:00", true},
		{Freeze{Days: []string{"friday"}}, live, "2026-12-18 09:00", true},
		{Freeze{Days: []string{"friday"}}, live, "2026-12-19 09:00", false},
		{Freeze{Days: []string{"Friday"}, From: "2026-12-19"}, live, "2026-12-18 09:00", false},
	} {
		if got := c.f.Holds(c.e, at(c.when)); got != c.want {
			t.Errorf("%+v for %s at %s: %v", c.f, c.e.Name, c.when, got)
		}
	}
}

func TestRolesStandForPeople(t *testing.T) {
	team := Team{Roles: map[string][]string{"testers": {"Sefa"}}}
	if !team.Plays("Sefa", []string{"testers"}) || !team.Plays("Ravi", []string{"testers", "Ravi"}) ||
		team.Plays("Imke", []string{"testers", "Ravi"}) {
		t.Error("who plays a role is told wrongly")
	}
}
