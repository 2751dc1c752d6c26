package service

import (
	"testing"
	"time"
)

func TestTimesThatPeopleWrite(t *testing.T) {
	now := time.Date(2026, 6, 10, 15, 0, 0, 0, time.Local) // a Wednesday
	for text, want := range map[string]string{
		"2026-12-01": "2026-12-01 00:00", "2026-12-01 22:00": "2026-12-01 22:00", "2026-12-01T22:00": "2026-12-01 22:00",
		"Friday": "2026-06-12 23:59", "friday": "2026-06-12 23:59", "Wednesday": "2026-06-17 23:59", "Tuesday": "2026-06-16 23:59",
		"8h": "2026-06-10 23:00", "3d": "2026-06-13 15:00", "90m": "2026-06-10 16:30",
	} {
		got, err := Time(text, now)
		if err != nil || got.Local().Format("2006-01-02 15:04") != want {
			t.Errorf("%s: %s, %v; want %s", text, got, err, want)
		}
	}
	for _, text := range []string{"", "soon", "2026-13-01", "Fri", "-3d", "0h", "3 days", "d"} {
		if got, err := Time(text, now); err == nil {
			t.Errorf("%q is %s", text, got)
		}
	}
}

func FuzzParseTime(f *testing.F) {
	for _, s := range []string{"2026-12-01", "Friday", "3d", "8h30m", "99999999999d", "2026-12-01T22:00:00+02:00"} {
		f.Add(s)
	}
	now := time.Date(2026, 6, 10, 15, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		if at, err := Time(text, now); err == nil && at.IsZero() {
			t.Errorf("%q is no time and no error", text)
		}
	})
}
