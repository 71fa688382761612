package offers

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/level"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/plan"
	"andamio/internal/service/sites"
)

// Kept is the service level that something would have.
type Kept struct {
	Level string `json:"level"`
	// Note is the level's, Words say what is promised.
	Note  string   `json:"note,omitempty"`
	Words []string `json:"words"`
	// PerHour is what keeping all copies costs at most, beside the price.
	PerHour money.Amount `json:"per_hour"`
}

// Short says which service level it is, and the first of what it promises.
func (k *Kept) Short() string { return "Kept at the level " + k.Level + ": " + k.Words[0] }

// Says says what is promised, and what that costs beside the price where that is shown.
func (k *Kept) Says(currency string, hidden bool) string {
	text := "Kept at the level " + k.Level + ": " + strings.Join(k.Words, "; ")
	if !hidden && k.PerHour > 0 {
		text += fmt.Sprintf("; keeping the copies costs at most %.3f %s/h more", k.PerHour.Units(), currency)
	}
	return text + "."
}

// checkLevels says which service levels of an offer there are not, and which promise less than a rule asks of what is made of it.
func (svc *Service) checkLevels(o *offer.Offer) []error {
	f, err := svc.levels()
	if err != nil {
		return []error{err}
	}
	var errs []error
	for i, name := range o.Levels {
		if f.Level(name) == nil {
			errs = append(errs, fmt.Errorf("levels[%d]: there is no service level %q; there are %s", i, name, orNone(strings.Join(f.Names(), ", "))))
		}
	}
	of := &condition.Subject{Stage: o.Stage}
	if o.Service != "" {
		of.Services = []string{o.Service}
	}
	r, err := f.Required(of)
	if err != nil {
		return append(errs, err)
	}
	if r == nil {
		return errs
	}
	if len(o.Levels) == 0 {
		errs = append(errs, fmt.Errorf("levels: the rule %s asks for %s or better: %s", r.Name, r.Level, r.Say))
	}
	for i, name := range o.Levels {
		if f.Below(name, r.Level) {
			errs = append(errs, fmt.Errorf("levels[%d]: the rule %s asks for %s or better: %s", i, r.Name, r.Level, r.Say))
		}
	}
	return errs
}

// keeping is the service level that answers choose, and of every site that lacks what it takes why; nil where nothing is promised.
func (svc *Service) keeping(o *Offer, at []sites.Keeping, given offer.Answers) (*level.Level, map[string]string, *Kept, error) {
	name := o.LevelOf(given)
	if name == "" {
		return nil, nil, nil, nil
	}
	f, err := svc.levels()
	if err != nil {
		return nil, nil, nil, err
	}
	l := f.Level(name)
	if l == nil {
		return nil, nil, nil, fault.NotFoundf("there is no service level %q any more", name)
	}
	lacks := map[string]string{}
	for _, k := range at {
		if why := l.Lacks(k.Site, k.Able); why != "" {
			lacks[k.Site.Name] = why
		}
	}
	if r := l.Replicate; r != nil && !slices.ContainsFunc(at, func(k sites.Keeping) bool { return k.Site.Name == r.Site && k.Keeps }) {
		for _, k := range at {
			lacks[k.Site.Name] = fmt.Sprintf("%s keeps copies at %s, which does not answer or keeps none", l.Name, r.Site)
		}
	}
	return l, lacks, &Kept{Level: name, Note: l.Note, Words: l.Words(f.Zone)}, nil
}

// keepingCosts is what keeping so much of all disks of a plan costs an hour as a level promises.
func keepingCosts(e *estate.Estate, p *plan.Plan, l *level.Level) money.Amount {
	var out money.Amount
	for i := range p.Resources {
		r := &p.Resources[i]
		if at := e.Site(r.Site); at != nil && (r.Kind == kinds.Volume || r.Kind == kinds.Instance) {
			own := at.VolumeCosts(r.DiskGiB(), "")
			out += own * money.Amount(l.Copies())
			if l.Replicate != nil && l.Replicate.Site != r.Site {
				if there := e.Site(l.Replicate.Site); there != nil {
					out += own + 2*there.VolumeCosts(r.DiskGiB(), "")
				}
			}
		}
	}
	return out
}

// lacking adds the sites that lack what a service level takes to those that an offer was worked out at.
func lacking(all []AtSite, lacks map[string]string, sites []*estate.Site) []AtSite {
	for _, s := range sites {
		if why := lacks[s.Name]; why != "" && !slices.ContainsFunc(all, func(x AtSite) bool { return x.Site == s.Name }) {
			all = append(all, AtSite{Site: s.Name, Cannot: why})
		}
	}
	return all
}

func hasVolume(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Resources, func(r plan.Resource) bool { return r.Kind == kinds.Volume })
}
