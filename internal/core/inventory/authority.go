package inventory

import (
	"strings"

	"andamio/internal/core/kinds"
)

// Authority is whose word counts for an attribute.
type Authority string

// The authorities. Nobody's word counts for what is not compared.
const (
	ByDeclared Authority = "declared"
	ByRecorded Authority = "recorded"
	ByObserved Authority = "observed"
	ByNobody   Authority = "nobody"
)

// Rules say whose word counts, by attribute, by CLASS.ATTRIBUTE, or by a prefix with a star.
type Rules map[string]Authority

// DefaultRules is what counts where nobody says otherwise: what a deployment asks for, it decides; names, tags and
// addresses are as recorded; what only a site can know is as observed.
var DefaultRules = Rules{
	AttrCores: ByDeclared, AttrMemory: ByDeclared, AttrDisk: ByDeclared, AttrSize: ByDeclared, AttrImage: ByDeclared,
	"cidr": ByDeclared, "vlan": ByDeclared, AttrAttached: ByDeclared, AttrNetwork: ByDeclared, AttrInstance: ByDeclared,
	AttrInside: ByDeclared, AttrPorts: ByDeclared, AttrState: ByDeclared, AttrHostname: ByDeclared,
	AttrName: ByRecorded, TagPrefix + "*": ByRecorded, AttrAddress: ByRecorded, AttrService: ByRecorded,
	AttrZone: ByDeclared, AttrHost: ByObserved, AttrCost: ByNobody,
	"*": ByObserved,
}

// Of is whose word counts for an attribute of a class.
func (r Rules) Of(class kinds.Kind, attribute string) Authority {
	for _, set := range []Rules{r, DefaultRules} {
		if a, ok := set[string(class)+"."+attribute]; ok {
			return a
		}
		if a, ok := set[attribute]; ok {
			return a
		}
		if i := strings.IndexByte(attribute, '.'); i > 0 {
			if a, ok := set[attribute[:i+1]+"*"]; ok {
				return a
			}
		}
	}
	if a, ok := r["*"]; ok {
		return a
	}
	return DefaultRules["*"]
}

// closed reports that a source which knows the thing and does not have the attribute says that there is none: a tag
// that is not there is a tag removed, and a volume without an instance is attached to none.
func closed(attribute string) bool {
	switch attribute {
	case AttrAttached, AttrInside, AttrAddress:
		return true
	}
	return strings.HasPrefix(attribute, TagPrefix)
}
