package pipeline

import (
	"context"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// The outcomes of an attempt.
const (
	AttemptRefused = "refused"
	AttemptFailed  = "failed"
)

// attempted notes what was refused or failed; a call that is wrong is no attempt. A chest that
// can only be read takes no notes.
func (m *Mover) attempted(ctx context.Context, environment, action string, err error) {
	outcome := AttemptFailed
	switch fault.CodeOf(err) {
	case fault.Usage:
		return
	case fault.Refused, fault.Conflict:
		outcome = AttemptRefused
	}
	if err == nil {
		return
	}
	w := m.Project
	_ = w.Chest.Attempted(context.WithoutCancel(ctx), ledger.Attempt{Environment: environment, Action: action, Person: w.Person,
		Workspace: w.Name, Time: m.Now(), Outcome: outcome, Said: err.Error()})
}
