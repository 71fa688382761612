// Package problem is the file format of placement problems and of their answers.
//
// In goes YAML or JSON (schemas/problem.schema.json), with its estate and rule file within it or beside it; out comes a
// [placement.Problem]. An answer is written as JSON (schemas/placement.schema.json).
package problem

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/rules"
)

// Version is the format that [Read] accepts.
const Version = "andamio.problem/1"

// File is a problem as it is written.
type File struct {
	Version string `json:"version"`
	Name    string `json:"name,omitempty"`
	// Estate is the sites, or EstateFile names the file that has them; likewise Rules and RulesFile. Without rules those that
	// ship hold.
	Estate     json.RawMessage `json:"estate,omitempty"`
	EstateFile string          `json:"estate_file,omitempty"`
	Rules      json.RawMessage `json:"rules,omitempty"`
	RulesFile  string          `json:"rules_file,omitempty"`
	// Requester is what rules may know of who asks.
	Requester map[string]any     `json:"requester,omitempty"`
	Payment   estate.Payment     `json:"payment,omitempty"`
	Budget    float64            `json:"budget_per_hour,omitempty"`
	Weights   *placement.Weights `json:"weights,omitempty"`
	Workloads []Workload         `json:"workloads"`
	Traffic   []Traffic          `json:"traffic,omitempty"`
	Limits    []Constraint       `json:"constraints,omitempty"`
}

// Workload is a workload with how many there are of it.
type Workload struct {
	Name         string          `json:"name"`
	Count        *int            `json:"count,omitempty"`
	Tier         string          `json:"tier,omitempty"`
	Needs        estate.Capacity `json:"needs"`
	VolumesGiB   float64         `json:"volumes_gib,omitempty"`
	StorageClass string          `json:"storage_class,omitempty"`
	OS           string          `json:"os,omitempty"`
	estate.Release
	Image        string            `json:"image,omitempty"`
	Capabilities []string          `json:"image_capabilities,omitempty"`
	Addresses    *int              `json:"addresses,omitempty"`
	Answers      map[string]bool   `json:"answers,omitempty"`
	Tags         map[string]string `json:"tags,omitempty"`
	Sites        []string          `json:"sites,omitempty"`
	Now          []placement.Spot  `json:"now,omitempty"`
	Pin          *placement.Spot   `json:"pin,omitempty"`
	Forbid       []string          `json:"forbid,omitempty"`
	Ends         []End             `json:"ends,omitempty"`
}

// End is data or users at a site that each instance exchanges GiB per hour with.
type End struct {
	Site    string   `json:"site"`
	ToGiB   float64  `json:"to_gib_per_hour,omitempty"`
	FromGiB float64  `json:"from_gib_per_hour,omitempty"`
	MaxMs   float64  `json:"max_ms,omitempty"`
	Weight  *float64 `json:"weight,omitempty"`
}

// Traffic is what passes between two workloads; between all instances of both, each with one of the other in turn.
type Traffic struct {
	From    string   `json:"from"`
	To      string   `json:"to"`
	GiB     float64  `json:"gib_per_hour,omitempty"`
	BackGiB float64  `json:"back_gib_per_hour,omitempty"`
	MaxMs   float64  `json:"max_ms,omitempty"`
	Weight  *float64 `json:"weight,omitempty"`
}

// Constraint is a rule of the problem itself; see [placement.Rule].
type Constraint struct {
	Name          string   `json:"name"`
	Because       string   `json:"because,omitempty"`
	Workloads     []string `json:"workloads,omitempty"`
	Sites         []string `json:"sites,omitempty"`
	Kinds         []string `json:"site_kinds,omitempty"`
	Jurisdictions []string `json:"jurisdictions,omitempty"`
	Features      []string `json:"features,omitempty"`
	Apart         string   `json:"apart,omitempty"`
	Most          int      `json:"most,omitempty"`
	Jointly       bool     `json:"jointly,omitempty"`
	Together      string   `json:"together,omitempty"`
	Weight        float64  `json:"weight,omitempty"`
}

// maxWorkloads bounds what a count may ask for.
const maxWorkloads = 200_000

// Read reads a problem; open gives the files that it names. Every mistake is in the error, each with the path to it.
func Read(data []byte, open func(name string) ([]byte, error)) (*File, *placement.Problem, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, nil, fmt.Errorf("this is no placement problem: %w", err)
	}
	if f.Version != Version {
		return nil, nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	e, err := f.estate(open)
	if err != nil {
		return nil, nil, err
	}
	p := &placement.Problem{Estate: e, Payment: f.Payment, Budget: f.Budget, Weights: placement.Usual}
	if f.Weights != nil {
		p.Weights = *f.Weights
	}
	r := &reader{f: &f, p: p, instances: map[string][]string{}}
	r.workloads()
	r.traffic()
	r.constraints()
	r.settings()
	if err := errors.Join(r.errs...); err != nil {
		return nil, nil, err
	}
	file, err := f.rules(open)
	if err != nil {
		return nil, nil, err
	}
	return &f, p, file.Apply(p, f.Requester)
}

func (f *File) estate(open func(string) ([]byte, error)) (*estate.Estate, error) {
	data := []byte(f.Estate)
	if len(data) == 0 {
		if f.EstateFile == "" {
			return nil, errors.New("estate: the problem has no sites; give them as estate, or name their file as estate_file")
		}
		var err error
		if data, err = open(f.EstateFile); err != nil {
			return nil, fmt.Errorf("estate_file: %w", err)
		}
	}
	e, err := estate.Read(data)
	if err != nil {
		return nil, fmt.Errorf("estate: %w", err)
	}
	return e, nil
}

func (f *File) rules(open func(string) ([]byte, error)) (*rules.File, error) {
	data := []byte(f.Rules)
	if len(data) == 0 && f.RulesFile == "" {
		return rules.Default(), nil
	}
	if len(data) == 0 {
		var err error
		if data, err = open(f.RulesFile); err != nil {
			return nil, fmt.Errorf("rules_file: %w", err)
		}
	}
	file, err := rules.Read(data)
	if err != nil {
		return nil, fmt.Errorf("rules: %w", err)
	}
	return file, nil
}

// reader turns a file into a problem and collects what is wrong.
type reader struct {
	f    *File
	p    *placement.Problem
	errs []error
	// instances are the names of a workload's instances.
	instances map[string][]string
}

func (r *reader) wrong(at, format string, args ...any) {
	r.errs = append(r.errs, fmt.Errorf(at+": "+format, args...))
}

func (r *reader) workloads() {
	total := 0
	for i := range r.f.Workloads {
		w, at := &r.f.Workloads[i], fmt.Sprintf("workloads[%d]", i)
		count := orOne(w.Count)
		if total += max(count, 0); count < 0 || total > maxWorkloads {
			r.wrong(at+".count", "%d is below 0, or makes more than %d workloads", count, maxWorkloads)
			return
		}
		if _, twice := r.instances[w.Name]; w.Name == "" || twice {
			r.wrong(at+".name", "%q is empty or used twice", w.Name)
			continue
		}
		r.check(w, at)
		r.instances[w.Name] = []string{}
		for k := range count {
			one := w.instance(k, count)
			r.instances[w.Name] = append(r.instances[w.Name], one.Name)
			r.p.Workloads = append(r.p.Workloads, one)
		}
		if len(w.Sites) > 0 {
			r.p.Rules = append(r.p.Rules, placement.Rule{Name: "sites of " + w.Name, Nodes: []string{w.Name}, Sites: w.Sites})
		}
	}
}

func orOne(n *int) int {
	if n == nil {
		return 1
	}
	return *n
}

// instance is the k-th of a workload's instances.
func (w *Workload) instance(k, count int) placement.Workload {
	one := placement.Workload{Name: w.Name, Node: w.Name, Tier: w.Tier, Need: w.Needs, VolumesGiB: w.VolumesGiB, Storage: w.StorageClass,
		OS: w.OS, Release: w.Release, Image: w.Image, Capabilities: w.Capabilities, Addresses: orOne(w.Addresses), Answers: w.Answers, Tags: w.Tags,
		Pin: w.Pin, Forbid: w.Forbid}
	if count > 1 {
		one.Name = fmt.Sprintf("%s-%d", w.Name, k+1)
	}
	if k < len(w.Now) {
		one.Now = &w.Now[k]
	}
	for _, e := range w.Ends {
		one.Ends = append(one.Ends, placement.End{Site: e.Site, ToGiB: e.ToGiB, FrGiB: e.FromGiB, MaxMs: e.MaxMs, Weight: weight(e.Weight)})
	}
	return one
}

func weight(w *float64) float64 {
	if w == nil {
		return 1
	}
	return *w
}

func (r *reader) check(w *Workload, at string) {
	numbers := map[string]float64{"needs.cores": float64(w.Needs.Cores), "needs.memory_gib": w.Needs.MemoryGiB, "needs.disk_gib": w.Needs.DiskGiB,
		"volumes_gib": w.VolumesGiB, "addresses": float64(orOne(w.Addresses))}
	for name, x := range w.Needs.Extra {
		numbers["needs.extra."+name] = x
	}
	for i, e := range w.Ends {
		numbers[fmt.Sprintf("ends[%d]", i)] = min(e.ToGiB, e.FromGiB, e.MaxMs, weight(e.Weight))
		r.site(e.Site, fmt.Sprintf("%s.ends[%d].site", at, i))
	}
	r.amounts(at, numbers)
	if w.VolumesGiB > w.Needs.DiskGiB {
		r.wrong(at+".volumes_gib", "%g is more than needs.disk_gib, which it is a part of", w.VolumesGiB)
	}
	for _, s := range slices.Concat(w.Sites, w.Forbid) {
		r.site(s, at+".sites")
	}
	if w.Pin != nil {
		r.site(w.Pin.Site, at+".pin.site")
	}
}

func (r *reader) amounts(at string, numbers map[string]float64) {
	for _, name := range slices.Sorted(maps.Keys(numbers)) {
		if x := numbers[name]; x < 0 || x > 1e12 || math.IsNaN(x) {
			r.wrong(at+"."+name, "%g is negative or beyond reason", x)
		}
	}
}

func (r *reader) site(name, at string) {
	if r.p.Estate.Site(name) == nil {
		r.wrong(at, "there is no site %q", name)
	}
}

// traffic pairs the instances of both ends in turn, so that none is without.
func (r *reader) traffic() {
	for i, t := range r.f.Traffic {
		at := fmt.Sprintf("traffic[%d]", i)
		from, to := r.ends(t.From), r.ends(t.To)
		if len(from) == 0 || len(to) == 0 || t.From == t.To {
			r.wrong(at, "from %q to %q: these are not two workloads of the problem", t.From, t.To)
			continue
		}
		r.amounts(at, map[string]float64{"gib_per_hour": t.GiB, "back_gib_per_hour": t.BackGiB, "max_ms": t.MaxMs, "weight": weight(t.Weight)})
		for k := range max(len(from), len(to)) {
			r.p.Traffic = append(r.p.Traffic, placement.Traffic{From: from[k%len(from)], To: to[k%len(to)], GiB: t.GiB, BackGiB: t.BackGiB,
				MaxMs: t.MaxMs, Weight: weight(t.Weight)})
		}
	}
}

// ends are the instances of a workload, or the one instance named.
func (r *reader) ends(name string) []string {
	if all, ok := r.instances[name]; ok {
		return all
	}
	for _, w := range r.p.Workloads {
		if w.Name == name {
			return []string{name}
		}
	}
	return nil
}

func (r *reader) constraints() {
	scopes := []string{"", "provider", "site", "zone", "host"}
	for i, c := range r.f.Limits {
		at := fmt.Sprintf("constraints[%d]", i)
		if c.Name == "" {
			r.wrong(at+".name", "a constraint has a name, which is shown when it decides")
		}
		if !slices.Contains(scopes, c.Apart) || !slices.Contains(scopes, c.Together) || c.Together == "provider" || c.Together != "" && c.Weight != 0 {
			r.wrong(at, "apart is over provider, site, zone or host; together over site, zone or host, and without a weight")
		}
		for _, w := range c.Workloads {
			if _, ok := r.instances[w]; !ok {
				r.wrong(at+".workloads", "there is no workload %q", w)
			}
		}
		r.amounts(at, map[string]float64{"most": float64(c.Most), "weight": c.Weight})
		r.p.Rules = append(r.p.Rules, placement.Rule{Name: c.Name, Because: c.Because, Nodes: c.Workloads, Sites: c.Sites, Kinds: c.Kinds,
			Jurisdictions: c.Jurisdictions, Features: c.Features, Apart: c.Apart, Most: c.Most, Jointly: c.Jointly, Together: c.Together, Weight: c.Weight})
	}
}

func (r *reader) settings() {
	w := r.p.Weights
	r.amounts("weights", map[string]float64{"cost": w.Cost, "latency": w.Latency, "spread": w.Spread, "keep": w.Keep})
	if r.p.Payment != "" && !slices.Contains(estate.Payments, r.p.Payment) {
		r.wrong("payment", "%q is not one of %v", r.p.Payment, estate.Payments)
	}
	r.amounts("", map[string]float64{"budget_per_hour": r.p.Budget})
}
