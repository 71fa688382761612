package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/measure"
	"andamio/internal/reply"
	"andamio/internal/service/watch"
)

// measuringOperations are those on what is measured, and what is done about it.
func measuringOperations(s *Server) {
	type which struct {
		Limit      int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		Cursor     string `query:"cursor" maxLength:"512"`
		Deployment int64  `query:"deployment" minimum:"0" doc:"its number; of everything where nothing is said"`
	}
	does(s, operation{id: "listMeasured", method: http.MethodGet, path: "/measures", summary: "Show what sites, machines and endpoints use and how they answer", tag: "alerts", twins: []string{"measure"}},
		func(ctx context.Context, a *app.App, in *which) (*page[reply.Measured], error) {
			things, err := a.Measured(ctx, in.Deployment)
			if err != nil {
				return nil, err
			}
			cut, err := paged(things, paging{in.Limit, in.Cursor}, func(t *measure.Thing) string { return t.Key })
			if err != nil {
				return nil, err
			}
			latest, err := a.Figures(ctx, cut.Body.Items, time.Now())
			if err != nil {
				return nil, err
			}
			out := &page[reply.Measured]{}
			out.Body.Next = cut.Body.Next
			for _, t := range cut.Body.Items {
				out.Body.Items = append(out.Body.Items, reply.Measured{Thing: t, Latest: latest[t.Key]})
			}
			return out, nil
		})
	type curve struct {
		Key  string    `query:"key" required:"true" maxLength:"512" doc:"the thing, as /measures says it"`
		Name string    `query:"name" required:"true" maxLength:"200" doc:"the measure"`
		From time.Time `query:"from" doc:"an hour before the end where nothing is said"`
		To   time.Time `query:"to" doc:"now where nothing is said"`
		Step int       `query:"step_seconds" minimum:"15" maximum:"2592000" default:"60"`
	}
	reads(s, "getCurve", "/measures/curve", "Show a measure of a thing over time", "alerts", nil, func(ctx context.Context, a *app.App, in *curve) ([]measure.Point, error) {
		things, err := a.Measured(ctx, 0)
		if err != nil {
			return nil, err
		}
		if in.To.IsZero() {
			in.To = time.Now()
		}
		if in.From.IsZero() {
			in.From = in.To.Add(-time.Hour)
		}
		step := time.Duration(in.Step) * time.Second
		if in.To.Sub(in.From) > 10_000*step {
			return nil, fault.Invalidf("that is more than 10000 points: ask for a shorter time or a longer step")
		}
		for _, t := range things {
			if t.Key == in.Key {
				return a.Curve(ctx, t, in.Name, in.From, in.To, step)
			}
		}
		return nil, fault.NotFoundf("nothing that is measured has the key %q", in.Key)
	})
}

// actingOperations are those on what is done about what is measured, and told of it.
func actingOperations(s *Server) {
	does(s, operation{id: "previewThresholds", method: http.MethodPost, path: "/thresholds/preview", summary: "Say when a file of thresholds would have fired in the past month", tag: "alerts", status: http.StatusOK, upload: true, twins: []string{"threshold preview", "threshold check"}},
		func(ctx context.Context, a *app.App, in *struct {
			RawBody []byte `contentType:"application/yaml"`
		}) (*body[[]watch.Would], error) {
			now := time.Now()
			x, err := a.Preview(ctx, in.RawBody, now.AddDate(0, -1, 0), now)
			return &body[[]watch.Would]{x}, err
		})
	type resume struct {
		Body struct {
			Reaction   string `json:"reaction"`
			Deployment int64  `json:"deployment"`
		}
	}
	does(s, operation{id: "resumeReaction", method: http.MethodPost, path: "/reactions/resume", summary: "Let a reaction act again that called somebody", tag: "alerts", status: http.StatusNoContent, twins: []string{"reaction resume"}},
		func(ctx context.Context, a *app.App, in *resume) (*gone, error) {
			return nil, a.ResumeReaction(ctx, in.Body.Reaction, in.Body.Deployment)
		})
	lists(s, "listDeliveries", "/hooks/deliveries", "Show what hooks told last", "workspace", []string{"hook"}, func(d *app.Delivery) string { return number(d.ID) },
		func(ctx context.Context, a *app.App, _ *paging) ([]app.Delivery, error) {
			return a.Deliveries(ctx, 1000)
		})
	type again struct {
		Delivery int64 `path:"delivery" minimum:"1"`
	}
	does(s, operation{id: "tellAgain", method: http.MethodPost, path: "/hooks/deliveries/{delivery}/again", summary: "Have something told again that was given up", tag: "workspace", status: http.StatusNoContent, twins: []string{"hook again"}},
		func(ctx context.Context, a *app.App, in *again) (*gone, error) {
			return nil, a.Resend(ctx, in.Delivery)
		})
}
