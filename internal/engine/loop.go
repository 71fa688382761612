package engine

import (
	"context"
	"errors"
	"sync"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// result is how a step ended.
type result struct {
	at  int
	err error
}

// loop begins steps and hears how they end. It runs in one goroutine; steps run in theirs.
type loop struct {
	e       *Engine
	d       *dispatch.Dispatcher
	results chan result
	group   sync.WaitGroup
	at      map[string]int
}

// steps runs all steps that can be run; it returns an error only if the journal cannot be written.
func (e *Engine) steps(ctx context.Context) error {
	status := func(of ...run.Status) func(int) bool {
		return func(i int) bool {
			for _, s := range of {
				if e.state.Steps[i].Status == s {
					return true
				}
			}
			return false
		}
	}
	l := &loop{e: e, results: make(chan result), at: map[string]int{},
		d: dispatch.New(e.Plan, e.Limits, status(run.Standing, run.Passed), status(run.Failed))}
	for i := range e.Plan.Steps {
		l.at[e.Plan.Steps[i].ID] = i
	}
	ctx, cancel := context.WithCancel(ctx)
	defer l.group.Wait()
	defer cancel()
	for {
		if ctx.Err() == nil {
			l.launch(ctx)
		}
		if l.d.Running() == 0 {
			if ctx.Err() != nil {
				return nil
			}
			if err := l.passOver(); err != nil || !l.pending() {
				return err
			}
			continue
		}
		if err := l.hear(ctx); err != nil {
			cancel()
			l.drain()
			return err
		}
	}
}

// hear waits for the next step to end or a decision to be made.
func (l *loop) hear(ctx context.Context) error {
	select {
	case r := <-l.results:
		return l.finish(ctx, l.ended(r))
	case d := <-l.e.Decisions:
		return l.decide(d)
	}
}

// pending takes decisions that were made when the last step ended; false if there are none.
func (l *loop) pending() bool {
	select {
	case d := <-l.e.Decisions:
		return l.decide(d) == nil
	default:
		return false
	}
}

// launch begins steps until a limit is met.
func (l *loop) launch(ctx context.Context) {
	for {
		i, ok := l.d.Next()
		if !ok {
			return
		}
		l.group.Add(1)
		go func() {
			defer l.group.Done()
			l.results <- result{i, l.e.begin(ctx, &l.e.Plan.Steps[i])}
		}()
	}
}

// errPassed says that a step's condition does not hold, so that there is nothing to do.
type errPassed struct{ why string }

func (e errPassed) Error() string { return e.why }

// begin journals that a step begins, then does it.
func (e *Engine) begin(ctx context.Context, s *plan.Step) error {
	if s.When != nil && s.Op != op.Require {
		if holds, why := e.holds(*s.When, s.Resource); !holds {
			return errPassed{why}
		}
	}
	if err := e.record(run.Event{Kind: run.StepStarted, Step: s.ID, Resource: s.Resource}); err != nil {
		return err
	}
	if err := e.do(ctx, s); err != nil || len(s.Sets) == 0 {
		return err
	}
	return e.record(run.Event{Kind: run.Learned, Resource: s.Resource, Attributes: s.Sets})
}

// mostEnded bounds how many ends are journalled at once.
const mostEnded = 256

// ended are a result and those that came while the ones before were journalled: one write keeps them all.
func (l *loop) ended(first result) []result {
	out := []result{first}
	for len(out) < mostEnded {
		select {
		case r := <-l.results:
			out = append(out, r)
		default:
			return out
		}
	}
	return out
}

// finish journals how steps ended and frees those that waited for them.
func (l *loop) finish(ctx context.Context, ended []result) error {
	events := make([]run.Event, len(ended))
	for i, r := range ended {
		events[i] = l.endOf(ctx, r)
	}
	err := l.e.record(events...) // before anything that stands on them may begin
	for i, r := range ended {
		if err == nil && (events[i].Kind == run.StepDone || events[i].Kind == run.StepPassed) {
			l.d.Done(r.at)
		} else {
			l.d.Failed(r.at)
		}
	}
	return err
}

// endOf is how a step ended, as the journal has it.
func (l *loop) endOf(ctx context.Context, r result) run.Event {
	s := &l.e.Plan.Steps[r.at]
	ev := run.Event{Kind: run.StepDone, Step: s.ID, Resource: s.Resource}
	var passed errPassed
	switch {
	case errors.As(r.err, &passed):
		ev.Kind, ev.Text = run.StepPassed, passed.why
	case r.err != nil && ctx.Err() != nil:
		ev.Kind, ev.Text = run.StepStopped, "interrupted; the site may still finish it"
	case r.err != nil:
		ev.Kind, ev.Text = run.StepFailed, r.err.Error()
	}
	return ev
}

// decide takes a person's decision on a step into account. One to retry a step that is under
// way has its site be asked again at once; one on another that did not fail is of no use.
func (l *loop) decide(d Decision) error {
	if d.Taken != nil {
		defer d.Taken()
	}
	i, known := l.at[d.Step]
	if known && run.Steers(d.Verb) && l.e.Plan.Steps[i].Copying != nil {
		s := &l.e.Plan.Steps[i]
		return l.e.record(run.Event{Kind: run.Decided, Step: s.ID, Resource: s.Resource, Text: d.Verb})
	}
	is := run.Planned
	if known {
		is = l.e.status(i)
	}
	if d.Verb == run.Retry && is == run.UnderWay {
		s := &l.e.Plan.Steps[i]
		l.e.gates[s.Site].hurry()
		return l.e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: "asked again at once: somebody said so"})
	}
	if is != run.Failed || d.Verb != run.Retry && d.Verb != run.Skip {
		return nil
	}
	s := &l.e.Plan.Steps[i]
	if err := l.e.record(run.Event{Kind: run.Decided, Step: s.ID, Resource: s.Resource, Text: d.Verb}); err != nil {
		return err
	}
	if d.Verb == run.Retry {
		l.d.Again(i)
	} else {
		l.d.Skip(i)
	}
	return nil
}

// status is how a step is now: steps that go on change it side by side.
func (e *Engine) status(i int) run.Status {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.state.Steps[i].Status
}

// passOver journals in the end that the steps were not needed which no failure called for, and what follows them alone.
func (l *loop) passOver() error {
	for _, i := range l.d.Needless() {
		s := &l.e.Plan.Steps[i]
		if l.e.status(i) == run.Passed {
			continue
		}
		err := l.e.record(run.Event{Kind: run.StepPassed, Step: s.ID, Resource: s.Resource, Text: "not needed: nothing it is for has failed"})
		if err != nil {
			return err
		}
	}
	return nil
}

// drain lets running steps end unheard after the journal failed.
func (l *loop) drain() {
	for n := l.d.Running(); n > 0; n-- {
		<-l.results
	}
}
