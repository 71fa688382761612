// Package settling reads standing rules by which findings are settled without anybody being asked each time.
//
// In go a rule file (YAML or JSON, schemas/settling.schema.json) and findings; out comes the way in which each is
// settled, and by which rule. Only ways that change no site can be rules: what changes a site is shown to a person first.
package settling

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
)

// Version is the format that [Read] accepts.
const Version = "andamio.settling/1"

// File is a rule file. The first rule that fits decides.
type File struct {
	Version string `json:"version"`
	Rules   []Rule `json:"rules"`
}

// Pick chooses findings: by patterns with * and ?, of which empty ones fit all.
type Pick struct {
	Finding   string `json:"finding,omitempty"`
	Type      string `json:"type,omitempty"`
	Class     string `json:"class,omitempty"`
	Site      string `json:"site,omitempty"`
	Attribute string `json:"attribute,omitempty"`
	Name      string `json:"name,omitempty"`
}

// Rule settles what it picks. Every attribute in which a finding differs must fit where one is given.
type Rule struct {
	Rule string `json:"rule"`
	Pick
	Settle inventory.Way `json:"settle"`
	// Reason and Days are those of findings that are ignored: why, and for how many days; 0 is for good.
	Reason string `json:"reason,omitempty"`
	Days   int    `json:"days,omitempty"`
}

// may are the ways that can be rules.
var may = []inventory.Way{inventory.Adopt, inventory.CorrectRecord, inventory.Ignore}

// Read reads a rule file and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no rules: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	var errs []error
	for i, r := range f.Rules {
		wrong := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("rules[%d]: %s", i, fmt.Sprintf(format, args...)))
		}
		if r.Rule == "" {
			wrong("it has no name")
		}
		if !slices.Contains(may, r.Settle) {
			wrong("settle: %q cannot be a rule; %v can", r.Settle, may)
		}
		if r.Settle == inventory.Ignore && r.Reason == "" {
			wrong("reason: to ignore needs one")
		}
		if r.Pick == (Pick{}) {
			wrong("it picks everything: say a type, class, site, attribute or name")
		}
		for _, p := range []string{r.Finding, r.Type, r.Class, r.Site, r.Attribute, r.Name} {
			if _, err := path.Match(p, ""); err != nil {
				wrong("%q is no pattern", p)
			}
		}
	}
	return &f, errors.Join(errs...)
}

// Takes reports that a finding fits.
func (p Pick) Takes(f *inventory.Finding) bool {
	fits := func(pattern, text string) bool {
		ok, err := path.Match(pattern, text)
		return pattern == "" || pattern == text || ok && err == nil
	}
	if p.Attribute != "" {
		if len(f.Differences) == 0 {
			return false
		}
		for _, d := range f.Differences {
			if !fits(p.Attribute, d.Attribute) {
				return false
			}
		}
	}
	return fits(p.Finding, f.ID) && fits(p.Type, string(f.Type)) && fits(p.Class, string(f.Class)) && fits(p.Site, f.Site) && fits(p.Name, f.Name)
}

// For is the first rule that settles a finding, nil if none does. What a person should look at, and what endangers a
// service, no rule settles.
func (f *File) For(x *inventory.Finding) *Rule {
	if x.Review || len(x.Endangers) > 0 {
		return nil
	}
	for i := range f.Rules {
		if r := &f.Rules[i]; r.Takes(x) && x.Can(r.Settle) {
			return r
		}
	}
	return nil
}

// Until is when what a rule ignores is shown again; zero is never.
func (r *Rule) Until(now time.Time) time.Time {
	if r.Days <= 0 {
		return time.Time{}
	}
	return now.AddDate(0, 0, r.Days)
}
