// Package engine runs a plan: its steps in the order of their dependencies, as many at once as the plan and the limits
// allow, each journalled before and after it happens.
//
// In goes a [plan.Plan], the sites it names, and what a run needs beside them; what happens goes to a [Journal] as
// [run.Event]s. A step is done only when its condition holds: the site says active, the script has exited with 0, the
// port is open, the page is served.
//
// A run may break off at any instant. One that goes on where another broke off is given the state that the journal
// replays to, and looks before it acts: at the sites, for what bears the mark of the step, and on the instances, for
// what a script has left behind.
package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/names"
	"andamio/internal/site"
)

// Journal keeps events. Append returns when they will survive the process.
type Journal interface {
	Append(events ...run.Event) error
}

// Engine runs one plan.
type Engine struct {
	// Run names the run; idempotency keys begin with it. Mark names the deployment; what is built bears both.
	Run, Mark string
	Plan      *plan.Plan
	Sites     map[string]site.Site
	Journal   Journal
	// Ways says of sites that are reached through others whether those are there; nil where all are reached from here.
	Ways Ways
	// Key opens the instances.
	Key ssh.Signer
	// Secrets are the values of the plan's secrets. They are masked in everything that is journalled.
	Secrets  map[string]string
	Limits   dispatch.Limits
	Patience Patience
	// Zone is where names are kept; nil if there is none.
	Zone *names.Zone
	// State is what the journal replays to, for a run that goes on; nil for one that begins.
	State *run.State
	// Decisions are what a person decides on steps that failed, while the run goes on.
	Decisions <-chan Decision
	// Wakes says that something at a site has changed, where sites send notices.
	Wakes *Wakes
	// Rehearsed is kept with the run that begins.
	Rehearsed run.Rehearsed
	// Archive keeps what a step prints, whole; nil keeps nothing but what the journal has.
	Archive func(step string) Archive

	mu      sync.Mutex
	state   *run.State
	mask    masker
	pool    *shells
	gates   map[string]*gate
	sight   *sight
	resumed bool
	// ifaces has the first interface of each instance, through which it is reached.
	ifaces map[string]string
	// transfers is how many disks are being copied now.
	transfers atomic.Int64
	// mounted says what this run has mounted and unmounted, one after another: see mount.go.
	mounted map[string]bool
	parts   sync.Mutex
}

// Decision is a person's decision on a step that failed: [run.Retry] or [run.Skip]. Taken is called when it is in the
// journal, or was of no use.
type Decision struct {
	Step, Verb string
	Taken      func()
}

// Patience says how long the engine waits for things; zero values are the usual ones.
type Patience struct {
	// Least is the shortest deadline of a step; Times is how many times the expected duration a step may take.
	Least time.Duration
	Times float64
	// Shell is how long a machine may take until it lets anybody in, which no step's deadline counts: five times Least where it is 0.
	Shell time.Duration
	// Wait is the pause before a call is made again, doubled each time up to Most; Tries is how often.
	Wait, Most time.Duration
	Tries      int
}

// usual is the patience of a run that says nothing else.
var usual = Patience{Least: time.Minute, Times: 15, Wait: 200 * time.Millisecond, Most: 10 * time.Second, Tries: 8}

// ErrUnfinished is the error of a run that ended without everything standing.
var ErrUnfinished = errors.New("the run ended before everything stood")

// Execute runs the plan to its end. The error is nil if everything stands, [ErrUnfinished] if steps failed or the
// context ended, and another if the run could not be journalled.
func (e *Engine) Execute(ctx context.Context) error {
	if err := e.ready(); err != nil {
		return err
	}
	defer e.pool.close()
	first := run.Event{Kind: run.RunStarted}
	if e.resumed {
		first = run.Event{Kind: run.RunResumed}
	} else if e.Rehearsed.P90 > 0 {
		first.Attributes = map[string]string{"p50": e.Rehearsed.P50.String(), "p90": e.Rehearsed.P90.String()}
	}
	if err := e.record(first); err != nil {
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
	if e.Plan.Zone != "" && e.Zone == nil && slices.ContainsFunc(e.Plan.Steps, func(s plan.Step) bool { return s.Naming != nil }) {
		return fmt.Errorf("the plan keeps names in %s, whose name server is not connected", e.Plan.Zone)
	}
	if e.Limits.Steps == 0 && e.Limits.PerSite == 0 {
		e.Limits.Steps, e.Limits.PerSite = dispatch.Default.Steps, dispatch.Default.PerSite
	}
	if e.Patience.Tries == 0 {
		e.Patience = usual
	}
	if e.Wakes == nil {
		e.Wakes = NewWakes()
	}
	e.state, e.resumed = e.State, e.State != nil && !e.State.Started.IsZero()
	if e.state == nil {
		e.state = run.New(e.Plan)
	}
	e.mask = newMasker(e.Secrets)
	e.pool = newShells(e.Key)
	e.gates = map[string]*gate{}
	for _, s := range e.Plan.Sites {
		e.gates[s.Name] = newGate()
	}
	e.sight = newSight()
	e.ifaces = map[string]string{}
	for i := range e.Plan.Resources {
		if r := &e.Plan.Resources[i]; r.Kind == kinds.Interface && e.ifaces[r.AsInterface().Instance] == "" {
			e.ifaces[r.AsInterface().Instance] = r.ID
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
		return site.Final(fmt.Errorf("the journal cannot be written, so the run stops: %w", err))
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

// known is what the journal says of a step so far in this run.
func (e *Engine) known(s *plan.Step) (askedID string, tries, discards int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	st := e.state.Step(s.ID)
	return st.AskedID, st.Tries, st.Discards
}

// stands says in words what stands at the end of a run whose steps are all over: what was skipped does not, and what is
// switched off does not serve.
func (e *Engine) stands() string {
	skipped, off := 0, 0
	for i := range e.state.Steps {
		if e.state.Steps[i].Skipped {
			skipped++
		}
	}
	for i := range e.Plan.Resources {
		if r := &e.Plan.Resources[i]; r.Kind == kinds.Instance && r.Off && r.Change != plan.Retire && !strings.HasSuffix(r.ID, "@"+r.Site) { // what a move keeps is not counted
			off++
		}
	}
	switch {
	case skipped > 0:
		return fmt.Sprintf("%d of %d steps done, %d skipped: a later change does them", len(e.state.Steps)-skipped, len(e.state.Steps), skipped)
	case off > 0:
		return fmt.Sprintf("everything is as it is wanted, %s switched off", printable.Count(off, "instance"))
	}
	return "everything stands"
}

// end journals how the run went, with the outputs if all stands.
func (e *Engine) end(ctx context.Context) error {
	e.mu.Lock()
	done, failed, retiring := e.state.Done, e.state.Failures, e.state.Retiring()
	e.mu.Unlock()
	all := done == len(e.Plan.Steps)
	ev := run.Event{Kind: run.RunEnded, Good: all, Attributes: map[string]string{}}
	switch {
	case all && retiring:
		ev.Text = "everything is gone"
	case all:
		ev.Text = e.stands()
		for _, o := range e.Plan.Outputs {
			if text, err := o.Value.Text(e); err == nil {
				ev.Attributes[o.Name] = e.mask.clean(text)
			}
		}
	case ctx.Err() != nil:
		ev.Text = fmt.Sprintf("cancelled with %d of %d steps done", done, len(e.Plan.Steps))
	default:
		ev.Text = fmt.Sprintf("%s failed, %d of %d done", printable.Count(failed, "step"), done, len(e.Plan.Steps))
	}
	if err := e.record(ev); err != nil {
		return err
	}
	if !all {
		return ErrUnfinished
	}
	return nil
}
