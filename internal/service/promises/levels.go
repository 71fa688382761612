package promises

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/level"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/snapshots"
	"andamio/internal/store"
)

// LevelUse is a service level with who has it.
type LevelUse struct {
	level.Level
	// Words say what it promises, Lacking which of the sites cannot keep it, and why.
	Words   []string `json:"words"`
	Lacking []string `json:"lacking,omitempty"`
	// Deployments are the names of those that have it, of which the actor may see.
	Deployments []string `json:"deployments,omitempty"`
}

// Levels are the service levels of the workspace, from the one that promises least, with who has them.
func (svc *Service) Levels(ctx context.Context, now time.Time) ([]LevelUse, error) {
	if err := svc.desk.Read("the service levels"); err != nil {
		return nil, err
	}
	f, err := svc.workspace.Levels()
	if err != nil {
		return nil, err
	}
	states, err := svc.LevelStates(ctx, now)
	if err != nil {
		return nil, err
	}
	found, err := svc.sites.Keeping(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]LevelUse, len(f.Levels))
	for i := range f.Levels {
		l := &f.Levels[i]
		out[i] = LevelUse{Level: *l, Words: l.Words(f.Zone)}
		for _, s := range states {
			if s.Level == l.Name {
				out[i].Deployments = append(out[i].Deployments, s.Name)
			}
		}
		for _, at := range found {
			if why := l.Lacks(at.Site, at.Able); why != "" {
				out[i].Lacking = append(out[i].Lacking, why)
			}
		}
		if why := l.LacksCopies(sites.Keepers(found)); why != "" {
			out[i].Lacking = append(out[i].Lacking, why)
		}
	}
	return out, nil
}

// LevelNames are the names of the service levels that there are, from the one that promises least.
func (svc *Service) LevelNames(context.Context) ([]string, error) {
	if err := svc.desk.Read("the service levels"); err != nil {
		return nil, err
	}
	f, err := svc.workspace.Levels()
	if err != nil {
		return nil, err
	}
	return f.Names(), nil
}

// SetLevels keeps the service levels of the workspace, from the text of their file. What is promised stays as it was promised until it is given anew.
func (svc *Service) SetLevels(ctx context.Context, text []byte) (*level.File, error) {
	f, err := level.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	var names []string
	for i := range f.Levels {
		names = append(names, f.Levels[i].Name)
	}
	return f, svc.desk.Do(ctx, guard.SetLevels, guard.Named(strings.Join(names, ", ")), func() error { return svc.workspace.SetLevels(text) })
}

// LevelState is which service level a deployment has, and which it has to have.
type LevelState struct {
	Deployment int64  `json:"deployment"`
	Name       string `json:"name"`
	Level      string `json:"level,omitempty"`
	// Required is what a rule asks of it, Rule which one, and Say why; "" is nothing.
	Required string `json:"required,omitempty"`
	Rule     string `json:"rule,omitempty"`
	Say      string `json:"say,omitempty"`
	// Below says that it has less than is required, Outdated that its level says something else by now.
	Below    bool `json:"below,omitempty"`
	Outdated bool `json:"outdated,omitempty"`
}

// LevelStates are those of all that stands that the actor may see.
func (svc *Service) LevelStates(ctx context.Context, now time.Time) ([]LevelState, error) {
	f, err := svc.workspace.Levels()
	if err != nil {
		return nil, err
	}
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	all, err = acting.Seen(ctx, svc.desk, all, func(d store.Deployment) guard.Thing { return guard.Thing{Deployment: d.ID} })
	if err != nil || len(f.Levels) == 0 {
		return nil, err
	}
	promised, err := svc.store.Promises(ctx)
	if err != nil {
		return nil, err
	}
	inside := svc.deployments.At(svc.desk.Inside())
	var out []LevelState
	for _, d := range all {
		x, err := inside.Whole(ctx, d)
		if err != nil {
			return nil, err
		}
		if len(x.Runs) == 0 || x.State() == run.Retired {
			continue
		}
		s, err := stateOf(f, x, promised)
		if err != nil {
			svc.log.Warn("a rule of service levels does not hold of a deployment", "deployment", d.ID, "err", err)
		}
		out = append(out, s)
	}
	return out, nil
}

// stateOf is which level a deployment has by what is promised, and has to have.
func stateOf(f *level.File, d *deployments.Deployment, promised []promise.Promise) (LevelState, error) {
	out := LevelState{Deployment: d.ID, Name: d.Name}
	mine := slices.DeleteFunc(slices.Clone(promised), func(p promise.Promise) bool { return p.Deployment != d.ID || p.Level == "" })
	if len(mine) > 0 {
		out.Level = mine[0].Level
		l := f.Level(out.Level)
		out.Outdated = l == nil || !l.Same(mine, f.Zone)
	}
	r, err := f.Required(d.Subject())
	if r != nil {
		out.Required, out.Rule, out.Say = r.Level, r.Name, r.Say
		out.Below = f.Below(out.Level, r.Level)
	}
	return out, err
}

// Levelling works out the order that gives a deployment a service level, or takes it away for "": what is promised then and what no more, what keeping it costs,
// and the first copy, so that it can be restored from the first hour on. What a site cannot keep is an error, and so is what a rule forbids.
func (svc *Service) Levelling(ctx context.Context, deployment int64, name string, now time.Time) (deployments.Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return deployments.Order{}, err
	}
	f, err := svc.workspace.Levels()
	if err != nil {
		return deployments.Order{}, err
	}
	inside := svc.At(svc.desk.Inside())
	d, wanted, err := inside.deployments.DesignOf(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	l := f.Level(name)
	if l == nil && name != "" {
		return deployments.Order{}, fault.NotFoundf("there is no service level %q; there are %s", name, orNone(f.Names()))
	}
	if r, err := f.Required(d.Subject()); err != nil {
		return deployments.Order{}, fault.Default(fault.Invalid, err)
	} else if r != nil && f.Below(name, r.Level) {
		return deployments.Order{}, fault.Refusedf("%s has to have %s or better, by the rule %s: %s", d.Name, r.Level, r.Name, r.Say)
	}
	promised, err := inside.change(ctx, f, l, d, now)
	if err != nil {
		return deployments.Order{}, err
	}
	o, err := inside.firstCopy(ctx, l, d, wanted, now)
	if err != nil {
		return o, err
	}
	if err := inside.bounds(ctx, d, o.Plan, promised); err != nil {
		return o, err
	}
	if l == nil {
		o.Plan.Purpose = "take the service level " + promised.Was + " from " + d.Name
	} else {
		o.Plan.Purpose = "give " + d.Name + " the service level " + l.Name
	}
	if promised.Was == promised.Level && len(promised.Adds)+len(promised.Ends) == 0 { // it is so already
		return o, nil
	}
	o.Plan.Promised = promised
	return o, nil
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none: andamio level set FILE keeps some"
	}
	return strings.Join(names, ", ")
}

// change is what becomes of what is promised of a deployment when it has another level.
func (svc *Service) change(ctx context.Context, f *level.File, l *level.Level, d *deployments.Deployment, now time.Time) (*plan.Promised, error) {
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return nil, err
	}
	was := slices.DeleteFunc(all, func(p promise.Promise) bool { return p.Deployment != d.ID })
	out := &plan.Promised{}
	if l != nil {
		out.Level = l.Name
		if out.Promises, err = l.Promises(d.ID, f.Zone, now); err != nil {
			return nil, fault.Default(fault.Invalid, err)
		}
		if err := svc.able(ctx, l, d); err != nil {
			return nil, err
		}
		if out.CostPerHour, err = svc.costs(ctx, l, d); err != nil {
			return nil, err
		}
	}
	becomes := func(kind promise.Kind) *promise.Promise {
		if i := slices.IndexFunc(out.Promises, func(p promise.Promise) bool { return p.Kind == kind }); i >= 0 {
			return &out.Promises[i]
		}
		return nil
	}
	for i := range was {
		p := &was[i]
		out.Was = max(out.Was, p.Level)
		then := becomes(p.Kind)
		if then == nil && p.Level != "" || then != nil && !alike(p, then) {
			out.Ends = append(out.Ends, p.Words())
		}
		if then != nil && p.Drilled != nil { // what was proven stays so
			then.Drilled.Raised, then.Drilled.At = p.Drilled.Raised, p.Drilled.At
		}
		if then != nil && p.Guarded != nil {
			then.Guarded.Announced = p.Guarded.Announced
		}
		if then != nil && p.Recovered != nil { // what was tried today counts
			then.Recovered.Tried = p.Recovered.Tried
		}
	}
	for i := range out.Promises {
		p := &out.Promises[i]
		if !slices.ContainsFunc(was, func(x promise.Promise) bool { return x.Kind == p.Kind && x.Level == p.Level && alike(&x, p) }) {
			out.Adds = append(out.Adds, p.Words())
		}
	}
	if l == nil && out.Was == "" {
		return nil, fault.NotFoundf("%s has no service level", d.Name)
	}
	return out, nil
}

// costs is what all that a level keeps costs an hour at most.
func (svc *Service) costs(ctx context.Context, l *level.Level, d *deployments.Deployment) (money.Amount, error) {
	out, err := svc.snapshots.KeepingCosts(ctx, d, l.Copies())
	if err != nil || l.Replicate == nil {
		return out, err
	}
	more, err := svc.replicas.Costs(ctx, d, l.Replicate.Site)
	return out + more, err
}

// alike reports that two promises say the same.
func alike(a, b *promise.Promise) bool { return a.Words() == b.Words() && a.Zone() == b.Zone() }

// able says what a deployment lacks to be kept at a level: by where it stands, or of what it consists.
func (svc *Service) able(ctx context.Context, l *level.Level, d *deployments.Deployment) error {
	found, err := svc.sites.Keeping(ctx)
	if err != nil {
		return err
	}
	var errs []error
	volumes := 0
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		if r.Kind == kinds.Volume {
			volumes++
			if class := r.AsVolume().Class; l.Storage != "" && class != l.Storage {
				errs = append(errs, fmt.Errorf("%s is on %s storage, and %s takes %s: change its template first", r.ID, orOrdinary(class), l.Name, l.Storage))
			}
		}
	}
	for _, at := range found {
		if why := l.Lacks(at.Site, at.Able); why != "" && hasDisks(d.Stand, at.Site.Name) {
			errs = append(errs, errors.New(why))
		}
	}
	if why := l.LacksCopies(sites.Keepers(found)); why != "" {
		errs = append(errs, errors.New(why))
	}
	if l.Drill != nil && volumes == 0 {
		errs = append(errs, fmt.Errorf("%s has no volumes, and only these can be raised beside: restoring it cannot be tried, as %s promises", d.Name, l.Name))
	}
	return fault.Default(fault.Refused, errors.Join(errs...))
}

func orOrdinary(class string) string {
	if class == "" {
		return "ordinary"
	}
	return class
}

func hasDisks(s change.Standing, site string) bool {
	return slices.ContainsFunc(s.Plan.Resources, func(r plan.Resource) bool {
		return r.Site == site && (r.Kind == kinds.Volume || r.Kind == kinds.Instance)
	})
}

// firstCopy is the order that takes the first snapshot of those that a level has be taken, or changes nothing where one was taken by rule.
func (svc *Service) firstCopy(ctx context.Context, l *level.Level, d *deployments.Deployment, wanted *plan.Plan, now time.Time) (deployments.Order, error) {
	if l != nil && l.Save != nil && !slices.ContainsFunc(snapshots.SetsOf(d.Stand), func(s snapshots.Set) bool { return s.Whole && s.ByRule() }) {
		return svc.snapshots.Taking(ctx, d.ID, snapshots.TakeRequest{Prefix: snapshots.RulePrefix, Barrier: l.Save.Barrier}, now)
	}
	p, err := change.Unchanged(d.Stand, "level")
	return deployments.Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, err
}

// KeepPromised has be promised of a deployment what a plan says that is begun, and no more what it ends. Whoever begins it is whose right it is kept up by.
func (svc *Service) KeepPromised(ctx context.Context, deployment int64, p *plan.Promised, by guard.Actor, now time.Time) error {
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return err
	}
	for _, x := range p.Promises {
		x.Deployment, x.By, x.Since = deployment, by, now.UTC()
		if err := x.Check(now); err != nil {
			return fault.Default(fault.Invalid, err)
		}
		if err := svc.store.SetPromise(ctx, x, nil); err != nil {
			return err
		}
	}
	for _, x := range all {
		stays := slices.ContainsFunc(p.Promises, func(y promise.Promise) bool { return y.Kind == x.Kind })
		if x.Deployment != deployment || x.Level == "" || stays {
			continue
		}
		if err := svc.store.DropPromise(ctx, deployment, x.Kind, nil); err != nil && fault.CodeOf(err) != fault.NotFound {
			return err
		}
	}
	return nil
}

// PromiseLevel has a service level be kept up for what is built of an offer, in the name of whoever offers it.
func (svc *Service) PromiseLevel(ctx context.Context, by guard.Actor, deployment int64, name string, now time.Time) error {
	f, err := svc.workspace.Levels()
	if err != nil {
		return err
	}
	l := f.Level(name)
	if l == nil {
		return fault.NotFoundf("there is no service level %q any more", name)
	}
	promised := &plan.Promised{Level: name}
	if promised.Promises, err = l.Promises(deployment, f.Zone, now); err != nil {
		return fault.Default(fault.Invalid, err)
	}
	on, err := svc.thing(ctx, deployment)
	if err != nil {
		return err
	}
	by = guard.Actor{Name: by.Name, Way: guard.Rule}
	return svc.desk.OnBehalf(by).Do(ctx, guard.SetPromise, on, func() error { return svc.KeepPromised(ctx, deployment, promised, by, now) }, acting.Saying("the service level %s", name))
}

// LevelOf is the service level of a deployment; "" if it has none.
func (svc *Service) LevelOf(ctx context.Context, deployment int64) (string, error) {
	all, err := svc.store.Promises(ctx)
	for i := range all {
		if all[i].Deployment == deployment && all[i].Level != "" {
			return all[i].Level, err
		}
	}
	return "", err
}

// alone refuses to change by itself what is part of a service level.
func (svc *Service) alone(ctx context.Context, deployment int64, kind promise.Kind) error {
	was, err := svc.promised(ctx, deployment, kind)
	if fault.CodeOf(err) == fault.NotFound || err == nil && was.Level == "" {
		return nil
	}
	if err != nil {
		return err
	}
	return fault.Conflictf("it is part of the service level %s: give it another level (andamio level give), or take that away (andamio level drop)", was.Level)
}
