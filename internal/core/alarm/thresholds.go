package alarm

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/measure"
	"andamio/internal/core/promise"
	"cel.dev/cel-go/cel"
)

// Version is the format that [Read] accepts.
const Version = "andamio.thresholds/1"

// File are the thresholds of a workspace.
type File struct {
	Version    string      `json:"version"`
	Thresholds []Threshold `json:"thresholds,omitempty"`
}

// Threshold says from where on a measure is worth a warning, or critical.
type Threshold struct {
	// Name is what it is called; one of a workspace takes the place of the shipped one of its name for what it fits.
	Name    string `json:"name"`
	Measure string `json:"measure"`
	// When is an expression (CEL) over thing: its kind, name, site, zone, host, deployment, tier, service, team and tags; "" fits all that have the measure.
	When string `json:"when,omitempty"`
	// Off says that what it fits is not watched under this name.
	Off      bool  `json:"off,omitempty"`
	Warning  *Over `json:"warning,omitempty"`
	Critical *Over `json:"critical,omitempty"`
	// Missing is for how long nothing may be known of the measure, where it was known before; "" is for ever.
	Missing string `json:"missing,omitempty"`
	// Say is the sentence that is shown beside the figure.
	Say string `json:"say,omitempty"`

	// Line is where it stands in its file, from 1; Shipped says that it is one of Andamio's own.
	Line    int  `json:"-"`
	Shipped bool `json:"-"`

	fits    condition.Condition
	missing time.Duration
}

// Over is when a measure is over its threshold. One of above, below, full and unlike is given.
type Over struct {
	// Above and Below are a figure in the measure's unit, as in 250ms, 2GiB or 1.5, or a share of its limit, as in 85%.
	Above Amount `json:"above,omitempty"`
	Below Amount `json:"below,omitempty"`
	// Full is within what time it reaches its limit if it goes on as it has, as in 3d.
	Full string `json:"full,omitempty"`
	// Unlike is how many times as far from the usual at that hour as it usually is.
	Unlike float64 `json:"unlike,omitempty"`
	// For is how long it has to be over; Until the figure at which it is well again, which is not beyond the other.
	For   string `json:"for,omitempty"`
	Until Amount `json:"until,omitempty"`

	at, until  figure
	full, for_ time.Duration
}

// Amount is a figure as it is written: a number, or one with a unit or a per cent sign.
type Amount string

// UnmarshalJSON reads a figure, which needs no quotes where it has no unit.
func (a *Amount) UnmarshalJSON(data []byte) error {
	var n json.Number
	if json.Unmarshal(data, &n) == nil {
		*a = Amount(n)
		return nil
	}
	return json.Unmarshal(data, (*string)(a))
}

// figure is a value, or a share of a limit.
type figure struct {
	value float64
	share bool
}

// of is the figure as a value; not ok where it is a share and there is no limit.
func (f figure) of(r *Reading) (v float64, ok bool) {
	if f.share {
		return f.value * r.Limit, r.Limit > 0
	}
	return f.value, true
}

//go:embed defaults.yaml
var defaults []byte

// Default are the thresholds that ship, so that whatever is new is watched at once.
func Default() *File {
	f, err := Read(defaults)
	if err != nil {
		panic(err) // a test reads them
	}
	for i := range f.Thresholds {
		f.Thresholds[i].Shipped = true
	}
	return f
}

// DefaultText is the file of the thresholds that ship.
func DefaultText() string { return string(defaults) }

// Over puts thresholds before others.
func (f *File) Over(below *File) *File {
	out := *f
	out.Thresholds = append(append([]Threshold(nil), f.Thresholds...), below.Thresholds...)
	return &out
}

// Read reads a file (YAML or JSON, schemas/thresholds.schema.json) and checks it: every mistake is in the error, with its line.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no thresholds: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	lines := estate.Lines(data, "thresholds")
	env, err := environment()
	if err != nil {
		return nil, err
	}
	var errs []error
	seen := map[string]int{}
	for i := range f.Thresholds {
		t := &f.Thresholds[i]
		if i < len(lines) {
			t.Line = lines[i]
		}
		wrong := t.check(env)
		key := t.Name + "\x00" + t.When
		if at, has := seen[key]; has {
			wrong = append(wrong, fmt.Errorf("another in line %d has the same name and fits the same", at))
		}
		seen[key] = t.Line
		for _, err := range wrong {
			errs = append(errs, fmt.Errorf("line %d, %s: %w", t.Line, strconv.Quote(t.Name), err))
		}
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return &f, nil
}

// environment is what expressions know of things.
func environment() (*cel.Env, error) {
	return cel.NewEnv(cel.Variable("thing", cel.MapType(cel.StringType, cel.DynType)))
}

// facts are a thing as expressions know it.
func facts(t *measure.Thing) map[string]any {
	tags := t.Tags
	if tags == nil {
		tags = map[string]string{}
	}
	return map[string]any{"thing": map[string]any{"kind": string(t.Kind), "name": t.Name, "site": t.Site, "zone": t.Zone, "host": t.Host, "deployment": t.Of, "tier": t.Tier,
		"service": t.Service, "team": t.Team, "tags": tags}}
}

func (t *Threshold) check(env *cel.Env) []error {
	var errs []error
	if strings.TrimSpace(t.Name) == "" || len(t.Name) > 60 {
		errs = append(errs, errors.New("a threshold has a name of at most 60 letters"))
	}
	if t.Measure == "" {
		errs = append(errs, errors.New("measure: say of what it is the threshold"))
	}
	var err error
	if t.fits, err = condition.New(env, t.When); err != nil {
		errs = append(errs, fmt.Errorf("when: %w", err))
	}
	if t.Missing != "" {
		if t.missing, err = span(t.Missing); err != nil {
			errs = append(errs, fmt.Errorf("missing: %w", err))
		}
	}
	if t.Off {
		return errs
	}
	if t.Warning == nil && t.Critical == nil && t.Missing == "" {
		errs = append(errs, errors.New("it says neither when a warning is given, nor what is critical, nor for how long nothing may be known; off: true watches nothing"))
	}
	m := measure.Of(t.Measure)
	for _, l := range []struct {
		name string
		over *Over
	}{{"warning", t.Warning}, {"critical", t.Critical}} {
		if l.over == nil {
			continue
		}
		for _, err := range l.over.check(&m) {
			errs = append(errs, fmt.Errorf("%s: %w", l.name, err))
		}
	}
	return errs
}

func (o *Over) check(m *measure.Measure) []error {
	var errs []error
	given := 0
	for _, is := range []bool{o.Above != "", o.Below != "", o.Full != "", o.Unlike != 0} {
		if is {
			given++
		}
	}
	if given != 1 {
		return append(errs, errors.New("it is one of above, below, full and unlike"))
	}
	var err error
	read := func(name string, text Amount, into *figure) {
		if text == "" {
			return
		}
		if *into, err = parse(m, string(text)); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", name, err))
		}
	}
	read("above", o.Above, &o.at)
	read("below", o.Below, &o.at)
	o.until = o.at
	read("until", o.Until, &o.until)
	if o.Until != "" && len(errs) == 0 {
		switch beyond := o.until.value > o.at.value; {
		case o.Above == "" && o.Below == "":
			errs = append(errs, errors.New("until: it belongs to above or below"))
		case o.until.share != o.at.share:
			errs = append(errs, errors.New("until: one is a share of the limit, and the other is none"))
		case beyond == (o.Above != "") && o.until != o.at:
			errs = append(errs, errors.New("until: it is beyond the threshold itself, so that it would never be well again"))
		}
	}
	if o.Full != "" {
		if o.full, err = span(o.Full); err != nil {
			errs = append(errs, fmt.Errorf("full: %w", err))
		} else if m.Limit == "" {
			errs = append(errs, fmt.Errorf("full: %s has no limit that it could reach", m.Name))
		}
	}
	if o.Unlike < 0 || o.Unlike > 100 || math.IsNaN(o.Unlike) {
		errs = append(errs, errors.New("unlike: it is a number above 0, at most 100"))
	}
	if o.For != "" {
		if o.for_, err = span(o.For); err != nil {
			errs = append(errs, fmt.Errorf("for: %w", err))
		}
	}
	return errs
}

// mostSpan is the longest that a threshold looks back or ahead.
const mostSpan = 366 * 24 * time.Hour

func span(text string) (time.Duration, error) {
	d, err := promise.ParseSpan(text)
	if err == nil && (d <= 0 || d > mostSpan) {
		err = fmt.Errorf("%q is no span of time between nothing and a year", text)
	}
	return d, err
}

// sizes are the units of bytes, by powers of 1024 and of 1000.
var sizes = []struct {
	unit string
	is   float64
}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}, {"B", 1}}

// parse reads a figure of a measure.
func parse(m *measure.Measure, text string) (figure, error) {
	text = strings.TrimSpace(text)
	if n, is := strings.CutSuffix(text, "%"); is {
		v, err := number(n)
		if err != nil || v < 0 || v > 1000 {
			return figure{}, fmt.Errorf("%q is no share, as 85%%", text)
		}
		if m.Unit == measure.Share {
			return figure{value: v / 100}, nil
		}
		if m.Limit == "" {
			return figure{}, fmt.Errorf("%s has no limit, of which %s could be a share", m.Name, text)
		}
		return figure{v / 100, true}, nil
	}
	if v, err := number(text); err == nil {
		if m.Unit == measure.Seconds || m.Unit == measure.Bytes || m.Unit == measure.BytesPerSecond {
			return figure{}, fmt.Errorf("%q has no unit: write it as %s", text, example(m.Unit))
		}
		return figure{value: v}, nil
	}
	switch m.Unit {
	case measure.Seconds:
		if d, err := promise.ParseSpan(text); err == nil {
			return figure{value: d.Seconds()}, nil
		}
	case measure.Bytes, measure.BytesPerSecond:
		for _, s := range sizes {
			if n, is := strings.CutSuffix(text, s.unit); is {
				if v, err := number(strings.TrimSpace(n)); err == nil && v >= 0 {
					return figure{value: v * s.is}, nil
				}
			}
		}
	}
	return figure{}, fmt.Errorf("%q is no figure of %s: write it as %s", text, m.Name, example(m.Unit))
}

func number(text string) (float64, error) {
	v, err := strconv.ParseFloat(text, 64)
	if err == nil && (math.IsNaN(v) || math.IsInf(v, 0)) {
		err = strconv.ErrRange
	}
	return v, err
}

func example(u measure.Unit) string {
	switch u {
	case measure.Seconds:
		return "250ms, 30s or 14d"
	case measure.Share:
		return "85%"
	case measure.Bytes, measure.BytesPerSecond:
		return "500MiB or 2GB"
	}
	return "1.5"
}

// For are the thresholds of a thing, of all measures, by their names: of several of a name the first that fits counts. An expression that cannot be worked out is in
// the error, and fits nothing.
func (f *File) For(thing *measure.Thing) ([]*Threshold, error) {
	var out []*Threshold
	var errs []error
	taken := map[string]bool{}
	var known map[string]any
	for i := range f.Thresholds {
		t := &f.Thresholds[i]
		if taken[t.Name] || measure.Known(t.Measure) && measure.Of(t.Measure).Of != thing.Kind {
			continue
		}
		if t.When != "" {
			if known == nil {
				known = facts(thing)
			}
			fits, err := t.fits.Holds(known)
			if err != nil {
				errs = append(errs, fmt.Errorf("threshold %q (line %d): %w", t.Name, t.Line, err))
			}
			if !fits {
				continue
			}
		}
		taken[t.Name] = true
		if !t.Off {
			out = append(out, t)
		}
	}
	return out, errors.Join(errs...)
}

// Words say when something is over.
func (o *Over) Words() string {
	var text string
	switch {
	case o.Above != "":
		text = "above " + string(o.Above)
	case o.Below != "":
		text = "below " + string(o.Below)
	case o.Full != "":
		text = "full within " + o.Full
	default:
		text = fmt.Sprintf("%g times as far from the usual as usual", o.Unlike)
	}
	if o.For != "" {
		text += " for " + o.For
	}
	if o.Until != "" {
		text += ", until " + string(o.Until)
	}
	return text
}
