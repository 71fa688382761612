package moves

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/rehearse"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
)

// Draft is a wave of a move before anything is done: the plan, what will differ, how long it takes.
type Draft struct {
	Move  *Move             `json:"move,omitempty"`
	Wave  int               `json:"wave"`
	Order deployments.Order `json:"order"`
	// Stand is what stands now, To the design that it leads to, without what is kept.
	Stand       change.Standing      `json:"stand"`
	To          *plan.Plan           `json:"to,omitempty"`
	Differences []migrate.Difference `json:"differences,omitempty"`
	// Loads and Forecasts are by instance.
	Loads     map[string]migrate.Load     `json:"loads,omitempty"`
	Forecasts map[string]migrate.Forecast `json:"forecasts,omitempty"`
	Windows   []plan.Window               `json:"windows,omitempty"`
	Fit       migrate.Fit                 `json:"fit"`
	// Seconds is the whole, Down for how long the wave does not serve.
	Seconds float64 `json:"seconds"`
	Down    float64 `json:"down"`
	// Rehearsed is how long it may take, imagined many times over.
	Rehearsed rehearse.Answer `json:"rehearsed"`
	// Secrets are those that are asked for again.
	Secrets []string     `json:"secrets,omitempty"`
	Pairs   []sites.Pair `json:"pairs,omitempty"`
}

// Diverges says which workload changes faster than gets through, so that no round leaves less than the one before; "" if
// none does.
func (d *Draft) Diverges() string {
	if d.Move.Request.Mode == change.FromCopy { // nothing is copied any more
		return ""
	}
	for _, id := range d.Move.Waves[d.Wave].Instances {
		if f, l := d.Forecasts[id], d.Loads[id]; !f.Converges {
			return fmt.Sprintf("%s does not converge: %s a second change, %s get through", id, migrate.Bytes(l.Rate), migrate.Bytes(l.Bandwidth))
		}
	}
	return ""
}

// DraftMove works a move out: where each workload goes and what it is like there, in which waves, and the plan of the
// first. Nothing is done; what is measured is read from the sites.
func (svc *Service) DraftMove(ctx context.Context, deployment int64, w Request) (*Draft, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, deployment)
	if err != nil {
		return nil, err
	}
	return svc.draftOf(ctx, &subject{d, wanted}, w)
}

// draftOf works out a move of what stands.
func (svc *Service) draftOf(ctx context.Context, of *subject, w Request) (*Draft, error) {
	if w.Mode == "" {
		w.Mode = change.Warm
	}
	if !slices.Contains([]change.Mode{change.Cold, change.Warm, change.Live}, w.Mode) {
		return nil, fault.Invalidf("a workload is moved %s, %s or %s, not %q", change.Cold, change.Warm, change.Live, w.Mode)
	}
	if w.Mode == change.Live && w.Pause == 0 {
		w.Pause = 0.3
	}
	d, wanted := of.deployment, of.wanted
	instances, err := instancesOf(wanted, w.What)
	if err != nil {
		return nil, err
	}
	m := &Move{Request: w, From: map[string]string{}, Loads: map[string]migrate.Load{}}
	for _, id := range instances {
		m.From[id] = wanted.Resource(id).Site
	}
	if m.Choices, err = svc.choicesFor(ctx, d, wanted, instances, w); err != nil {
		return nil, err
	}
	m.Name = moveName(w.What, m.Choices)
	if m.Move.Deployment = d.ID; d.ID == 0 {
		m.taken = of
	}
	m.Waves = []migrate.Wave{{Instances: instances}}
	m.States = []WaveState{WavePlanned}
	if w.Waves && len(instances) > 1 {
		if err := svc.arrangeWaves(ctx, d, wanted, m); err != nil {
			return nil, err
		}
	}
	return svc.draftWave(ctx, m, 0)
}

// moveName says what goes where, in a few words.
func moveName(what []string, choices []migrate.Choice) string {
	var sites []string
	for _, c := range choices {
		if !slices.Contains(sites, c.Site) {
			sites = append(sites, c.Site)
		}
	}
	if len(choices) == 1 {
		what = []string{choices[0].Instance}
	}
	return strings.Join(what, ", ") + " to " + strings.Join(sites, ", ")
}

// instancesOf are the instances that words stand for: their own ids, their nodes, or services.
func instancesOf(p *plan.Plan, words []string) ([]string, error) {
	var out []string
	for _, w := range words {
		found := false
		for i := range p.Resources {
			if r := &p.Resources[i]; r.Kind == kinds.Instance && !r.Off && (r.ID == w || r.Node == w || r.Service == w) {
				out, found = append(out, r.ID), true
			}
		}
		if !found {
			return nil, fault.NotFoundf("there is no instance, node or service %q that is on; there are %s", w, strings.Join(deployments.Tiers(p), ", "))
		}
	}
	if len(out) == 0 {
		return nil, fault.Invalidf("say what is to be moved: an instance, a node or a service")
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// choicesFor says where each workload goes.
func (svc *Service) choicesFor(ctx context.Context, d *deployments.Deployment, wanted *plan.Plan, instances []string, w Request) ([]migrate.Choice, error) {
	spots := map[string]placement.Spot{}
	if w.To == "" {
		var err error
		if spots, err = svc.elsewhere(ctx, d, instances, w.Not); err != nil {
			return nil, err
		}
	}
	var out []migrate.Choice
	for _, id := range instances {
		c := w.Like
		if own, said := w.Each[id]; said {
			c = own
		}
		c.Instance = id
		switch {
		case c.Site != "":
		case w.To != "":
			c.Site = w.To
		default:
			c.Site, c.Zone, c.Host = spots[id].Site, spots[id].Zone, spots[id].Host
		}
		out = append(out, c)
	}
	return out, nil
}

// elsewhere has placement choose where some instances go, to none of some sites, all others staying where they are.
func (svc *Service) elsewhere(ctx context.Context, d *deployments.Deployment, instances, not []string) (map[string]placement.Spot, error) {
	t, err := svc.deployments.TemplateOf(ctx, d, templates.Place{})
	if err != nil {
		return nil, fault.Refusedf("placement cannot choose: %w; name a site", err)
	}
	wanted, err := svc.deployments.Wanted(ctx, d.Runs)
	if err != nil {
		return nil, err
	}
	e, err := svc.deployments.EstateFor(ctx, d)
	if err != nil {
		return nil, err
	}
	w := templates.DraftRequest{Name: d.Name, Preset: wanted.Preset, Inputs: templates.InputsOf(wanted, nil), Stand: d.Stand.Plan, Like: templates.PlacementOf(d.Stand.Plan), Lifted: wanted.Lifted}
	w.Choices.Forbids, w.Keep = map[string][]string{}, map[string]placement.Spot{}
	for _, c := range w.Like.Choices {
		if slices.Contains(instances, c.Workload) {
			w.Choices.Forbids[c.Workload] = append([]string{c.Site}, not...)
		} else {
			w.Keep[c.Workload] = placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}
		}
	}
	if w, err = svc.deployments.Ruled(w); err != nil {
		return nil, err
	}
	draft := templates.NewDraft(t, w, e)
	nowhere := fault.Refusedf("placement finds no other place for them with everything else where it is; name a site, or move more together")
	if draft.Placement == nil || draft.Plan == nil {
		return nil, nowhere
	}
	out := map[string]placement.Spot{}
	for _, c := range draft.Placement.Choices {
		if slices.Contains(instances, c.Workload) {
			out[c.Workload] = placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}
		} else if at, stays := w.Keep[c.Workload]; stays && at.Site != c.Site { // it was let go for want of a place
			return nil, nowhere
		}
	}
	return out, nil
}

// arrangeWaves puts the workloads into waves that fit a window each.
func (svc *Service) arrangeWaves(ctx context.Context, d *deployments.Deployment, wanted *plan.Plan, m *Move) error {
	needs := migrate.Needs(wanted, slices.Collect(maps.Keys(m.From)))
	var all []migrate.Candidate
	if err := svc.measure(ctx, d, m, m.Choices); err != nil {
		return err
	}
	for _, c := range m.Choices {
		f := migrate.Predict(m.Loads[c.Instance])
		all = append(all, migrate.Candidate{Instance: c.Instance, Way: m.way(c), Seconds: f.Total, Down: f.Down, Needs: needs[c.Instance]})
	}
	m.Waves = migrate.Waves(all, m.Request.Groups, m.Request.Hours*3600)
	m.States = make([]WaveState, len(m.Waves))
	for i := range m.States {
		m.States[i] = WavePlanned
	}
	return nil
}

// draftWave works out the plan of one wave from what stands now.
func (svc *Service) draftWave(ctx context.Context, m *Move, wave int) (*Draft, error) {
	if m.Request.Mode == change.FromCopy {
		return nil, fault.Conflictf("move %d failed over to copies that are older by now: andamio replica failover does so anew", m.ID)
	}
	of, err := svc.subjectOf(ctx, m)
	if err != nil {
		return nil, err
	}
	d, wanted := of.deployment, of.wanted
	e, err := svc.sites.Estate(ctx)
	if err != nil {
		return nil, err
	}
	out := &Draft{Move: m, Wave: wave, Stand: d.Stand, Loads: map[string]migrate.Load{}, Forecasts: map[string]migrate.Forecast{}}
	if err := svc.pairsFor(ctx, m, wave, out); err != nil {
		return nil, err
	}
	if err := svc.startsThere(ctx, d, m, wave, out.Pairs); err != nil {
		return nil, err
	}
	lifted, err := svc.heed(ctx, d, wanted, e, m)
	if err != nil {
		return nil, err
	}
	choices := slices.DeleteFunc(slices.Clone(m.Choices), func(c migrate.Choice) bool { return !slices.Contains(m.Waves[wave].Instances, c.Instance) })
	if out.To, err = migrate.Relocate(wanted, e, choices, d.Stand.Plan.Known); err != nil {
		return nil, fault.Default(fault.Refused, err)
	}
	out.To.Lifted = templates.MergeLifted(wanted.Lifted, liftedBy(lifted))
	moving, err := svc.movingOf(m, wave, wanted, out)
	if err != nil {
		return nil, err
	}
	p, whole, err := change.Move(d.Stand, out.To, moving, "move "+m.Name)
	if err != nil {
		return nil, fault.Default(fault.Refused, err)
	}
	if err := svc.deployments.Timed(ctx, p); err != nil {
		return nil, err
	}
	out.Secrets = secretsOf(p, m.Waves[wave].Instances)
	if wave > 0 || m.ID > 0 { // what was measured when the move was worked out is old by now
		for _, c := range choices {
			delete(m.Loads, c.Instance)
		}
	}
	if err := svc.measure(ctx, d, m, choices); err != nil {
		return nil, err
	}
	ways := map[string]int{}
	for _, c := range choices {
		ways[m.way(c)]++
	}
	for _, c := range choices { // those that go the same way at once share it
		load := m.Loads[c.Instance]
		load.Bandwidth /= float64(min(ways[m.way(c)], dispatch.Default.PerSite))
		out.Loads[c.Instance] = load
	}
	if err := out.foresee(p); err != nil {
		return nil, err
	}
	if out.Rehearsed, err = svc.runs.Rehearse(ctx, p, dispatch.Limits{}); err != nil {
		return nil, err
	}
	out.Seconds = max(out.Seconds, out.Rehearsed.P50.Seconds()) // not all goes on at once
	out.Differences = append(lifted, migrate.Differences(d.Stand, out.To, e, m.Waves[wave].Instances, m.Request.Mode)...)
	m.Differences = slices.DeleteFunc(m.Differences, func(x migrate.Difference) bool { return slices.Contains(m.Waves[wave].Instances, x.Instance) })
	m.Differences = append(m.Differences, out.Differences...)
	out.Order = deployments.Order{Plan: p, Deployment: d.ID, Wanted: whole, Template: d.Template, Move: m.ID}
	return out, nil
}

// secretsOf are the secrets that steps on some instances are given.
func secretsOf(p *plan.Plan, instances []string) []string {
	var out []string
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Script == nil || !slices.Contains(instances, p.Resource(s.Resource).On) {
			continue
		}
		for _, in := range s.Script.Inputs {
			out = append(out, in.Value.Secrets()...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// pairsFor checks that every way a wave takes is between sites that are paired and reach each other.
func (svc *Service) pairsFor(ctx context.Context, m *Move, wave int, out *Draft) error {
	for _, id := range m.Waves[wave].Instances {
		i := slices.IndexFunc(m.Choices, func(c migrate.Choice) bool { return c.Instance == id })
		from, to := m.From[id], m.Choices[i].Site
		if from == to {
			return fault.Conflictf("%s is at %s already", id, to)
		}
		if slices.ContainsFunc(out.Pairs, func(p sites.Pair) bool { return p.A == min(from, to) && p.B == max(from, to) }) {
			continue
		}
		p, err := svc.sites.CheckPair(ctx, from, to)
		if err != nil {
			return err
		}
		if why := p.Trouble(); why != "" {
			return fault.Refusedf("%s and %s are paired, and %s", from, to, why)
		}
		if p.Relayed && m.Request.Mode == change.Live {
			return fault.Refusedf("%s cannot go from %s to %s live: what it has in its memory stays behind between sites that know nothing of each other; move it warm", id, from, to)
		}
		out.Pairs = append(out.Pairs, p)
	}
	return nil
}

// movingOf says how a wave is copied.
func (svc *Service) movingOf(m *Move, wave int, wanted *plan.Plan, out *Draft) (change.Moving, error) {
	w := m.Request
	grant := false
	for _, id := range m.Waves[wave].Instances {
		from := m.From[id]
		for _, p := range out.Pairs {
			if p.A != from && p.B != from {
				continue
			}
			_, g, err := p.StartsFrom(from, p.Other(from), w.Side)
			if err != nil {
				return change.Moving{}, err
			}
			grant = grant || g
		}
	}
	windows, err := w.Windows(time.Now())
	if err != nil {
		return change.Moving{}, err
	}
	out.Windows = windows
	return change.Moving{Instances: m.Waves[wave].Instances, Mode: w.Mode, Off: deployments.OffIn(out.Stand), Secrets: wanted.Secrets,
		Copying: plan.Copying{Await: !w.AtOnce, Pause: w.Pause, Limit: w.Limit, Compress: w.Compress, Grant: grant, Windows: windows, Consolidate: !w.KeepLayers}}, nil
}

// foresee works out how long a wave takes, and tells the plan's steps.
func (d *Draft) foresee(p *plan.Plan) error {
	for id, load := range d.Loads {
		f := migrate.Predict(load)
		d.Forecasts[id] = f
		rounds := 0.0
		for _, r := range f.Rounds {
			rounds += r.Seconds
		}
		set := func(op op.Op, seconds float64) {
			if s := p.Step(op.On(id)); s != nil {
				s.Seconds = seconds
			}
		}
		if len(f.Rounds) > 0 {
			set(op.Replicate, f.Rounds[0].Seconds)
			set(op.Follow, rounds-f.Rounds[0].Seconds)
		}
		set(op.Finish, f.Last.Seconds)
	}
	if err := p.Arrange(); err != nil {
		return err
	}
	d.Seconds = p.Seconds
	d.Down = migrate.Down(p)
	for id, f := range d.Forecasts { // stopping and starting are known now that the plan is in order
		f.Down = max(f.Down, d.Down)
		f.Total = f.Copy + f.Down
		d.Forecasts[id] = f
	}
	d.Fit = migrate.FitInto(d.Windows, time.Now(), migrate.WithinWindow(p))
	return nil
}

// moveSecrets are the values of secrets that are asked for again: those given, else those of the environment. The ones
// that are kept from before do not count: whoever moves something to another site says anew what it may know there.
func moveSecrets(names []string, given map[string]string) (map[string]string, error) {
	out := map[string]string{}
	var missing []string
	for _, name := range names {
		v := given[name]
		if v == "" {
			v = os.Getenv(workspace.SecretVariable(name))
		}
		if out[name] = v; v == "" {
			missing = append(missing, fmt.Sprintf("%s (--secret %s asks for it, or %s in the environment)", name, name, workspace.SecretVariable(name)))
		}
	}
	if len(missing) > 0 {
		return nil, fault.Invalidf("secrets do not travel: give again %s", strings.Join(missing, ", "))
	}
	return out, nil
}

// DraftWave works out a wave of a move that is kept already.
func (svc *Service) DraftWave(ctx context.Context, id int64, wave int) (*Draft, error) {
	if err := svc.desk.See(ctx, acting.Move(id)); err != nil {
		return nil, err
	}
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return nil, err
	}
	if wave < 0 || wave >= len(m.Waves) {
		return nil, fault.NotFoundf("move %d has %d waves", id, len(m.Waves))
	}
	return svc.draftWave(ctx, m, wave)
}

// thing is what a wave moves, as far as it is asked who may.
func (d *Draft) thing() guard.Thing {
	return guard.Thing{Name: d.Move.Name, Deployment: d.Order.Deployment, Sites: d.Order.Plan.SiteNames()}
}
