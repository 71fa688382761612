package app

import (
	"context"
	"time"

	"andamio/internal/service/workspace"
)

// ConnectedSite is a site that is connected, without its credential, with how it was surveyed last and when it is next.
type ConnectedSite struct {
	workspace.Connection
	URL      string    `json:"url"`
	Surveyed time.Time `json:"surveyed,omitzero"`
	State    string    `json:"state,omitempty"`
	Next     time.Time `json:"next_survey,omitzero"`
}

// ConnectedSites are all that are connected.
func (a *App) ConnectedSites(ctx context.Context) ([]ConnectedSite, error) {
	all, err := a.Connections()
	out := make([]ConnectedSite, 0, len(all))
	for _, c := range all {
		l := ConnectedSite{Connection: c, URL: c.Address()}
		if last, err := a.LastSurvey(ctx, c.Site); err == nil { // one that was never surveyed has none
			l.Surveyed, l.State = last.Started, string(last.State)
			l.Next, _ = c.Next(last.Started)
		}
		out = append(out, l)
	}
	return out, err
}
