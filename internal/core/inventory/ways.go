package inventory

import (
	"slices"
	"strings"

	"andamio/internal/core/kinds"
)

// ways are how a finding can be settled, the suggested first.
func ways(f *Finding) []Way {
	declared := f.Declared != nil
	switch {
	case f.Review:
		return []Way{Same, Apart, Ignore}
	case f.Type == Unmanaged:
		return []Way{Adopt, Retire, Ignore}
	case f.Type == Missing && declared && f.Class == kinds.Snapshot: // what it kept is gone
		return []Way{Retire, Ignore}
	case f.Type == Missing && declared:
		return []Way{CorrectSite, Retire, Ignore}
	case f.Type == Stale && declared: // whether it is there must be known before it is given up
		return []Way{Ignore}
	case f.Type == Missing, f.Type == Stale:
		return []Way{Retire, Ignore}
	case f.Type == Moved:
		return []Way{Adopt, Ignore}
	case f.Type == Duplicate && f.OtherRecorded:
		return []Way{Same, Retire, Ignore}
	case f.Type == Duplicate:
		return []Way{Retire, Apart, Ignore}
	}
	ours := CorrectRecord // it is enough that the record follows
	if declaredDiffers(f) {
		ours = Adopt
	}
	switch {
	case !correctable(f):
		return []Way{ours, Ignore}
	case ours == Adopt:
		return []Way{CorrectSite, Adopt, Ignore}
	}
	return []Way{CorrectRecord, CorrectSite, Ignore}
}

// declaredDiffers reports that a deployment says otherwise than the site. What it calls the thing does not count.
func declaredDiffers(f *Finding) bool {
	return slices.ContainsFunc(f.Differences, func(d Difference) bool {
		return d.Attribute != AttrName && d.Declared != "" && !same(d.Declared, d.Observed)
	})
}

// correctable reports that a site can be asked to make every differing attribute what counts.
func correctable(f *Finding) bool {
	return !slices.ContainsFunc(f.Differences, func(d Difference) bool {
		return !Mendable(d.Attribute) && (f.Declared == nil || !Settable(f.Class, d.Attribute))
	})
}

// Mendable reports that a site can be asked to set an attribute without touching what runs.
func Mendable(attribute string) bool {
	return attribute == AttrName || attribute == AttrInside || strings.HasPrefix(attribute, TagPrefix)
}

// Settable reports that a site can be asked to set an attribute of what stands there.
func Settable(class kinds.Kind, attribute string) bool {
	switch attribute {
	case AttrCores, AttrMemory, AttrSize, AttrState:
		return class == kinds.Instance
	}
	return Mendable(attribute)
}
