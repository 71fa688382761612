package inventory

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
)

// fold takes findings that only follow from another into that one: the interfaces of an instance that is gone or nobody
// knows, and volumes that lost such an instance.
func (c *reconciler) fold() {
	all := c.report.Findings
	of := map[string]int{}
	note := func(i int, r *Record) {
		if r != nil && r.Provider != "" {
			of[r.Site+"\x00"+r.Provider] = i
		}
	}
	for i := range all {
		f := &all[i]
		if f.Class == kinds.Instance && (f.Type == Missing || f.Type == Unmanaged || f.Type == Moved) {
			note(i, f.Recorded)
			note(i, f.Declared)
			note(i, f.Observed)
		}
		if f.Class == kinds.Instance && f.Type == Duplicate {
			note(i, f.Other)
		}
	}
	if len(of) == 0 {
		return
	}
	carried := make([]bool, len(all))
	for i := range all {
		all[i].unhang(of, all)
		on, ok := follows(&all[i])
		if k, known := of[all[i].Site+"\x00"+on]; ok && known && k != i {
			carried[i] = true
			all[k].Carries = append(all[k].Carries, fmt.Sprintf("%s %s", all[i].Class, all[i].Name))
		}
	}
	kept := all[:0]
	for i := range all {
		if !carried[i] {
			kept = append(kept, all[i])
		}
	}
	c.report.Findings = kept
}

// unhang takes out of a changed volume that the instance it was attached to is gone, where it differs in more than that.
func (f *Finding) unhang(of map[string]int, all []Finding) {
	k := slices.IndexFunc(f.Differences, func(d Difference) bool { return d.Attribute == AttrAttached })
	if f.Type != Changed || k < 0 || len(f.Differences) < 2 {
		return
	}
	i, known := of[f.Site+"\x00"+f.Differences[k].Right]
	if !known {
		return
	}
	all[i].Carries = append(all[i].Carries, fmt.Sprintf("%s %s", f.Class, f.Name))
	f.Differences = slices.Delete(slices.Clone(f.Differences), k, k+1)
	f.Why = slices.DeleteFunc(f.Why, func(w string) bool { return strings.HasPrefix(w, AttrAttached+":") })
	f.Endangers = nil
	f.Why = slices.DeleteFunc(f.Why, func(w string) bool {
		return strings.HasPrefix(w, "it is part of the service") || strings.HasPrefix(w, "it costs")
	})
	f.Ways = ways(f)
	weighRank(f)
}

// follows is the instance that a finding may only follow from.
func follows(f *Finding) (instance string, ok bool) {
	s := f.Subject()
	switch {
	case f.Class == kinds.Interface && (f.Type == Missing || f.Type == Unmanaged || f.Type == Duplicate):
		instance = s.Attributes[AttrInstance]
	case f.Type == Changed && !f.Review && len(f.Differences) == 1 && f.Differences[0].Attribute == AttrAttached:
		instance = f.Differences[0].Right
	}
	return instance, instance != ""
}
