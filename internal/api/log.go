package api

import (
	"context"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"andamio/internal/app"
	"andamio/internal/core/trail"
)

// logged is an entry of the log as an event (CloudEvents 1.0, JSON format): of equal id, source and type it is the same however often it is sent.
type logged struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject,omitempty"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        app.Entry `json:"data"`
}

func loggedAs(e *app.Entry) logged {
	return logged{"1.0", strconv.FormatInt(e.Seq, 10), trail.Source, trail.EventType + string(e.Act), e.On, e.At.UTC(), "application/json", *e}
}

// logEvery is how often it is looked whether something was noted, and mostLogged how many entries are looked back.
const (
	logEvery   = 250 * time.Millisecond
	mostLogged = 1000
)

// logID is where the log is heard among the runs: none has that number.
const logID = -1

// hearLog hears what is noted from now on, until nobody follows.
func (h *hearing) hearLog(ctx context.Context, a *app.App) {
	tick := time.NewTicker(logEvery)
	defer tick.Stop()
	last := int64(-1)
	for {
		noted := a.NotedNext()
		all, err := a.LastOfTrail(ctx, mostLogged)
		if err != nil && ctx.Err() == nil {
			a.Log.Error("the log could not be followed", "err", err)
		}
		if f, gap := newer(all, &last); f != nil {
			h.take(f, h.dropping(gap))
		}
		select {
		case <-tick.C:
		case <-noted:
		case <-ctx.Done():
			return
		}
	}
}

// newer are the entries after one, as they are sent; nil if there are none. At the beginning, below 0, they are the last ones. A gap says that more was noted between than is looked back.
func newer(newest []app.Entry, last *int64) (f *frame, gap bool) {
	f = &frame{}
	was := *last
	for _, e := range slices.Backward(newest) {
		if e.Seq > *last {
			f.add(e.Seq, loggedAs(&e))
			*last = e.Seq
		}
	}
	*last = max(*last, 0)
	if len(f.seqs) == 0 {
		return nil, false
	}
	return f, was >= 0 && f.seqs[0] > was+1
}

// dropping has nothing from before a gap be kept, so that whoever follows reads what they lack.
func (h *hearing) dropping(gap bool) func() {
	return func() {
		if gap {
			h.frames = nil
		}
	}
}

// logFrom are entries after one up to another, for whoever is far behind.
func logFrom(ctx context.Context, a *app.App, after, upTo int64) (*frame, error) {
	f := &frame{}
	err := a.EachOfTrail(ctx, func(e *app.Entry) error {
		if e.Seq > after && e.Seq <= upTo && len(f.seqs) < mostRead {
			f.add(e.Seq, loggedAs(e))
		}
		return nil
	})
	return f, err
}

// followLog adds what is noted as it is noted, as CloudEvents.
func (s *Server) followLog() {
	s.twins = append(s.twins, Twin{Operation: "followLog"})
	schema := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[logged](), true, "Logged")
	type following struct {
		After int64 `query:"after" minimum:"0" doc:"the entry after which it begins; 0 begins with the first"`
		Last  int64 `header:"Last-Event-ID" minimum:"0"`
	}
	huma.Register(s.api, huma.Operation{OperationID: "followLog", Method: http.MethodGet, Path: "/" + Version + "/log/events", Summary: "Follow the log: who does what, as CloudEvents", Tags: []string{"workspace"},
		Responses: streamed(schema)},
		func(ctx context.Context, in *following) (*huma.StreamResponse, error) {
			v := visitorOf(ctx)
			if v == nil {
				return nil, problem("not allowed", "it is not known who asks")
			}
			source := stream{id: logID, may: func(ctx context.Context) error { _, err := v.app.LastOfTrail(ctx, 1); return err },
				hear: func(ctx context.Context, h *hearing) { h.hearLog(ctx, s.shared) },
				read: func(ctx context.Context, after, upTo int64) (*frame, error) { return logFrom(ctx, v.app, after, upTo) }}
			return s.streaming(ctx, v, source, max(in.After, in.Last))
		})
}
