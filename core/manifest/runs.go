package manifest

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Runs says where the driver of an environment runs, for a project that a server keeps.
type Runs string

// The places where it can run.
const (
	RunsPerson Runs = "person" // at whoever asks, with secrets from that machine
	RunsServer Runs = "server" // at the server, with secrets that it was given
)

// Places lists them.
var Places = []Runs{RunsPerson, RunsServer}

// RunsAtServer reports whether the drivers of an environment run at the server, where one keeps the project: where that is
// said, and where a live environment does not say otherwise. One in a folder of the project is on everybody's own disk.
func (e Environment) RunsAtServer() bool {
	switch e.Runs {
	case RunsServer:
		return true
	case RunsPerson:
		return false
	}
	return e.Tier == Live && !slices.ContainsFunc(e.addresses(), relative)
}

// addresses lists all places that an environment reaches.
func (e Environment) addresses() (out []string) {
	for _, s := range e.Sites() {
		out = append(out, s.Target)
		if s.Scratch != "" {
			out = append(out, s.Scratch)
		}
	}
	return out
}

// relative reports whether a target is a path that begins at the project's folder.
func relative(target string) bool {
	p, _, ok := placeOf(target)
	return ok && !path.IsAbs(p) && !strings.HasPrefix(p, "${") && !(len(p) > 1 && p[1] == ':')
}

func (e Environment) checkRuns() error {
	if e.Runs != "" && !slices.Contains(Places, e.Runs) {
		return fmt.Errorf("runs of environment %s is person or server, not %q", e.Name, e.Runs)
	}
	for _, t := range e.addresses() {
		if e.Runs == RunsServer && relative(t) {
			return fmt.Errorf("environment %s runs at the server, which has no folder of the project: write the whole path of %s", e.Name, t)
		}
	}
	return nil
}
