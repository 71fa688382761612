package requests

import (
	"context"
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/store"
)

// RuleUse is a rule with what it decided lately, of the requests that the actor may see.
type RuleUse struct {
	decide.Rule
	Approved int `json:"approved"`
	Refused  int `json:"refused"`
	Asked    int `json:"asked"`
	// Last is when it decided last; zero if it has not lately.
	Last time.Time `json:"last,omitzero"`
}

// Lately is how long what rules decided is counted.
const Lately = 30 * 24 * time.Hour

// Does says what the rule does, and whom it asks.
func (u *RuleUse) Does() string {
	if u.Then == decide.Ask {
		return "asks " + who(u.Ask, "whoever may approve")
	}
	return map[decide.Then]string{decide.Approve: "approves", decide.Refuse: "refuses"}[u.Then]
}

// Decided says in words what the rule decided lately.
func (u *RuleUse) Decided() string {
	var out []string
	for _, x := range []struct {
		n    int
		word string
	}{{u.Approved, "approved"}, {u.Refused, "refused"}, {u.Asked, "asked"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%s %d", x.word, x.n))
		}
	}
	if out == nil {
		return "decided nothing in 30 days"
	}
	return strings.Join(out, ", ") + " in 30 days"
}

// Rulings are the rules of approval in their order, each with what it decided lately.
func (svc *Service) Rulings(ctx context.Context, now time.Time) ([]RuleUse, error) {
	if err := svc.desk.Read("what rules decided"); err != nil {
		return nil, err
	}
	f, err := svc.workspace.Approvals()
	if err != nil {
		return nil, err
	}
	d, err := svc.workspace.Directory()
	if err != nil {
		return nil, err
	}
	all, err := svc.store.Requests(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]RuleUse, len(f.Rules))
	at := map[string]*RuleUse{}
	for i := range f.Rules {
		out[i].Rule = f.Rules[i]
		at[f.Rules[i].Name] = &out[i]
	}
	for i := range all {
		r := &all[i]
		u := at[r.Decision.Rule]
		if u == nil || now.Sub(r.Created) > Lately || !svc.sees(d, r) {
			continue
		}
		u.count(r)
	}
	return out, nil
}

func (u *RuleUse) count(r *store.Request) {
	switch r.Decision.Then {
	case decide.Approve:
		u.Approved++
	case decide.Refuse:
		u.Refused++
	case decide.Ask:
		u.Asked++
	}
	if r.Created.After(u.Last) {
		u.Last = r.Created
	}
}
