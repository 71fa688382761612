// Package front is one name in front of many places: which of the places that serve something a client is told of, by what is healthy, near, and not full.
//
// In go a file of fronts (YAML or JSON, schemas/fronts.schema.json), the members of each as they are at a moment, and from which network is asked; out comes who is answered with ([Front.Choose]).
// Chance is an argument, as the time is.
package front

import (
	"errors"
	"fmt"
	"math/bits"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/promise"
)

// Version is the format that [Read] accepts.
const Version = "andamio.fronts/1"

// File are the fronts of a workspace, in one zone that is delegated to those who answer for it.
type File struct {
	Version string `json:"version"`
	// Zone is the delegated zone, as near.ribera.test; Servers are the names of those who answer for it, as its parent has them (RFC 1034, section 4.2.1).
	Zone    string   `json:"zone"`
	Servers []string `json:"servers"`
	// Listen are the addresses and ports at which the process that serves the workspace answers.
	Listen []string `json:"listen,omitempty"`
	// TTL is for how long an answer may be kept, as 10s.
	TTL string `json:"ttl,omitempty"`
	// Regions say where clients are.
	Regions []Region `json:"regions,omitempty"`
	Fronts  []Front  `json:"fronts,omitempty"`

	ttl time.Duration
}

// Region are networks of clients that are about as far from each site.
type Region struct {
	Name     string   `json:"name"`
	Networks []string `json:"networks"`
	// Near is the site that is at the same place: how far others are was measured between the sites. Distances (ms) say so otherwise, by site.
	Near      string             `json:"near,omitempty"`
	Distances map[string]float64 `json:"distances,omitempty"`

	networks []netip.Prefix
}

// Front is one name.
type Front struct {
	// Name is within the zone, as map.
	Name string `json:"name"`
	// When is an expression (CEL) over deployment: its name, services, team, person, stage and tags; Endpoint is the software that answers, as river-map, or one endpoint of it, as river-map.app_endpoint.
	When     string `json:"when,omitempty"`
	Endpoint string `json:"endpoint"`
	// Weights are how much of what is asked goes to each site among those that are as near; 1 where nothing is said, and with 0 a site is a spare.
	Weights map[string]float64 `json:"weights,omitempty"`
	// Full is the share of a machine's cores from which on what is asked spills over to others, as 80%; "" is never.
	Full string `json:"full,omitempty"`
	// SlowStart is for how long what has just come up is asked less, as 2m.
	SlowStart string `json:"slow_start,omitempty"`
	// Port is the one at which who looks up addresses alone expects it; members at others, as behind a network that maps ports, are found by service records (RFC 2782) alone. 0 is the port that most have.
	Port int `json:"port,omitempty"`
	// Answers is how many addresses an answer has at most.
	Answers int `json:"answers,omitempty"`
	// Plain is the name in the zone of the connected name server that has all that is healthy, for who asks there.
	Plain string `json:"plain,omitempty"`

	// Line is where it stands in its file, from 1.
	Line int `json:"-"`

	fits      condition.Condition
	full      float64
	slowStart time.Duration
}

// What holds where nothing is said, and bounds.
const (
	defaultTTL       = 10 * time.Second
	defaultSlowStart = time.Minute
	defaultAnswers   = 2
	mostAnswers      = 8
	mostTTL          = time.Hour
	mostSlowStart    = time.Hour
)

var (
	label = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
	name  = regexp.MustCompile(`^[a-z0-9]([a-z0-9 -]{0,58}[a-z0-9])?$`)
)

// Read reads a file and checks it: every mistake is in the error, with the line of its front.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no fronts: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	errs := f.check()
	lines := estate.Lines(data, "fronts")
	seen := map[string]bool{}
	for i := range f.Fronts {
		x := &f.Fronts[i]
		if i < len(lines) {
			x.Line = lines[i]
		}
		wrong := x.check()
		if seen[x.Name] {
			wrong = append(wrong, errors.New("another one has the same name"))
		}
		seen[x.Name] = true
		for _, err := range wrong {
			errs = append(errs, fmt.Errorf("line %d, %s: %w", x.Line, strconv.Quote(x.Name), err))
		}
	}
	return &f, errors.Join(errs...)
}

// isName reports a domain name of labels that hosts may have (RFC 1123, section 2.1).
func isName(text string) bool {
	text = strings.TrimSuffix(text, ".")
	return text != "" && len(text) <= 253 && !slices.ContainsFunc(strings.Split(text, "."), func(l string) bool { return !label.MatchString(l) })
}

func (f *File) check() []error {
	var errs []error
	f.Zone = strings.TrimSuffix(f.Zone, ".")
	if !isName(f.Zone) {
		errs = append(errs, fmt.Errorf("zone: %q is no name of a zone, in small letters", f.Zone))
	}
	if len(f.Servers) == 0 {
		errs = append(errs, errors.New("servers: say by which names the zone is delegated"))
	}
	for _, s := range f.Servers {
		if !isName(s) {
			errs = append(errs, fmt.Errorf("servers: %q is no name, in small letters", s))
		}
	}
	for _, at := range f.Listen {
		if _, err := netip.ParseAddrPort(at); err != nil {
			errs = append(errs, fmt.Errorf("listen: %q is no address and port, such as 192.0.2.53:53", at))
		}
	}
	var err error
	if f.ttl, err = span(f.TTL, defaultTTL, mostTTL); err != nil || f.ttl < time.Second {
		errs = append(errs, fmt.Errorf("ttl: %q is no time between 1s and an hour", f.TTL))
	}
	seen := map[string]bool{}
	for i := range f.Regions {
		r := &f.Regions[i]
		for _, err := range r.check() {
			errs = append(errs, fmt.Errorf("regions[%d]: %w", i, err))
		}
		if seen[r.Name] {
			errs = append(errs, fmt.Errorf("regions[%d]: another is called %s", i, r.Name))
		}
		seen[r.Name] = true
	}
	return errs
}

func (r *Region) check() []error {
	var errs []error
	if !name.MatchString(r.Name) {
		errs = append(errs, fmt.Errorf("name: %q is no name: it has small letters, digits, - and blanks, at most 60", r.Name))
	}
	if len(r.Networks) == 0 {
		errs = append(errs, errors.New("networks: say from which networks its clients ask"))
	}
	for _, text := range r.Networks {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			errs = append(errs, fmt.Errorf("networks: %q is no network, such as 192.0.2.0/24", text))
			continue
		}
		r.networks = append(r.networks, p.Masked())
	}
	if r.Near == "" && len(r.Distances) == 0 {
		errs = append(errs, errors.New("say near which site it is, or how far from each"))
	}
	for site, ms := range r.Distances {
		if !(ms >= 0) || ms > 1e5 {
			errs = append(errs, fmt.Errorf("distances: %s is some milliseconds away, not %v", site, ms))
		}
	}
	return errs
}

func (f *Front) check() []error {
	var errs []error
	if !label.MatchString(f.Name) {
		errs = append(errs, fmt.Errorf("name: %q is no label of a name: it has small letters, digits and -, at most 63", f.Name))
	}
	if f.Endpoint == "" {
		errs = append(errs, errors.New("endpoint: say which software answers"))
	}
	env, err := condition.OfDeployments()
	if err == nil {
		f.fits, err = condition.New(env, f.When)
	}
	if err != nil {
		errs = append(errs, fmt.Errorf("when: %w", err))
	}
	for site, w := range f.Weights {
		if !(w >= 0) || w > 1000 {
			errs = append(errs, fmt.Errorf("weights: %s has a weight between 0 and 1000, not %v", site, w))
		}
	}
	if f.Full != "" {
		n, is := strings.CutSuffix(f.Full, "%")
		v, err := strconv.ParseFloat(n, 64)
		if f.full = v / 100; !is || err != nil || !(v >= 1) || v > 99 {
			errs = append(errs, fmt.Errorf("full: %q is no share between 1%% and 99%%", f.Full))
		}
	}
	if f.slowStart, err = span(f.SlowStart, defaultSlowStart, mostSlowStart); err != nil {
		errs = append(errs, fmt.Errorf("slow_start: %q is no time up to an hour", f.SlowStart))
	}
	if f.Answers == 0 {
		f.Answers = defaultAnswers
	}
	if f.Answers < 1 || f.Answers > mostAnswers {
		errs = append(errs, fmt.Errorf("answers: an answer has between 1 and %d addresses, not %d", mostAnswers, f.Answers))
	}
	if f.Port < 0 || f.Port > 65535 {
		errs = append(errs, fmt.Errorf("port: %d is no port", f.Port))
	}
	if f.Plain != "" && !isName(f.Plain) {
		errs = append(errs, fmt.Errorf("plain: %q is no name, in small letters", f.Plain))
	}
	return errs
}

// span reads a span of time; "" is the usual one.
func span(text string, usual, most time.Duration) (time.Duration, error) {
	if text == "" {
		return usual, nil
	}
	d, err := promise.ParseSpan(text)
	if err == nil && (d < 0 || d > most) {
		err = errors.New("it is too long")
	}
	return d, err
}

// Keeps is for how long an answer may be kept.
func (f *File) Keeps() time.Duration { return f.ttl }

// Fits reports that a front is for a deployment.
func (f *Front) Fits(of *condition.Subject) (bool, error) { return f.fits.Holds(of.Facts()) }

// Means reports that an endpoint of some software is one of the front's. What a template stands for is meant by the name of the node that it stands for, too:
// the endpoint client of door.balancer is one of door.
func (f *Front) Means(software, endpoint string) bool {
	for node := software; node != ""; {
		if f.Endpoint == node || endpoint != "" && f.Endpoint == node+"."+endpoint {
			return true
		}
		outer := strings.LastIndex(node, ".")
		node = node[:max(outer, 0)]
	}
	return false
}

// Region is the region of a client, by the narrowest network that says so; nil if none does. The scope is how many leading bits of its address that is so for, whoever else has them (RFC 7871, section 7.2.1):
// where a narrower network is another region's it ends beside that.
func (f *File) Region(client netip.Addr) (found *Region, scope int) {
	client = client.Unmap()
	var by netip.Prefix
	each := func(do func(r *Region, p netip.Prefix)) {
		for i := range f.Regions {
			for _, p := range f.Regions[i].networks {
				if p.Addr().Is4() == client.Is4() {
					do(&f.Regions[i], p)
				}
			}
		}
	}
	each(func(r *Region, p netip.Prefix) {
		if p.Contains(client) && (found == nil || p.Bits() > by.Bits()) {
			found, by = r, p
		}
	})
	if found != nil {
		scope = by.Bits()
	}
	each(func(_ *Region, p netip.Prefix) {
		if !p.Contains(client) && (found == nil || p.Bits() > by.Bits()) {
			scope = max(scope, alike(client, p.Addr(), p.Bits())+1)
		}
	})
	return found, scope
}

// alike is how many leading bits two addresses of a sort have in common, at most so many less one.
func alike(a, b netip.Addr, most int) int {
	x, y := a.AsSlice(), b.AsSlice()
	for i := range x {
		if d := x[i] ^ y[i]; d != 0 {
			return min(8*i+bits.LeadingZeros8(d), most-1)
		}
	}
	return most - 1
}

// Away is how far each site is from a region in milliseconds, by what was measured between sites; a site of which that is not known is not in it.
func (r *Region) Away(between func(a, b string) (float64, bool), sites []string) map[string]float64 {
	out := map[string]float64{}
	for _, s := range sites {
		if ms, said := r.Distances[s]; said {
			out[s] = ms
			continue
		}
		if ms, known := between(r.Near, s); known {
			out[s] = ms
		}
	}
	return out
}
