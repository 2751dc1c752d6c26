package declared

import (
	"testing"
	"time"
)

func TestScratchDatabasesThatNobodyUses(t *testing.T) {
	now := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	name := ScratchName(now)
	if Abandoned(name, now) || Abandoned(name, now.Add(50*time.Second)) || !Abandoned(name, now.Add(2*time.Minute)) {
		t.Errorf("the age of %s is misread", name)
	}
	for _, other := range []string{"reef", "oaken_scratch_", "oaken_scratch_zz_1", "oaken_scratch_12345678"} {
		if Abandoned(other, now) {
			t.Errorf("%s would be dropped", other)
		}
	}
	if name == ScratchName(now) {
		t.Error("two names are the same")
	}
}
