package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/trace"
)

// Inquire answers chest.Attendant.
func (s *Store) Inquire(ctx context.Context, at, question, answer any, told func(what string, done, total int)) error {
	defer trace.Begin(ctx, trace.Journey, "target")()
	where, err := json.Marshal(at)
	if err != nil {
		return err
	}
	what, err := json.Marshal(question)
	if err != nil {
		return err
	}
	for n := 1; ; n++ {
		err := s.calls.followBody(ctx, s.address.Project+"/"+wire.CallTarget, wire.TargetCall{At: where, Question: what}, answer, told)
		var lost *lostError
		var uncertain *chest.UncertainError
		if !errors.As(err, &lost) && !errors.As(err, &uncertain) || n == fewTimes || ctx.Err() != nil {
			return chest.Explain(err)
		}
	}
}

// Errand answers chest.Attendant. Where the connection is lost, what goes on at the server is listened to again.
func (s *Store) Errand(ctx context.Context, id, workspace string, errand, report any, told func(json.RawMessage)) error {
	defer trace.Begin(ctx, trace.Journey, "job")()
	defer s.fresh.Store(false)
	body, err := json.Marshal(errand)
	if err != nil {
		return err
	}
	job := &listening{store: s, call: wire.JobCall{ID: id, Workspace: workspace, Errand: body}, told: told}
	var data json.RawMessage
	for began, pause := time.Now(), firstPause; ; {
		heard := job.call.Seen
		data, err = job.listen(ctx)
		var lost *lostError
		if ctx.Err() != nil {
			job.stop()
			return ctx.Err()
		}
		if !errors.As(err, &lost) {
			break
		}
		if job.call.Seen > heard {
			began, pause = time.Now(), firstPause
		}
		if time.Since(began) > persistence || !lost.sent && !job.sent {
			if job.sent {
				err = &chest.UncertainError{Err: err}
			}
			return err
		}
		job.sent = true
		select {
		case <-ctx.Done():
		case <-time.After(pause):
			pause = min(2*pause, longestPause)
		}
	}
	if data != nil {
		err = errors.Join(json.Unmarshal(data, report), err)
	}
	return err
}

// listening is who listens to a job.
type listening struct {
	store *Store
	call  wire.JobCall
	told  func(json.RawMessage)
	sent  bool // it may have arrived
}

// listen asks for what is new of a job until it ends; an error may come beside what it came to.
func (l *listening) listen(ctx context.Context) (json.RawMessage, error) {
	data, err := json.Marshal(l.call)
	if err != nil {
		return nil, err
	}
	in, err := l.store.calls.once(ctx, "POST", l.store.address.Project+"/"+wire.CallJobs, "", bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	defer in.Close()
	l.sent = true
	lines := json.NewDecoder(in)
	for {
		var t wire.Told
		if err := lines.Decode(&t); err != nil {
			return nil, l.store.calls.broken(ctx, err)
		}
		l.call.Seen++
		if t.Error != nil {
			return t.Result, wire.DecodeError(t.Status, t.Error)
		}
		if t.Result != nil {
			return t.Result, nil
		}
		if t.Sign != nil && l.told != nil {
			l.told(t.Sign)
		}
	}
}

// stop ends the job, where whoever asked for it gives up; it takes back what is under way.
func (l *listening) stop() {
	const patience = 2 * time.Second
	ctx, cancel := context.WithTimeout(l.store.base, patience)
	defer cancel()
	data, err := json.Marshal(wire.JobCall{ID: l.call.ID, Workspace: l.call.Workspace})
	if err != nil {
		return
	}
	in, err := l.store.calls.once(ctx, "POST", l.store.address.Project+"/"+wire.CallJobs+"/stop", "", bytes.NewReader(data),
		int64(len(data)))
	if err == nil {
		_, _ = io.Copy(io.Discard, in) // that it arrived is enough
		_ = in.Close()
	}
}
