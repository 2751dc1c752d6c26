package chest

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// Away stands for a chest at a place that is out of reach: contents is what is at hand of its folders.
func Away(place string, contents *content.Store) *Chest {
	contents.Partial()
	if strings.HasPrefix(place, "http://") || strings.HasPrefix(place, "https://") {
		return New(&awayServer{away{place, contents}})
	}
	return New(&away{place, contents})
}

// awayServer is a server that can't be reached: what it does is not done from here instead.
type awayServer struct{ away }

func (*awayServer) Inquire(context.Context, any, any, any, func(string, int, int)) error {
	return ledger.ErrAway
}
func (*awayServer) Errand(context.Context, string, string, any, any, func(json.RawMessage)) error {
	return ledger.ErrAway
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
