package server

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
)

const (
	// mostJobs bounds how many are under way in one project.
	mostJobs = 16
	// keepJob is how long it can still be asked what came of one.
	keepJob = 15 * time.Minute
)

// jobs are what the server does by itself because somebody asked for it: it goes on when the connection is lost.
type jobs struct {
	mu     sync.Mutex // guards all and their fields, and closed
	all    map[string]*job
	closed bool
	under  sync.WaitGroup
}

// job is one of them.
type job struct {
	project string
	cancel  context.CancelFunc
	lines   []wire.Told
	ended   time.Time // zero while it is under way
	more    chan struct{}
}

// begin gives the job of a key, which is begun where there is none.
func (j *jobs) begin(key, project string, now time.Time, do func(ctx context.Context, tell func(wire.Told)) wire.Told) (*job, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if one, ok := j.all[key]; ok {
		return one, nil
	}
	if j.all == nil {
		j.all = map[string]*job{}
	}
	if j.closed {
		return nil, errStopping
	}
	n := 0
	for k, o := range j.all {
		switch {
		case !o.ended.IsZero() && now.Sub(o.ended) > keepJob:
			delete(j.all, k)
		case o.ended.IsZero() && o.project == project:
			n++
		}
	}
	if n >= mostJobs {
		f := fault.New(fault.Unreachable, "Try again when some of it is done.", "The server is busy with %d environments of this project.",
			n)
		f.Err = wire.ErrLimit
		return nil, f
	}
	ctx, cancel := context.WithCancel(context.Background())
	one := &job{project: project, cancel: cancel, more: make(chan struct{})}
	j.all[key] = one
	j.under.Add(1)
	go func() {
		defer j.under.Done()
		defer cancel()
		last := do(ctx, func(t wire.Told) { j.tell(one, t, time.Time{}) })
		j.tell(one, last, time.Now())
	}()
	return one, nil
}

// tell adds a line to what a job says; ended is set with the last.
func (j *jobs) tell(one *job, t wire.Told, ended time.Time) {
	j.mu.Lock()
	defer j.mu.Unlock()
	one.lines = append(one.lines, t)
	one.ended = ended
	close(one.more)
	one.more = make(chan struct{})
}

// since gives what a job said from a line on, whether that is all, and what tells of more.
func (j *jobs) since(one *job, line int) ([]wire.Told, bool, <-chan struct{}) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return one.lines[min(line, len(one.lines)):], !one.ended.IsZero(), one.more
}

// stop ends a job, which takes back what is under way.
func (j *jobs) stop(key string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if one, ok := j.all[key]; ok {
		one.cancel()
	}
}

// close lets no more begin.
func (j *jobs) close() {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.closed = true
}

// end ends all, once they had time to get done.
func (j *jobs) end(patience time.Duration) {
	done := make(chan struct{})
	go func() { j.under.Wait(); close(done) }()
	select {
	case <-done:
		return
	case <-time.After(patience):
	}
	j.mu.Lock()
	for _, one := range j.all {
		one.cancel()
	}
	j.mu.Unlock()
	<-done
}

// job begins what was asked for, or finds it under way, and tells how far it is until it ends.
func (a *asked) job() error {
	var call wire.JobCall
	if err := a.read(&call); err != nil {
		return err
	}
	if unsafePart(call.ID) || len(call.ID) > 64 || call.Seen < 0 {
		return fault.New(fault.Usage, "Look at docs/protocol.md.", "The request can't be read.")
	}
	e, err := encoded(call.Errand)
	if err != nil {
		return err
	}
	workspace, err := a.ownedWorkspace(call.Workspace)
	if err != nil {
		return err
	}
	one, err := a.server.jobs.begin(a.jobKey(call.ID), a.project.ID, a.server.o.Now(), a.doing(e, workspace))
	if err != nil {
		return err
	}
	a.out.Header().Set("Content-Type", "application/x-ndjson")
	beat := newHeartbeat()
	defer beat.Stop()
	for at := call.Seen; ; {
		lines, whole, more := a.server.jobs.since(one, at)
		for _, t := range lines {
			data, err := encodeJSON(t)
			if err != nil {
				return err
			}
			if _, err := a.out.Write(data); err != nil {
				return gone(err)
			}
		}
		_ = a.out.control.Flush()
		if at += len(lines); whole {
			return nil
		}
		select {
		case <-more:
		case <-beat.C:
			_, _ = a.out.Write([]byte("\n")) // who does not listen any more ends the context
			_ = a.out.control.Flush()
		case <-a.Context().Done():
			return a.Context().Err()
		}
	}
}

func (a *asked) jobKey(id string) string { return a.project.ID + " " + a.session.Person.ID + " " + id }

func (a *asked) stopJob() error {
	var call wire.JobCall
	if err := a.read(&call); err != nil {
		return err
	}
	a.server.jobs.stop(a.jobKey(call.ID))
	return a.answer(struct{}{})
}

// doing carries an errand out in the name of who asks.
func (a *asked) doing(e pipeline.Errand, workspace string) func(context.Context, func(wire.Told)) wire.Told {
	s, p, who, id := a.server, a.project, a.session, a.id
	return func(ctx context.Context, tell func(wire.Told)) (out wire.Told) {
		began := time.Now()
		var err error
		defer func() {
			if x := recover(); x != nil {
				err = fmt.Errorf("panic: %v", x)
				said := wire.EncodeError(err, id)
				out = wire.Told{Error: said.Body, Status: said.Status}
			}
			s.logJob(e, p.Name, who.Person.Name, id, time.Since(began), err)
		}()
		m, done, err := s.mover(ctx, p, who, workspace)
		if err == nil {
			defer done()
			var r *pipeline.Report
			var seldom throttle
			r, err = m.Attend(ctx, e, func(sign pipeline.Sign) {
				if sign.Table != "" && sign.Done < sign.Of && seldom.tooSoon() {
					return
				}
				if data, err := json.Marshal(sign); err == nil {
					tell(wire.Told{Sign: data})
				}
			})
			if data, bad := json.Marshal(r); r != nil && bad == nil {
				out.Result = data
			}
		}
		s.metrics.jobbed(e.Do, err != nil)
		if err != nil {
			said := wire.EncodeError(interrupted(ctx, err), id)
			out.Error, out.Status = said.Body, said.Status
		}
		return out
	}
}

// interrupted says of what was stopped that it was.
func interrupted(ctx context.Context, err error) error {
	if ctx.Err() == nil {
		return err
	}
	f := fault.New(fault.Unreachable, "Look at how it stands before you do it again: oaken drift ENV.",
		"It was stopped before it was done; what was under way was taken back where that can be.")
	f.Err = err
	return f
}

// throttle lets something pass a few times a second.
type throttle struct{ last time.Time }

func (t *throttle) tooSoon() bool {
	now := time.Now()
	if now.Sub(t.last) < 200*time.Millisecond {
		return true
	}
	t.last = now
	return false
}

// logJob notes what came of a job.
func (s *Server) logJob(e pipeline.Errand, project, person, id string, took time.Duration, err error) {
	fields := []any{"request", id, "job", e.Do, "environment", e.Environment, "project", project, "person", person, "took",
		took.Round(time.Millisecond).String()}
	if err != nil {
		s.o.Log.Warn("did", append(fields, "error", err.Error())...)
		return
	}
	s.o.Log.Info("did", fields...)
}
