package api

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/service/fronts"
	"andamio/internal/service/reactions"
	"andamio/internal/service/watch"
)

func watchOperations(s *Server) {
	lists(s, "listAlerts", "/alerts", "List what is wrong, each cause once", "alerts", []string{"alert"}, func(x *alarm.Alert) string { return number(x.ID) },
		func(ctx context.Context, a *app.App, _ *paging) ([]alarm.Alert, error) { return a.Alerts(ctx) })
	type OfAlert struct {
		Alert int64 `path:"alert" minimum:"1"`
	}
	type story struct {
		alarm.Alert
		Story watch.Story `json:"story"`
	}
	reads(s, "getAlert", "/alerts/{alert}", "Show an alert with whom it hits, what changed before and what would help", "alerts", []string{"alert show"}, func(ctx context.Context, a *app.App, in *OfAlert) (*story, error) {
		x, err := a.Alert(ctx, in.Alert)
		if err != nil {
			return nil, err
		}
		told, err := a.Story(ctx, x)
		return &story{x, told}, err
	})
	type say struct {
		OfAlert
		Body struct {
			Words string    `json:"words,omitempty" maxLength:"2000"`
			Until time.Time `json:"until,omitzero" doc:"of a silence: when it ends"`
		}
	}
	does(s, operation{id: "acknowledgeAlert", method: http.MethodPost, path: "/alerts/{alert}/acknowledge", summary: "Say that you see to it", tag: "alerts", status: http.StatusOK, twins: []string{"alert acknowledge"}},
		func(ctx context.Context, a *app.App, in *say) (*body[alarm.Alert], error) {
			x, err := a.Acknowledge(ctx, in.Alert, in.Body.Words, time.Now())
			return &body[alarm.Alert]{x}, err
		})
	does(s, operation{id: "silenceAlert", method: http.MethodPost, path: "/alerts/{alert}/silence", summary: "Have it be silent until a time, with the reason", tag: "alerts", status: http.StatusOK, twins: []string{"alert silence"}},
		func(ctx context.Context, a *app.App, in *say) (*body[alarm.Alert], error) {
			x, err := a.Silence(ctx, in.Alert, in.Body.Words, in.Body.Until, time.Now())
			return &body[alarm.Alert]{x}, err
		})
	does(s, operation{id: "unsilenceAlert", method: http.MethodDelete, path: "/alerts/{alert}/silence", summary: "Have it be silent no more", tag: "alerts", status: http.StatusOK, twins: []string{"alert unsilence"}},
		func(ctx context.Context, a *app.App, in *OfAlert) (*body[alarm.Alert], error) {
			x, err := a.Unsilence(ctx, in.Alert)
			return &body[alarm.Alert]{x}, err
		})
	reads(s, "getThresholds", "/thresholds", "List from where on what is measured is a warning, or critical, with what ships", "alerts", []string{"threshold"}, func(ctx context.Context, a *app.App, _ *nothing) (*alarm.File, error) { return a.Thresholds(ctx) })
	reads(s, "listReactions", "/reactions", "List what is done by itself about how things are", "alerts", []string{"reaction", "reaction show"}, func(ctx context.Context, a *app.App, _ *nothing) ([]reactions.Status, error) { return a.Reacting(ctx) })
	reads(s, "listFronts", "/fronts", "List names in front of many places, and who answers there", "sites", []string{"front"}, func(ctx context.Context, a *app.App, _ *nothing) ([]fronts.Status, error) { return a.FrontStates(ctx) })
	does(s, operation{id: "getMetrics", method: http.MethodGet, path: "/metrics", summary: "What is measured now (OpenMetrics 1.0)", tag: "alerts", answers: openMetrics, twins: []string{"measure export"}}, func(ctx context.Context, a *app.App, _ *nothing) (*planned, error) {
		var out bytes.Buffer
		err := a.WriteOpenMetrics(ctx, &out, time.Now())
		return &planned{openMetrics, out.Bytes()}, err
	})
}

// openMetrics is the media type of what is measured (OpenMetrics 1.0).
const openMetrics = "application/openmetrics-text; version=1.0.0; charset=utf-8"
