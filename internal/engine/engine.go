// Package engine runs a plan: its steps in the order of their dependencies, as many at once as the plan and the limits
// allow, each journalled before and after it happens.
//
// In goes a [plan.Plan], the sites it names, and what a run needs beside them; what happens goes to a [Journal] as
// [run.Event]s. A step is done only when its condition holds: the site says active, the script has exited with 0, the
// port is open, the page is served.
package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// Journal keeps events. Append returns when they will survive the process.
type Journal interface {
	Append(events ...run.Event) error
}

// Limits bounds how much happens at once.
type Limits struct {
	Steps   int
	PerSite int
}

// DefaultLimits suit sites that take requests in parallel.
var DefaultLimits = Limits{Steps: 64, PerSite: 24}

// Engine runs one plan.
type Engine struct {
	// Run names the run; marks and idempotency keys begin with it.
	Run     string
	Plan    *plan.Plan
	Sites   map[string]site.Site
	Journal Journal
	// Key opens the instances.
	Key ssh.Signer
	// Secrets are the values of the plan's secrets. They are masked in everything that is journalled.
	Secrets map[string]string
	Limits  Limits

	mu    sync.Mutex
	state *run.State
	mask  masker
	pool  *shells
	// ifaces has the first interface of each instance, through which it is reached.
	ifaces map[string]string
}

// ErrUnfinished is the error of a run that ended without everything standing.
var ErrUnfinished = errors.New("the run ended before everything stood")

// Execute runs the plan to its end. The error is nil if everything stands, [ErrUnfinished] if steps failed or the
// context ended, and another if the run could not be journalled.
func (e *Engine) Execute(ctx context.Context) error {
	if err := e.ready(); err != nil {
		return err
	}
	defer e.pool.close()
	if err := e.record(run.Event{Kind: run.RunStarted}); err != nil {
		return err
	}
	if err := e.steps(ctx); err != nil {
		return err
	}
	return e.end(ctx)
}

// ready checks that nothing is missing that is sure to be needed.
func (e *Engine) ready() error {
	if err := e.Plan.Check(); err != nil { // it also builds the look-ups, before goroutines share them
		return err
	}
	for _, s := range e.Plan.Sites {
		if e.Sites[s.Name] == nil {
			return fmt.Errorf("the plan needs the site %s, which is not connected", s.Name)
		}
	}
	for _, name := range e.Plan.Secrets {
		if e.Secrets[name] == "" {
			return fmt.Errorf("the plan needs the secret %s, which was not given", name)
		}
	}
	if e.Limits.Steps == 0 {
		e.Limits = DefaultLimits
	}
	e.state = run.New(e.Plan)
	e.mask = newMasker(e.Secrets)
	e.pool = newShells(e.Key)
	e.ifaces = map[string]string{}
	for i := range e.Plan.Resources {
		if r := &e.Plan.Resources[i]; r.Kind == plan.Interface && e.ifaces[r.Spec.Instance] == "" {
			e.ifaces[r.Spec.Instance] = r.ID
		}
	}
	return nil
}

// record journals events and takes them into the engine's own state.
func (e *Engine) record(events ...run.Event) error {
	now := time.Now().UTC()
	for i := range events {
		events[i].At = now
		events[i].Text = e.mask.clean(events[i].Text)
	}
	if err := e.Journal.Append(events...); err != nil {
		return fmt.Errorf("the journal cannot be written, so the run stops: %w", err)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, ev := range events {
		ev.Seq = 0 // the engine's own state takes every event
		e.state.Apply(ev)
	}
	return nil
}

// Outcome is how the run ended, by its journal; call it after Execute.
func (e *Engine) Outcome() run.Status {
	if e.state == nil || !e.state.Over() {
		return run.Failed
	}
	return e.state.Status
}

// Attribute and Secret make the engine the resolver of the plan's expressions.
func (e *Engine) Attribute(resource, name string) (string, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.state.Attribute(resource, name)
}

// Secret is a secret's value.
func (e *Engine) Secret(name string) (string, bool) {
	v, ok := e.Secrets[name]
	return v, ok && v != ""
}

// end journals how the run went, with the outputs if all stands.
func (e *Engine) end(ctx context.Context) error {
	e.mu.Lock()
	done, failed := e.state.Done, e.state.Failures
	e.mu.Unlock()
	all := done == len(e.Plan.Steps)
	ev := run.Event{Kind: run.RunEnded, Good: all, Attributes: map[string]string{}}
	switch {
	case all:
		ev.Text = "everything stands"
		for _, o := range e.Plan.Outputs {
			if text, err := o.Value.Text(e); err == nil {
				ev.Attributes[o.Name] = e.mask.clean(text)
			}
		}
	case ctx.Err() != nil:
		ev.Text = fmt.Sprintf("cancelled with %d of %d steps done", done, len(e.Plan.Steps))
	default:
		ev.Text = fmt.Sprintf("%d steps failed, %d of %d done", failed, done, len(e.Plan.Steps))
	}
	if err := e.record(ev); err != nil {
		return err
	}
	if !all {
		return ErrUnfinished
	}
	return nil
}
