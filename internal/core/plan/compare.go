package plan

import (
	"encoding/json"
	"maps"
	"slices"
)

// Change is what becomes of a resource between one plan and another.
type Change string

// The changes, in the words people use of them.
const (
	Build   Change = "build"
	Amend   Change = "change"
	Rebuild Change = "rebuild"
	Retire  Change = "retire"
	Keep    Change = "keep"
	// Moved resources come from another site, with what is on their disks.
	Moved Change = "move"
)

// Difference says of every resource of two plans what becomes of it: one only in the new plan is built, one only in the
// old is retired, one at another site is rebuilt, one that is asked for otherwise is changed, and any other is kept.
type Difference map[string]Change

// Compare works out the difference between two plans of one design.
func Compare(old, now *Plan) Difference {
	out := Difference{}
	for i := range now.Resources {
		r := &now.Resources[i]
		before := old.Resource(r.ID)
		switch {
		case before == nil:
			out[r.ID] = Build
		case before.Site != r.Site:
			out[r.ID] = Rebuild
		case !same(old, before, now, r):
			out[r.ID] = Amend
		default:
			out[r.ID] = Keep
		}
	}
	for i := range old.Resources {
		if id := old.Resources[i].ID; now.Resource(id) == nil {
			out[id] = Retire
		}
	}
	return out
}

// same reports whether two resources are asked for in the same way: their specifications, and what their scripts are
// given.
func same(old *Plan, a *Resource, now *Plan, b *Resource) bool {
	return a.Kind == b.Kind && a.Zone == b.Zone && a.Detail == b.Detail && equal(a.Spec, b.Spec) &&
		slices.EqualFunc(scripts(old, a.ID), scripts(now, b.ID), func(x, y *Script) bool { return equal(x, y) })
}

func scripts(p *Plan, resource string) []*Script {
	var out []*Script
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Resource == resource && s.Script != nil {
			out = append(out, s.Script)
		}
	}
	return out
}

func equal(a, b any) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

// Count says how many resources of each change there are.
func (d Difference) Count() map[Change]int {
	out := map[Change]int{}
	for _, c := range slices.Collect(maps.Values(d)) {
		out[c]++
	}
	return out
}
