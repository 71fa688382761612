// Package decide is rules that approve or refuse requests, or say whom to ask.
//
// In go a rule file (YAML or JSON, schemas/approvals.schema.json), whose conditions are of the Common Expression Language, and the facts of a
// request; out comes what is decided, by which rule, and the sentence that is shown.
package decide

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
)

// Version is the format that [Read] accepts.
const Version = "andamio.approvals/1"

// Then is what a rule does.
type Then string

// What rules do.
const (
	Approve Then = "approve"
	Refuse  Then = "refuse"
	Ask     Then = "ask"
)

// File is the rules of a workspace. The first that fits decides; where none does, somebody is asked who may approve.
type File struct {
	Version string `json:"version"`
	Rules   []Rule `json:"rules"`
}

// Rule decides requests that its condition fits.
type Rule struct {
	Name string `json:"rule"`
	// When is an expression over request, person, team, price, size, sites and history that is true or false; "" always fits.
	When string `json:"when,omitempty"`
	Then Then   `json:"then"`
	// Say is the sentence that is shown.
	Say string `json:"say"`
	// Ask are who is asked: people, or team:NAME; nobody is everybody who may approve. Need is how many have to say yes, at least one.
	Ask  []string `json:"ask,omitempty"`
	Need int      `json:"need,omitempty"`
	// After is for how long those are asked alone; then Next are asked too.
	After string   `json:"after,omitempty"`
	Next  []string `json:"next,omitempty"`

	condition condition.Condition
}

// Facts are what conditions are about.
type Facts struct {
	// Request has offer, title, category, service, stage, name and answers.
	Request map[string]any
	// Person has name and teams; Team is whose it would be.
	Person map[string]any
	Team   string
	// Price has per_hour and per_month, Size instances, cores, memory_gib, disk_gib and addresses.
	Price map[string]any
	Size  map[string]any
	Sites []string
	// History has asked, refused and standing: how many of the team's requests before it.
	History map[string]any
}

func (f *Facts) vars() map[string]any {
	return map[string]any{"request": f.Request, "person": f.Person, "team": f.Team, "price": f.Price, "size": f.Size, "sites": f.Sites, "history": f.History}
}

// Decision is what rules say of a request.
type Decision struct {
	Then Then `json:"then"`
	// Rule is the one that decides; "" where none does.
	Rule string   `json:"rule,omitempty"`
	Say  string   `json:"say"`
	Ask  []string `json:"ask,omitempty"`
	Need int      `json:"need,omitempty"`
	// Next are asked too after Wait; no wait is never.
	Next []string      `json:"next,omitempty"`
	Wait time.Duration `json:"wait,omitempty"`
}

func environment() (*cel.Env, error) {
	facts := cel.MapType(cel.StringType, cel.DynType)
	return cel.NewEnv(cel.Variable("request", facts), cel.Variable("person", facts), cel.Variable("team", cel.StringType), cel.Variable("price", facts),
		cel.Variable("size", facts), cel.Variable("sites", cel.ListType(cel.StringType)), cel.Variable("history", facts))
}

// Read reads a rule file and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no rules of approval: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	var errs []error
	seen := map[string]bool{}
	for i := range f.Rules {
		r := &f.Rules[i]
		wrong := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("rules[%d]: %s", i, fmt.Sprintf(format, args...)))
		}
		r.check(wrong)
		if seen[r.Name] {
			wrong("another is called %s", r.Name)
		}
		seen[r.Name] = true
		if r.condition, err = condition.New(env, r.When); err != nil {
			wrong("when: %v", err)
		}
	}
	return &f, errors.Join(errs...)
}

func (r *Rule) check(wrong func(string, ...any)) {
	if r.Name == "" {
		wrong("it has no name")
	}
	if !slices.Contains([]Then{Approve, Refuse, Ask}, r.Then) {
		wrong("then: %q is neither %s, %s nor %s", r.Then, Approve, Refuse, Ask)
	}
	if r.Say == "" {
		wrong("say: whoever asked is to read why")
	}
	if r.Then != Ask && len(r.Ask)+len(r.Next)+r.Need+len(r.After) > 0 {
		wrong("only a rule that asks says whom")
	}
	if r.Need < 0 || len(r.Ask) > 0 && r.Need > len(r.Ask) && !slices.ContainsFunc(r.Ask, func(s string) bool { return strings.HasPrefix(s, "team:") }) {
		wrong("need: %d of %d cannot say yes", r.Need, len(r.Ask))
	}
	if d, err := time.ParseDuration(r.After); r.After != "" && (err != nil || d <= 0) {
		wrong("after: %q is no time, such as 24h", r.After)
	}
	if (r.After == "") != (len(r.Next) == 0) {
		wrong("after some time others are asked: say after and next, or neither")
	}
}

// CheckAgainst says which people and teams of the rules there are not.
func (f *File) CheckAgainst(d *guard.Directory) error {
	var errs []error
	for i := range f.Rules {
		for _, who := range slices.Concat(f.Rules[i].Ask, f.Rules[i].Next) {
			if !d.Knows(who) {
				errs = append(errs, fmt.Errorf("rules[%d].ask: %q is neither a person, team:NAME of a team that there is, nor everybody", i, who))
			}
		}
	}
	return errors.Join(errs...)
}

// Decide is what the rules say. A rule that cannot be worked out approves and refuses nothing: a person is asked, and told.
func (f *File) Decide(facts *Facts) Decision {
	for i := range f.Rules {
		r := &f.Rules[i]
		fits, err := r.condition.Holds(facts.vars())
		if err != nil {
			return Decision{Then: Ask, Rule: r.Name, Need: 1, Say: fmt.Sprintf("The rule %s cannot be worked out, so somebody is asked: %v.", r.Name, err)}
		}
		if !fits {
			continue
		}
		d := Decision{Then: r.Then, Rule: r.Name, Say: r.Say, Ask: r.Ask, Next: r.Next}
		if r.Then == Ask {
			d.Need = max(r.Need, 1)
			d.Wait, _ = time.ParseDuration(r.After) // it was checked when it was read
		}
		return d
	}
	return Decision{Then: Ask, Need: 1, Say: "No rule decides this, so somebody is asked who may approve."}
}
