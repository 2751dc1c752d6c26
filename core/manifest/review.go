package manifest

import (
	"errors"
	"fmt"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// ReviewRules say what a review needs before its work may go in.
type ReviewRules struct {
	// Approvals is how many people must approve.
	Approvals int `toml:"approvals"`
	// SelfApproval lets authors count among them.
	SelfApproval bool `toml:"self-approval"`
	// Only lists the branches that take work by reviews alone: no commit and no merge.
	Only  []string     `toml:"only"`
	Paths []ReviewPath `toml:"path"`
	// Checks are commands that must pass on what the merge comes to.
	Checks []ReviewCheck `toml:"check"`
}

// ReviewPath asks for approvals of certain people when certain paths change.
type ReviewPath struct {
	Match     string   `toml:"match"`
	From      []string `toml:"from"`
	Approvals int      `toml:"approvals"`
}

// Need gives how many of the people named must approve.
func (p ReviewPath) Need() int { return max(p.Approvals, 1) }

// ReviewCheck is a command that is run in a folder with what the merge comes to.
type ReviewCheck struct {
	Name    string   `toml:"name"`
	Command []string `toml:"command"`
	// Within bounds its time: "5m".
	Within string `toml:"within"`
}

// DefaultCheckTime bounds a check unless it is said.
const DefaultCheckTime = 10 * time.Minute

// Time gives the bound on the check's time.
func (c ReviewCheck) Time() time.Duration {
	if d, err := time.ParseDuration(c.Within); err == nil {
		return d
	}
	return DefaultCheckTime
}

func (r ReviewRules) check() error {
	if r.Approvals < 0 {
		return errors.New("approvals under [review] can't be below 0")
	}
	for _, p := range r.Paths {
		if p.Match == "" || !doublestar.ValidatePattern(p.Match) || len(p.From) == 0 || p.Approvals < 0 || p.Approvals > len(p.From) {
			return errors.New("a path under [review] needs a well-formed match, people in from, and no more approvals than people")
		}
	}
	seen := map[string]bool{}
	for _, c := range r.Checks {
		if c.Name == "" || seen[c.Name] || len(c.Command) == 0 {
			return errors.New("a check under [review] needs a name of its own, and a command as a list of words")
		}
		seen[c.Name] = true
		if d, err := time.ParseDuration(c.Within); c.Within != "" && (err != nil || d <= 0) {
			return fmt.Errorf("the check %s needs a time such as 5m in within, not %q", c.Name, c.Within)
		}
	}
	return nil
}
