// Package level is service levels: named promises of what is kept up for a deployment, and rules that say who has to have which.
//
// In go a file of levels (YAML or JSON, schemas/levels.schema.json), and what a deployment is; out come the promises that a level consists of, which
// level a deployment has to have, and what a site lacks to keep one.
package level

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/promise"
)

// Version is the format that [Read] accepts.
const Version = "andamio.levels/1"

// File is the service levels of a workspace, from the one that promises least to the one that promises most.
type File struct {
	Version string `json:"version"`
	// Zone is the time zone of times of day, by its IANA name; "" is UTC.
	Zone   string  `json:"zone,omitempty"`
	Levels []Level `json:"levels"`
	// Require are rules of who has to have which.
	Require []Requirement `json:"require,omitempty"`
}

// Level is one of them.
type Level struct {
	Name string `json:"level"`
	// Note says in plain words what one gets, and what not.
	Note string `json:"note,omitempty"`
	// Save has snapshots be taken of all disks, Drill has the newest be raised beside and taken away again.
	Save  *Saving   `json:"save,omitempty"`
	Drill *Drilling `json:"drill,omitempty"`
	// Replicate has copies be kept at another site.
	Replicate *Replicating `json:"replicate,omitempty"`
	// Guard is when nothing takes service away by itself, and how long before it is said otherwise.
	Guard *Guarding `json:"guard,omitempty"`
	// Recover has machines that fell be raised again by themselves.
	Recover *Recovering `json:"recover,omitempty"`
	// Limit bounds how much each volume is read and written.
	Limit *Limiting `json:"limit,omitempty"`
	// Storage is the class of storage that volumes have to be of; "" is any.
	Storage string `json:"storage,omitempty"`
}

// Saving is when snapshots are taken and how many are kept.
type Saving struct {
	// Rule is a recurrence (RFC 5545, section 3.3.10), At the time of day as in 02:00.
	Rule string `json:"rule"`
	At   string `json:"at"`
	Keep int    `json:"keep"`
	// Barrier has all machines stand still until the last is taken.
	Barrier bool `json:"barrier,omitempty"`
}

// Drilling is when restoring is tried.
type Drilling struct {
	Rule string `json:"rule"`
	At   string `json:"at"`
}

// Replicating is where copies are kept, when they are made like their disks, and how old they may be.
type Replicating struct {
	Site string `json:"site"`
	Rule string `json:"rule"`
	At   string `json:"at"`
	// Lose is how much may be lost, as in 4h; "" says nothing of that.
	Lose    string `json:"lose,omitempty"`
	Barrier bool   `json:"barrier,omitempty"`
}

// Guarding is guarded hours, notice before service is taken away by itself, or both.
type Guarding struct {
	// Rule, At and For say when guarded hours begin and how long they last, as in 16h.
	Rule string `json:"rule,omitempty"`
	At   string `json:"at,omitempty"`
	For  string `json:"for,omitempty"`
	// Notice is how long before it is said, as in 24h.
	Notice string `json:"notice,omitempty"`
}

// Recovering is for how long a machine has to be down, as in 5m, before it is raised again, how often a day, and whether what is gone is built again.
type Recovering struct {
	After   string `json:"after"`
	Tries   int    `json:"tries"`
	Rebuild bool   `json:"rebuild,omitempty"`
}

// Limiting is how often a second each volume is read and written at most, and how many MiB go there and back; 0 does not bound it.
type Limiting struct {
	PerSecond    int     `json:"per_second,omitempty"`
	MiBPerSecond float64 `json:"mib_per_second,omitempty"`
}

// Requirement has deployments that a condition fits have a level, or a better one.
type Requirement struct {
	Name string `json:"rule"`
	// When is an expression (CEL) over deployment: its name, services, team, person, stage and tags; "" fits all.
	When  string `json:"when,omitempty"`
	Level string `json:"level"`
	// Say is the sentence that is shown.
	Say string `json:"say"`

	condition condition.Condition
}

var levelName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// Read reads a file of levels and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no service levels: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	var errs []error
	seen := map[string]bool{}
	for i := range f.Levels {
		l := &f.Levels[i]
		for _, err := range l.check(f.Zone) {
			errs = append(errs, fmt.Errorf("levels[%d]: %w", i, err))
		}
		if seen[l.Name] {
			errs = append(errs, fmt.Errorf("levels[%d]: another is called %s", i, l.Name))
		}
		seen[l.Name] = true
	}
	return &f, errors.Join(append(errs, f.checkRequired()...)...)
}

// anyDay is one on which rules are tried.
var anyDay = time.Date(2000, 1, 1, 12, 0, 0, 0, time.UTC)

func (l *Level) check(zone string) []error {
	var errs []error
	if !levelName.MatchString(l.Name) {
		errs = append(errs, fmt.Errorf("level: %q is no name: it has small letters, digits and -, at most 40", l.Name))
	}
	if l.Save == nil {
		errs = append(errs, errors.New("save: nothing is kept, so that nothing could be raised and it promises nothing"))
	}
	all, err := l.Promises(0, zone, anyDay)
	if err != nil {
		return append(errs, err)
	}
	for i := range all {
		if err := all[i].Check(anyDay); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", all[i].Kind, err))
		}
	}
	if errs == nil {
		errs = contradictions(all)
	}
	return errs
}

// contradictions are times at which machines are to stand still by a rule within guarded hours: what waits until these are over would not be kept.
func contradictions(all []promise.Promise) []error {
	i := slices.IndexFunc(all, func(p promise.Promise) bool { return p.Guarded != nil })
	if i < 0 {
		return nil
	}
	var errs []error
	for k := range all {
		p := &all[k]
		if p.Saved != nil && !p.Saved.Barrier || p.Replicated != nil && !p.Replicated.Barrier || p.Saved == nil && p.Replicated == nil {
			continue
		}
		for _, d := range p.Dues(anyDay) {
			if at := all[i].Guarded.Meets(&d, anyDay); !at.IsZero() {
				errs = append(errs, fmt.Errorf("%s: machines would stand still at %s, which is guarded: leave the barrier out, or guard other hours", p.Kind, at.Format("15:04 MST")))
			}
		}
	}
	return errs
}

func (f *File) checkRequired() []error {
	var errs []error
	env, err := condition.OfDeployments()
	if err != nil {
		return []error{err}
	}
	for i := range f.Require {
		r := &f.Require[i]
		wrong := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("require[%d]: %s", i, fmt.Sprintf(format, args...)))
		}
		if r.Name == "" {
			wrong("it has no name")
		}
		if r.Say == "" {
			wrong("say: whoever is refused is to read why")
		}
		if f.Level(r.Level) == nil {
			wrong("level: there is no %q; there are %s", r.Level, strings.Join(f.Names(), ", "))
		}
		if r.condition, err = condition.New(env, r.When); err != nil {
			wrong("when: %v", err)
		}
	}
	return errs
}

// Names are those of all levels, in their order.
func (f *File) Names() []string {
	var out []string
	for i := range f.Levels {
		out = append(out, f.Levels[i].Name)
	}
	return out
}

// Level is the one of that name; nil if there is none.
func (f *File) Level(name string) *Level {
	if i := f.rank(name); i >= 0 {
		return &f.Levels[i]
	}
	return nil
}

// rank counts from the one that promises least; -1 is none.
func (f *File) rank(name string) int {
	return slices.IndexFunc(f.Levels, func(l Level) bool { return l.Name == name })
}

// Below reports that a level promises less than another: it comes before it in the file, or there is none.
func (f *File) Below(has, needs string) bool { return f.rank(has) < f.rank(needs) }

// Required is the requirement that asks most of something; nil if none asks anything. One that cannot be worked out is an error, and asks for
// nothing.
func (f *File) Required(s *condition.Subject) (*Requirement, error) {
	var out *Requirement
	var errs []error
	for i := range f.Require {
		r := &f.Require[i]
		fits, err := r.condition.Holds(s.Facts())
		if err != nil {
			errs = append(errs, fmt.Errorf("the rule %s cannot be worked out: %w", r.Name, err))
		}
		if fits && (out == nil || f.Below(out.Level, r.Level)) {
			out = r
		}
	}
	return out, errors.Join(errs...)
}

// Promises are what a level promises of a deployment, counted from today on, in a time zone.
func (l *Level) Promises(deployment int64, zone string, now time.Time) ([]promise.Promise, error) {
	var out []promise.Promise
	if l.Save != nil {
		when, err := promise.Daily(now, l.Save.Rule, l.Save.At, zone)
		if err != nil {
			return nil, fmt.Errorf("save: %w", err)
		}
		out = append(out, promise.Promise{Deployment: deployment, Kind: promise.Saved, Level: l.Name,
			Saved: &promise.SavedTerms{When: when, Keep: l.Save.Keep, Barrier: l.Save.Barrier}})
	}
	if l.Replicate != nil {
		p, err := l.Replicate.promise(deployment, zone, l.Name, now)
		if err != nil {
			return nil, fmt.Errorf("replicate: %w", err)
		}
		out = append(out, p)
	}
	if l.Drill != nil {
		when, err := promise.Daily(now, l.Drill.Rule, l.Drill.At, zone)
		if err != nil {
			return nil, fmt.Errorf("drill: %w", err)
		}
		out = append(out, promise.Promise{Deployment: deployment, Kind: promise.Drilled, Level: l.Name, Drilled: &promise.DrilledTerms{When: when}})
	}
	if l.Recover != nil {
		terms, err := promise.Recovering(l.Recover.After, l.Recover.Tries, l.Recover.Rebuild)
		if err != nil {
			return nil, fmt.Errorf("recover: %w", err)
		}
		out = append(out, promise.Promise{Deployment: deployment, Kind: promise.Recovered, Level: l.Name, Recovered: terms})
	}
	if l.Limit != nil {
		out = append(out, promise.Promise{Deployment: deployment, Kind: promise.Limited, Level: l.Name,
			Limited: &promise.LimitedTerms{PerSecond: l.Limit.PerSecond, MiBPerSecond: l.Limit.MiBPerSecond}})
	}
	if l.Guard != nil {
		terms, err := promise.Guarding(now, l.Guard.Rule, l.Guard.At, l.Guard.For, l.Guard.Notice, zone)
		if err != nil {
			return nil, fmt.Errorf("guard: %w", err)
		}
		out = append(out, promise.Promise{Deployment: deployment, Kind: promise.Guarded, Level: l.Name, Guarded: terms})
	}
	return out, nil
}

func (r *Replicating) promise(deployment int64, zone, level string, now time.Time) (promise.Promise, error) {
	terms := &promise.ReplicatedTerms{Site: r.Site, Barrier: r.Barrier}
	var err error
	if r.Lose != "" {
		if terms.Lose, err = promise.ParseSpan(r.Lose); err != nil {
			return promise.Promise{}, fmt.Errorf("lose: %w", err)
		}
	}
	terms.When, err = promise.Daily(now, r.Rule, r.At, zone)
	return promise.Promise{Deployment: deployment, Kind: promise.Replicated, Level: level, Replicated: terms}, err
}

// Words say what it promises, each in a line.
func (l *Level) Words(zone string) []string {
	var out []string
	all, _ := l.Promises(0, zone, anyDay) // which was checked when it was read
	for i := range all {
		out = append(out, all[i].Words())
	}
	if l.Storage != "" {
		out = append(out, "volumes on storage "+l.Storage)
	}
	return out
}

// Able is what a site can do beside what every site does: keep snapshots, and bound how much volumes are read and written.
type Able struct{ Keeps, Limits bool }

// Lacks says what a site lacks to keep the level; "" if nothing.
func (l *Level) Lacks(s *estate.Site, can Able) string {
	if l.Limit != nil && !can.Limits {
		return fmt.Sprintf("%s does not bound how much volumes are read and written, as %s does", s.Name, l.Name)
	}
	if l.Save != nil && !can.Keeps {
		return fmt.Sprintf("%s keeps no snapshots, which %s takes", s.Name, l.Name)
	}
	if _, has := s.DiskPrice(l.Storage); !has {
		return fmt.Sprintf("%s has no storage %s, which %s takes", s.Name, l.Storage, l.Name)
	}
	return ""
}

// LacksCopies says why copies cannot be kept where the level keeps them; "" if they can. Keeps says of the sites that are known whether each keeps snapshots.
func (l *Level) LacksCopies(keeps map[string]bool) string {
	if l.Replicate == nil || keeps[l.Replicate.Site] {
		return ""
	}
	return fmt.Sprintf("%s is not connected, does not answer, or keeps no snapshots, and %s keeps copies there", l.Replicate.Site, l.Name)
}

// Copies is how many copies of all disks are kept at most.
func (l *Level) Copies() int {
	if l.Save == nil {
		return 0
	}
	return l.Save.Keep
}

// Same reports that promises are those that the level consists of, whenever they began to count.
func (l *Level) Same(all []promise.Promise, zone string) bool {
	mine, err := l.Promises(0, zone, anyDay)
	if err != nil || len(mine) != len(all) {
		return false
	}
	for i := range mine {
		k := slices.IndexFunc(all, func(p promise.Promise) bool { return p.Kind == mine[i].Kind })
		if k < 0 || all[k].Words() != mine[i].Words() || all[k].Zone() != mine[i].Zone() {
			return false
		}
	}
	return true
}
