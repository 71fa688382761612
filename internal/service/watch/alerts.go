package watch

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// alertThing is an alert as what something is done to, or somebody looks at.
func alertThing(a alarm.Alert) guard.Thing {
	out := guard.Thing{Name: fmt.Sprintf("alert %d", a.ID), Deployment: a.Deployment}
	if a.Deployment == 0 && a.Site != "" {
		out.Sites = []string{a.Site}
	}
	return out
}

// Alerts are those that go on, the worst and oldest first.
func (svc *Service) Alerts(ctx context.Context) ([]alarm.Alert, error) {
	all, err := svc.store.OpenAlerts(ctx)
	if err != nil {
		return nil, err
	}
	if all, err = acting.Seen(ctx, svc.desk, all, alertThing); err != nil {
		return nil, err
	}
	alarm.Sort(all)
	return all, nil
}

// AlertsSince are those that went on at a time or later, the newest first, at most so many.
func (svc *Service) AlertsSince(ctx context.Context, since time.Time, most int) ([]alarm.Alert, error) {
	all, err := svc.store.AlertsSince(ctx, since, most)
	if err != nil {
		return nil, err
	}
	return acting.Seen(ctx, svc.desk, all, alertThing)
}

// Alert is one of them.
func (svc *Service) Alert(ctx context.Context, id int64) (alarm.Alert, error) {
	a, err := svc.store.Alert(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.NotFoundf("there is no alert %d", id)
	}
	if err != nil {
		return a, errors.Join(svc.desk.Read("alerts"), err)
	}
	return a, svc.desk.See(ctx, alertThing(a))
}

// Acknowledge says that the actor has seen an alert and sees to it.
func (svc *Service) Acknowledge(ctx context.Context, id int64, say string, now time.Time) (alarm.Alert, error) {
	return svc.say(ctx, guard.AcknowledgeAlert, id, store.Acknowledged, &alarm.Said{By: svc.desk.Actor.Name, At: now.UTC(), Say: say})
}

// mostSilence is the longest that an alert may be silenced: whoever wants more changes its threshold.
const mostSilence = 31 * 24 * time.Hour

// Silence has nobody be told of an alert until a time, for a reason.
func (svc *Service) Silence(ctx context.Context, id int64, say string, until, now time.Time) (alarm.Alert, error) {
	switch {
	case strings.TrimSpace(say) == "":
		return alarm.Alert{}, fault.Default(fault.Invalid, errors.Join(svc.desk.Read("alerts"), fault.Invalidf("say why nobody is to be told of it")))
	case !until.After(now) || until.Sub(now) > mostSilence:
		return alarm.Alert{}, errors.Join(svc.desk.Read("alerts"), fault.Invalidf("an alert is silenced until a time to come, within a month; whoever wants more changes its threshold"))
	}
	return svc.say(ctx, guard.SilenceAlert, id, store.Silenced, &alarm.Said{By: svc.desk.Actor.Name, At: now.UTC(), Until: until.UTC(), Say: say})
}

// Unsilence has people be told of an alert again.
func (svc *Service) Unsilence(ctx context.Context, id int64) (alarm.Alert, error) {
	return svc.say(ctx, guard.SilenceAlert, id, store.Silenced, nil)
}

func (svc *Service) say(ctx context.Context, act guard.Act, id int64, word store.AlertWord, said *alarm.Said) (alarm.Alert, error) {
	a, err := svc.At(svc.desk.Inside()).Alert(ctx, id)
	if err != nil {
		return a, errors.Join(svc.desk.Read("alerts"), err)
	}
	if !a.Ended.IsZero() {
		return a, errors.Join(svc.desk.See(ctx, alertThing(a)), fault.Conflictf("alert %d is over since %s", id, a.Ended.Local().Format("2 Jan 15:04")))
	}
	note := "taken back"
	if said != nil {
		said.Say = printable.Clean(said.Say)
		note = said.Say
	}
	err = svc.desk.Do(ctx, act, alertThing(a), func() error { return svc.store.SayOfAlert(ctx, id, word, said) }, acting.Saying("%s: %s", word, note))
	if err != nil {
		return a, err
	}
	return svc.store.Alert(ctx, id)
}
