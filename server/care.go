package server

import (
	"encoding/json"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
)

func newHeartbeat() *time.Ticker { return time.NewTicker(20 * time.Second) }

// telling writes progress as lines, and then what came of it.
func (a *asked) telling(do func(progress func(what string, done, total int)) (any, error)) error {
	a.out.Header().Set("Content-Type", "application/x-ndjson")
	var last time.Time
	line := func(v any) {
		if data, err := encodeJSON(v); err == nil {
			_, _ = a.out.Write(data) // who does not listen any more ends the context
			_ = a.out.control.Flush()
		}
	}
	result, err := do(func(what string, done, total int) {
		if now := time.Now(); now.Sub(last) > 200*time.Millisecond {
			last = now
			line(wire.Told{Progress: &wire.Progress{What: what, Done: done, Total: total}})
		}
	})
	if err != nil {
		said := wire.EncodeError(err, a.id)
		line(wire.Told{Error: said.Body, Status: said.Status})
		return nil
	}
	data, err := json.Marshal(result)
	if err != nil {
		return err
	}
	line(wire.Told{Result: data})
	return nil
}

func (a *asked) examine() error {
	return a.telling(func(progress func(string, int, int)) (any, error) {
		return chest.New(a.project.folder).Examine(a.Context(), progress)
	})
}

func (a *asked) usage() error {
	return a.telling(func(func(string, int, int)) (any, error) { return a.project.chest.Usage(a.Context()) })
}

// tidyGrace keeps what was stored of late: somebody may be about to name it.
const tidyGrace = time.Hour

func (a *asked) tidy() error {
	return a.telling(func(func(string, int, int)) (any, error) {
		a.project.sent.sweep(a.server.o.Now())
		return a.project.chest.Tidy(a.Context(), a.server.o.Now(), tidyGrace)
	})
}
