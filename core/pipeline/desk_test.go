package pipeline

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/kind/all"
	"oakenchest/core/project"
	"oakenchest/core/review"
)

const twoStages = `
[[environment]]
name = "test"
target = "sqlite:DIR/test.db"
into = "database"

[[environment]]
name = "live"
target = "sqlite:DIR/live.db"
into = "database"
branch = "main"

[[pipeline.move]]
from = "test"
to = "live"
`

// TestAPipelineNeedsNoFolder deploys, promotes, captures, rolls back and reviews where there is no workspace: with
// the chest alone. What needs a folder is refused, and changes nothing.
func TestAPipelineNeedsNoFolder(t *testing.T) {
	databases := t.TempDir()
	p := newProject(t, strings.ReplaceAll(twoStages, "DIR", filepath.ToSlash(databases)))
	p.commit(map[string]string{"database/schema.sql": "create table tank (id integer primary key);\n"})
	second := p.commit(map[string]string{"database/schema.sql": "create table tank (id integer primary key, depth integer);\n"})
	ctx := t.Context()
	c := chesttest.Open(t, filepath.Join(p.w.Root, ".oaken", "chest"))
	pr, err := project.New(ctx, c, all.Table(), chest.Actor{Person: "Ravi", Workspace: "schedule"}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	tip, err := c.Resolve(ctx, "main")
	if err != nil {
		t.Fatal(err)
	}
	m := &Mover{Project: pr, Desk: NoDesk{Project: pr, Newest: tip, Saves: t.TempDir()}, Host: environment.Host{Root: databases},
		Now: time.Now}
	deploy := func(name string) {
		t.Helper()
		d, err := m.Prepare(ctx, name, second, false)
		if err == nil {
			err = errors.Join(m.Deploy(ctx, d, DeployOptions{}), d.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	deploy("test")
	promotion, err := m.PreparePromotion(ctx, "test", "live", PromoteOptions{})
	if err == nil {
		err = errors.Join(m.Promote(ctx, promotion, PromoteOptions{}), promotion.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"test", "live"} {
		r, known, err := c.Record(ctx, name)
		if err != nil || !known || r.Author != "Ravi" || r.Workspace != "schedule" {
			t.Errorf("%s: %+v, %v", name, r, err)
		}
		s, err := m.State(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		diffs, err := pr.Reader().Compare(ctx, pr.CommitState(r.Commit, "record"), s, nil)
		if err != nil || len(diffs) > 0 {
			t.Errorf("%s is not what its record says: %v, %v", name, diffs, err)
		}
	}
	if _, err := (&review.Desk{Project: pr, Now: time.Now}).Open(ctx, review.Draft{Title: "x"}); fault.CodeOf(err) != fault.Usage {
		t.Errorf("a review of no branch: %v", err)
	}
	if _, err := m.Capture(ctx, "test", CaptureOptions{}); err != nil && fault.CodeOf(err) != fault.Refused {
		t.Errorf("a capture into no folder: %v", err)
	}
	if err := p.w.Chest.Close(); err != nil {
		t.Error(err)
	}
}
