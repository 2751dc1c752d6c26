package chest

import (
	"context"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// Away stands for a chest at a place that is out of reach: contents is what is at hand of its folders.
func Away(place string, contents *content.Store) *Chest {
	contents.Partial()
	return New(&away{place, contents})
}

// away is a Store that can't be reached.
type away struct {
	place    string
	contents *content.Store
}

func (a *away) View(context.Context) (ledger.Records, error) { return nil, ledger.ErrAway }
func (a *away) Do(context.Context, Request) (Outcome, error) { return Outcome{}, ledger.ErrAway }
func (a *away) Lease(context.Context, LeaseStep) error       { return ledger.ErrAway }
func (a *away) Tell(context.Context, News) error             { return ledger.ErrAway }
func (a *away) Heard(context.Context, string, int64) error   { return ledger.ErrAway }
func (a *away) Flaws(context.Context) ([]string, error)      { return nil, ledger.ErrAway }
func (a *away) Contents() *content.Store                     { return a.contents }
func (a *away) Now() time.Time                               { return time.Time{} }
func (a *away) Place() string                                { return a.place }
func (a *away) Close() error                                 { return a.contents.Close() }
func (a *away) Register(context.Context, ledger.Workspace) (string, error) {
	return "", ledger.ErrAway
}
