package offers

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
)

// Quote is what answers to an offer's questions would give: where it would stand, how large it is, at what price; or why it cannot be.
type Quote struct {
	Offer  string `json:"offer"`
	Number int64  `json:"number"`
	// Wrong are answers that are none. With any, nothing else is worked out.
	Wrong []offer.Wrong `json:"wrong,omitempty"`
	// Cannot says why it cannot be had, and what would help; "" if it can.
	Cannot string `json:"cannot,omitempty"`
	// Places are the sites that it would stand at, with how much of it.
	Places []Place `json:"places,omitempty"`
	Size   Size    `json:"size"`
	// PerHour is the price that is shown, PerMonth that of 730 hours; Hidden says that none is.
	PerHour  money.Amount `json:"per_hour"`
	PerMonth money.Amount `json:"per_month"`
	Currency string       `json:"currency,omitempty"`
	Hidden   bool         `json:"hidden,omitempty"`
	// Seconds is how long it is expected to take until it serves.
	Seconds float64 `json:"seconds"`
	// Sites is the same at every site that it may stand at, all of it there, the cheapest first; those that cannot have it say why.
	Sites []AtSite `json:"sites,omitempty"`
	// Kept is the service level that it would have; nil where nothing is promised.
	Kept *Kept `json:"kept,omitempty"`

	draft *templates.Draft
}

// Place is what of it stands at a site.
type Place struct {
	Site      string `json:"site"`
	Instances int    `json:"instances"`
}

// Size is how much it takes.
type Size struct {
	Instances int     `json:"instances"`
	Cores     int     `json:"cores"`
	MemoryGiB float64 `json:"memory_gib"`
	DiskGiB   float64 `json:"disk_gib"`
	Addresses int     `json:"addresses"`
}

// AtSite is the same at one site alone.
type AtSite struct {
	Site    string       `json:"site"`
	PerHour money.Amount `json:"per_hour"`
	Cannot  string       `json:"cannot,omitempty"`
}

// HoursPerMonth is of how many hours a month's price is.
const HoursPerMonth = 730

// Draft is what the quote was worked out as; nil where it cannot be had.
func (q *Quote) Draft() *templates.Draft { return q.draft }

// Quote works out what answers would give now. With compare the same is worked out for every site by itself.
func (svc *Service) Quote(ctx context.Context, o Offer, given offer.Answers, name string, compare bool) (*Quote, error) {
	t, err := svc.templateOf(ctx, &o)
	if err != nil {
		return nil, err
	}
	e, err := svc.estate(ctx, &o)
	if err != nil {
		return nil, err
	}
	at, err := svc.where(ctx, &o.Offer, e)
	if err != nil {
		return nil, err
	}
	return svc.quote(o, t, at, given, name, compare)
}

// estate is what of the connected sites an offer may use. Sites that do not answer are not used.
func (svc *Service) estate(ctx context.Context, o *Offer) (*estate.Estate, error) {
	e, offline := svc.sites.Estate(ctx)
	if e == nil || len(e.Sites) == 0 {
		return nil, svc.withheld(fault.Unavailablef("no site answers, so nothing can be priced"), offline)
	}
	return only(e, o.At), nil
}

// withheld is an error with what it comes from, which whoever may not read all is not told: where sites are reached is in it.
func (svc *Service) withheld(err, from error) error {
	d, wrong := svc.directory()
	if wrong == nil && (d == nil || d.Unbounded(svc.desk.Actor.Name, guard.Read)) {
		return errors.Join(err, from)
	}
	return err
}

// only is an estate with some of its sites.
func only(e *estate.Estate, which func(string) bool) *estate.Estate {
	out := *e
	out.Sites = slices.DeleteFunc(slices.Clone(e.Sites), func(s *estate.Site) bool { return !which(s.Name) })
	return &out
}

// where is the estate that an offer is worked out for, with which of its sites keep snapshots.
type where struct {
	*estate.Estate
	keeping []sites.Keeping
}

// where is an estate with what an offer's service levels have to know of its sites.
func (svc *Service) where(ctx context.Context, o *offer.Offer, e *estate.Estate) (where, error) {
	if len(o.Levels) == 0 {
		return where{Estate: e}, nil
	}
	keeping, err := svc.sites.Keeping(ctx)
	return where{e, keeping}, err
}

func (svc *Service) quote(o Offer, t *templates.Template, e where, given offer.Answers, name string, compare bool) (*Quote, error) {
	out := &Quote{Offer: o.Name, Number: o.Number, Currency: e.Currency}
	if _, out.Wrong = o.InputsOf(t.Template, given, nil); len(out.Wrong) > 0 {
		return out, nil
	}
	w, err := svc.deployments.Ruled(templates.DraftRequest{Preset: o.Preset, Name: name})
	if err != nil {
		return nil, err
	}
	l, lacks, kept, err := svc.keeping(&o, e.keeping, given)
	if err != nil {
		return nil, err
	}
	able := only(e.Estate, func(s string) bool { return lacks[s] == "" })
	best, err := cheapest(&o, t, able, given, w)
	if err != nil {
		return nil, err
	}
	if l != nil && best.draft != nil && l.Drill != nil && !hasVolume(best.draft.Plan) {
		best = tried{why: fmt.Sprintf("it has no volumes, and only these can be raised beside: restoring it cannot be tried, as %s promises", l.Name)}
	}
	out.take(best, o.Price)
	if out.Kept = kept; kept != nil && out.draft != nil {
		kept.PerHour = keepingCosts(e.Estate, out.draft.Plan, l)
	}
	if compare {
		out.Sites = lacking(eachSite(&o, t, able, given, w), lacks, e.Sites)
	}
	return out, nil
}

// tried is an offer worked out at some sites.
type tried struct {
	draft *templates.Draft
	why   string
}

// cheapest works an offer out where it is as it is, and at the sites of each of its variants, and is the cheapest of these.
func cheapest(o *Offer, t *templates.Template, e *estate.Estate, given offer.Answers, w templates.DraftRequest) (tried, error) {
	var best tried
	parts := []struct {
		variant *offer.Variant
		at      *estate.Estate
	}{{nil, only(e, func(s string) bool { return o.VariantAt(s) == nil })}}
	for i := range o.Variants {
		v := &o.Variants[i]
		parts = append(parts, struct {
			variant *offer.Variant
			at      *estate.Estate
		}{v, only(e, func(s string) bool { return o.VariantAt(s) == v })})
	}
	for _, p := range parts {
		if len(p.at.Sites) == 0 {
			continue
		}
		x := workOut(o, t, p.at, given, p.variant, w)
		switch {
		case x.draft != nil && (best.draft == nil || x.draft.Plan.CostPerHour < best.draft.Plan.CostPerHour):
			best = x
		case best.draft == nil && best.why == "":
			best.why = x.why
		}
	}
	if best.draft == nil && best.why == "" {
		best.why = "it may stand at none of the sites that answer"
	}
	return best, nil
}

// workOut works an offer out at some sites.
func workOut(o *Offer, t *templates.Template, at *estate.Estate, given offer.Answers, v *offer.Variant, w templates.DraftRequest) tried {
	inputs, wrong := o.InputsOf(t.Template, given, v)
	if len(wrong) > 0 {
		return tried{why: wrong[0].Why}
	}
	w.Inputs = inputs
	d := templates.NewDraft(t, w, at)
	switch {
	case d.Diagnostics.Errors() > 0:
		return tried{why: firstMistake(d.Diagnostics)}
	case d.Err != nil:
		return tried{why: d.Err.Error()}
	case d.Plan == nil:
		return tried{why: "no plan came of it"}
	}
	return tried{draft: d}
}

func firstMistake(all tosca.Diagnostics) string {
	for _, d := range all {
		if d.Severity == tosca.Mistake {
			return d.Message
		}
	}
	return ""
}

// eachSite works the offer out at every site by itself.
func eachSite(o *Offer, t *templates.Template, e *estate.Estate, given offer.Answers, w templates.DraftRequest) []AtSite {
	out := make([]AtSite, len(e.Sites))
	var group sync.WaitGroup
	for i, s := range e.Sites {
		group.Go(func() {
			x := workOut(o, t, only(e, func(name string) bool { return name == s.Name }), given, o.VariantAt(s.Name), w)
			out[i] = AtSite{Site: s.Name, Cannot: x.why}
			if x.draft != nil {
				out[i].PerHour, _ = o.Price.Amount(x.draft.Plan.CostPerHour)
			}
		})
	}
	group.Wait()
	slices.SortStableFunc(out, func(a, b AtSite) int {
		switch {
		case (a.Cannot == "") != (b.Cannot == ""):
			if a.Cannot == "" {
				return -1
			}
			return 1
		case a.PerHour != b.PerHour:
			return int(max(-1, min(1, a.PerHour-b.PerHour)))
		}
		return 0
	})
	return out
}

// take fills in what an offer was worked out as.
func (q *Quote) take(x tried, p offer.Price) {
	q.draft, q.Cannot = x.draft, x.why
	if x.draft == nil {
		return
	}
	pl := x.draft.Plan
	q.Size, q.Seconds = SizeOf(pl), pl.Seconds
	shown, visible := p.Amount(pl.CostPerHour)
	q.PerHour, q.PerMonth, q.Hidden = shown, shown*HoursPerMonth, !visible
	for i := range pl.Resources {
		if r := &pl.Resources[i]; r.Kind == kinds.Instance {
			k := slices.IndexFunc(q.Places, func(p Place) bool { return p.Site == r.Site })
			if k < 0 {
				k = len(q.Places)
				q.Places = append(q.Places, Place{Site: r.Site})
			}
			q.Places[k].Instances++
		}
	}
}

// SizeOf is how much a plan takes when all of it stands.
func SizeOf(p *plan.Plan) Size {
	var out Size
	for i := range p.Resources {
		r := &p.Resources[i]
		out.DiskGiB += r.DiskGiB()
		switch r.Kind {
		case kinds.Instance:
			out.Instances++
			out.Cores += r.AsInstance().Cores
			out.MemoryGiB += r.AsInstance().MemoryGiB
		case kinds.Interface:
			out.Addresses++
		}
	}
	return out
}

// Says is a size in words.
func (s Size) Says() string {
	addresses := "1 address"
	if s.Addresses != 1 {
		addresses = fmt.Sprintf("%d addresses", s.Addresses)
	}
	return fmt.Sprintf("%s, %s, %s memory, %s disk, %s", printable.Count(s.Instances, "instance"), estate.Cores(s.Cores), estate.GiB(s.MemoryGiB), estate.GiB(s.DiskGiB), addresses)
}
