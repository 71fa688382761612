package plan

import (
	"fmt"
	"slices"
	"strings"
)

// Loss is a disk that a plan takes away with what was written to it.
type Loss struct {
	// Resource is the volume, or the instance whose own disk it is.
	Resource string `json:"resource"`
	// GiB is the size of the disk.
	GiB float64 `json:"gib"`
	// Rebuilt says that another takes its place, which is empty.
	Rebuilt bool `json:"rebuilt,omitempty"`
	// Users are the instances that have the volume, or the software that runs on the instance.
	Users []string `json:"users,omitempty"`
}

// String says whose data goes, in a sentence.
func (l Loss) String() string {
	text := fmt.Sprintf("what is on %s goes (%s GiB", l.Resource, strings.TrimSuffix(fmt.Sprintf("%.1f", l.GiB), ".0"))
	if len(l.Users) > 0 {
		text += ", of " + strings.Join(l.Users, ", ")
	}
	text += ")"
	if l.Rebuilt {
		return text + ": it is built anew, and empty"
	}
	return text
}

// Losses are the disks that a plan takes away with what was written to them, in the plan's order. What a move left behind
// is none: what was on it is where it was moved to.
func (p *Plan) Losses() []Loss {
	var out []Loss
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != Volume && r.Kind != Instance || p.Step(r.ID+"/"+string(Remove)) == nil {
			continue
		}
		if elsewhere, kept := strings.CutSuffix(r.ID, "@"+r.Site); kept {
			if other := p.Resource(elsewhere); other != nil && other.Change != Retire {
				continue
			}
		}
		out = append(out, Loss{Resource: r.ID, GiB: r.Spec.DiskGiB, Rebuilt: r.Change != Retire, Users: p.usersOf(r)})
	}
	return out
}

// usersOf are the instances that stand on a volume, or the software that runs on an instance.
func (p *Plan) usersOf(of *Resource) []string {
	var out []string
	for i := range p.Resources {
		r := &p.Resources[i]
		if of.Kind == Instance && r.On == of.ID || of.Kind == Volume && r.Kind == Instance && slices.Contains(r.StandsOn, of.ID) {
			out = append(out, r.ID)
		}
	}
	return out
}
