package pipeline

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"

	"oakenchest/core/chest"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/project"
)

// StationOf gives the server that keeps a project; nil where a folder does.
func StationOf(p *project.Project) Station {
	if a := p.Chest.Attendant(); a != nil {
		return station{a, p}
	}
	return nil
}

// station is what stands behind a chest that a server keeps.
type station struct {
	at chest.Attendant
	of *project.Project
}

// Ask answers Station.
func (s station) Ask(ctx context.Context, at Spot, q environment.Question, counting func(string, int, int)) (a environment.Answer,
	err error) {
	err = chest.Explain(s.at.Inquire(ctx, at, q, &a, counting))
	return a, err
}

// Do answers Station.
func (s station) Do(ctx context.Context, e Errand, told func(Sign)) (*Report, error) {
	r := &Report{}
	heard := false
	err := s.at.Errand(ctx, rand.Text(), s.of.Name, e, &reporting{r, &heard}, func(line json.RawMessage) {
		var sign Sign
		if json.Unmarshal(line, &sign) == nil {
			told(sign)
		}
	})
	var uncertain *chest.UncertainError
	if errors.As(err, &uncertain) {
		return nil, fault.New(fault.Unreachable,
			"Look before you do it again: oaken deployments "+fault.Word(e.Environment)+", oaken drift "+
				fault.Word(e.Environment)+".", "The server does not answer any more, and may go on with it: nobody knows yet whether %s was changed.",
			e.Environment)
	}
	if !heard {
		return nil, chest.Explain(err)
	}
	return r, chest.Explain(err)
}

// reporting reads a report, and notes that there was one.
type reporting struct {
	*Report
	heard *bool
}

func (r reporting) UnmarshalJSON(data []byte) error {
	*r.heard = true
	return json.Unmarshal(data, r.Report)
}
