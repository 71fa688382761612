package change

import (
	"fmt"
	"strconv"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Limiting is by how much volumes are bounded: how often a second each is read or written at most, and how many MiB; 0 does not.
type Limiting struct {
	PerSecond    int
	MiBPerSecond float64
}

// Unlimited are the volumes of what stands that are not bounded so.
func (l Limiting) Unlimited(from Standing) []string {
	var out []string
	for i := range from.Plan.Resources {
		r := &from.Plan.Resources[i]
		if id := from.Plan.Known[r.ID]["site.id"]; r.Kind == kinds.Volume && id != "" && from.Plan.Known[r.ID][plan.AttrLimited] != plan.Limited(id, l.PerSecond, l.MiBPerSecond) {
			out = append(out, r.ID)
		}
	}
	return out
}

// Limit is the plan that bounds the volumes of what stands. All else is kept as it is.
func Limit(from Standing, l Limiting, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	l.Into(from, p)
	return p, plan.Reindexed(p).Arrange()
}

// Into adds the steps that bound volumes of what stands to a plan that keeps these.
func (l Limiting) Into(from Standing, p *plan.Plan) {
	for _, id := range l.Unlimited(from) {
		r := p.Resource(id)
		if r == nil {
			continue
		}
		s := stepOf(op.Mend, r, l.title(), 1)
		s.Mends = map[string]string{plan.MendIOPerSecond: "", plan.MendIOMiB: ""}
		if l.PerSecond > 0 {
			s.Mends[plan.MendIOPerSecond] = strconv.Itoa(l.PerSecond)
		}
		if l.MiBPerSecond > 0 {
			s.Mends[plan.MendIOMiB] = strconv.FormatFloat(l.MiBPerSecond, 'g', -1, 64)
		}
		p.Steps = append(p.Steps, s)
		if r.Change == plan.Keep {
			r.Change, r.Reasons = plan.Amend, []string{l.title()}
		}
	}
}

func (l Limiting) title() string {
	switch {
	case l.PerSecond > 0 && l.MiBPerSecond > 0:
		return fmt.Sprintf("bound it to %d reads and writes and %g MiB a second", l.PerSecond, l.MiBPerSecond)
	case l.PerSecond > 0:
		return fmt.Sprintf("bound it to %d reads and writes a second", l.PerSecond)
	case l.MiBPerSecond > 0:
		return fmt.Sprintf("bound it to %g MiB a second", l.MiBPerSecond)
	}
	return "bound it no more"
}
