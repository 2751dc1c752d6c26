package service

import (
	"context"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// Branch is a branch with its newest commit, which has no id where there is none; Here says that the workspace is on it.
type Branch struct {
	ledger.Branch
	Newest ledger.Commit
	Here   bool
}

// Branches lists the branches.
func (d Desk) Branches(ctx context.Context) ([]Branch, error) {
	all, err := d.Workspace.Chest.Branches(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Branch, len(all))
	for i, b := range all {
		out[i] = Branch{Branch: b, Here: b.Name == d.Workspace.Branch}
		if b.Tip == (ledger.ID{}) {
			continue
		}
		if out[i].Newest, err = d.Workspace.Chest.Resolve(ctx, b.Tip.String()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// BranchesResult gives branches as data.
func BranchesResult(list []Branch) result.Branches {
	out := result.Branches{Branches: []result.Branch{}}
	for _, b := range list {
		out.Branches = append(out.Branches, result.Branch{Branch: b.Name, Tip: workspace.Label(b.Newest), Origin: b.Origin,
			Author: b.Author,
			Time:   result.Time(b.Time), Current: b.Here})
	}
	return out
}

// Release is a release with the commit that it names.
type Release struct {
	ledger.Release
	Named ledger.Commit
}

// Releases lists the releases, the newest first.
func (d Desk) Releases(ctx context.Context) ([]Release, error) {
	all, err := d.Workspace.Chest.Releases(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Release, len(all))
	for i, r := range all {
		out[i].Release = r
		if out[i].Named, err = d.Workspace.Chest.Resolve(ctx, r.Commit.String()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ReleasesResult gives releases as data.
func ReleasesResult(list []Release) result.Releases {
	out := result.Releases{Releases: []result.Release{}}
	for _, r := range list {
		out.Releases = append(out.Releases, result.Release{Release: r.Name, State: workspace.Label(r.Named), Commit: r.Commit.String(),
			Author: r.Author, Time: result.Time(r.Time), Comment: r.Comment})
	}
	return out
}

// Environment is an environment with what was deployed to it last, and what it lacks of its branch.
type Environment struct {
	manifest.Environment
	// Last is nil where nothing was deployed; Has is the commit that it brought.
	Last  *ledger.Deployment
	Has   ledger.Commit
	Lacks pipeline.Behind
}

// Environments lists the environments as they are declared. What they lack is not known without the chest.
func (d Desk) Environments(ctx context.Context) ([]Environment, error) {
	w := d.Workspace
	lacking := map[string]pipeline.Behind{}
	if !w.Offline {
		behind, err := d.Mover().WhoIsBehind(ctx, "")
		if err != nil {
			return nil, err
		}
		for _, b := range behind {
			lacking[b.Environment.Name] = b
		}
	}
	out := make([]Environment, len(w.Manifest.Environments))
	for i, e := range w.Manifest.Environments {
		out[i] = Environment{Environment: e, Lacks: lacking[e.Name]}
		last, ok, err := w.Chest.LastDeployment(ctx, e.Name)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		out[i].Last = &last
		if out[i].Has, err = w.Chest.Resolve(ctx, last.Commit.String()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// EnvironmentsResult gives environments as data.
func EnvironmentsResult(list []Environment) result.Environments {
	out := result.Environments{Environments: []result.EnvironmentEntry{}}
	for _, e := range list {
		row := result.EnvironmentEntry{Environment: result.EnvironmentOf(e.Environment), Lacks: result.CommitsOf(e.Lacks.Lacks)}
		if e.Last != nil {
			row.Deployed = &result.LastDeployment{State: workspace.Label(e.Has), Commit: e.Last.Commit.String(), Author: e.Last.Author,
				Time: result.Time(e.Last.Time)}
		}
		out.Environments = append(out.Environments, row)
	}
	return out
}
