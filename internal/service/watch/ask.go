package watch

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/printable"
	"andamio/internal/engine"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

const (
	fileSites      = workspace.FileSites
	fileThresholds = workspace.FileThresholds
)

// How long asking one site or endpoint may take, and how many are asked at once.
const (
	askWithin = 10 * time.Second
	askAtOnce = 64
)

// figures are what was measured of a thing, and what whoever was asked said.
type figures struct {
	values  map[string]float64
	said    string
	reached bool
}

// round is what was measured at one moment.
type round struct {
	mu sync.Mutex
	of map[string]*figures
	// met are machines that sites told of and nobody knew.
	met []measure.Thing
}

func (r *round) put(thing, name string, v float64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.figures(thing).values[name] = v
}

// worst has a thing be as it is where it is worst: software may answer at several places.
func (r *round) worst(thing, name string, v float64, worse func(a, b float64) float64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	values := r.figures(thing).values
	if was, has := values[name]; has {
		v = worse(was, v)
	}
	values[name] = v
}

// lacking has a thing have figures of which nobody else told.
func (r *round) lacking(thing string, values map[string]float64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.figures(thing).values
	for name, v := range values {
		if _, told := known[name]; !told {
			known[name] = v
		}
	}
}

func (r *round) say(thing, said string, reached bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.figures(thing)
	if f.said != "" && !f.reached { // what is wrong elsewhere of it counts
		return
	}
	f.said, f.reached = printable.Clean(said), reached
}

func (r *round) figures(thing string) *figures {
	f := r.of[thing]
	if f == nil {
		f = &figures{values: map[string]float64{}}
		r.of[thing] = f
	}
	return f
}

// ask asks everything once.
func (svc *Service) ask(ctx context.Context, k *known, now time.Time) (*round, error) {
	r := &round{of: map[string]*figures{}}
	drivers, err := svc.drivers()
	if err != nil {
		return nil, err
	}
	var all errgroup.Group
	all.SetLimit(askAtOnce)
	for name, d := range drivers {
		all.Go(func() error { askSite(ctx, name, d, k, r); return nil })
	}
	for i := range k.probes {
		if p := &k.probes[i]; k.rests[p.thing] == "" {
			all.Go(func() error { svc.askEndpoint(ctx, p, r, now); return nil })
		}
	}
	for _, e := range svc.memory.due(k, now) {
		all.Go(func() error { svc.enter(ctx, e, now); return nil })
	}
	_ = all.Wait() // what is wrong is what is measured
	svc.memory.inside.told(r, now)
	return r, ctx.Err()
}

// drivers are those of the sites, the same again and again, since they count from one time to the next.
func (svc *Service) drivers() (map[string]site.Site, error) {
	m := svc.memory
	changed := svc.workspace.Changed(fileSites)
	if m.drivers != nil && m.changed.Equal(changed) {
		return m.drivers, nil
	}
	all, err := svc.sites.Sites()
	if err != nil {
		return nil, err
	}
	m.drivers, m.changed = all, changed
	return all, nil
}

// askSite asks a site for its machines, and what they use.
func askSite(ctx context.Context, name string, d site.Site, k *known, r *round) {
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	key, began := measure.SiteKey(name), time.Now()
	all, err := d.List(ctx, kinds.Instance)
	if err != nil {
		r.put(key, measure.SiteAnswers, 0)
		r.say(key, fmt.Sprintf("it does not answer: %v", err), false)
		return
	}
	r.put(key, measure.SiteAnswers, 1)
	r.put(key, measure.SiteTime, time.Since(began).Seconds())
	there := map[string]bool{}
	for i := range all {
		there[measure.InstanceKey(name, all[i].ID)] = true
		r.machine(name, &all[i], k)
	}
	for key, t := range k.things {
		if t.Kind == measure.OfInstance && t.Site == name && t.Deployment != 0 && !there[key] && k.rests[key] == "" {
			r.put(key, measure.On, 0)
			r.say(key, name+" says: it is not there", false)
		}
	}
	meter, can := site.Can[site.Meter](ctx, d)
	if !can {
		return
	}
	used, err := meter.Measure(ctx)
	if err != nil {
		return // what is missing is known by that
	}
	for _, m := range used {
		if key := measure.InstanceKey(name, m.ID); there[key] {
			for figure, v := range m.Values {
				if measure.Of(figure).Of == measure.OfInstance {
					r.put(key, figure, v)
				}
			}
		}
	}
}

// mostMet bounds how many machines that nobody knew are taken note of in a round: a site may tell anything.
const mostMet = 20_000

// machine takes what a site says of a machine. Whether one is on that no deployment has is nobody's business.
func (r *round) machine(name string, x *site.Resource, k *known) {
	key := measure.InstanceKey(name, x.ID)
	t := k.things[key]
	if t == nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		if len(r.met) >= mostMet {
			return
		}
		r.met = append(r.met, measure.Thing{Key: key, Kind: measure.OfInstance, Name: printable.Clean(x.Name), Site: name})
		return
	}
	if t.Deployment == 0 || k.rests[key] != "" {
		return
	}
	on := 0.0
	if x.State == site.Active {
		on = 1
	}
	r.put(key, measure.On, on)
	r.say(key, name+" says: "+x.Word, true)
}

// askEndpoint asks an endpoint.
func (svc *Service) askEndpoint(ctx context.Context, p *probe, r *round, now time.Time) {
	ctx, cancel := context.WithTimeout(svc.workspace.At(ctx, p.Site), askWithin)
	defer cancel()
	if p.Check.Metrics {
		svc.scrape(ctx, p, r, now)
		return
	}
	a := engine.Probe(ctx, p.Check, p.Where)
	good := 0.0
	if a.Good {
		good = 1
	}
	r.worst(p.thing, measure.Answers, good, math.Min)
	r.say(p.thing, a.Said, a.Reached)
	if a.Reached {
		r.worst(p.thing, measure.AnswerTime, a.Took.Seconds(), math.Max)
	}
	if !p.TLS || !a.Reached {
		return
	}
	if ends, err := engine.Certificate(ctx, p.Where); err == nil {
		r.put(p.thing, measure.Certificate, max(time.Until(ends).Seconds(), 0))
	}
}
