package deployments

import (
	"slices"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
)

// DisksOf are the instances and volumes of what stands that some words name: themselves, their node, or their tier; no words mean all.
func DisksOf(d *Deployment, words []string) ([]string, error) {
	found := make([]bool, len(words))
	var out []string
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		if r.Kind != kinds.Instance && r.Kind != kinds.Volume || r.IsCopy() {
			continue
		}
		is := len(words) == 0
		for k, word := range words {
			if word == r.ID || word == r.Node || word == r.Service {
				is, found[k] = true, true
			}
		}
		if is {
			out = append(out, r.ID)
		}
	}
	if k := slices.Index(found, false); k >= 0 {
		return nil, fault.NotFoundf("%s has no instance, volume or tier %q; there are %s", d.Name, words[k], strings.Join(Tiers(d.Stand.Plan), ", "))
	}
	if out == nil {
		return nil, fault.NotFoundf("nothing stands of %s that has a disk", d.Name)
	}
	return out, nil
}
