package occi

import (
	"context"
	"math"
	"net/http"

	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

var _ site.Meter = (*Driver)(nil)

// Measure asks what the machines of the site use. What is no number that could be meant is left out.
func (d *Driver) Measure(ctx context.Context) ([]site.Metered, error) {
	var told wire.Measures
	if err := d.do(ctx, "measure", http.MethodGet, wire.PathMeasures, nil, nil, &told); err != nil {
		return nil, err
	}
	out := make([]site.Metered, 0, len(told.Machines))
	for _, m := range told.Machines {
		for name, v := range m.Values {
			if v < 0 || math.IsNaN(v) || math.IsInf(v, 0) {
				delete(m.Values, name)
			}
		}
		if m.ID != "" && len(m.Values) > 0 {
			out = append(out, site.Metered{ID: m.ID, Values: m.Values})
		}
	}
	return out, nil
}
