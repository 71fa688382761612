package engine

import (
	"container/heap"
	"context"
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
	e       *Engine
	ready   queue
	waits   map[string]int
	after   map[string][]*plan.Step
	atSite  map[string]int
	running int
	results chan result
	group   sync.WaitGroup
}

// steps runs all steps that can be run; it returns an error only if the journal cannot be written.
func (e *Engine) steps(ctx context.Context) error {
	d := &dispatcher{e: e, waits: map[string]int{}, after: map[string][]*plan.Step{}, atSite: map[string]int{},
		results: make(chan result)}
	for i := range e.Plan.Steps {
		s := &e.Plan.Steps[i]
		d.waits[s.ID] = len(s.After)
		for _, a := range s.After {
			d.after[a] = append(d.after[a], s)
		}
		if len(s.After) == 0 {
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
			return nil
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

// begin journals that a step begins, then does it.
func (e *Engine) begin(ctx context.Context, s *plan.Step) error {
	if err := e.record(run.Event{Kind: run.StepStarted, Step: s.ID, Resource: s.Resource}); err != nil {
		return err
	}
	return e.do(ctx, s)
}

// settle journals how a step ended and frees those that waited for it.
func (d *dispatcher) settle(ctx context.Context, r result) error {
	d.running--
	d.atSite[r.step.Site]--
	ev := run.Event{Kind: run.StepDone, Step: r.step.ID, Resource: r.step.Resource}
	switch {
	case r.err != nil && ctx.Err() != nil:
		ev.Kind, ev.Text = run.StepStopped, "interrupted; the site may still finish it"
	case r.err != nil:
		ev.Kind, ev.Text = run.StepFailed, r.err.Error()
	default:
		for _, next := range d.after[r.step.ID] {
			if d.waits[next.ID]--; d.waits[next.ID] == 0 {
				heap.Push(&d.ready, next)
			}
		}
	}
	return d.e.record(ev)
}

// drain lets running steps end unheard after the journal failed.
func (d *dispatcher) drain() {
	for ; d.running > 0; d.running-- {
		<-d.results
	}
}
