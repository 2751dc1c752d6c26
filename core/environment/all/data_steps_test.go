package all

import (
	"context"
	"testing"

	"oakenchest/core/environment"
)

// TestADataStepIsNotRunTwice cuts a deployment off between the target and the record of it, as a
// kill does: what ran is known, and not done again by what goes on; a later deployment runs it.
func TestADataStepIsNotRunTwice(t *testing.T) {
	ctx := context.Background()
	for _, e := range engines {
		t.Run(e.name, func(t *testing.T) {
			target, run := e.make(t)
			run("create table runs (n int)")
			d := open(t, environment.Host{Root: t.TempDir()}, target, environment.Settings{})
			got, err := d.Capture(ctx, nil)
			if err != nil {
				t.Fatal(err)
			}
			files := environment.With(got.Files,
				environment.Files{"data-steps/1.sql": []byte("insert into runs values (1);\n-- back:\ndelete from runs;")})
			due := &environment.Past{Steps: environment.DataSteps{Due: []string{"data-steps/1.sql"}}}
			apply := func(past *environment.Past, token string, steps int) *environment.Plan {
				t.Helper()
				p, err := d.Plan(ctx, files, past)
				if err != nil {
					t.Fatal(err)
				}
				if len(p.Steps) != steps {
					t.Fatalf("%d steps, not %d", len(p.Steps), steps)
				}
				p.Token = token
				if err := p.Apply(ctx, nil); err != nil {
					t.Fatal(err)
				}
				return p
			}
			holds := func(n string) {
				t.Helper()
				run("create table agrees (n int check (n = " + n + "))")
				run("insert into agrees select count(*) from runs")
				run("drop table agrees")
			}
			apply(due, "live/7", 1)
			again := &environment.Past{Steps: environment.DataSteps{Due: due.Steps.Due, Tokens: []string{"live/7"}}}
			p := apply(again, "live/8", 0)
			holds("1")
			if now, err := d.Capture(ctx, files); err != nil || len(now.Edits) != 0 {
				t.Errorf("the notes of steps are captured: %v, %v", now.Edits, err)
			}
			back := &environment.Past{Steps: environment.DataSteps{Undo: true, Tokens: []string{"live/7"}}}
			apply(back, "live/7", 1)
			holds("0")
			apply(again, "live/7", 1)
			holds("1")
			if err := p.Recorded(ctx); err != nil {
				t.Fatal(err)
			}
			apply(again, "live/9", 1)
			holds("2")
		})
	}
}
