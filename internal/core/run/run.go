// Package run is what is known of one execution of a plan, worked out from the events of its journal.
//
// In go a [plan.Plan] and [Event]s in the order of the journal; out comes a [State]: how each step and each resource
// is, what the site and the endpoint say of it and when, what was logged. The journal is the truth and a state only a
// reading of it, so that every watcher, in whatever process, sees the same.
package run

import (
	"maps"
	"time"

	"andamio/internal/core/plan"
)

// EventKind says what happened.
type EventKind string

// The kinds of event, as they stand in the journal.
const (
	RunStarted  EventKind = "run-started"
	RunEnded    EventKind = "run-ended"
	RunResumed  EventKind = "run-resumed" // a worker goes on where another broke off, or after a decision
	Decided     EventKind = "decided"     // a person's decision on a failed step: Text is retry or skip
	Discarded   EventKind = "discarded"   // what the site built for the step is no good and is removed
	StepStarted EventKind = "step-started"
	StepAsked   EventKind = "step-asked" // the site has accepted; Attributes has its id
	StepRetry   EventKind = "step-retry"
	StepAwaits  EventKind = "step-awaits" // somebody is waited for through whom its site is reached; Good says that they are there
	StepDone    EventKind = "step-done"
	StepFailed  EventKind = "step-failed"
	StepPassed  EventKind = "step-passed"  // its condition does not hold, or no failure called for it
	StepStopped EventKind = "step-stopped" // interrupted by a cancel; how far it got is not known
	SiteSays    EventKind = "site-says"
	Answered    EventKind = "endpoint-says"
	Learned     EventKind = "attributes"
	Logged      EventKind = "log"
)

// Event is one line of a run's journal.
type Event struct {
	Seq        int64             `json:"seq"`
	At         time.Time         `json:"at"`
	Kind       EventKind         `json:"kind"`
	Step       string            `json:"step,omitempty"`
	Resource   string            `json:"resource,omitempty"`
	Text       string            `json:"text,omitempty"`
	Good       bool              `json:"good,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"`
}

// Status is how a step, a resource or a run stands.
type Status string

// The statuses. Held steps wait for one that failed.
const (
	Planned  Status = "planned"
	UnderWay Status = "under way"
	Standing Status = "standing"
	Failed   Status = "failed"
	Held     Status = "held"
	Stopped  Status = "stopped"
	Retired  Status = "retired"
	// Passed steps were not needed.
	Passed Status = "passed over"
)

// Reading is what somebody said, and when.
type Reading struct {
	Text string
	Good bool
	At   time.Time
}

// Line is one line of a log.
type Line struct {
	At   time.Time
	Text string
}

// maxLines bounds the lines kept of one step; older ones stay in the journal.
const maxLines = 400

// Step is how one step is.
type Step struct {
	*plan.Step
	Status         Status
	Started, Ended time.Time
	// Error says why it failed.
	Error   string
	Retries int
	// Awaits says who is waited for through whom the step's site is reached; "" is nobody.
	Awaits string
	// Tries counts how often it failed, Discards what the site built for it and was thrown away.
	Tries, Discards int
	// AskedID is the site's id of what the step asked for, in this run.
	AskedID string
	// Skipped says that a person chose to go on without it.
	Skipped bool
	// Control is what was said of copying.
	Control Control
	Log     []Line
}

// Resource is how one resource is: Status is what we think, SiteSaid
// what the site said last, Answer what came back from the endpoint last.
type Resource struct {
	*plan.Resource
	Status     Status
	Attributes map[string]string
	SiteSaid   Reading
	Answer     Reading
	steps      []int
	done       int
	bad        int
	busy       int
	held       int
}

// State is how a run is.
type State struct {
	Plan           *plan.Plan
	Status         Status
	Text           string
	Started, Ended time.Time
	LastSeq        int64
	LastAt         time.Time
	// Resumes counts how often a worker went on.
	Resumes int
	// Rehearsed is what was expected before it began: the median of its duration, and what nine in ten stay under.
	Rehearsed Rehearsed
	Steps     []Step
	Resources []Resource
	// Done counts standing steps, Failures failed ones.
	Done, Failures int
	Outputs        map[string]string

	// Disks is how copying stands, by the resource that is copied to; Judged what was judged after each round, by instance.
	Disks  map[string]*Disk
	Judged map[string][]Judgement

	// interrupted counts the steps that a cancel stopped.
	interrupted int

	stepAt map[string]int
	// after are the places of the steps that each step comes after.
	after      [][]int32
	resourceAt map[string]int
	carries    map[string][]int
}

// Rehearsed is a rehearsal's answer, kept with the run for comparing it with what happened; zero if there was none.
type Rehearsed struct{ P50, P90 time.Duration }

// New is the state before anything happened.
func New(p *plan.Plan) *State {
	s := &State{Plan: p, Status: Planned, Steps: make([]Step, len(p.Steps)), Resources: make([]Resource, len(p.Resources)),
		stepAt: make(map[string]int, len(p.Steps)), resourceAt: make(map[string]int, len(p.Resources)), carries: map[string][]int{},
		Disks: map[string]*Disk{}, Judged: map[string][]Judgement{}}
	for i := range p.Resources {
		s.Resources[i] = Resource{Resource: &p.Resources[i], Status: Planned, Attributes: maps.Clone(p.Known[p.Resources[i].ID])}
		if p.Resources[i].Change == plan.Keep {
			s.Resources[i].Status = Standing
		}
		s.resourceAt[p.Resources[i].ID] = i
		for _, on := range p.Resources[i].StandsOn {
			s.carries[on] = append(s.carries[on], i)
		}
	}
	for i := range p.Steps {
		s.Steps[i] = Step{Step: &p.Steps[i], Status: Planned}
		s.stepAt[p.Steps[i].ID] = i
		r := &s.Resources[s.resourceAt[p.Steps[i].Resource]]
		r.steps = append(r.steps, i)
	}
	s.after = make([][]int32, len(p.Steps))
	for i := range p.Steps {
		for _, a := range p.Steps[i].After {
			if at, known := s.stepAt[a]; known {
				s.after[i] = append(s.after[i], int32(at))
			}
		}
	}
	return s
}

// Step returns the step of that id, or nil.
func (s *State) Step(id string) *Step {
	if i, ok := s.stepAt[id]; ok {
		return &s.Steps[i]
	}
	return nil
}

// Resource returns the resource of that id, or nil.
func (s *State) Resource(id string) *Resource {
	if i, ok := s.resourceAt[id]; ok {
		return &s.Resources[i]
	}
	return nil
}

// StepsOf are the steps on a resource, in the plan's order.
func (s *State) StepsOf(resource string) []*Step {
	r := s.Resource(resource)
	if r == nil {
		return nil
	}
	out := make([]*Step, len(r.steps))
	for i, at := range r.steps {
		out[i] = &s.Steps[at]
	}
	return out
}

// Carries are the resources that stand on a resource, in the plan's order.
func (s *State) Carries(resource string) []*Resource {
	var out []*Resource
	for _, i := range s.carries[resource] {
		out = append(out, &s.Resources[i])
	}
	return out
}

// Retiring reports that the plan leaves nothing standing.
func (s *State) Retiring() bool {
	for i := range s.Resources {
		if s.Resources[i].Change != plan.Retire {
			return false
		}
	}
	return len(s.Resources) > 0
}

// Over reports that nothing more will happen.
func (s *State) Over() bool { return !s.Ended.IsZero() }

// Fraction is how much of a resource's steps are done, from 0 to 1.
func (r *Resource) Fraction() float64 {
	if len(r.steps) == 0 {
		return 0
	}
	return float64(r.done) / float64(len(r.steps))
}

// Attribute implements plan.Resolver.
func (s *State) Attribute(resource, name string) (string, bool) {
	r := s.Resource(resource)
	if r == nil {
		return "", false
	}
	v, ok := r.Attributes[name]
	return v, ok
}

// Snapshot is a copy that stays as it is while the state goes on, for drawing it elsewhere.
func (s *State) Snapshot() *State {
	c := *s
	c.Steps = append([]Step{}, s.Steps...)
	c.Resources = append([]Resource{}, s.Resources...)
	c.Disks, c.Judged = map[string]*Disk{}, maps.Clone(s.Judged)
	for id, d := range s.Disks {
		x := *d
		c.Disks[id] = &x
	}
	return &c
}
