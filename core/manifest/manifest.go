// Package manifest reads oaken.toml, the file in which a project declares what
// it consists of: artifacts and their kinds, what is left out, lock policies,
// environments. Unknown keys are refused, with their line.
//
// Package declare changes it for commands, and leaves every other byte as it is.
package manifest

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2"

	"oakenchest/core/fault"
	"oakenchest/core/schema/scope"
)

// Name is the manifest's file name, in the project's top folder.
const Name = "oaken.toml"

// Manifest is what a project declares.
type Manifest struct {
	Project      string        `toml:"project"`
	LeaveOut     []string      `toml:"leave-out"`
	Artifacts    []Artifact    `toml:"artifact"`
	Locks        []LockRule    `toml:"lock"`
	Companions   []Companion   `toml:"companion"`
	Lines        []LineRule    `toml:"lines"`
	Recipes      []Recipe      `toml:"recipe"`
	Viewers      []Viewer      `toml:"viewer"`
	Environments []Environment `toml:"environment"`
	Message      MessageRules  `toml:"message"`
	Check        CheckRules    `toml:"check"`
	Team         Team          `toml:"team"`
	Review       ReviewRules   `toml:"review"`
	Pipeline     Pipeline      `toml:"pipeline"`
	Masks        []Mask        `toml:"mask"`

	once  sync.Once // guards leave
	leave *leaver
}

// MessageRules are the demands on commit messages, beyond not being empty.
type MessageRules struct {
	// Minimum is the least number of characters.
	Minimum int `toml:"minimum"`
	// Item demands that a work item is named.
	Item bool `toml:"item"`
	// Pattern is a regular expression (RE2) that the message must match.
	Pattern string `toml:"pattern"`
}

// Check refuses a message that does not keep the rules.
func (r MessageRules) Check(message, item string) error {
	rule := "The project's rules are in " + Name + ", under [message]."
	if n := len([]rune(message)); n < r.Minimum {
		noun := "characters"
		if n == 1 {
			noun = "character"
		}
		return fault.New(fault.Usage, rule, "The message has %d %s; this project asks for %d.", n, noun, r.Minimum)
	}
	if r.Item && item == "" {
		return fault.New(fault.Usage, "Name it with --item KEY.", "This project asks which work item a commit is for.")
	}
	if r.Pattern != "" {
		if re, err := regexp.Compile(r.Pattern); err == nil && !re.MatchString(message) {
			return fault.New(fault.Usage, rule, "The message does not match %q, which this project asks for.", r.Pattern)
		}
	}
	return nil
}

// Artifact declares a file or a folder that is one thing.
type Artifact struct {
	Path string `toml:"path"`
	Kind string `toml:"kind"`
	// Only, Skip, Owners, Ignore and Track say what of a database is kept in the
	// folder; see package scope.
	Only   []string `toml:"only"`
	Skip   []string `toml:"skip"`
	Owners []string `toml:"owners"`
	Ignore []string `toml:"ignore"`
	Track  []string `toml:"track"`
}

// Policy says whether an artifact must be locked before it is edited.
type Policy string

// The policies. Advised means that a commit without the lock is warned of, and that a
// watched workspace takes it by itself.
const (
	Required Policy = "required"
	Advised  Policy = "advised"
	Off      Policy = "off"
)

// Team says how people share a project.
type Team struct {
	// LockFor is how long a lock lasts unless it is said: "8h". Empty for no end.
	LockFor string `toml:"lock-for"`
	// SilentAfter is how long a workspace may give no sign of life before others may
	// take its locks over: "72h".
	SilentAfter string `toml:"silent-after"`
	// MayFreeLocks lists who may end others' locks; none means everybody.
	MayFreeLocks []string `toml:"may-free-locks"`
	// MayRule lists the people and roles who may change the parts of oaken.toml that guard, on
	// the first branch; none means whoever began the project.
	MayRule []string `toml:"may-rule"`
	// Roles name groups of people, who are then meant by one word in rules.
	Roles map[string][]string `toml:"roles"`
}

// DefaultSilentAfter is when a workspace counts as silent unless it is said.
const DefaultSilentAfter = 72 * time.Hour

// LockTime gives how long a lock lasts; 0 for no end.
func (t Team) LockTime() time.Duration {
	d, _ := time.ParseDuration(t.LockFor) // checked when the manifest was read
	return d
}

// Silence gives how long a workspace may give no sign of life.
func (t Team) Silence() time.Duration {
	if d, err := time.ParseDuration(t.SilentAfter); err == nil {
		return d
	}
	return DefaultSilentAfter
}

// FreesLocks reports whether a person may end others' locks.
func (t Team) FreesLocks(person string) bool {
	return len(t.MayFreeLocks) == 0 || slices.Contains(t.MayFreeLocks, person)
}

func (t Team) check() error {
	for key, text := range map[string]string{"lock-for": t.LockFor, "silent-after": t.SilentAfter} {
		if d, err := time.ParseDuration(text); text != "" && (err != nil || d <= 0) {
			return fmt.Errorf("%s under [team] takes a time such as 8h or 30m, not %q", key, text)
		}
	}
	return nil
}

// Viewer is an outside program that shows two versions of artifacts of a kind.
type Viewer struct {
	Kind string `toml:"kind"`
	// Command is the program and its arguments; {from} and {to} stand for files
	// with the two versions.
	Command []string `toml:"command"`
}

// LockRule sets the policy of the artifacts that a pattern, a kind or both
// choose. The last rule that fits decides.
type LockRule struct {
	Match  string `toml:"match"`
	Kind   string `toml:"kind"`
	Policy Policy `toml:"policy"`
}

// Environment declares a live target, or several that go together: a database and a
// folder of assets, say.
type Environment struct {
	Name string `toml:"name"`
	Site
	// Also are the other targets that belong to it.
	Also []Site `toml:"also"`
	Tier Tier   `toml:"tier"`
	// Lane is the team's path that it belongs to; empty for one that lanes share.
	Lane string `toml:"lane"`
	// Branch is where work is merged for it; empty for that of its lane.
	Branch string `toml:"branch"`
	// Controllers are the people or roles who decide what goes into it.
	Controllers []string `toml:"controllers"`
	// OnCall are people or roles who decide in their stead.
	OnCall []string `toml:"on-call"`
	// Gates hold for each move into it.
	Gates []string `toml:"gates"`
	// About says what it is for; Integrations and Volume note what it is connected with
	// and how much data it has.
	About        string   `toml:"about"`
	Integrations []string `toml:"integrations"`
	Volume       string   `toml:"volume"`
	// Runs says where its drivers run; empty for the usual.
	Runs Runs `toml:"runs"`
}

// DefaultLockWait is how long a deployment waits for a lock unless it is said.
const DefaultLockWait = 10 * time.Second

// Scope says what of a database the folder at a path keeps.
func (m *Manifest) Scope(path string) scope.Scope {
	for _, a := range m.Artifacts {
		if a.Path == path {
			return scope.Scope{Only: a.Only, Skip: a.Skip, Owners: a.Owners, Ignore: a.Ignore, Track: a.Track}
		}
	}
	return scope.Scope{}
}

// Parse reads a manifest.
func Parse(data []byte) (*Manifest, error) {
	m := &Manifest{}
	dec := toml.NewDecoder(strings.NewReader(string(data)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(m); err != nil {
		said, hint := reason(err)
		return nil, fault.New(fault.Usage, "Correct that line of "+Name+"."+hint, "%s can't be read: %s.", Name, said)
	}
	for _, way := range m.Pipeline.Ways {
		moves, err := way.moves()
		if err != nil {
			return nil, fault.New(fault.Usage, "Correct "+Name+".", "%s can't be used: %w.", Name, err)
		}
		m.Pipeline.Moves = append(m.Pipeline.Moves, moves...)
	}
	m.Pipeline.Ways = nil
	if err := m.check(); err != nil {
		return nil, fault.New(fault.Usage, "Correct "+Name+".", "%s can't be used: %w.", Name, err)
	}
	return m, nil
}

// reason says what is wrong with a line, and what could stand there, as a sentence after another.
func reason(err error) (said, hint string) {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		row, _ := strict.Errors[0].Position()
		key := strict.Errors[0].Key()
		return fmt.Sprintf("line %d: there is no key %s", row, strings.Join(key, ".")), keysHint(key)
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		row, col := decode.Position()
		return fmt.Sprintf("line %d, column %d: %s", row, col, strings.TrimPrefix(decode.Error(), "toml: ")), ""
	}
	return err.Error(), ""
}

func (m *Manifest) check() error {
	for _, p := range m.LeaveOut {
		if !doublestar.ValidatePattern(p) {
			return fmt.Errorf("leave-out has the pattern %q, which is not well formed", p)
		}
	}
	for _, a := range m.Artifacts {
		if !Inside(a.Path) || a.Kind == "" {
			return fmt.Errorf("the artifact %q needs a path inside the project and a kind", a.Path)
		}
	}
	for _, l := range m.Locks {
		if l.Match == "" && l.Kind == "" || !doublestar.ValidatePattern(l.Match) {
			return fmt.Errorf("a lock rule needs a well-formed match or a kind")
		}
		if l.Policy != Required && l.Policy != Advised && l.Policy != Off {
			return fmt.Errorf("the lock policy %q is none of %s, %s, %s", l.Policy, Required, Advised, Off)
		}
	}
	if err := errors.Join(m.Check.check(), m.Team.check(), m.Review.check(), m.Pipeline.check()); err != nil {
		return err
	}
	for _, mask := range m.Masks {
		if err := mask.check(); err != nil {
			return err
		}
	}
	for _, c := range m.Companions {
		if err := c.check(); err != nil {
			return err
		}
	}
	for _, l := range m.Lines {
		if lineEnds[l.Ends] == "" || l.Match == "" || !doublestar.ValidatePattern(l.Match) {
			return fmt.Errorf("a rule for lines needs a well-formed match, and lf or crlf in ends")
		}
	}
	for _, r := range m.Recipes {
		if err := r.check(); err != nil {
			return err
		}
	}
	for _, v := range m.Viewers {
		if v.Kind == "" || len(v.Command) == 0 {
			return fmt.Errorf("a viewer needs a kind, and a command as a list of words")
		}
	}
	if _, err := regexp.Compile(m.Message.Pattern); err != nil || m.Message.Minimum < 0 {
		return fmt.Errorf("the rules for messages are not well formed")
	}
	seen := map[string]bool{}
	for _, a := range m.Artifacts {
		if err := m.Scope(a.Path).Check(); err != nil {
			return fmt.Errorf("the artifact %s: %w", a.Path, err)
		}
	}
	for _, e := range m.Environments {
		if err := CheckEnvironment(e); err != nil {
			return err
		}
		if seen[e.Name] {
			return fmt.Errorf("two environments are called %s", e.Name)
		}
		seen[e.Name] = true
	}
	return nil
}

// Deciders are those who decide what goes into it, and those who do in their stead; none means everybody.
func (e Environment) Deciders() []string {
	if len(e.Controllers) == 0 {
		return nil
	}
	return slices.Concat(e.Controllers, e.OnCall)
}

// environmentName is made when the first name is checked: its classes of letters
// take a millisecond.
var environmentName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}_. -]*$`) })

// Personal reports whether an environment belongs to each workspace for itself: one for
// development, or without a tier, whose targets all lie inside the workspace's folder.
func (e Environment) Personal() bool {
	if e.Tier != "" && e.Tier != Development {
		return false
	}
	for _, s := range e.Sites() {
		if place, _, ok := s.Place(); !ok || !Inside(place) {
			return false
		}
	}
	return true
}

// CheckEnvironment says what is wrong with an environment's declaration.
func CheckEnvironment(e Environment) error {
	switch {
	case !environmentName().MatchString(e.Name) || strings.TrimSpace(e.Name) != e.Name:
		return fmt.Errorf("%q can't be an environment's name: use letters, digits, spaces, dots and - or _", e.Name)
	case e.Tier != "" && e.Tier.Rank() < 0:
		return fmt.Errorf("the tier %q of environment %s is none of %s", e.Tier, e.Name, tierNames())
	}
	if err := e.checkRuns(); err != nil {
		return err
	}
	for i, s := range e.Sites() {
		switch {
		case !strings.Contains(s.Target, ":"):
			return fmt.Errorf("the target %q of environment %s does not begin with a scheme, as sqlite:dev.db does", s.Target, e.Name)
		case ownTarget(s.Target):
			return fmt.Errorf("the target %q of environment %s lies in a workspace's own folder", s.Target, e.Name)
		case !Inside(s.Into):
			return fmt.Errorf("the environment %s needs a folder inside the project to go into", e.Name)
		}
		for _, o := range e.Sites()[:i] {
			if o.Into == s.Into || strings.HasPrefix(o.Into, s.Into+"/") || strings.HasPrefix(s.Into, o.Into+"/") {
				return fmt.Errorf("two targets of environment %s go into %s", e.Name, s.Into)
			}
		}
	}
	return nil
}

// ownTarget reports whether a target is a file or folder of a workspace's own.
func ownTarget(target string) bool {
	place, _, ok := placeOf(target)
	return ok && OwnIn(place)
}

// Inside reports whether p is a relative path that stays in the project, and out of a workspace's own
// folder.
func Inside(p string) bool {
	return p != "" && !OwnIn(p) && p == path.Clean(p) && p != "." && !path.IsAbs(p) && p != ".." && !strings.HasPrefix(p, "../") &&
		!strings.Contains(p, "\\")
}

// Environment gives an environment by name.
func (m *Manifest) Environment(name string) (Environment, error) {
	for _, e := range m.Environments {
		if e.Name == name {
			return e, nil
		}
	}
	var names []string
	for _, e := range m.Environments {
		names = append(names, e.Name)
	}
	return Environment{}, fault.New(fault.Usage, "oaken env list shows the environments; oaken env add makes one.",
		"There is no environment %s.", name).Among(name, names)
}

// Folder gives the declared folder artifact that a path lies in.
func (m *Manifest) Folder(p string) (Artifact, bool) {
	for _, a := range m.Artifacts {
		if strings.HasPrefix(p, a.Path+"/") {
			return a, true
		}
	}
	return Artifact{}, false
}

// Declared gives the declaration of the artifact at exactly this path.
func (m *Manifest) Declared(p string) (Artifact, bool) {
	i := slices.IndexFunc(m.Artifacts, func(a Artifact) bool { return a.Path == p })
	if i < 0 {
		return Artifact{}, false
	}
	return m.Artifacts[i], true
}

// LockPolicy gives the policy that the rules set for an artifact of a kind; ok is false
// when none speaks of it.
func (m *Manifest) LockPolicy(p, kind string) (policy Policy, ok bool) {
	for _, l := range m.Locks {
		if l.Kind != "" && l.Kind != kind {
			continue
		}
		if fits, _ := doublestar.Match(l.Match, p); fits || l.Match == "" {
			policy, ok = l.Policy, true
		}
	}
	return policy, ok
}
