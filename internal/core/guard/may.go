package guard

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
)

// Answer says whether somebody may, and why.
type Answer struct {
	Yes bool   `json:"yes"`
	Why string `json:"why"`
}

// May says whether a person has a right to something, and why: by which grant, or what is missing. The answer names no team but the
// person's own to whom may not read.
func (d *Directory) May(person string, r Right, on Thing) Answer {
	a := d.may(person, r, on)
	if a.Yes || r != Approve {
		return a
	}
	if instead, yes := d.mayFor(person, on); yes {
		return instead
	}
	return a
}

func (d *Directory) may(person string, r Right, on Thing) Answer {
	if _, known := d.People[person]; !known {
		return Answer{Why: "it is not known who that is: nobody of that name is in the directory of teams"}
	}
	var bounds []string
	for i := range d.Grants {
		g := &d.Grants[i]
		if !d.Is(person, g.To) || !slices.Contains(d.rightsOf(g.Role), r) {
			continue
		}
		missing := d.outside(g, person, on)
		if missing == "" {
			return Answer{true, fmt.Sprintf("%s, as %s%s", to(g), g.Role, bound(&g.Scope))}
		}
		bounds = append(bounds, missing)
	}
	if bounds == nil {
		return Answer{Why: fmt.Sprintf("that takes the right to %s, which nobody gave them", r)}
	}
	return Answer{Why: fmt.Sprintf("their right to %s is bounded, and %s", r, strings.Join(slices.Compact(bounds), "; "))}
}

// Unbounded reports that a person has a right to everything.
func (d *Directory) Unbounded(person string, r Right) bool {
	for i := range d.Grants {
		g := &d.Grants[i]
		if d.Is(person, g.To) && slices.Contains(d.rightsOf(g.Role), r) && g.unbounded() {
			return true
		}
	}
	return false
}

// Has reports that a person has a right to anything at all.
func (d *Directory) Has(person string, r Right) bool {
	return r == Approve && slices.ContainsFunc(d.InPlaceOf(person), func(who string) bool { return d.has(who, r) }) || d.has(person, r)
}

func (d *Directory) has(person string, r Right) bool {
	return slices.ContainsFunc(d.Grants, func(g Grant) bool { return d.Is(person, g.To) && slices.Contains(d.rightsOf(g.Role), r) })
}

// RolesOf are the roles that somebody was given, with their bounds.
func (d *Directory) RolesOf(person string) []string {
	var out []string
	for i := range d.Grants {
		if g := &d.Grants[i]; d.Is(person, g.To) {
			out = append(out, g.Role+bound(&g.Scope))
		}
	}
	for _, who := range d.InPlaceOf(person) {
		out = append(out, "approves in the place of "+who)
	}
	return out
}

func (s *Scope) unbounded() bool {
	return len(s.Teams)+len(s.Sites)+len(s.Services)+len(s.Stages)+len(s.Tags)+len(s.Deployments) == 0
}

// outside says how something is outside the bounds of a grant; "" if it is within.
func (d *Directory) outside(g *Grant, person string, on Thing) string {
	if len(g.Teams) > 0 && !d.ofTeams(g.Teams, person, on) {
		return whose(on)
	}
	if len(g.Sites) > 0 {
		if len(on.Sites) == 0 {
			return "it is at none of the sites " + strings.Join(g.Sites, ", ")
		}
		for _, s := range on.Sites {
			if !fits(g.Sites, s) {
				return fmt.Sprintf("this is at %s, not at %s", s, strings.Join(g.Sites, ", "))
			}
		}
	}
	for _, x := range []struct {
		what, is string
		bounds   []string
	}{{"service", on.Service, g.Services}, {"stage", on.Stage, g.Stages}, {"deployment", on.Called, g.Deployments}} {
		if len(x.bounds) > 0 && !fits(x.bounds, x.is) {
			return fmt.Sprintf("this is of the %s %s, not of %s", x.what, orUnknown(x.is), strings.Join(x.bounds, ", "))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(g.Tags)) {
		if !fits([]string{g.Tags[name]}, on.Tags[name]) {
			return fmt.Sprintf("this has the tag %s %s, not %s", name, orUnknown(on.Tags[name]), g.Tags[name])
		}
	}
	return ""
}

// whose says whose something is, and no name of a team.
func whose(on Thing) string {
	if on.Team == "" {
		return "this is no team's"
	}
	return "this is another team's"
}

// ofTeams reports that something is of one of some teams, or of a team within one.
func (d *Directory) ofTeams(teams []string, person string, on Thing) bool {
	for _, t := range d.Around(on.Team) {
		for _, pattern := range teams {
			if pattern == Own && slices.Contains(d.Teams[t].Members, person) || pattern != Own && matches(pattern, t) {
				return true
			}
		}
	}
	return slices.Contains(teams, Own) && on.Person == person && person != ""
}

func fits(patterns []string, name string) bool {
	return name != "" && slices.ContainsFunc(patterns, func(p string) bool { return matches(p, name) })
}

func matches(pattern, name string) bool {
	ok, err := path.Match(pattern, name)
	return pattern == name || ok && err == nil
}

func orUnknown(s string) string {
	if s == "" {
		return "that nobody said"
	}
	return s
}

func to(g *Grant) string {
	team, is := strings.CutPrefix(g.To, teamPrefix)
	switch {
	case is:
		return "given to the team " + team
	case g.To == everybody:
		return "given to everybody"
	}
	return "given to them"
}

// bound says to what a scope bounds a grant.
func bound(s *Scope) string {
	var out []string
	for _, x := range []struct {
		what string
		list []string
	}{{"things of", s.Teams}, {"at", s.Sites}, {"service", s.Services}, {"stage", s.Stages}, {"deployment", s.Deployments}} {
		if len(x.list) > 0 {
			out = append(out, x.what+" "+strings.Join(x.list, ", "))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Tags)) {
		out = append(out, "tag "+name+" "+s.Tags[name])
	}
	if out == nil {
		return ""
	}
	return ": " + strings.Join(out, "; ")
}
