package offers

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/tosca"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// Report is what came of checking an offer.
type Report struct {
	Offer *offer.Offer `json:"offer"`
	// Tried is how many sets of answers were worked out, of how many that there are: all of them if Whole. All is 0 where a question can be
	// answered with anything.
	Tried int  `json:"tried"`
	All   int  `json:"all"`
	Whole bool `json:"whole"`
	// Least and Most are the prices an hour of what was tried.
	Least    money.Amount `json:"least"`
	Most     money.Amount `json:"most"`
	Currency string       `json:"currency,omitempty"`
	// Failed are answers that cannot be had.
	Failed []Failure `json:"failed,omitempty"`
	// Doubts are what is no mistake and may be none meant.
	Doubts []string `json:"doubts,omitempty"`
	// Changes are those against the version that is published.
	Changes []string `json:"changes,omitempty"`

	template *templates.Template
}

// Failure is a set of answers that cannot be had.
type Failure struct {
	Answers offer.Answers `json:"answers"`
	Why     string        `json:"why"`
}

// mostTrials is how many sets of answers an offer is tried with.
const mostTrials = 64

// CheckOffer says whether an offer can be published: what is wrong with it is the error, and answers that cannot be had are in the report.
// Where its template is no whole path, it is looked for from a folder.
func (svc *Service) CheckOffer(ctx context.Context, text []byte, dir string) (*Report, error) {
	if err := svc.desk.Read("the templates"); err != nil {
		return nil, err
	}
	o, err := offer.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	t, err := open(ctx, o.Template, dir)
	if err != nil {
		return nil, fault.As(fault.Invalid, fmt.Errorf("template: %w", err))
	}
	return svc.check(ctx, o, t)
}

// check checks an offer of a template.
func (svc *Service) check(ctx context.Context, o *offer.Offer, t *templates.Template) (*Report, error) {
	if t.Diagnostics.Errors() > 0 {
		return nil, fault.Invalidf("template: %s has mistakes, so it cannot be offered: %s", o.Template, firstMistake(t.Diagnostics))
	}
	r := &Report{Offer: o, template: t}
	if err := errors.Join(o.CheckAgainst(t.Template), svc.checkAround(ctx, o, t, r)); err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	return r, svc.try(ctx, r)
}

// open opens the template that an offer names.
func open(ctx context.Context, place, dir string) (*templates.Template, error) {
	if place == templates.DemoName {
		return templates.DemoTemplate()
	}
	if beside := filepath.Join(dir, place); !filepath.IsAbs(place) && !strings.Contains(place, "://") {
		place = beside
	}
	return templates.OpenTemplate(ctx, source.Place{Path: place})
}

// checkAround checks what an offer says of its preset, the sites and the people.
func (svc *Service) checkAround(ctx context.Context, o *offer.Offer, t *templates.Template, r *Report) error {
	errs := svc.checkLevels(o)
	p, err := t.Preset(o.Preset)
	if err != nil {
		errs = append(errs, fmt.Errorf("preset: %w", err))
	}
	given := p.Inputs
	if given == nil {
		given = tosca.Inputs{}
	}
	if open := o.Unanswered(t.Template, given); len(open) > 0 {
		errs = append(errs, fmt.Errorf("inputs: nothing gives %s: fix it, ask for it, or name a preset that has it", strings.Join(open, ", ")))
	}
	d, err := svc.directory()
	if err != nil {
		return err
	}
	for i, who := range o.Audience {
		if d != nil && !d.Knows(who) {
			errs = append(errs, fmt.Errorf("audience[%d]: %q is neither a person, team:NAME of a team that there is, nor everybody", i, who))
		}
	}
	if d == nil && len(o.Audience) > 0 {
		r.Doubts = append(r.Doubts, "there is no directory of teams, so nobody but the engineer is in the audience")
	}
	if name := o.NameOf("team", "person", 1); deployments.CheckName(name) != nil {
		errs = append(errs, fmt.Errorf("name: it makes names such as %q, which no deployment can have", name))
	}
	return errors.Join(errs...)
}

// try works an offer out for sets of answers.
func (svc *Service) try(ctx context.Context, r *Report) error {
	o := Offer{Offer: *r.Offer}
	e, err := svc.estate(ctx, &o)
	if err != nil {
		return err
	}
	at, err := svc.where(ctx, r.Offer, e)
	if err != nil {
		return err
	}
	r.Currency = e.Currency
	trials := r.Offer.Trials(mostTrials, 1)
	r.Tried, r.All, r.Whole = len(trials.Sets), trials.All, trials.Whole
	for _, set := range trials.Sets {
		if err := ctx.Err(); err != nil {
			return err
		}
		q, err := svc.quote(o, r.template, at, set, "", false)
		if err != nil {
			return err
		}
		switch {
		case len(q.Wrong) > 0:
			r.Failed = append(r.Failed, Failure{set, q.Wrong[0].Why})
		case q.Cannot != "":
			r.Failed = append(r.Failed, Failure{set, q.Cannot})
		default:
			r.price(q.draft.Plan.CostPerHour)
		}
	}
	now, err := svc.store.OfferVersions(ctx, o.Name)
	if err == nil && len(now) > 0 {
		o.Source = r.template.Digest()
		r.Changes = Changes(&now[0], &o)
	}
	return err
}

func (r *Report) price(p money.Amount) {
	if r.Least == 0 || p < r.Least {
		r.Least = p
	}
	r.Most = max(r.Most, p)
}

// Says says in a sentence how much was tried.
func (r *Report) Says() string {
	switch {
	case r.Whole:
		return fmt.Sprintf("all %d sets of answers were worked out", r.Tried)
	case r.All == 0:
		return fmt.Sprintf("%d sets of answers were worked out; a question can be answered with anything, and was left at its default", r.Tried)
	}
	return fmt.Sprintf("%d of %d sets of answers were worked out, with the ends of every question among them", r.Tried, r.All)
}
