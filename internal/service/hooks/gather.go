package hooks

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// lookBack is how long ago something may have happened to be told still: for so long nobody may have served the workspace.
const lookBack = 48 * time.Hour

// Gather enlists what has happened for each hook that it sets off, once. What happened before a hook was there is left out.
func (svc *Service) Gather(ctx context.Context, now time.Time) error {
	f, err := svc.workspace.Hooks()
	if err != nil || len(f.Hooks) == 0 {
		return err
	}
	since, err := svc.since(ctx, f, now)
	if err != nil {
		return err
	}
	all, err := svc.happened(ctx, now.Add(-lookBack))
	if err != nil {
		return err
	}
	upTo := int64(0)
	if f.Wants(hook.LogNoted) {
		var entries []hook.Event
		if entries, upTo, err = svc.noted(ctx, now.Add(-lookBack)); err != nil {
			return err
		}
		all = append(all, entries...)
	}
	for i := range all {
		e := &all[i]
		set, err := f.Set(e)
		if err != nil {
			svc.warn(e, err)
		}
		for _, h := range set {
			if e.At.Before(since[h.Name]) {
				continue
			}
			if err := svc.enlist(ctx, h, e, now); err != nil {
				return err
			}
		}
	}
	svc.memory.gathered(upTo)
	return nil
}

// since says since when each hook is there. Those that somebody wrote into the file by hand are there from now on.
func (svc *Service) since(ctx context.Context, f *hook.File, now time.Time) (map[string]time.Time, error) {
	since, err := svc.store.HooksSince(ctx)
	if err != nil {
		return nil, err
	}
	same := len(since) == len(f.Hooks)
	for _, name := range names(f) {
		_, known := since[name]
		same = same && known
	}
	if same {
		return since, nil
	}
	if err := svc.store.SetHooks(ctx, names(f), now); err != nil {
		return nil, err
	}
	return svc.store.HooksSince(ctx)
}

// warn says once that a hook's condition cannot be worked out.
func (svc *Service) warn(e *hook.Event, err error) {
	if svc.memory.first("wrong " + e.ID + err.Error()) {
		svc.log.Warn("a hook is not set off", "event", e.ID, "err", err)
	}
}

// first reports that something was not remembered yet.
func (m *Memory) first(key string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.seen == nil || len(m.seen) >= mostRemembered {
		m.seen = map[string]bool{}
	}
	was := m.seen[key]
	m.seen[key] = true
	return !was
}

func (svc *Service) enlist(ctx context.Context, h *hook.Hook, e *hook.Event, now time.Time) error {
	key := h.Name + " " + e.ID
	if !svc.memory.first(key) {
		return nil
	}
	if e.Type == hook.RunBegan {
		if began, err := svc.began(ctx, e.Run); err != nil || !began {
			svc.memory.forget(key)
			return err
		}
	}
	told := *e
	if e.Type == hook.AlertOpened {
		if lines, err := svc.tales.Tale(ctx, e.Alert); err == nil { // without it it is told all the same
			told.Text = strings.Join(append([]string{e.Text}, lines...), "\n")
		}
	}
	if _, err := svc.store.Enlist(ctx, store.Delivery{Hook: h.Name, Event: told, At: now}); err != nil {
		svc.memory.forget(key)
		return err
	}
	return nil
}

// began reports that something of a run was done: one that was not let begin ended without.
func (svc *Service) began(ctx context.Context, id int64) (bool, error) {
	first, err := svc.store.Events(ctx, id, 0, mostRefusals)
	return slices.ContainsFunc(first, func(e run.Event) bool { return e.Kind == run.RunStarted }), err
}

// mostRefusals is how often a run may not have been let begin before it did; each is an event.
const mostRefusals = 100

func (m *Memory) forget(key string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.seen, key)
}

// happened is what happened since a time, as far as hooks may be set off by it.
func (svc *Service) happened(ctx context.Context, since time.Time) ([]hook.Event, error) {
	runs, err := svc.store.Runs(ctx)
	if err != nil {
		return nil, err
	}
	deployments, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	of := map[int64]*store.Deployment{}
	for i := range deployments {
		of[deployments[i].ID] = &deployments[i]
	}
	byID := map[int64]*store.Run{}
	var out []hook.Event
	for i := range runs {
		r := &runs[i]
		byID[r.ID] = r
		if d := of[r.Deployment]; d != nil && (r.Created.After(since) || r.Ended.After(since)) {
			out = append(out, ofRun(r, d)...)
		}
	}
	alerts, err := svc.store.AlertsSince(ctx, since, mostAlerts)
	if err != nil {
		return nil, err
	}
	for i := range alerts {
		out = append(out, ofAlert(&alerts[i], of)...)
	}
	reactions, err := svc.store.ReactionStates(ctx)
	if err != nil {
		return nil, err
	}
	for i := range reactions {
		if e, called := ofReaction(&reactions[i], of); called {
			out = append(out, e)
		}
	}
	requests, err := svc.store.Requests(ctx)
	if err != nil {
		return nil, err
	}
	for i := range requests {
		r := &requests[i]
		if made := byID[r.Run]; made != nil && made.State == run.Standing && made.Ended.After(since) {
			e := ofRequest(r)
			e.ID, e.Type, e.At, e.Run = fmt.Sprintf("request-%d-serving", r.ID), hook.RequestServing, made.Ended, r.Run
			out = append(out, e)
		}
		if !r.Changed.After(since) {
			continue
		}
		events, err := svc.thread(ctx, r)
		if err != nil {
			return nil, err
		}
		out = append(out, events...)
	}
	return out, nil
}

// thread is what happened with a request; its thread is read when it was changed since.
func (svc *Service) thread(ctx context.Context, r *store.Request) ([]hook.Event, error) {
	m := svc.memory
	m.mu.Lock()
	known, is := m.threads[r.ID]
	m.mu.Unlock()
	if is && known.changed.Equal(r.Changed) {
		return known.events, nil
	}
	thread, err := svc.store.RequestThread(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	known = remembered{r.Changed, ofThread(r, thread)}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.threads == nil || len(m.threads) >= mostRemembered {
		m.threads = map[int64]remembered{}
	}
	m.threads[r.ID] = known
	return known.events, nil
}

// mostAlerts is how many alerts of the time that is looked back are told at most.
const mostAlerts = 500

// ofAlert is what has happened with an alert: that it was opened, and that it is over. One that turned out to be a part of another was opened, and is over with that.
func ofAlert(a *alarm.Alert, of map[int64]*store.Deployment) []hook.Event {
	about := hook.Event{Name: a.Title(), Title: a.Title(), Alert: a.ID, Severity: a.Severity.String(), Text: a.Words, Deployment: a.Deployment}
	if hits := a.Hits(); hits != "" {
		about.Text += " · " + hits
	}
	if a.Site != "" {
		about.Sites = []string{a.Site}
	}
	if about.Deployment == 0 && len(a.Deployments) > 0 {
		about.Deployment = a.Deployments[0]
	}
	if d := of[about.Deployment]; d != nil {
		about.Team, about.Person, about.Service, about.Stage, about.Tags = d.Owner.Team, d.Owner.Person, d.Owner.Service, d.Owner.Stage, d.Owner.Tags
	}
	opened := about
	opened.ID, opened.Type, opened.At = fmt.Sprintf("alert-%d-opened", a.ID), hook.AlertOpened, a.Since
	if a.Ended.IsZero() || a.Into != 0 {
		return []hook.Event{opened}
	}
	ended := about
	ended.ID, ended.Type, ended.At = fmt.Sprintf("alert-%d-ended", a.ID), hook.AlertEnded, a.Ended
	return []hook.Event{opened, ended}
}

// ofReaction is that a reaction calls a person; false if it does not.
func ofReaction(k *react.Kept, of map[int64]*store.Deployment) (hook.Event, bool) {
	d := of[k.Deployment]
	if d == nil || k.State.Called.IsZero() {
		return hook.Event{}, false
	}
	return hook.Event{ID: fmt.Sprintf("reaction-%s-%d-called-%d", k.Reaction, k.Deployment, k.State.Called.Unix()), Type: hook.ReactionCalled, At: k.State.Called, Name: d.Name, Title: d.Name,
		Text: "reaction " + k.Reaction + ": " + k.State.CalledFor, Deployment: d.ID, Team: d.Owner.Team, Person: d.Owner.Person, Service: d.Owner.Service, Stage: d.Owner.Stage, Tags: d.Owner.Tags}, true
}

// endings are what a run's end is to hooks.
var endings = map[run.Status]hook.Type{run.Standing: hook.RunStands, run.Failed: hook.RunFailed, run.Stopped: hook.RunStopped}

// ofRun is what has happened with a run: that it began, and each time how it ended.
func ofRun(r *store.Run, d *store.Deployment) []hook.Event {
	if r.State == run.Planned || r.Epoch == 0 {
		return nil
	}
	began := about(d.Owner, r, d)
	began.ID, began.Type, began.At = fmt.Sprintf("run-%d-began", r.ID), hook.RunBegan, r.Created
	out := []hook.Event{began}
	if t, ended := endings[r.State]; ended && !r.Ended.IsZero() {
		e := about(d.Owner, r, d)
		e.ID, e.Type, e.At = fmt.Sprintf("run-%d-%s-%d", r.ID, r.State, r.Epoch), t, r.Ended
		out = append(out, e)
	}
	return out
}

// about is a run of a deployment as the subject of an event.
func about(of guard.Owner, r *store.Run, d *store.Deployment) hook.Event {
	return hook.Event{Name: d.Name, Title: d.Name, Purpose: r.Purpose, Run: r.ID, Deployment: d.ID, Team: of.Team, Person: of.Person, Service: of.Service, Stage: of.Stage,
		Tags: of.Tags, PerHour: r.CostPerHour, Currency: r.Currency}
}

// stages are what the stages of a request are to hooks.
var stages = map[string]hook.Type{"asked": hook.RequestAsked, "approved": hook.RequestApproved, "refused": hook.RequestRefused, "priced again": hook.RequestPriced, "withdrawn": hook.RequestWithdrawn}

// ofThread is what has happened with a request.
func ofThread(r *store.Request, thread []store.RequestEvent) []hook.Event {
	var out []hook.Event
	for _, x := range thread {
		t, known := stages[x.Stage]
		if !known {
			continue
		}
		e := ofRequest(r)
		e.ID, e.Type, e.At, e.Text, e.By = fmt.Sprintf("request-%d-%d", r.ID, x.Seq), t, x.At, x.Text, x.By.Name
		if x.Rule != "" {
			e.By = "rule " + x.Rule
		}
		out = append(out, e)
	}
	return out
}

func ofRequest(r *store.Request) hook.Event {
	return hook.Event{Name: r.Name, Title: r.Title, Request: r.ID, Deployment: r.Deployment, Offer: r.Offer, Team: r.Owner.Team, Person: r.Person,
		Service: r.Owner.Service, Stage: r.Owner.Stage, Tags: r.Owner.Tags, Sites: r.Sites, PerHour: r.PerHour, Currency: r.Currency}
}
