package server

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"oakenchest/core/chest/wire"
)

// routes lists every address, with who may ask there.
func (s *Server) routes() []route {
	own := func(call string) string { return "POST /" + wire.API + "/" + call }
	of := func(call string) string { return "POST /{project}/" + call }
	return []route{
		{"GET /health", anybody, false, 0, time.Minute, (*asked).health},
		{"GET /ready", anybody, false, 0, time.Minute, (*asked).ready},
		{"GET /metrics", anybody, false, 0, time.Minute, (*asked).metrics},
		{"GET /" + wire.API, anybody, false, 0, time.Minute, (*asked).hello},

		{own(wire.CallLogin), anybody, true, small, time.Minute, (*asked).login},
		{own(wire.CallJoin), anybody, true, small, time.Minute, (*asked).join},
		{own(wire.CallJoin + "/look"), anybody, false, small, time.Minute, (*asked).invited},
		{own(wire.CallLogout), signedIn, false, small, time.Minute, (*asked).logout},
		{own(wire.CallWho), signedIn, false, small, time.Minute, (*asked).whoAmI},
		{own(wire.CallSecret), signedIn, true, small, time.Minute, (*asked).changeSecret},
		{own(wire.CallPeople), signedIn, false, small, time.Minute, (*asked).people},
		{own(wire.CallPeople + "/add"), administrator, true, small, time.Minute, (*asked).addPerson},
		{own(wire.CallSessions), signedIn, false, small, time.Minute, (*asked).sessions},
		{own(wire.CallInvite), administrator, true, small, time.Minute, (*asked).invite},
		{own(wire.CallEnd), administrator, true, small, 10 * time.Minute, (*asked).end},
		{own(wire.CallToken), signedIn, true, small, time.Minute, (*asked).newToken},
		{own(wire.CallRevoke), signedIn, true, small, time.Minute, (*asked).revoke},
		{own(wire.CallGroups), signedIn, false, small, time.Minute, (*asked).groups},
		{own(wire.CallGroups + "/put"), administrator, true, small, time.Minute, (*asked).putInGroup},
		{own(wire.CallEvents), administrator, false, small, time.Minute, (*asked).events},
		{own(wire.CallProjects), signedIn, false, small, time.Minute, (*asked).listProjects},
		{own(wire.CallProjects + "/add"), signedIn, true, small, time.Minute, (*asked).addProject},

		{own(wire.CallMoves + "/begin"), signedIn, true, small, time.Minute, (*asked).beginMove},
		{"GET /" + wire.API + "/" + wire.CallMoves + "/{id}/files/{name}", signedIn, false, 0, time.Minute, (*asked).comingMove},
		{"PUT /" + wire.API + "/" + wire.CallMoves + "/{id}/files/{name}", signedIn, true, mostMoved, 0, (*asked).movePiece},
		{own(wire.CallMoves + "/end"), signedIn, true, small, 0, (*asked).endMove},

		{of(wire.CallNews), member, false, small, 10 * time.Minute, (*asked).news},
		{of(wire.CallAct), member, true, medium, 10 * time.Minute, (*asked).act},
		{of(wire.CallLease), member, true, small, time.Minute, (*asked).lease},
		{of(wire.CallTell), member, true, medium, time.Minute, (*asked).tell},
		{of(wire.CallRegister), member, true, small, time.Minute, (*asked).register},
		{of(wire.CallHeard), member, true, small, time.Minute, (*asked).heard},
		{of(wire.CallFlaws), member, false, small, 10 * time.Minute, (*asked).flaws},
		{of(wire.CallContents), member, false, medium, 0, (*asked).contents},
		{"GET /{project}/" + wire.CallBales + "/{name}", member, false, 0, time.Minute, (*asked).coming},
		{"PUT /{project}/" + wire.CallBales + "/{name}", member, true, mostBale, 0, (*asked).bale},
		{"GET /{project}/" + wire.CallSignals, member, false, 0, 0, (*asked).signals},
		{of(wire.CallTarget), member, false, medium, 0, (*asked).target},
		{of(wire.CallJobs), member, true, medium, 0, (*asked).job},
		{of(wire.CallJobs + "/stop"), member, true, small, time.Minute, (*asked).stopJob},
		{of(wire.CallAgreed), member, false, small, time.Minute, (*asked).agreed},
		{of(wire.CallAgreed + "/put"), keeperOf, true, small, time.Minute, (*asked).agree},
		{of(wire.CallKeys), member, false, small, time.Minute, (*asked).keys},
		{of(wire.CallKeys + "/put"), keeperOf, true, small, time.Minute, (*asked).giveKeys},
		{of(wire.CallExamine), member, false, small, 0, (*asked).examine},
		{of(wire.CallUsage), member, false, small, 0, (*asked).usage},
		{of(wire.CallTidy), member, true, small, 0, (*asked).tidy},
	}
}

func (a *asked) health() error { return a.answer(map[string]string{"health": "ok"}) }

// ready says whether the server can do its work: its records answer, and it is not stopping.
func (a *asked) ready() error {
	select {
	case <-a.server.ended:
		return errStopping
	default:
	}
	if err := a.server.Book.Ready(a.Context()); err != nil {
		return err
	}
	return a.answer(map[string]string{"ready": "yes"})
}

func (a *asked) hello() error {
	return a.answer(wire.Hello{Server: "oaken", Time: a.server.o.Now().UTC()})
}

// metrics are for whoever runs the machine, and administrators.
func (a *asked) metrics() error {
	if from := a.from(); from != "127.0.0.1" && from != "::1" {
		if err := a.mayAsk(route{who: administrator}); err != nil {
			return err
		}
	}
	a.out.Header().Set("Content-Type", "text/plain; version=0.0.4")
	a.server.metrics.write(a.out)
	return nil
}

func encodeJSON(v any) ([]byte, error) {
	data, err := json.Marshal(v)
	return append(data, '\n'), err
}

var errGone = errors.New("nobody listens any more")

// log notes a request; what was asked beyond its address, and who with what token, is not in it.
func (s *Server) log(a *asked, r route, err error, took time.Duration) {
	level := s.o.Log.Debug
	switch {
	case errors.Is(err, context.Canceled):
		err = errGone
	case a.out.status == http.StatusInternalServerError:
		level = s.o.Log.Error
	case err != nil:
		level = s.o.Log.Warn
	}
	fields := []any{"request", a.id, "route", r.pattern, "status", a.out.status, "took", took.Round(time.Microsecond).String(), "from",
		a.from()}
	if a.session.Person.Name != "" {
		fields = append(fields, "person", a.session.Person.Name)
	}
	if name := a.PathValue("project"); name != "" {
		fields = append(fields, "project", name)
	}
	if err != nil {
		fields = append(fields, "error", err.Error())
	}
	level("asked", fields...)
}
