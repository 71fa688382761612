package workspace

import (
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
)

// Takes reports that a thing is of a kind and has all the tags that are asked for.
func (f Filter) Takes(kind kinds.Kind, o *mapping.Observation) bool {
	if strings.HasPrefix(o.Mark, "andamio ") {
		return true // what deployments made always concerns us
	}
	if len(f.Kinds) > 0 && !slices.Contains(f.Kinds, kind) {
		return false
	}
	for _, want := range f.Tags {
		name, value, valued := strings.Cut(want, "=")
		got, has := o.Raw["andamio.tag."+name]
		if !has || valued && got != value {
			return false
		}
	}
	return true
}
