package migrate

import (
	"cmp"
	"fmt"
	"strings"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Difference is one thing that will be otherwise where a workload goes.
type Difference struct {
	Instance string `json:"instance"`
	What     string `json:"what"`
	Here     string `json:"here"`
	There    string `json:"there"`
	// Weight is "worse", "better" or "" where it is neither.
	Weight string `json:"weight,omitempty"`
	// Why says what follows from it.
	Why string `json:"why,omitempty"`
}

// hoursPerMonth makes a price by the hour one by the month: 365 days of 24 hours in 12 months.
const hoursPerMonth = 730

// Differences says what will be otherwise for workloads of a design that stands, in the design with them elsewhere.
func Differences(from change.Standing, to *plan.Plan, e *estate.Estate, instances []string, mode change.Mode) []Difference {
	var out []Difference
	for _, id := range instances {
		a, b := from.Plan.Resource(id), to.Resource(id)
		if a == nil || b == nil {
			continue
		}
		d := &differing{from: from, to: to, e: e, id: id, here: e.Site(a.Site), there: e.Site(b.Site), mode: mode}
		if d.here == nil || d.there == nil {
			continue
		}
		d.shape(a, b)
		d.reach()
		d.names()
		d.latency()
		d.features()
		d.cost()
		out = append(out, d.all...)
	}
	return out
}

type differing struct {
	from        change.Standing
	to          *plan.Plan
	e           *estate.Estate
	id          string
	here, there *estate.Site
	mode        change.Mode
	all         []Difference
}

func (d *differing) say(what string, here, there any, weight, why string) {
	x, y := fmt.Sprint(here), fmt.Sprint(there)
	if x == y {
		return
	}
	d.all = append(d.all, Difference{d.id, what, orNone(x), orNone(y), weight, why})
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (d *differing) shape(a, b *plan.Resource) {
	d.say("size", strings.TrimSpace(a.AsInstance().Size+" "+shapeOf(a)), strings.TrimSpace(b.AsInstance().Size+" "+shapeOf(b)), "", "")
	d.say("zone", a.Zone, b.Zone, "", "")
	d.say("image", a.AsInstance().Image, b.AsInstance().Image, "", "what is on the disk comes along; the image is only what the site calls it by")
	d.say("host name", a.AsInstance().Hostname, b.AsInstance().Hostname, "", "")
	d.say("storage class", a.AsInstance().Class, b.AsInstance().Class, "", "")
}

func shapeOf(r *plan.Resource) string {
	return estate.Cores(r.AsInstance().Cores) + " " + estate.GiB(r.AsInstance().MemoryGiB)
}

// reach says how the workload's address and ports change.
func (d *differing) reach() {
	for i := range d.to.Resources {
		f := &d.to.Resources[i]
		if f.Kind != kinds.Interface || f.AsInterface().Instance != d.id {
			continue
		}
		known := d.from.Plan.Known[f.ID]
		was := d.from.Plan.Resource(f.ID)
		if was == nil {
			continue
		}
		address := "one of the site's"
		if d.there.Network == estate.Ports {
			address = "the site's own, shared"
		}
		d.say("address", known["address"], address, "", "names follow; what was given the address is told anew")
		d.say("inside address", was.AsInterface().Address, f.AsInterface().Address, "", "")
		d.say("network", was.AsInterface().Network, f.AsInterface().Network, "", "")
		mac := f.AsInterface().MAC
		if mac == "" {
			mac = "a new one"
		}
		if known["mac"] != "" {
			d.say("hardware address", known["mac"], mac, "", "")
		}
		for _, port := range f.AsInterface().Ports {
			what, here := fmt.Sprintf("port %d", port), cmp.Or(known[fmt.Sprintf("port.%d", port)], fmt.Sprint(port))
			if d.there.Network == estate.Ports {
				d.say(what, here, "another one", "worse", "the network there maps ports: whoever knows the number must be told; the name's service record says it")
			} else {
				d.say(what, here, port, "better", "it is reached by its own number")
			}
		}
	}
}

// names says which names follow.
func (d *differing) names() {
	for i := range d.to.Steps {
		s := &d.to.Steps[i]
		if s.Op != op.Name {
			continue
		}
		if f := d.to.Resource(s.Naming.Interface); f != nil && f.AsInterface().Instance == d.id {
			d.all = append(d.all, Difference{d.id, "name", s.Naming.Name + "." + d.to.Zone, "the same, for the new address", "", "resolvers are waited for"})
		}
	}
}

// latency says how far it is from its neighbours.
func (d *differing) latency() {
	seen := map[string]bool{}
	for i := range d.to.Resources {
		r := &d.to.Resources[i]
		if r.Kind != kinds.Software {
			continue
		}
		for _, on := range r.StandsOn {
			o := d.to.Resource(on)
			if o == nil || o.Kind != kinds.Software || o.On == r.On || r.On != d.id && o.On != d.id {
				continue
			}
			other := r
			if r.On == d.id {
				other = o
			}
			was := d.from.Plan.Resource(other.On)
			if seen[other.On] || was == nil || d.to.Resource(other.On).Site != was.Site {
				continue
			}
			seen[other.On] = true
			before, after := d.far(d.here, was.Site), d.far(d.there, was.Site)
			weight := map[bool]string{true: "worse", false: "better"}[after > before]
			d.say("distance to "+other.Title, ms(before), ms(after), weight, "one way")
		}
	}
}

// far is how far a site is from another, in milliseconds.
func (d *differing) far(from *estate.Site, to string) float64 {
	other := d.e.Site(to)
	if other == nil {
		return 0
	}
	x, _ := estate.Distance(from, other)
	return x
}

func ms(x float64) string {
	if x == 0 {
		return "same site"
	}
	return fmt.Sprintf("%g ms", x)
}

// features says what the site has that the other does not.
func (d *differing) features() {
	for _, f := range d.here.Features {
		if !d.there.Has(f) {
			d.all = append(d.all, Difference{d.id, "feature " + f, "has it", "missing", "worse", "what relies on it is to do without"})
		}
	}
	if d.there.Jurisdiction != d.here.Jurisdiction {
		d.say("jurisdiction", d.here.Jurisdiction, d.there.Jurisdiction, "", "")
	}
}

func (d *differing) cost() {
	sum := func(p *plan.Plan) money.Amount {
		var out money.Amount
		for i := range p.Resources {
			if r := &p.Resources[i]; r.ID == d.id || r.Kind == kinds.Volume && p.Step(op.Attach.For(d.id, r.ID)) != nil {
				out += r.CostPerHour
			}
		}
		return out
	}
	before, after := sum(d.from.Plan), sum(d.to)
	weight := map[bool]string{true: "worse", false: "better"}[after > before]
	d.say("cost a month", fmt.Sprintf("%.2f %s", before.Times(hoursPerMonth), d.e.Currency), fmt.Sprintf("%.2f %s", after.Times(hoursPerMonth), d.e.Currency), weight,
		"until the move is committed both are paid for, but for what is switched off")
}
