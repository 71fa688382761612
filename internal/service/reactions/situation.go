package reactions

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/service/watch"
)

// lookFor bounds how long looking at the machines of one deployment takes.
const lookFor = 30 * time.Second

// situation is what is known of a deployment.
//
// What is wrong with a reaction itself is in troubles, by its name.
func (svc *Service) situation(ctx context.Context, r *round, d *deployments.Deployment, of []*react.Reaction, states []*react.State) (s *react.Situation, troubles map[string]error, err error) {
	s, troubles = &react.Situation{Busy: svc.busy(ctx, d), Tiers: map[string]*react.Tier{}, Spreading: r.spreading}, map[string]error{}
	for _, x := range d.Runs {
		if x.Ended.After(s.LastRun) {
			s.LastRun = x.Ended
		}
	}
	s.Machines = machinesOf(d.Stand.Plan)
	s.Alerts = concerning(r.alerts, d.ID, s.Machines)
	if s.Busy != "" {
		return s, nil, nil
	}
	things, err := svc.over.Watch.Measured(ctx, d.ID)
	if err != nil {
		return nil, nil, err
	}
	figures, err := svc.measured(ctx, things, s.Machines, r.now)
	if err != nil {
		return nil, nil, err
	}
	for i, x := range of {
		switch {
		case x.Raise != nil && !r.recovered[d.ID] && (len(states[i].Down) > 0 || critical(s.Alerts)):
			err = svc.sights(ctx, d, s)
		case x.Scale != nil:
			var t *react.Tier
			if t, err = svc.tier(ctx, r, d, x, things, figures); t != nil {
				s.Tiers[x.Scale.Tier] = t
			}
			if code := fault.CodeOf(err); code == fault.NotFound || code == fault.Invalid {
				troubles[x.Name], err = err, nil
			}
		case x.Spread != nil && s.Hosts == nil:
			s.Hosts, err = svc.hosts(ctx, s.Machines, r.now)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("reaction %s: %w", x.Name, err)
		}
	}
	return s, troubles, nil
}

// busy says why nothing is to be done to a deployment by itself; "" if nothing is in the way.
func (svc *Service) busy(ctx context.Context, d *deployments.Deployment) string {
	switch last := d.Last(); d.State() {
	case run.Standing:
	case run.UnderWay:
		return fmt.Sprintf("run %d goes on", last.ID)
	default:
		return fmt.Sprintf("run %d %s, and a person sees to that", last.ID, last.State)
	}
	if err := svc.over.Moves.SettledBut(ctx, d.ID, 0); err != nil {
		return err.Error()
	}
	return ""
}

// machinesOf are the machines of a plan that are to be on.
func machinesOf(p *plan.Plan) []react.Machine {
	disks := map[string]bool{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Volume {
			for k := range p.Resources {
				if m := &p.Resources[k]; m.Kind == kinds.Instance && (r.On == m.ID || slices.Contains(m.StandsOn, r.ID)) {
					disks[m.ID] = true
				}
			}
		}
	}
	var out []react.Machine
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance && !r.Off {
			out = append(out, react.Machine{ID: r.ID, Node: r.Node, Site: r.Site, Zone: r.Zone, Host: r.Host, Disks: disks[r.ID]})
		}
	}
	return out
}

// concerning are the alerts that something of a deployment fails by, and those of where its machines are.
func concerning(all []alarm.Alert, deployment int64, machines []react.Machine) []alarm.Alert {
	var out []alarm.Alert
	for i := range all {
		a := &all[i]
		here := a.Deployment == 0 && slices.ContainsFunc(machines, func(m react.Machine) bool { return m.Site == a.Site })
		if slices.Contains(a.Deployments, deployment) || here {
			out = append(out, *a)
		}
	}
	return out
}

// critical reports that something is, so that machines are looked at.
func critical(all []alarm.Alert) bool {
	return slices.ContainsFunc(all, func(a alarm.Alert) bool { return a.Severity >= alarm.Critical })
}

// sights looks at all machines: what their sites say, and whether they answer.
func (svc *Service) sights(ctx context.Context, d *deployments.Deployment, s *react.Situation) error {
	ctx, cancel := context.WithTimeout(ctx, lookFor)
	defer cancel()
	all, err := svc.over.Deployments.Sights(ctx, d.ID)
	if fault.CodeOf(err) == fault.Conflict { // somebody began to see to it meanwhile
		s.Busy = err.Error()
		return nil
	}
	s.Sights = all
	return err
}

// measured fills in what machines use, and returns the figures of things by their keys.
func (svc *Service) measured(ctx context.Context, things []measure.Thing, machines []react.Machine, now time.Time) (map[string]map[string]float64, error) {
	var of []measure.Thing
	for _, t := range things {
		if t.Kind == measure.OfInstance && slices.ContainsFunc(machines, func(m react.Machine) bool { return m.ID == t.Resource }) {
			of = append(of, t)
		}
	}
	all, err := svc.over.Watch.Figures(ctx, of, now)
	if err != nil {
		return nil, err
	}
	out := map[string]map[string]float64{}
	for _, t := range of {
		values := fresh(all[t.Key], now)
		if len(values) == 0 { // one that was there before under the same name
			continue
		}
		out[t.Key] = values
		i := slices.IndexFunc(machines, func(m react.Machine) bool { return m.ID == t.Resource })
		m := &machines[i]
		m.Host, m.Zone = cmp.Or(t.Host, m.Host), cmp.Or(t.Zone, m.Zone)
		var known, held bool
		m.Load, known = values[measure.CoresUsed]
		m.Cores, held = values[measure.CoresHeld]
		m.Known = known && held
	}
	return out, nil
}

// freshWithin is how old a figure may be that is taken for how it is now.
const freshWithin = time.Minute

func fresh(all []watch.Figure, now time.Time) map[string]float64 {
	out := map[string]float64{}
	for _, f := range all {
		if now.Sub(f.At) <= freshWithin {
			out[f.Name] = f.Value
		}
	}
	return out
}

// tier is what is known of a tier that may be scaled; nil where nothing is to be done about it now.
func (svc *Service) tier(ctx context.Context, r *round, d *deployments.Deployment, x *react.Reaction, things []measure.Thing, figures map[string]map[string]float64) (*react.Tier, error) {
	p := d.Stand.Plan
	node, err := nodeOf(p, x.Scale.Tier)
	if err != nil {
		return nil, err
	}
	t := &react.Tier{Node: node}
	perHour, name := money.Amount(0), ""
	for i := range p.Resources {
		m := &p.Resources[i]
		if m.Kind != kinds.Instance || m.Node != node {
			continue
		}
		if m.Off {
			return nil, nil // it rests: what it is to have it has when it is on
		}
		t.Count++
		perHour += m.CostPerHour
		name = unnumbered(m.ID)
	}
	if t.Count == 0 {
		return nil, nil
	}
	t.PerMonth, t.Rest = react.PerMonth(perHour)/float64(t.Count), react.PerMonth(d.CostPerHour()-perHour)
	var of []measure.Thing
	held, known := 0.0, 0
	for _, thing := range things {
		r := p.Resource(thing.Resource)
		if thing.Kind != measure.OfInstance || r == nil && unnumbered(thing.Resource) != name || r != nil && r.Node != node {
			continue
		}
		of = append(of, thing) // those that are no more were used too
		if r == nil {
			continue
		}
		values := figures[thing.Key]
		_, used := values[x.Scale.Measure]
		if limit, has := values[measure.Of(x.Scale.Measure).Limit]; has && used {
			held += limit
			known++
		}
	}
	a, err := svc.foresee(ctx, d, x, node, of, r.now)
	if err != nil {
		return nil, err
	}
	t.Lead, t.Least, t.Most = a.lead, a.least, a.most
	back := x.Back()
	grid := measure.Raw.Step()
	points, err := svc.over.Watch.Total(ctx, of, x.Scale.Measure, r.now.Add(-max(back, react.TrendOver(t.Lead))).Truncate(grid), r.now.Add(grid), grid)
	if err != nil {
		return nil, err
	}
	t.Load = react.Foresee(points, a.usual, r.now, t.Lead, back)
	if t.Load.Of = known; known > 0 {
		t.Load.Each = held / float64(known)
	}
	return t, nil
}

// unnumbered is the id of a resource without its number: what all of a node have in common, those that are no more among them.
func unnumbered(id string) string {
	return strings.TrimRight(strings.TrimRight(id, "0123456789"), "-")
}

// nodeOf is the node of a plan's machines that a reaction calls a tier: the node itself, or the only one of a service.
func nodeOf(p *plan.Plan, tier string) (string, error) {
	var nodes []string
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance && (r.Node == tier || r.Service == tier) && !slices.Contains(nodes, r.Node) {
			nodes = append(nodes, r.Node)
		}
	}
	switch {
	case len(nodes) == 0:
		return "", fault.NotFoundf("there are no machines of a tier %q", tier)
	case len(nodes) > 1 && !slices.Contains(nodes, tier):
		return "", fault.Invalidf("the service %s has the tiers %v: name one", tier, nodes)
	case len(nodes) > 1:
		return tier, nil
	}
	return nodes[0], nil
}

// ahead is how long another machine takes until it serves, what the tier usually uses then, and how many its template allows.
type ahead struct {
	run         int64
	at          time.Time
	lead        time.Duration
	least, most int
	usual       *alarm.Usual
}

// How long what is usual is taken to be so, how far back is looked for it, and how long another machine takes where that cannot be worked out.
const (
	aheadFor    = 10 * time.Minute
	usualOver   = 28 * 24 * time.Hour
	unknownLead = 5 * time.Minute
)

// foresee works out what lies ahead of a tier, now and then, and whenever something was done to the deployment.
func (svc *Service) foresee(ctx context.Context, d *deployments.Deployment, x *react.Reaction, node string, of []measure.Thing, now time.Time) (ahead, error) {
	name := fmt.Sprintf("%d %s %s", d.ID, node, x.Scale.Measure)
	a, has := svc.memory.ahead[name]
	if has && a.run == d.Last().ID && now.Sub(a.at) < aheadFor {
		return a, nil
	}
	if !has || a.run != d.Last().ID {
		a = ahead{run: d.Last().ID, lead: unknownLead}
		if t, err := svc.over.Deployments.TemplateOf(ctx, d, templates.Place{}); err == nil {
			a.least, a.most = t.ScaledWithin(node)
		}
		count := 0
		for i := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance && r.Node == node {
				count++
			}
		}
		if o, err := svc.over.Deployments.Scaling(ctx, d.ID, node, count+1); err == nil { // where it cannot grow nothing is looked ahead for
			if took, err := svc.over.Runs.Rehearse(ctx, o.Plan, dispatch.Limits{}); err == nil && took.P90 > 0 {
				a.lead = took.P90
			}
		}
	}
	step := 10 * time.Minute
	points, err := svc.over.Watch.Total(ctx, of, x.Scale.Measure, now.Add(-usualOver).Truncate(step), now, step)
	if err != nil {
		return a, err
	}
	m := measure.Of(x.Scale.Measure)
	a.at, a.usual = now, alarm.UsualOf(points, m.Step, now.Add(a.lead))
	if svc.memory.ahead == nil {
		svc.memory.ahead = map[string]ahead{}
	}
	svc.memory.ahead[name] = a
	return a, nil
}

// estateFor is how old an estate may be that hosts are read from.
const estateFor = time.Minute

// hosts are those of sites where a deployment has machines, with what all machines on each use, whoever they are of.
func (svc *Service) hosts(ctx context.Context, machines []react.Machine, now time.Time) ([]react.Host, error) {
	at := map[string]bool{}
	for _, m := range machines {
		at[m.Site] = at[m.Site] || m.Host != ""
	}
	if !slices.ContainsFunc(machines, func(m react.Machine) bool { return m.Host != "" }) {
		return []react.Host{}, nil
	}
	if svc.memory.estate == nil || now.Sub(svc.memory.seen) > estateFor {
		e, err := svc.over.Sites.Estate(ctx)
		if err != nil {
			return []react.Host{}, nil // sites that do not answer have nothing evened out
		}
		svc.memory.estate, svc.memory.seen = e, now
	}
	used, err := svc.used(ctx, at, now)
	if err != nil {
		return nil, err
	}
	out := []react.Host{}
	for _, s := range svc.memory.estate.Sites {
		if !at[s.Name] {
			continue
		}
		for _, room := range s.Rooms() {
			if room.Host != "" {
				out = append(out, react.Host{Site: s.Name, Zone: room.Zone, Name: room.Host, Cores: totalCores(room), Used: used[hostKey(s.Name, room.Zone, room.Host)]})
			}
		}
	}
	return out, nil
}

func totalCores(r estate.Room) float64 { return float64(r.Total.Cores) }

func hostKey(site, zone, host string) string { return site + "\x00" + zone + "\x00" + host }

// used is how many cores all machines of each host use.
func (svc *Service) used(ctx context.Context, at map[string]bool, now time.Time) (map[string]float64, error) {
	things, err := svc.over.Watch.Measured(ctx, 0)
	if err != nil {
		return nil, err
	}
	things = slices.DeleteFunc(things, func(t measure.Thing) bool { return t.Kind != measure.OfInstance || t.Host == "" || !at[t.Site] })
	figures, err := svc.over.Watch.Figures(ctx, things, now)
	if err != nil {
		return nil, err
	}
	out := map[string]float64{}
	for _, t := range things {
		out[hostKey(t.Site, t.Zone, t.Host)] += fresh(figures[t.Key], now)[measure.CoresUsed]
	}
	return out, nil
}
