package operate

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/health"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/tui/view"
)

// read is a reading with what it was read from: it is made again only when something has happened.
type read struct {
	of     *run.State
	seq    int64
	rising bool
	*health.Reading
}

// readingOf is how a deployment is, by tier; nil if it has no picture.
func (v *View) readingOf(d *deployments.Deployment) *health.Reading {
	s := v.states[d.ID]
	if s == nil {
		return nil
	}
	if v.read == nil {
		v.read = map[int64]read{}
	}
	got := v.read[d.ID]
	if got.Reading == nil || got.of != s || got.seq != s.LastSeq || got.rising != going(d) {
		got = read{s, s.LastSeq, going(d), health.Read(s, going(d))}
		v.read[d.ID] = got
	}
	return got.Reading
}

// tally is that of a deployment, or of one of its tiers.
func (v *View) tally(d *deployments.Deployment, tier string) health.Tally {
	r := v.readingOf(d)
	switch {
	case r == nil:
		return health.Tally{}
	case tier == "":
		return r.All
	case r.By[tier] == nil:
		return health.Tally{}
	}
	return *r.By[tier]
}

// whole is how a deployment is, in the words that every view says.
func (v *View) whole(d *deployments.Deployment) health.Deployment {
	t := v.tally(d, "")
	out := d.HealthBy(&t)
	out.At = v.looked[d.ID].At
	return out
}

// tell tells the other views how all deployments are.
func (v *View) tell() tea.Cmd {
	out := make([]health.Deployment, len(v.all))
	for i := range v.all {
		out[i] = v.whole(&v.all[i])
	}
	return view.Cmd(view.Health{All: out})
}

// condition judges a resource of the selected deployment.
func (v *View) condition(r *run.Resource) health.Condition {
	d := v.selected()
	return health.Of(v.state(), r, d != nil && going(d))
}
