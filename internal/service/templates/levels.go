package templates

import (
	"maps"
	"slices"

	"andamio/internal/core/fault"
	"andamio/internal/core/placement"
)

// LevelChoice is a service level that may be chosen for what is raised.
type LevelChoice struct {
	Name string
	// Words say what it promises, Lacking why sites cannot keep it, by their names.
	Words   []string
	Lacking map[string]string
	// Nowhere says why it can be kept at no site at all; "" if it can.
	Nowhere string
}

// Levels are the service levels that may be chosen for the draft; none for what stands, which is given one by itself.
func (d *Draft) Levels() []LevelChoice {
	if d.Stands != nil {
		return nil
	}
	return d.wish.Levels
}

// keeping rules out the sites that cannot keep the service level that was chosen.
func (w DraftRequest) keeping(p *placement.Problem) error {
	if w.Choices.Level == "" {
		return nil
	}
	i := slices.IndexFunc(w.Levels, func(l LevelChoice) bool { return l.Name == w.Choices.Level })
	if i < 0 {
		return fault.NotFoundf("there is no service level %q", w.Choices.Level)
	}
	l := &w.Levels[i]
	if l.Nowhere != "" {
		return fault.Refusedf("%s", l.Nowhere)
	}
	for _, site := range slices.Sorted(maps.Keys(l.Lacking)) { // a rule for each, so that each says its own
		rule := placement.Rule{Name: l.Name + " at " + site, Short: l.Name, Listed: true, Because: l.Lacking[site]}
		for _, s := range p.Estate.Sites {
			if s.Name != site {
				rule.Sites = append(rule.Sites, s.Name)
			}
		}
		p.Rules = append(p.Rules, rule)
	}
	return nil
}
