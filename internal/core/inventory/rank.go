package inventory

import (
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// weighRank ranks a finding by what it costs and endangers.
func weighRank(f *Finding) {
	base := map[Type]float64{Missing: 50, Moved: 30, Duplicate: 25, Changed: 20, Unmanaged: 10, Stale: 5}[f.Type]
	if f.Class != kinds.Instance {
		base /= 2
	}
	service := ""
	for _, r := range []*Record{f.Declared, f.Recorded} {
		if r != nil && service == "" {
			service = r.Attributes[AttrService]
		}
	}
	cost := func(r *Record) money.Amount {
		if r == nil {
			return 0
		}
		return r.Cost()
	}
	switch f.Type {
	case Unmanaged:
		f.CostPerHour = cost(f.Observed)
	case Duplicate:
		if !f.OtherRecorded {
			f.CostPerHour = cost(f.Other)
		}
	case Changed:
		f.CostPerHour = max(cost(f.Observed)-max(cost(f.Declared), cost(f.Recorded)), 0)
	}
	if service != "" && endangers(f) {
		f.Endangers = []string{service}
		base += 60
		f.Why = append(f.Why, "it is part of the service "+service)
	}
	if f.CostPerHour > 0 {
		f.Why = append(f.Why, fmt.Sprintf("it costs %.3f an hour that nobody asked for", f.CostPerHour))
	}
	f.Rank = base + 100*f.CostPerHour.Units()
	if f.Review {
		f.Rank += 15
	}
}

// endangers reports that a service may suffer from a finding: something of it is gone or off, has less than it needs, or
// is reached elsewhere.
func endangers(f *Finding) bool {
	if f.Type == Missing || f.Type == Moved {
		return true
	}
	for _, d := range f.Differences {
		switch d.Attribute {
		case AttrState, AttrAddress, AttrInside, AttrPorts, AttrAttached:
			return true
		case AttrCores, AttrMemory, AttrDisk:
			a, b := Record{Attributes: map[string]string{"v": d.Observed}}, Record{Attributes: map[string]string{"v": d.Right}}
			if a.Number("v") < b.Number("v") {
				return true
			}
		}
	}
	return false
}
