// Package react is what is done by itself about how things are: machines that fell are raised again, tiers grow and shrink with their load, hosts are evened out, and a site that is in
// trouble is left.
//
// In go a file of reactions (YAML or JSON, schemas/reactions.schema.json), what is known of a deployment at a moment ([Situation]) and what a reaction did before ([State]); out comes what is
// to be done now, why, and whether it is done or only proposed ([Decision]), or what holds it. What is decided is carried out as a plan and a run like any other.
//
// Nothing is done on the word of one side: a machine is down when its site says so and it answers nobody. Of what a silent site has nothing is known, so that nothing is done about it.
package react

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/measure"
	"andamio/internal/core/promise"
	"andamio/internal/core/window"
)

// Version is the format that [Read] accepts.
const Version = "andamio.reactions/1"

// File are the reactions of a workspace.
type File struct {
	Version string `json:"version"`
	// Zone is the time zone of days and times of day, by its IANA name; "" is UTC.
	Zone      string     `json:"zone,omitempty"`
	Reactions []Reaction `json:"reactions,omitempty"`
}

// Mode is whether what is decided is done, or proposed for a person to confirm.
type Mode string

// The modes.
const (
	Propose Mode = "propose"
	Do      Mode = "do"
)

// Reaction is one rule. One of raise, scale, spread and leave is given.
type Reaction struct {
	Name string `json:"name"`
	// When is an expression (CEL) over deployment: its name, services, team, person, stage and tags; "" fits all.
	When   string  `json:"when,omitempty"`
	Raise  *Raise  `json:"raise,omitempty"`
	Scale  *Scale  `json:"scale,omitempty"`
	Spread *Spread `json:"spread,omitempty"`
	Leave  *Leave  `json:"leave,omitempty"`
	// Mode is whether it is done; "" proposes.
	Mode Mode `json:"mode,omitempty"`
	// CoolDown is for how long a deployment is left alone after a run of it, whoever had it run, as in 10m.
	CoolDown string `json:"cool_down,omitempty"`
	// Tries is how often it does something to one deployment within a day; then a person is called.
	Tries int `json:"tries,omitempty"`
	// Quiet are hours in which it only proposes.
	Quiet []window.Span `json:"quiet,omitempty"`
	// Budget is the most that a deployment may cost a month once it is done, in the unit of the sites' prices; 0 sets no bound.
	Budget float64 `json:"budget,omitempty"`
	// Say is the sentence that is shown.
	Say string `json:"say,omitempty"`

	// Line is where it stands in its file, from 1.
	Line int `json:"-"`

	fits     condition.Condition
	coolDown time.Duration
}

// Raise has machines that fell be raised again: switched on where they are off, started again where they answer nobody, built again where they are gone.
type Raise struct {
	// After is how long a machine has to be down, as in 2m.
	After string `json:"after,omitempty"`
	// Rebuild has what is gone be built again where it was; Elsewhere at another site where what carried it is down, or building it again there did not help. Neither is done to
	// machines with disks of their own elsewhere: these would come up empty.
	Rebuild   bool `json:"rebuild,omitempty"`
	Elsewhere bool `json:"elsewhere,omitempty"`

	after time.Duration
}

// Scale has a tier grow and shrink with what is used of it.
type Scale struct {
	// Tier is a node of the template whose count an input says, or the service that it is of.
	Tier string `json:"tier"`
	// Measure is cores or memory; "" is cores. Use is the share of it that is to be used, as in 60%.
	Measure string `json:"measure,omitempty"`
	Use     string `json:"use"`
	Least   int    `json:"least"`
	Most    int    `json:"most"`
	// Hours are times at which there are at least so many.
	Hours []Hours `json:"hours,omitempty"`

	use float64
}

// Hours are a time at which a tier has at least so many machines.
type Hours struct {
	window.Span
	Least int `json:"least"`
}

// Spread has machines be built anew on another host of their site where one host is much busier than another.
type Spread struct {
	// Above is from where on a host is busy, Apart how much busier it is than the one that is least, both of its cores, as in 80% and 25%.
	Above string `json:"above,omitempty"`
	Apart string `json:"apart,omitempty"`
	// After is for how long, as in 15m.
	After string `json:"after,omitempty"`

	above, apart float64
	after        time.Duration
}

// Leave has what a deployment has at a site that is in trouble be moved to others. A site that does not answer is not left: nothing can be moved from it.
type Leave struct {
	After string `json:"after,omitempty"`

	after time.Duration
}

// What holds where nothing is said.
const (
	defaultRaiseAfter    = 2 * time.Minute
	defaultSpreadAfter   = 15 * time.Minute
	defaultLeaveAfter    = 15 * time.Minute
	defaultRaiseCoolDown = 2 * time.Minute
	defaultCoolDown      = 10 * time.Minute
	defaultTries         = 3
	defaultScaleTries    = 48
	defaultAbove         = 0.8
	defaultApart         = 0.25
)

// Bounds of what may be said.
const (
	leastSpan = 10 * time.Second
	mostSpan  = 24 * time.Hour
	mostTries = 200
	mostCount = 1000
)

var reactionName = regexp.MustCompile(`^[a-z0-9]([a-z0-9 -]{0,58}[a-z0-9])?$`)

// Read reads a file and checks it: every mistake is in the error, with its line.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no reactions: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	zone, err := calendar.Zone(f.Zone)
	if err != nil {
		return nil, fmt.Errorf("zone: %w", err)
	}
	lines := estate.Lines(data, "reactions")
	var errs []error
	seen := map[string]int{}
	for i := range f.Reactions {
		r := &f.Reactions[i]
		if i < len(lines) {
			r.Line = lines[i]
		}
		wrong := r.check(zone)
		if at, has := seen[r.Name]; has {
			wrong = append(wrong, fmt.Errorf("another in line %d has the same name", at))
		}
		seen[r.Name] = r.Line
		for _, err := range wrong {
			errs = append(errs, fmt.Errorf("line %d, %s: %w", r.Line, strconv.Quote(r.Name), err))
		}
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return &f, nil
}

func (r *Reaction) check(zone *time.Location) []error {
	var errs []error
	if !reactionName.MatchString(r.Name) {
		errs = append(errs, fmt.Errorf("name: %q is no name: it has small letters, digits, - and blanks, at most 60", r.Name))
	}
	env, err := condition.OfDeployments()
	if err == nil {
		r.fits, err = condition.New(env, r.When)
	}
	if err != nil {
		errs = append(errs, fmt.Errorf("when: %w", err))
	}
	given := 0
	for _, is := range []bool{r.Raise != nil, r.Scale != nil, r.Spread != nil, r.Leave != nil} {
		if is {
			given++
		}
	}
	if given != 1 {
		return append(errs, errors.New("it is one of raise, scale, spread and leave"))
	}
	switch r.Mode {
	case "":
		r.Mode = Propose
	case Propose, Do:
	default:
		errs = append(errs, fmt.Errorf("mode: it is %s or %s, not %q", Propose, Do, r.Mode))
	}
	if r.coolDown, err = span(r.CoolDown, r.usualCoolDown()); err != nil {
		errs = append(errs, fmt.Errorf("cool_down: %w", err))
	}
	if r.Tries == 0 {
		r.Tries = r.usualTries()
	}
	if r.Tries < 1 || r.Tries > mostTries {
		errs = append(errs, fmt.Errorf("tries: between 1 and %d times a day something is done, not %d", mostTries, r.Tries))
	}
	if !(r.Budget >= 0) || r.Budget > 1e12 {
		errs = append(errs, errors.New("budget: it is an amount a month"))
	}
	for i := range r.Quiet {
		for _, err := range r.Quiet[i].Check(zone) {
			errs = append(errs, fmt.Errorf("quiet[%d]: %w", i, err))
		}
		if r.Quiet[i].When != "" {
			errs = append(errs, fmt.Errorf("quiet[%d]: when belongs to the reaction", i))
		}
	}
	return append(errs, r.checkWhat(zone)...)
}

func (r *Reaction) usualCoolDown() time.Duration {
	if r.Raise != nil {
		return defaultRaiseCoolDown
	}
	return defaultCoolDown
}

func (r *Reaction) usualTries() int {
	if r.Scale != nil {
		return defaultScaleTries
	}
	return defaultTries
}

// checkWhat checks what is done.
func (r *Reaction) checkWhat(zone *time.Location) []error {
	var err error
	switch {
	case r.Raise != nil:
		if r.Raise.after, err = span(r.Raise.After, defaultRaiseAfter); err != nil {
			return []error{fmt.Errorf("raise.after: %w", err)}
		}
	case r.Scale != nil:
		return r.Scale.check(zone)
	case r.Spread != nil:
		return r.Spread.check()
	case r.Leave != nil:
		if r.Leave.after, err = span(r.Leave.After, defaultLeaveAfter); err != nil {
			return []error{fmt.Errorf("leave.after: %w", err)}
		}
	}
	return nil
}

func (s *Scale) check(zone *time.Location) []error {
	var errs []error
	if s.Tier == "" {
		errs = append(errs, errors.New("scale.tier: say which tier grows and shrinks"))
	}
	if s.Measure == "" {
		s.Measure = measure.CoresUsed
	}
	if s.Measure != measure.CoresUsed && s.Measure != measure.MemoryUsed {
		errs = append(errs, fmt.Errorf("scale.measure: it is %s or %s, of which is known how much there is, not %q", measure.CoresUsed, measure.MemoryUsed, s.Measure))
	}
	var err error
	if s.use, err = share(s.Use); err != nil || s.use < 0.05 || s.use > 0.95 {
		errs = append(errs, fmt.Errorf("scale.use: %q is no share between 5%% and 95%%", s.Use))
	}
	if s.Least < 1 || s.Most < s.Least || s.Most > mostCount {
		errs = append(errs, fmt.Errorf("scale: between %d and %d is nothing: least is 1 or more, and most that or more, at most %d", s.Least, s.Most, mostCount))
	}
	for i := range s.Hours {
		h := &s.Hours[i]
		for _, err := range h.Check(zone) {
			errs = append(errs, fmt.Errorf("scale.hours[%d]: %w", i, err))
		}
		if h.When != "" {
			errs = append(errs, fmt.Errorf("scale.hours[%d]: when belongs to the reaction", i))
		}
		if h.Least < 1 || h.Least > s.Most {
			errs = append(errs, fmt.Errorf("scale.hours[%d]: least is between 1 and most, not %d", i, h.Least))
		}
	}
	return errs
}

func (s *Spread) check() []error {
	var errs []error
	for _, x := range []struct {
		name, text string
		usual      float64
		into       *float64
	}{{"above", s.Above, defaultAbove, &s.above}, {"apart", s.Apart, defaultApart, &s.apart}} {
		*x.into = x.usual
		if x.text == "" {
			continue
		}
		var err error
		if *x.into, err = share(x.text); err != nil || *x.into < 0.05 || *x.into > 1 {
			errs = append(errs, fmt.Errorf("spread.%s: %q is no share between 5%% and 100%%", x.name, x.text))
		}
	}
	var err error
	if s.after, err = span(s.After, defaultSpreadAfter); err != nil {
		errs = append(errs, fmt.Errorf("spread.after: %w", err))
	}
	return errs
}

// span reads a span of time; "" is the usual one.
func span(text string, usual time.Duration) (time.Duration, error) {
	if text == "" {
		return usual, nil
	}
	d, err := promise.ParseSpan(text)
	if err == nil && (d < leastSpan || d > mostSpan) {
		err = fmt.Errorf("it is between %s and %s, not %s", promise.Span(leastSpan), promise.Span(mostSpan), promise.Span(d))
	}
	return d, err
}

// share reads a share, as in 60%.
func share(text string) (float64, error) {
	n, is := strings.CutSuffix(strings.TrimSpace(text), "%")
	if !is {
		return 0, errors.New("it is no share")
	}
	v, err := strconv.ParseFloat(n, 64)
	return v / 100, err
}

// Fits reports that a reaction is for a deployment.
func (r *Reaction) Fits(of *condition.Subject) (bool, error) { return r.fits.Holds(of.Facts()) }

// For are the reactions that are for a deployment, in the order of the file. Of two that would see to the same the first counts.
func (f *File) For(of *condition.Subject) ([]*Reaction, error) {
	var out []*Reaction
	seen := map[string]bool{}
	for i := range f.Reactions {
		r := &f.Reactions[i]
		fits, err := r.Fits(of)
		if err != nil {
			return nil, fmt.Errorf("line %d, %s: when: %w", r.Line, strconv.Quote(r.Name), err)
		}
		if fits && !seen[r.sees()] {
			seen[r.sees()] = true
			out = append(out, r)
		}
	}
	return out, nil
}

// sees names what a reaction sees to.
func (r *Reaction) sees() string {
	switch {
	case r.Raise != nil:
		return "raise"
	case r.Scale != nil:
		return "scale " + r.Scale.Tier
	case r.Spread != nil:
		return "spread"
	}
	return "leave"
}

// quiet is until when it only proposes; zero if it may act.
func (r *Reaction) quiet(now time.Time) (until time.Time) {
	for i := range r.Quiet {
		if end := r.Quiet[i].End(now); end.After(until) {
			until = end
		}
	}
	return until
}

// Words say what it does.
func (r *Reaction) Words() string {
	text := ""
	switch {
	case r.Raise != nil:
		text = "raises what fell after " + promise.Span(r.Raise.after)
		if r.Raise.Rebuild {
			text += ", builds again what is gone"
		}
		if r.Raise.Elsewhere {
			text += ", elsewhere where it has to"
		}
	case r.Scale != nil:
		text = fmt.Sprintf("has %d to %d machines of %s, so that %s of their %s is used", r.Scale.Least, r.Scale.Most, r.Scale.Tier, r.Scale.Use, r.Scale.Measure)
	case r.Spread != nil:
		text = fmt.Sprintf("evens hosts out that are above %.0f%% and %.0f%% apart", 100*r.Spread.above, 100*r.Spread.apart)
	case r.Leave != nil:
		text = "moves off a site that is in trouble for " + promise.Span(r.Leave.after)
	}
	if r.Mode == Propose {
		text += " (proposed)"
	}
	return text
}
