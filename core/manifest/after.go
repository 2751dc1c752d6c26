package manifest

import (
	"errors"
	"fmt"
	"time"
)

// After is a command that must pass once something has been deployed, such as a smoke test.
type After struct {
	Name string `toml:"name"`
	// Environments and Tiers choose where; neither means everywhere.
	Environments []string `toml:"environments"`
	Tiers        []Tier   `toml:"tiers"`
	// Command is run in a folder with what the environment holds; Within bounds its time. Files are paths that it
	// gets as the first branch has them.
	Command []string `toml:"command"`
	Within  string   `toml:"within"`
	Files   []string `toml:"files"`
	// Otherwise says what happens when it does not pass: OtherwiseDoubt or OtherwiseRollback.
	Otherwise string `toml:"otherwise"`
}

// What happens when a command after a deployment does not pass.
const (
	// OtherwiseDoubt leaves the environment as it is, in doubt until somebody has looked.
	OtherwiseDoubt = "doubt"
	// OtherwiseRollback takes the deployment back.
	OtherwiseRollback = "rollback"
)

// For reports whether it is run for an environment.
func (a After) For(e Environment) bool { return chosen(a.Environments, a.Tiers, e) }

// Time gives the bound on its time.
func (a After) Time() time.Duration { return Gate{Within: a.Within}.Time() }

func (a After) check() error {
	switch {
	case a.Name == "":
		return errors.New("what is run after a deployment has no name")
	case len(a.Command) == 0:
		return fmt.Errorf("%s, which is run after deployments, has no command", a.Name)
	case a.Otherwise != "" && a.Otherwise != OtherwiseDoubt && a.Otherwise != OtherwiseRollback:
		return fmt.Errorf("%s says otherwise = %q, which is none of %s and %s", a.Name, a.Otherwise, OtherwiseDoubt, OtherwiseRollback)
	}
	for _, t := range a.Tiers {
		if t.Rank() < 0 {
			return fmt.Errorf("%s names the tier %q, which is none of %s", a.Name, t, tierNames())
		}
	}
	_, err := Duration(a.Within)
	return err
}
