package operate

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/promise"
	"andamio/internal/tui/view"
)

// sayWithin bounds how long saying something of an alert takes.
const sayWithin = 10 * time.Second

// AlertActs are what can be said of an alert, here and in Today.
func AlertActs(ctx context.Context, a *app.App, of alarm.Alert) []view.Action {
	said := func(say func(ctx context.Context) (alarm.Alert, error), words string) tea.Cmd {
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(ctx, sayWithin)
			defer cancel()
			if _, err := say(ctx); err != nil {
				return view.Failed(err)
			}
			return view.Notice{Text: fmt.Sprintf("alert %d %s", of.ID, words)}
		}
	}
	var out []view.Action
	if of.Known == nil {
		out = append(out, view.Action{Name: "see to " + of.Title(), Effect: "others know that somebody is at it; changes nothing else", Do: func() tea.Cmd {
			return said(func(ctx context.Context) (alarm.Alert, error) { return a.Acknowledge(ctx, of.ID, "", time.Now()) }, "is seen to")
		}})
	}
	if of.Muted != nil {
		return append(out, view.Action{Name: "be told of " + of.Title() + " again", Effect: "it was silenced: " + of.Muted.Say, Do: func() tea.Cmd {
			return said(func(ctx context.Context) (alarm.Alert, error) { return a.Unsilence(ctx, of.ID) }, "is told of again")
		}})
	}
	return append(out, view.Action{Name: "silence " + of.Title(), Effect: "nobody is told of it for a while", Ask: "for how long and why, such as 4h the disk is on its way", Wrong: func(text string) string {
		if _, _, err := silenceOf(text); err != nil {
			return err.Error()
		}
		return ""
	}, Answer: func(text string) tea.Cmd {
		long, why, _ := silenceOf(text)
		now := time.Now()
		return said(func(ctx context.Context) (alarm.Alert, error) { return a.Silence(ctx, of.ID, why, now.Add(long), now) }, "is silenced for "+promise.Span(long))
	}})
}

// silenceOf reads for how long something is silenced, and why.
func silenceOf(text string) (time.Duration, string, error) {
	first, why, _ := strings.Cut(strings.TrimSpace(text), " ")
	long, err := promise.ParseSpan(first)
	switch {
	case err != nil || long <= 0:
		return 0, "", fmt.Errorf("it begins with a span of time, such as 4h")
	case strings.TrimSpace(why) == "":
		return 0, "", fmt.Errorf("say why, after the span of time")
	}
	return long, strings.TrimSpace(why), nil
}
