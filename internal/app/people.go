package app

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// atKeyboard is who acts where nobody says otherwise: the user of the operating system, as the directory of teams knows them. Where there
// is a directory that does not know them it is nobody.
func (a *App) atKeyboard() guard.Actor {
	out := guard.Actor{Name: acting.Whoami(), Way: guard.Command}
	d, err := a.workspace.Directory()
	if err == nil && d != nil {
		out.Name = d.ByUser(out.Name)
	}
	return out
}

// find fills in what is known of a thing: whose the deployment is that it belongs to, and at which sites.
func (a *App) find(ctx context.Context, on guard.Thing) (guard.Thing, error) {
	var p int64
	switch {
	case on.Run != 0:
		r, err := a.store.Run(ctx, on.Run)
		if err != nil {
			return on, err
		}
		on.Deployment, p = r.Deployment, r.Plan
	case on.Move != 0:
		m, err := a.store.Move(ctx, on.Move)
		if err != nil {
			return on, err
		}
		on.Deployment = m.Deployment
		if len(m.Runs) > 0 {
			r, err := a.store.Run(ctx, m.Runs[len(m.Runs)-1].Run)
			if err != nil {
				return on, err
			}
			p = r.Plan
		}
	case on.Proposal != 0:
		x, err := a.store.Proposal(ctx, on.Proposal)
		if err != nil {
			return on, err
		}
		on.Deployment, p = x.Deployment, x.Plan
		if x.Kind == store.ProposalPlan && x.Body != "" {
			var of guard.Owner
			if err := json.Unmarshal([]byte(x.Body), &of); err != nil {
				return on, err
			}
			on = owned(on, of)
		}
	}
	if p != 0 && on.Sites == nil {
		x, err := a.store.Plan(ctx, p)
		if err != nil {
			return on, err
		}
		on.Sites = x.SiteNames()
	}
	if on.Deployment == 0 {
		return on, nil
	}
	d, err := a.store.Deployment(ctx, on.Deployment)
	if err != nil {
		return on, err
	}
	on.Called = d.Name
	return owned(on, d.Owner), nil
}

// owned is a thing with whose it is.
func owned(on guard.Thing, of guard.Owner) guard.Thing {
	on.Team, on.Person, on.Stage, on.Tags = of.Team, of.Person, of.Stage, of.Tags
	on.Service = cmp.Or(on.Service, of.Service)
	return on
}

// Entered notes that somebody came in over the network, from an address.
func (a *App) Entered(ctx context.Context, from string) error {
	return a.desk.Note(ctx, guard.EnterPortal, guard.Named("the portal"), acting.Saying("from %s", from))
}

// FilePortalKey is the file of the key that the portal is known by.
const FilePortalKey = workspace.FilePortalKey

// PortalKey is a private key of the workspace, as PEM, which is made when it is first asked for.
func (a *App) PortalKey(name string) ([]byte, error) { return a.workspace.ServerKey(name) }

// MayRead reports that the actor sees what there is, and not only what is theirs.
func (a *App) MayRead() bool {
	return a.desk.SeesAll()
}

// WhoHas is the person with a public key, as a line of an authorized_keys file; "" if nobody has it, or there are no teams.
func (a *App) WhoHas(key string) string {
	d, err := a.workspace.Directory()
	if err != nil || d == nil {
		return ""
	}
	return d.ByKey(key)
}

// Directory is who there is, in which teams, and what each may do; nil where nobody wrote it down.
func (a *App) Directory() (*guard.Directory, error) {
	if err := a.desk.Read("the directory of teams"); err != nil {
		return nil, err
	}
	return a.workspace.Directory()
}

// SetDirectory keeps who may do what, from the text of its file, if it is right and whoever sets it may set it again.
func (a *App) SetDirectory(ctx context.Context, text []byte) (*guard.Directory, error) {
	d, err := guard.ReadDirectory(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	me := a.desk.Actor.Name
	if me == a.atKeyboard().Name { // known by their user, of whom the new one may say something else
		me = d.ByUser(acting.Whoami())
	}
	if !d.Unbounded(me, guard.Keep) {
		return nil, fault.Refusedf("by this directory you, %s, could not set it again: give a person with the user %s the role engineer", cmp.Or(me, "nobody that it knows"), acting.Whoami())
	}
	return d, a.desk.Do(ctx, guard.SetTeams, guard.Named(fmt.Sprintf("%d people", len(d.People))), func() error { return a.workspace.SetDirectory(text) })
}

// May says whether a person may do something to something, and why.
func (a *App) May(ctx context.Context, person string, r guard.Right, on guard.Thing) (guard.Answer, error) {
	if err := a.desk.Read("the directory of teams"); err != nil {
		return guard.Answer{}, err
	}
	d, err := a.workspace.Directory()
	if err != nil {
		return guard.Answer{}, err
	}
	if d == nil {
		return guard.Answer{Yes: true, Why: "there is no directory of teams: whoever can open the workspace is its engineer"}, nil
	}
	if on, err = a.find(ctx, on); err != nil {
		return guard.Answer{}, err
	}
	return d.May(person, r, on), nil
}

// Give makes a deployment somebody's.
func (a *App) Give(ctx context.Context, deployment int64, to guard.Owner) error {
	d, err := a.store.Deployment(ctx, deployment)
	if err != nil {
		return err
	}
	all, err := a.workspace.Directory()
	if err != nil {
		return err
	}
	if all == nil {
		return fault.Refusedf("there are no teams: write them down and keep them with andamio team set FILE")
	}
	if _, known := all.Teams[to.Team]; to.Team != "" && !known {
		return fault.NotFoundf("there is no team %s", to.Team)
	}
	if _, known := all.People[to.Person]; to.Person != "" && !known {
		return fault.NotFoundf("there is nobody called %s", to.Person)
	}
	whose := cmp.Or(to.Team, to.Person, "nobody")
	return a.desk.Do(ctx, guard.GiveAway, guard.Thing{Name: d.Name, Deployment: deployment}, func() error {
		if err := a.store.Own(ctx, deployment, to); err != nil {
			return err
		}
		return a.quotaService.Given(ctx, deployment, to, time.Now())
	}, acting.Saying("to %s", whose))
}
