package engine

import (
	"container/heap"
	"context"
	"errors"
	"slices"
	"sync"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// queue holds steps that may begin, the ones with the least slack first.
type queue []*plan.Step

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	if q[i].Slack != q[j].Slack {
		return q[i].Slack < q[j].Slack
	}
	if q[i].Start != q[j].Start {
		return q[i].Start < q[j].Start
	}
	return q[i].ID < q[j].ID
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(*plan.Step)) }
func (q *queue) Pop() any {
	old := *q
	s := old[len(old)-1]
	*q = old[:len(old)-1]
	return s
}

// result is how a step ended.
type result struct {
	step *plan.Step
	err  error
}

// dispatcher decides which step begins when. It runs in one goroutine; steps run in theirs.
type dispatcher struct {
	e     *Engine
	ready queue
	waits map[string]int
	after map[string][]*plan.Step
	// onFailure are the steps that a step's failure calls for, called those it has.
	onFailure map[string][]*plan.Step
	called    map[string]bool
	atSite    map[string]int
	running   int
	results   chan result
	group     sync.WaitGroup
}

// steps runs all steps that can be run; it returns an error only if the journal cannot be written.
func (e *Engine) steps(ctx context.Context) error {
	d := &dispatcher{e: e, waits: map[string]int{}, after: map[string][]*plan.Step{}, atSite: map[string]int{},
		onFailure: map[string][]*plan.Step{}, called: map[string]bool{}, results: make(chan result)}
	for i := range e.Plan.Steps {
		s := &e.Plan.Steps[i]
		d.waits[s.ID] = len(s.After)
		if len(s.AfterFailure) > 0 {
			d.waits[s.ID]++ // for the failure
		}
		for _, f := range s.AfterFailure {
			d.onFailure[f] = append(d.onFailure[f], s)
		}
		for _, a := range s.After {
			d.after[a] = append(d.after[a], s)
		}
		if d.waits[s.ID] == 0 {
			d.ready = append(d.ready, s)
		}
	}
	heap.Init(&d.ready)
	ctx, cancel := context.WithCancel(ctx)
	defer d.group.Wait()
	defer cancel()
	for {
		if ctx.Err() == nil {
			d.launch(ctx)
		}
		if d.running == 0 {
			if ctx.Err() != nil {
				return nil
			}
			return d.passOver()
		}
		if err := d.settle(ctx, <-d.results); err != nil {
			cancel()
			d.drain()
			return err
		}
	}
}

// launch begins steps until a limit is met. Steps of a full site wait; others pass them.
func (d *dispatcher) launch(ctx context.Context) {
	var waiting []*plan.Step
	for d.ready.Len() > 0 && d.running < d.e.Limits.Steps {
		s := heap.Pop(&d.ready).(*plan.Step)
		if d.atSite[s.Site] >= d.e.Limits.PerSite {
			waiting = append(waiting, s)
			continue
		}
		d.running++
		d.atSite[s.Site]++
		d.group.Add(1)
		go func() {
			defer d.group.Done()
			err := d.e.begin(ctx, s)
			d.results <- result{s, err}
		}()
	}
	for _, s := range waiting {
		heap.Push(&d.ready, s)
	}
}

// errPassed says that a step's condition does not hold, so that there is nothing to do.
type errPassed struct{ why string }

func (e errPassed) Error() string { return e.why }

// begin journals that a step begins, then does it.
func (e *Engine) begin(ctx context.Context, s *plan.Step) error {
	if s.When != nil && s.Op != plan.Require {
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

// settle journals how a step ended and frees those that waited for it.
func (d *dispatcher) settle(ctx context.Context, r result) error {
	d.running--
	d.atSite[r.step.Site]--
	ev := run.Event{Kind: run.StepDone, Step: r.step.ID, Resource: r.step.Resource}
	var passed errPassed
	switch {
	case errors.As(r.err, &passed):
		ev.Kind, ev.Text = run.StepPassed, passed.why
		d.free(d.after[r.step.ID])
	case r.err != nil && ctx.Err() != nil:
		ev.Kind, ev.Text = run.StepStopped, "interrupted; the site may still finish it"
	case r.err != nil:
		ev.Kind, ev.Text = run.StepFailed, r.err.Error()
		d.call(d.onFailure[r.step.ID])
	default:
		d.free(d.after[r.step.ID])
	}
	return d.e.record(ev)
}

// free lets steps go on that wait for one thing less.
func (d *dispatcher) free(steps []*plan.Step) {
	for _, next := range steps {
		if d.waits[next.ID]--; d.waits[next.ID] == 0 {
			heap.Push(&d.ready, next)
		}
	}
}

// call lets the steps go on that a failure calls for.
func (d *dispatcher) call(steps []*plan.Step) {
	for _, s := range steps {
		if !d.called[s.ID] {
			d.called[s.ID] = true
			d.free([]*plan.Step{s})
		}
	}
}

// passOver journals in the end that the steps were not needed which no failure called for, and what follows them alone.
func (d *dispatcher) passOver() error {
	needless := map[string]bool{}
	for i := range d.e.Plan.Steps { // sorted by level: what a step waits for comes before it
		s := &d.e.Plan.Steps[i]
		follows := slices.ContainsFunc(s.After, func(a string) bool { return needless[a] })
		if d.waits[s.ID] == 0 || !follows && (len(s.AfterFailure) == 0 || d.called[s.ID]) {
			continue
		}
		needless[s.ID] = true
		err := d.e.record(run.Event{Kind: run.StepPassed, Step: s.ID, Resource: s.Resource, Text: "not needed: nothing it is for has failed"})
		if err != nil {
			return err
		}
	}
	return nil
}

// drain lets running steps end unheard after the journal failed.
func (d *dispatcher) drain() {
	for ; d.running > 0; d.running-- {
		<-d.results
	}
}
