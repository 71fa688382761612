package deployments

import (
	"context"
	"net"
	"sync"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/reach"
	"andamio/internal/site"
)

// Picture is what stands of a deployment as a state that can be drawn, with the outputs of its last run and what each
// step printed when it was done. While a run of it goes on it is that run's.
func (svc *Service) Picture(ctx context.Context, d *Deployment) (*run.State, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: d.ID}); err != nil {
		return nil, err
	}
	if last := d.Last(); d.State() == run.UnderWay { // how it rises is told by the run that goes on
		return svc.Replay(ctx, last.ID)
	}
	if err := d.Stand.Plan.Arrange(); err != nil {
		return nil, err
	}
	s := run.Stood(d.Stand.Plan, d.Stand.Unsure)
	for _, r := range d.Runs {
		past, err := svc.Replay(ctx, r.ID) // which asks of each: the deployment is what its caller says it is
		if err != nil {
			return nil, err
		}
		s.Started = past.Started
		if past.Outputs != nil {
			s.Outputs = past.Outputs
		}
		for i := range past.Steps {
			was := &past.Steps[i]
			if st := s.Step(was.ID); st != nil && len(was.Log) > 0 {
				st.Log, st.Started, st.Ended = was.Log, was.Started, was.Ended
			}
		}
		for i := range past.Resources {
			then, now := &past.Resources[i], s.Resource(past.Resources[i].ID)
			if now == nil {
				continue
			}
			if then.SiteSaid.Text != "" { // a run that did nothing to it asked nobody about it
				now.SiteSaid = then.SiteSaid
			}
			if then.Answer.Text != "" {
				now.Answer = then.Answer
			}
		}
	}
	for i := range s.Resources { // what is off answers no more, nor is what has nobody behind it asked
		r := &s.Resources[i]
		on := r
		if of := s.Resource(r.AsEndpoint().EndpointOf); of != nil {
			on = of
		}
		if host := s.Resource(on.On); host != nil {
			on = host
		}
		if on.Off || r.Kind == kinds.Endpoint && s.Step(op.Answer.On(r.ID)) == nil {
			r.Answer = run.Reading{}
		}
	}
	return s, nil
}

// Readings is what the sites and endpoints of a deployment say now, by resource; what a site no longer has is said so. Sites
// that did not answer are named with the reason, and nothing is said of what they hold.
type Readings struct {
	At      time.Time              `json:"at,omitzero"`
	Sites   map[string]run.Reading `json:"sites,omitempty"`
	Answers map[string]run.Reading `json:"answers,omitempty"`
	Failed  map[string]string      `json:"failed,omitempty"`
	// states are those of what sites have, as far as they answered.
	states map[string]site.State
}

// Look asks the sites of a deployment what they hold, and its endpoints, all at once.
func (svc *Service) Look(ctx context.Context, s *run.State) (Readings, error) {
	if err := svc.desk.Read("what sites hold"); err != nil {
		return Readings{}, err
	}
	ctx = svc.workspace.Reaching(ctx)
	out := Readings{At: time.Now(), Sites: map[string]run.Reading{}, Answers: map[string]run.Reading{}, Failed: map[string]string{}, states: map[string]site.State{}}
	sites, err := svc.sites.Sites()
	if err != nil {
		return out, err
	}
	var mu sync.Mutex
	var group sync.WaitGroup
	for _, at := range s.Plan.Sites {
		if driver := sites[at.Name]; driver != nil {
			group.Go(func() { lookAt(ctx, driver, s, &out, &mu) })
		}
	}
	for i := range s.Steps {
		st := s.Steps[i].Step
		if st.Check.Kind == plan.CheckTCP || st.Check.Kind == plan.CheckHTTP {
			group.Go(func() { ask(ctx, s, st, &out, &mu) })
		}
	}
	group.Wait()
	return out, nil
}

// lookAt asks one site for the kinds of which the deployment has something there.
func lookAt(ctx context.Context, driver site.Site, s *run.State, out *Readings, mu *sync.Mutex) {
	wanted := map[kinds.Kind]map[string]string{}
	for i := range s.Resources {
		r := &s.Resources[i]
		if r.Site != driver.Name() || !r.Kind.Seen() {
			continue
		}
		if wanted[r.Kind] == nil {
			wanted[r.Kind] = map[string]string{}
		}
		wanted[r.Kind][r.Attributes["site.id"]] = r.ID
	}
	for kind, ids := range wanted {
		all, err := driver.List(ctx, kind)
		mu.Lock()
		if err != nil {
			out.Failed[driver.Name()] = err.Error()
			mu.Unlock()
			return
		}
		for _, x := range all {
			if id, mine := ids[x.ID]; mine {
				out.Sites[id] = run.Reading{Text: x.Word, Good: x.State == site.Active, At: out.At}
				out.states[id] = x.State
				delete(ids, x.ID)
			}
		}
		for _, id := range ids {
			out.Sites[id] = run.Reading{Text: "it is not there", At: out.At}
		}
		mu.Unlock()
	}
}

// ask asks the endpoint of a step.
func ask(ctx context.Context, s *run.State, st *plan.Step, out *Readings, mu *sync.Mutex) {
	p := probeOf(s, st)
	reading := run.Reading{Text: "its address is not known", At: out.At}
	if p.Where != "" {
		reading.Text, reading.Good = engine.Ask(reach.At(ctx, p.Site), p.Check, p.Where)
	}
	mu.Lock()
	defer mu.Unlock()
	out.Answers[st.Resource] = reading
}

// Probe is an endpoint that is asked, and how. Where is "" if its address is not known.
type Probe struct {
	Resource string
	// Site is where it is.
	Site  string
	Check plan.Condition
	Where string
	// TLS says that it shows a certificate.
	TLS bool
}

// ProbesOf are the endpoints of what stands.
func ProbesOf(s *run.State) []Probe {
	var out []Probe
	for i := range s.Steps {
		if st := s.Steps[i].Step; st.Check.Kind == plan.CheckTCP || st.Check.Kind == plan.CheckHTTP {
			out = append(out, probeOf(s, st))
		}
	}
	return out
}

func probeOf(s *run.State, st *plan.Step) Probe {
	p := Probe{Resource: st.Resource, Check: st.Check}
	address, errA := st.Check.Address.Text(known{s})
	port, errP := st.Check.Port.Text(known{s})
	if errA == nil && errP == nil {
		p.Where = net.JoinHostPort(address, port)
	}
	if r := s.Plan.Resource(st.Resource); r != nil {
		protocol := r.AsEndpoint().Protocol
		p.TLS, p.Site = protocol == "https" || protocol == "tls", r.Site
	}
	return p
}
