package plan

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/printable"
)

// Loss is a disk that a plan takes away with what was written to it, or a snapshot.
type Loss struct {
	// Resource is the volume, the instance whose own disk it is, or the snapshot.
	Resource string `json:"resource"`
	// Name is what people call it.
	Name string `json:"name"`
	// GiB is the size of the disk.
	GiB float64 `json:"gib"`
	// Rebuilt says that another takes its place, which is empty.
	Rebuilt bool `json:"rebuilt,omitempty"`
	// Since is the snapshot to which the disk is restored: what was written after it goes.
	Since string `json:"since,omitempty"`
	// Snapshot says that it is one.
	Snapshot bool `json:"snapshot,omitempty"`
	// Users are the instances that have the volume, or the software that runs on the instance.
	Users []string `json:"users,omitempty"`
}

// String says whose data goes, in a sentence.
func (l Loss) String() string {
	var about []string
	if l.GiB > 0 {
		about = append(about, strings.TrimSuffix(fmt.Sprintf("%.1f", l.GiB), ".0")+" GiB")
	}
	if len(l.Users) > 0 {
		about = append(about, "of "+strings.Join(l.Users, ", "))
	}
	text := "what is on " + l.Name + " goes"
	switch {
	case l.Since != "":
		text = "what was written to " + l.Name + " since " + l.Since + " goes"
	case l.Snapshot:
		text = l.Name + " goes"
	}
	if len(about) > 0 {
		text += " (" + strings.Join(about, ", ") + ")"
	}
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
		if since := p.since(r); since != "" {
			out = append(out, Loss{Resource: r.ID, Name: nameOf(r), GiB: r.DiskGiB(), Since: since, Users: p.usersOf(r)})
		}
		if p.Step(op.Remove.On(r.ID)) == nil {
			continue
		}
		if r.Kind == kinds.Snapshot && !p.superseded(r) {
			out = append(out, Loss{Resource: r.ID, Name: "the snapshot " + r.AsSnapshot().Set + " of " + r.AsSnapshot().Of, GiB: r.DiskGiB(), Snapshot: true})
		}
		if r.Kind != kinds.Volume && r.Kind != kinds.Instance {
			continue
		}
		if elsewhere, kept := strings.CutSuffix(r.ID, "@"+r.Site); kept {
			if other := p.Resource(elsewhere); other != nil && other.Change != Retire {
				continue
			}
		}
		out = append(out, Loss{Resource: r.ID, Name: nameOf(r), GiB: r.DiskGiB(), Rebuilt: r.Change != Retire, Users: p.usersOf(r)})
	}
	return out
}

// superseded reports that a snapshot goes because another of its disk is taken.
func (p *Plan) superseded(r *Resource) bool {
	return slices.ContainsFunc(p.Resources, func(x Resource) bool {
		return x.Kind == kinds.Snapshot && x.Change == Build && x.AsSnapshot().Of == r.AsSnapshot().Of
	})
}

// since is the set to which a disk is restored that stood before, with nothing kept of what it holds; "" if it is not.
func (p *Plan) since(r *Resource) string {
	s := p.Step(op.Restore.On(r.ID))
	if s == nil || r.Change == Build || r.Change == "" { // what is built anew held nothing
		return ""
	}
	for i := range p.Resources {
		if x := &p.Resources[i]; x.Kind == kinds.Snapshot && x.Change == Build && x.AsSnapshot().Of == r.ID {
			return ""
		}
	}
	return s.Restoring.Set
}

// mostLost bounds how many disks are named that a plan takes away with what is on them.
const mostLost = 4

// Losing says in sentences whose data plans take away, "" if none does.
func Losing(plans ...*Plan) string {
	var all []Loss
	for _, p := range plans {
		all = append(all, p.Losses()...)
	}
	var out []string
	for _, l := range all[:min(len(all), mostLost)] {
		text := l.String()
		out = append(out, strings.ToUpper(text[:1])+text[1:]+".")
	}
	if more := len(all) - mostLost; more > 0 {
		out = append(out, fmt.Sprintf("So does what is on %s.", printable.Count(more, "more disk")))
	}
	return strings.Join(out, " ")
}

// nameOf is what people call a resource: its own name, or its title where that is the site's.
func nameOf(r *Resource) string {
	if strings.Contains(r.ID, "/") && r.Title != "" {
		return r.Title
	}
	return r.ID
}

// usersOf are the instances that stand on a volume, or the software that runs on an instance.
func (p *Plan) usersOf(of *Resource) []string {
	var out []string
	for i := range p.Resources {
		r := &p.Resources[i]
		if of.Kind == kinds.Instance && r.On == of.ID || of.Kind == kinds.Volume && r.Kind == kinds.Instance && slices.Contains(r.StandsOn, of.ID) {
			out = append(out, r.ID)
		}
	}
	return out
}
