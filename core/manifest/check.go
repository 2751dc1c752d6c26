package manifest

import "fmt"

// CheckRules say what a commit is refused for.
type CheckRules struct {
	// Unreadable is what becomes of a commit of artifacts that could be read before and can't any more:
	// "warn", which is usual, or "refuse".
	Unreadable string `toml:"unreadable"`
}

// Refuses reports whether such a commit is refused.
func (c CheckRules) Refuses() bool { return c.Unreadable == "refuse" }

func (c CheckRules) check() error {
	if c.Unreadable != "" && c.Unreadable != "warn" && c.Unreadable != "refuse" {
		return fmt.Errorf("unreadable under [check] is warn or refuse, not %q", c.Unreadable)
	}
	return nil
}
