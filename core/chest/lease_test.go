package chest

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

func TestHoldsTogetherAndAlone(t *testing.T) {
	c := create(t)
	var together, alone, most atomic.Int64
	var wg sync.WaitGroup
	for n := range 8 {
		wg.Go(func() {
			for range 6 {
				lonely := n%4 == 0
				release, err := c.Hold(t.Context(), lonely)
				if err != nil {
					t.Error(err)
					return
				}
				if lonely {
					if alone.Add(1) != 1 || together.Load() != 0 {
						t.Error("somebody is there with one who is alone")
					}
					time.Sleep(time.Millisecond)
					alone.Add(-1)
				} else {
					most.Store(max(most.Load(), together.Add(1)))
					if alone.Load() != 0 {
						t.Error("one who is alone is not")
					}
					time.Sleep(time.Millisecond)
					together.Add(-1)
				}
				release()
			}
		})
	}
	wg.Wait()
	if most.Load() < 2 {
		t.Error("nobody held it together")
	}
	if left, _ := os.ReadDir(c.holds()); len(left) != 0 {
		t.Errorf("%d leases are left", len(left))
	}
}

func TestLeasesOfTheDeadAndTheOldAreVoid(t *testing.T) {
	c := create(t)
	if err := os.MkdirAll(c.holds(), 0o777); err != nil {
		t.Fatal(err)
	}
	lease := func(name, text string, age time.Duration) string {
		file := filepath.Join(c.holds(), name)
		if err := os.WriteFile(file, []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(-age)
		if err := os.Chtimes(file, at, at); err != nil {
			t.Fatal(err)
		}
		return file
	}
	gone := exec.Command("true")
	if err := gone.Run(); err != nil {
		t.Fatal(err)
	}
	machine, _ := os.Hostname()
	dead := `{"machine":"` + machine + `","process":` + strconv.Itoa(gone.Process.Pid) + `}`
	lease("a"+sharedMark, dead, 0)
	lease("b"+sharedMark, `{"machine":"elsewhere","process":1}`, 2*lifetime)
	lease("c"+sharedMark, "half a rec", 2*lifetime)
	release, err := c.Hold(t.Context(), true)
	if err != nil {
		t.Fatal(err)
	}
	release()
	fresh := lease(aloneName, `{"machine":"elsewhere","process":1}`, 0)
	soon, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := c.Hold(soon, false); err == nil || !strings.Contains(err.Error(), "working on the whole chest") {
		t.Errorf("beside a lease from elsewhere: %v", err)
	}
	old := time.Now().Add(-2 * lifetime)
	if err := os.Chtimes(fresh, old, old); err != nil {
		t.Fatal(err)
	}
	release, err = c.Hold(t.Context(), false)
	if err != nil {
		t.Fatal(err)
	}
	release()
}
