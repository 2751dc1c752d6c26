package project

import (
	"context"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// Warden keeps the rules of a project: the parts of oaken.toml that guard change on the
// first branch by those alone who may.
type Warden struct {
	*Project
	// Owner reports whether who acts owns the place of the chest; nil for nobody.
	Owner func() bool
}

// MayMove refuses somebody's change of rules that they may not change.
func (g Warden) MayMove(ctx context.Context, from, to content.Digest) error {
	was, err := g.Chest.At(from, manifest.Name)
	if err != nil {
		return chest.Explain(err)
	}
	is, err := g.Chest.At(to, manifest.Name)
	if err != nil {
		return chest.Explain(err)
	}
	if was.Same(is) || was.Mode == 0 { // a project without rules may get some
		return nil
	}
	if is.Mode == 0 {
		return g.MayRule(ctx, from, nil)
	}
	data, err := state.ReadFile(g.TreeState(to, chest.FirstBranch), manifest.Name)
	if err != nil {
		return err
	}
	return g.MayRule(ctx, from, data)
}

// MayRule holds the manifest of a tree against a new text of it; nil for none.
func (g Warden) MayRule(ctx context.Context, from content.Digest, text []byte) error {
	before, err := g.ManifestIn(from)
	if err != nil {
		return nil // what can't be read has to be mended by somebody, and guards nothing
	}
	founder, err := g.Chest.Branch(ctx, chest.FirstBranch)
	if err != nil || before.Team.MayChangeRules(g.Person, founder.Author) {
		return err
	}
	after := &manifest.Manifest{}
	if text != nil {
		if after, err = g.ReadManifest(text); err != nil {
			return fault.New(fault.Refused, "Correct "+manifest.Name+" first.",
				"%s could not be read then, and with it the rules that guard branch %s: %w.", manifest.Name, chest.FirstBranch, err)
		}
	}
	changes := before.RulesThatChange(after)
	if len(changes) == 0 {
		return nil
	}
	var list []string
	for _, c := range changes {
		list = append(list, c.Name+" "+c.How)
	}
	may := before.Team.MayRule
	if len(may) == 0 {
		may = []string{founder.Author}
	}
	if left, err := g.somebodyLeft(ctx, before.Team, may); err != nil {
		return err
	} else if !left && g.Owner != nil && g.Owner() {
		return g.asOwner(ctx, list, may)
	}
	return fault.New(fault.Refused,
		"Nothing was recorded. Propose it alone: commit oaken.toml on a branch of its own, open a review into "+chest.FirstBranch+
			", and let one of them merge it.",
		"Rules that change on branch %s: %s. They are changed by %s alone.", chest.FirstBranch, strings.Join(list, "; "),
		strings.Join(may, ", "))
}

// goneAfter is how long nothing was seen of somebody who is not here any more.
const goneAfter = 90 * 24 * time.Hour

// somebodyLeft reports whether one of some people or roles still works here, as far as is known:
// a workspace of theirs gave a sign of life. Of whom nothing was ever seen, nobody can say that
// they are gone.
func (g Warden) somebodyLeft(ctx context.Context, team manifest.Team, may []string) (bool, error) {
	all, err := g.Chest.Workspaces(ctx)
	if err != nil {
		return true, err
	}
	seen := map[string]time.Time{}
	for _, x := range all {
		if x.Seen.After(seen[x.Person]) {
			seen[x.Person] = x.Seen
		}
	}
	people := []string{}
	for _, name := range may {
		if role, is := team.Roles[name]; is {
			people = append(people, role...)
		} else {
			people = append(people, name)
		}
	}
	return len(people) == 0 || slices.ContainsFunc(people, func(who string) bool {
		last, known := seen[who]
		return !known || g.Now().Sub(last) < goneAfter
	}), nil
}

// asOwner lets the owner of the chest change rules when nobody of those who may is left, and
// puts it on the record.
func (g Warden) asOwner(ctx context.Context, changes, may []string) error {
	said := "As the chest's owner, because nothing was seen of " + strings.Join(may, ", ") + " for 90 days: " + strings.Join(changes, "; ")
	return g.Chest.Attempted(ctx, ledger.Attempt{Environment: chest.FirstBranch, Action: "rules", Person: g.Person, Workspace: g.Name,
		Time: g.Now(), Outcome: "changed", Said: said})
}

// RecordName gives the name under which records of an environment are kept.
func (g Warden) RecordName(environment string) string {
	e, err := g.Manifest.Environment(environment)
	if err != nil || !e.Personal() {
		return environment
	}
	return environment + chest.PersonalMark + g.Name
}
