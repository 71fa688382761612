package requests

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/core/quota"
	"andamio/internal/service/offers"
	"andamio/internal/store"
)

// Request is what somebody asked of an offer.
type Request = store.Request

// Asked is what somebody asks for.
type Asked struct {
	Offer   string        `json:"offer"`
	Answers offer.Answers `json:"answers,omitempty"`
	// Team is for whom; "" is the only team that they are in.
	Team string `json:"team,omitempty"`
	// Name is what it is to be called; "" is as the offer names it.
	Name string `json:"name,omitempty"`
	// Why is for whoever decides.
	Why string `json:"why,omitempty"`
	// Instead is the request whose answers these would be in the place of; 0 for a request of its own.
	Instead int64 `json:"instead,omitempty"`
	// Before is an offer that is not published yet, to be looked at as somebody would see it. It is not asked for.
	Before *offers.Offer `json:"-"`
}

// The states that a request can be changed in.
const (
	Waiting = store.RequestWaiting
	Priced  = store.RequestPriced
)

// The stages of a request's thread.
const (
	StageAsked     = "asked"
	StageApproved  = "approved"
	StageRefused   = "refused"
	StagePriced    = "priced again"
	StageBuilding  = "building"
	StageServing   = "serving"
	StageFailed    = "failed"
	StageGone      = "gone"
	StageWithdrawn = "withdrawn"
	StageWaiting   = "waiting"
)

func title(r *Request) string {
	if r.ID == 0 {
		return r.Title
	}
	return fmt.Sprintf("request %d, %s", r.ID, r.Title)
}

// AskFor asks for an offer, or gives a request that waits these answers in the place of its own. What is no answer, cannot be had or does not fit into a quota is an error before anybody is asked; else it is decided by
// rule at once, or waits for whom the rules name.
func (svc *Service) AskFor(ctx context.Context, a Asked) (out Request, err error) {
	if a.Before != nil {
		return Request{}, fault.Conflictf("%s is not published yet", a.Before.Name)
	}
	if a.Instead != 0 {
		return svc.Reanswer(ctx, a.Instead, a.Answers, a.Why)
	}
	r, err := svc.drafted(ctx, a)
	if err != nil {
		return Request{}, err
	}
	err = svc.desk.Do(ctx, guard.AskFor, thing(&r), func() (err error) {
		out, err = svc.ask(ctx, r)
		for range mostAtOnce { // somebody asked at the same moment, and was given the name
			if !errors.Is(err, store.ErrNameTaken) || a.Name != "" {
				break
			}
			if r, err = svc.drafted(ctx, a); err == nil {
				out, err = svc.ask(ctx, r)
			}
		}
		return err
	})
	return out, err
}

// mostAtOnce bounds how often another name is looked for because somebody was faster.
const mostAtOnce = 50

// drafted is a request before it is kept, with its price and place as they are now.
func (svc *Service) drafted(ctx context.Context, a Asked) (Request, error) {
	r, o, err := svc.begun(ctx, a)
	if err != nil {
		return Request{}, err
	}
	q, err := svc.offers.Quote(ctx, o, a.Answers, r.Name, false)
	if err != nil {
		return Request{}, err
	}
	return r, agreed(&r, q)
}

// wanted is the offer that somebody asks for.
func (svc *Service) wanted(ctx context.Context, a Asked) (offers.Offer, error) {
	if a.Before == nil {
		return svc.offers.Offer(ctx, a.Offer, 0)
	}
	o := *a.Before
	o.State = store.OfferPublished
	return o, nil
}

// begun is a request before its price and place are known, and what it is of.
func (svc *Service) begun(ctx context.Context, a Asked) (Request, offers.Offer, error) {
	o, err := svc.wanted(ctx, a)
	if err != nil {
		return Request{}, o, err
	}
	if o.State != store.OfferPublished {
		return Request{}, o, fault.Conflictf("%s is %s: nobody asks for it any more", o.Name, o.State)
	}
	team, err := svc.teamFor(a.Team)
	if err != nil {
		return Request{}, o, err
	}
	r := Request{Offer: o.Name, Person: svc.me(), Owner: guard.Owner{Team: team, Person: svc.me(), Service: o.Service, Stage: o.Stage}, State: store.RequestWaiting}
	r.Number, r.Title, r.Answers, r.Why = o.Number, o.Title, a.Answers, strings.TrimSpace(a.Why)
	r.Name, err = svc.freeName(ctx, &o, team, a.Name)
	return r, o, err
}

// agreed takes a quote for what is agreed; what cannot be had is an error.
func agreed(r *Request, q *offers.Quote) error {
	if len(q.Wrong) > 0 {
		var all []string
		for _, w := range q.Wrong {
			all = append(all, w.Input+": "+w.Why)
		}
		return fault.Invalidf("%s", strings.Join(all, "; "))
	}
	if q.Cannot != "" {
		return fault.Refusedf("it cannot be had: %s", q.Cannot)
	}
	r.PerHour, r.Currency, r.Hidden, r.Seconds = q.Draft().Plan.CostPerHour, q.Currency, q.Hidden, q.Seconds
	r.Sites = nil
	for _, p := range q.Places {
		r.Sites = append(r.Sites, p.Site)
	}
	return nil
}

// teamFor is the team that the actor asks for.
func (svc *Service) teamFor(team string) (string, error) {
	d, err := svc.workspace.Directory()
	if err != nil || d == nil {
		return team, err
	}
	mine := d.TeamsOf(svc.me())
	switch {
	case team != "" && (slices.Contains(mine, team) || d.Has(svc.me(), guard.Offer)):
		return team, nil
	case team != "":
		return "", fault.NotFoundf("you are in no team called %s", team)
	case len(mine) == 1:
		return mine[0], nil
	case len(mine) == 0:
		return "", nil
	}
	return "", fault.Invalidf("you are in the teams %s: say for which you ask", strings.Join(mine, ", "))
}

// mostNumbers bounds how far a free number is looked for.
const mostNumbers = 10_000

// freeName is a name that nothing has and nobody has asked for.
func (svc *Service) freeName(ctx context.Context, o *offers.Offer, team, asked string) (string, error) {
	all, err := svc.store.Requests(ctx)
	if err != nil {
		return "", err
	}
	open := map[string]bool{}
	for i := range all {
		open[all[i].Name] = open[all[i].Name] || slices.Contains(openStates, all[i].State)
	}
	free := func(name string) (bool, error) {
		if open[name] {
			return false, nil
		}
		d, err := svc.deployments.Taken(ctx, name)
		return d == nil, err
	}
	if asked != "" {
		ok, err := free(asked)
		if err == nil && !ok {
			err = fault.Conflictf("something is called %s already: ask for it by another name", asked)
		}
		return asked, err
	}
	for n := 1; n < mostNumbers; n++ {
		name := o.NameOf(team, svc.me(), n)
		if ok, err := free(name); err != nil || ok {
			return name, err
		}
	}
	return "", fault.Conflictf("every name of the offer %s is taken", o.Name)
}

// openStates are those in which a request is not over and nothing was made of it.
var openStates = []store.RequestState{store.RequestWaiting, store.RequestPriced, store.RequestApproved}

func (svc *Service) ask(ctx context.Context, r Request) (Request, error) {
	r.Created = time.Now()
	r.Changed = r.Created
	id, err := svc.store.AddRequest(ctx, r, svc.event(StageAsked, cmp.Or(r.Why, "asked")))
	if err != nil {
		return Request{}, err
	}
	if r, err = svc.store.Request(ctx, id); err != nil {
		return Request{}, err
	}
	return svc.proceed(ctx, r)
}

// event is an entry of a thread by the actor.
func (svc *Service) event(stage, text string) store.RequestEvent {
	return store.RequestEvent{At: time.Now(), By: svc.desk.Actor, Stage: stage, Text: text}
}

// byRule is an entry of a thread that a rule made.
func byRule(rule, stage, text string) store.RequestEvent {
	return store.RequestEvent{At: time.Now(), By: guard.Actor{Way: guard.Rule}, Rule: rule, Stage: stage, Text: text}
}

// change changes a request from the state that it is in; who comes second is told.
func (svc *Service) change(ctx context.Context, r Request, to store.RequestState, events ...store.RequestEvent) (Request, error) {
	from := r.State
	r.State = to
	done, err := svc.store.ChangeRequest(ctx, r, from, events...)
	if err != nil {
		return r, err
	}
	if !done {
		return r, fault.Conflictf("request %d was changed by somebody else at this moment", r.ID)
	}
	return svc.store.Request(ctx, r.ID)
}

// proceed takes a request as far as it goes by itself: what it needs is held, it is decided by rule, and what is approved is built. It may have
// broken off anywhere before.
func (svc *Service) proceed(ctx context.Context, r Request) (Request, error) {
	if r.State == store.RequestWaiting && r.Decision.Then == "" {
		var err error
		if r, err = svc.check(ctx, r); err != nil {
			return r, err
		}
	}
	if r.State == store.RequestApproved {
		return svc.build(ctx, r)
	}
	return r, nil
}

// check holds what a request needs, and has the rules decide it.
func (svc *Service) check(ctx context.Context, r Request) (Request, error) {
	q, err := svc.quote(ctx, &r)
	if err != nil {
		return r, err
	}
	if q.Cannot != "" {
		return svc.refuse(ctx, r, byRule("capacity", StageRefused, "It cannot be had: "+q.Cannot))
	}
	err = svc.quotas.Reserve(ctx, r.ID, r.Owner, q.Draft().Plan, time.Now())
	var over *quota.Overrun
	if errors.As(err, &over) {
		refused, err := svc.refuse(ctx, r, byRule("quota "+over.Account, StageRefused, over.Error()))
		return refused, errors.Join(err, over)
	}
	if err != nil {
		return r, err
	}
	rules, err := svc.workspace.Approvals()
	if err != nil {
		return r, err
	}
	o, err := svc.offers.Version(ctx, r.Offer, r.Number)
	if err != nil {
		return r, err
	}
	facts, err := svc.facts(ctx, &r, &o, q)
	if err != nil {
		return r, err
	}
	r.Decision, r.Asked = rules.Decide(facts), time.Now()
	d := r.Decision
	switch d.Then {
	case decide.Approve:
		return svc.change(ctx, r, store.RequestApproved, byRule(d.Rule, StageApproved, d.Say))
	case decide.Refuse:
		return svc.refuse(ctx, r, byRule(d.Rule, StageRefused, d.Say))
	}
	return svc.change(ctx, r, store.RequestWaiting, byRule(d.Rule, StageWaiting, d.Say))
}

// quote is what a request would be now.
func (svc *Service) quote(ctx context.Context, r *Request) (*offers.Quote, error) {
	o, err := svc.offers.Version(ctx, r.Offer, r.Number)
	if err != nil {
		return nil, err
	}
	return svc.offers.Quote(ctx, o, r.Answers, r.Name, false)
}

// refuse ends a request, and gives back what was held for it.
func (svc *Service) refuse(ctx context.Context, r Request, e store.RequestEvent) (Request, error) {
	out, err := svc.change(ctx, r, store.RequestRefused, e)
	if err != nil {
		return r, err
	}
	return out, svc.quotas.GiveBack(ctx, r.ID)
}

// facts are what the rules' conditions are about.
func (svc *Service) facts(ctx context.Context, r *Request, o *offers.Offer, q *offers.Quote) (*decide.Facts, error) {
	d, err := svc.workspace.Directory()
	if err != nil {
		return nil, err
	}
	teams := []string{}
	if d != nil {
		teams = append(teams, d.TeamsOf(r.Person)...)
	}
	all, err := svc.store.Requests(ctx)
	if err != nil {
		return nil, err
	}
	history := map[string]any{"asked": 0, "refused": 0, "standing": 0}
	count := func(what string) { history[what] = history[what].(int) + 1 }
	for i := range all {
		x := &all[i]
		if x.ID == r.ID || x.Offer != r.Offer || x.Owner.Team != r.Owner.Team {
			continue
		}
		count("asked")
		if x.State == store.RequestRefused {
			count("refused")
		}
		if slices.Contains([]store.RequestState{store.RequestApproved, store.RequestBuilt}, x.State) {
			if gone, err := svc.gone(ctx, x); err != nil {
				return nil, err
			} else if !gone {
				count("standing")
			}
		}
	}
	cost := q.Draft().Plan.CostPerHour
	answers := map[string]string{}
	for name, v := range r.Answers {
		answers[name] = v
	}
	return &decide.Facts{
		Request: map[string]any{"offer": r.Offer, "title": r.Title, "category": o.Category, "service": r.Owner.Service, "stage": r.Owner.Stage, "name": r.Name, "level": o.LevelOf(r.Answers), "answers": answers},
		Person:  map[string]any{"name": r.Person, "teams": teams}, Team: r.Owner.Team,
		Price: map[string]any{"per_hour": cost.Units(), "per_month": (cost * offers.HoursPerMonth).Units()},
		Size:  map[string]any{"instances": q.Size.Instances, "cores": q.Size.Cores, "memory_gib": q.Size.MemoryGiB, "disk_gib": q.Size.DiskGiB, "addresses": q.Size.Addresses},
		Sites: r.Sites, History: history,
	}, nil
}

// Foreseen is what would become of something that is asked for now.
type Foreseen struct {
	Quote    *offers.Quote   `json:"quote"`
	Name     string          `json:"name"`
	Decision decide.Decision `json:"decision"`
	// Left is how much of every quota that it is taken from is left after it.
	Left []quota.Use `json:"left,omitempty"`
	// Over says which quota it does not fit into; "" if it fits into all.
	Over string `json:"over,omitempty"`
	// Lease says when it ends; nil is never.
	Lease *offer.Lease `json:"lease,omitempty"`
}

// Foresee says what would become of what somebody asks for, without asking for it: its price and place, what is left of quotas then, and who
// or which rule decides.
func (svc *Service) Foresee(ctx context.Context, a Asked) (*Foreseen, error) {
	of := svc.begun
	if a.Instead != 0 {
		of = svc.otherwise
	}
	r, o, err := of(ctx, a)
	if err != nil {
		return nil, err
	}
	out := &Foreseen{Name: r.Name, Lease: o.Lease}
	if out.Quote, err = svc.offers.Quote(ctx, o, a.Answers, r.Name, true); err != nil || out.Quote.Draft() == nil {
		return out, err
	}
	if err := agreed(&r, out.Quote); err != nil {
		return nil, err
	}
	if out.Left, out.Over, err = svc.quotas.LeftAfter(ctx, r.ID, r.Owner, out.Quote.Draft().Plan, time.Now()); err != nil {
		return nil, err
	}
	rules, err := svc.workspace.Approvals()
	if err != nil {
		return nil, err
	}
	facts, err := svc.facts(ctx, &r, &o, out.Quote)
	if err != nil {
		return nil, err
	}
	out.Decision = rules.Decide(facts)
	return out, nil
}
