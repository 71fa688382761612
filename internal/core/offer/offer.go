// Package offer is templates made available: what is fixed of one, which choices are left, who may ask for it, and what it is called then.
//
// In go an offer's file (YAML or JSON, schemas/offer.schema.json), a template, and the answers of whoever asks; out come what is wrong
// with the offer, inputs of the template, or what is wrong with an answer, in words for people who know nothing of templates.
package offer

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/promise"
)

// Version is the format of offers that [Read] accepts.
const Version = "andamio.offer/1"

// Offer is a template with choices left, made available to an audience.
type Offer struct {
	Version string `json:"version"`
	// Name names it for good; Title is what it is called.
	Name     string `json:"offer"`
	Title    string `json:"title"`
	Category string `json:"category,omitempty"`
	// Note says in plain words what one gets, and what not.
	Note string `json:"note,omitempty"`

	// Template is where its template is opened, as everywhere; what is published is the template as it was then. Preset gives inputs,
	// over which those that are fixed here go.
	Template  string         `json:"template"`
	Preset    string         `json:"preset,omitempty"`
	Inputs    map[string]any `json:"inputs,omitempty"`
	Questions []Question     `json:"questions,omitempty"`
	// Variants are other inputs where it stands at some sites alone.
	Variants []Variant `json:"variants,omitempty"`

	// Audience is who may ask for it: people, team:NAME, or everybody, which is so where nothing is said.
	Audience []string `json:"audience,omitempty"`
	// Sites are where it may stand, by patterns; none is all.
	Sites []string `json:"sites,omitempty"`
	// Service and Stage are those of what is made of it.
	Service string `json:"service,omitempty"`
	Stage   string `json:"stage,omitempty"`
	// Naming makes names of deployments, of ${offer}, ${team}, ${person} and ${number}, the lowest that is free.
	Naming string `json:"name,omitempty"`
	Price  Price  `json:"price,omitzero"`
	// Lease says when what is made of it ends; nil is never.
	Lease *Lease `json:"lease,omitempty"`
	// Levels are the service levels that whoever asks may choose among; the first is that of who chooses none. None promises nothing.
	Levels []string `json:"levels,omitempty"`
}

// Lease is for how long what is made of an offer is there, in spans such as 30d: it is switched off then, kept for a grace, and taken away. Whoever it is of
// may have it end later, so often by so much.
type Lease struct {
	For         string `json:"for"`
	Grace       string `json:"grace,omitempty"`
	ExtendBy    string `json:"extend_by,omitempty"`
	ExtendTimes int    `json:"extend_times,omitempty"`
}

// Terms are those of a lease that begins at a time, with notice a week and a day before its end where it is as long.
func (l *Lease) Terms(now time.Time) (*promise.LeaseTerms, error) {
	spans := map[string]time.Duration{}
	for name, text := range map[string]string{"for": l.For, "grace": l.Grace, "extend_by": l.ExtendBy} {
		if text == "" && name != "for" {
			continue
		}
		d, err := promise.ParseSpan(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		spans[name] = d
	}
	out := &promise.LeaseTerms{Until: now.Add(spans["for"]).UTC(), Grace: spans["grace"], By: spans["extend_by"], Times: l.ExtendTimes}
	for _, notice := range []time.Duration{7 * 24 * time.Hour, 24 * time.Hour} {
		if notice < spans["for"] {
			out.Notice = append(out.Notice, notice)
		}
	}
	p := promise.Promise{Kind: promise.Lease, Lease: out}
	return out, p.Check(now)
}

// Short says when it ends.
func (l *Lease) Short() string { return "It ends " + l.For + " after it is built" }

// Words say what the lease means, for whoever asks.
func (l *Lease) Words() string {
	text := l.Short()
	if l.Grace != "" {
		text += ", and what is on it is kept " + l.Grace + " more"
	}
	if l.ExtendTimes > 0 {
		text += fmt.Sprintf("; you may have it end %s later, %d times", l.ExtendBy, l.ExtendTimes)
	}
	return text + "."
}

// Price says what of the price is shown: what the sites take, unless it is fixed or hidden.
type Price struct {
	// PerHour is a fixed price, whatever the sites take.
	PerHour *money.Amount `json:"per_hour,omitempty"`
	Hidden  bool          `json:"hidden,omitempty"`
}

// Variant is an offer as it is at some sites.
type Variant struct {
	Sites  []string       `json:"sites"`
	Inputs map[string]any `json:"inputs"`
	Note   string         `json:"note,omitempty"`
}

// Question asks for an input in plain words.
type Question struct {
	Input string `json:"input"`
	Ask   string `json:"ask"`
	Help  string `json:"help,omitempty"`
	// Choices are the answers that there are. Without them, numbers go From To in steps, and anything else is as the template has it.
	Choices []Choice `json:"choices,omitempty"`
	From    *float64 `json:"from,omitempty"`
	To      *float64 `json:"to,omitempty"`
	Step    float64  `json:"step,omitempty"`
	// Default is the answer of whoever gives none; without it the template's default is, and without that one has to answer.
	Default any `json:"default,omitempty"`
	// More keeps it behind "more".
	More bool `json:"more,omitempty"`
}

// Choice is one of the answers to a question.
type Choice struct {
	Value any    `json:"value"`
	Title string `json:"title,omitempty"`
}

// usualNaming makes the name where an offer says nothing of it.
const usualNaming = "${offer}-${number}"

var (
	name     = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)
	variable = regexp.MustCompile(`\$\{([^}]*)\}`)
	knownVar = []string{"offer", "team", "person", "number"}
)

// Read reads an offer, and says what is wrong with it beside its template, all of it.
func Read(data []byte) (*Offer, error) {
	var o Offer
	if err := estate.Decode(data, &o); err != nil {
		return nil, fmt.Errorf("this is no offer: %w", err)
	}
	if o.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", o.Version, Version)
	}
	return &o, o.check()
}

type wronged func(at, format string, args ...any)

// collected are mistakes, each with where it is.
func collected(find func(wronged)) error {
	var errs []error
	find(func(at, format string, args ...any) {
		errs = append(errs, fmt.Errorf("%s: %s", at, fmt.Sprintf(format, args...)))
	})
	return errors.Join(errs...)
}

func (o *Offer) check() error {
	return collected(func(wrong wronged) {
		if o.Lease != nil {
			if _, err := o.Lease.Terms(time.Time{}); err != nil {
				wrong("lease", "%v", err)
			}
		}
		if !name.MatchString(o.Name) {
			wrong("offer", "%q is no name: it is made of small letters, digits and hyphens, at most 40", o.Name)
		}
		if o.Title == "" {
			wrong("title", "it has none, and people read it first")
		}
		if o.Template == "" {
			wrong("template", "there is none: say where it is opened")
		}
		for _, m := range variable.FindAllStringSubmatch(o.Naming, -1) {
			if !slices.Contains(knownVar, m[1]) {
				wrong("name", "${%s} is not known; there are %s", m[1], strings.Join(knownVar, ", "))
			}
		}
		if o.Naming != "" && !strings.Contains(o.Naming, "${number}") {
			wrong("name", "without ${number} the second that is asked for would have the name of the first")
		}
		for i, pattern := range slices.Concat(o.Sites, o.variantSites()) {
			if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
				wrong(fmt.Sprintf("sites[%d]", i), "%q is no pattern", pattern)
			}
		}
		for i := range o.Questions {
			o.Questions[i].check(fmt.Sprintf("questions[%d]", i), wrong)
		}
		for i, l := range o.Levels {
			if l == "" || slices.Contains(o.Levels[:i], l) {
				wrong(fmt.Sprintf("levels[%d]", i), "%q is no service level, or is there twice", l)
			}
		}
	})
}

func (o *Offer) variantSites() []string {
	var out []string
	for _, v := range o.Variants {
		out = append(out, v.Sites...)
	}
	return out
}

func (q *Question) check(at string, wrong wronged) {
	if q.Ask == "" {
		wrong(at+".ask", "it asks nothing: say it in plain words")
	}
	switch {
	case len(q.Choices) > 0 && (q.From != nil || q.To != nil):
		wrong(at, "it has choices and a range: give one of the two")
	case (q.From == nil) != (q.To == nil):
		wrong(at, "a range goes from and to")
	case q.From != nil && *q.From > *q.To:
		wrong(at, "its range goes from %v to %v, which is nothing", *q.From, *q.To)
	case q.Step < 0:
		wrong(at+".step", "it is %v, and a range goes up", q.Step)
	}
}

// For reports that somebody is in the audience. Where nothing is said everybody is; without a directory there is only the engineer.
func (o *Offer) For(person string, d *guard.Directory) bool {
	if len(o.Audience) == 0 || d == nil {
		return true
	}
	return slices.ContainsFunc(o.Audience, func(to string) bool { return d.Is(person, to) })
}

// At reports that it may stand at a site.
func (o *Offer) At(site string) bool { return len(o.Sites) == 0 || anyMatch(o.Sites, site) }

// VariantAt is the variant of a site; nil is the offer as it is.
func (o *Offer) VariantAt(site string) *Variant {
	for i := range o.Variants {
		if anyMatch(o.Variants[i].Sites, site) {
			return &o.Variants[i]
		}
	}
	return nil
}

func anyMatch(patterns []string, s string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, err := path.Match(p, s)
		return p == s || ok && err == nil
	})
}

// NameOf is the name of what is asked for, with a number.
func (o *Offer) NameOf(team, person string, number int) string {
	pattern := o.Naming
	if pattern == "" {
		pattern = usualNaming
	}
	out := variable.ReplaceAllStringFunc(pattern, func(s string) string {
		switch s[2 : len(s)-1] {
		case "offer":
			return o.Name
		case "team":
			return team
		case "person":
			return person
		case "number":
			return fmt.Sprint(number)
		}
		return ""
	})
	return strings.Trim(strings.Join(strings.FieldsFunc(out, func(r rune) bool { return r == '-' || r == '.' || r == '_' }), "-"), "-")
}

// Amount is what is shown of a price: the fixed one, or what the sites take; false is that it is hidden.
func (p Price) Amount(taken money.Amount) (money.Amount, bool) {
	if p.Hidden {
		return 0, false
	}
	if p.PerHour != nil {
		return *p.PerHour, true
	}
	return taken, true
}
