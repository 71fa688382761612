package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/promises"
)

func promiseOperations(s *Server) {
	reads(s, "listPromises", "/promises", "List what is promised of deployments, and how it was kept", "promises", []string{"promises"}, func(ctx context.Context, a *app.App, _ *nothing) ([]promises.Kept, error) {
		return a.Promises(ctx, time.Now())
	})
	reads(s, "listLevels", "/levels", "List the service levels, and who has which", "promises", []string{"level"}, func(ctx context.Context, a *app.App, _ *nothing) ([]promises.LevelUse, error) {
		return a.Levels(ctx, time.Now())
	})
	does(s, operation{id: "extendLease", method: http.MethodPost, path: "/deployments/{deployment}/lease/extend", summary: "Extend a lease, as its terms allow", tag: "promises", status: http.StatusOK, twins: []string{"lease extend"}},
		func(ctx context.Context, a *app.App, in *OfDeployment) (*body[promise.Promise], error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			p, err := a.ExtendLease(ctx, d.ID, time.Now())
			return &body[promise.Promise]{p}, err
		})
	reads(s, "getClock", "/clock", "Say what is due, and what became of what was", "workspace", []string{"clock"}, func(ctx context.Context, a *app.App, _ *nothing) (app.Clock, error) {
		return a.Clock(ctx, time.Now(), 50)
	})
}

// promisingOperations have something be promised of deployments, and no more.
func promisingOperations(s *Server) {
	reads(s, "listPromisesOf", "/deployments/{deployment}/promises", "List what is promised of a deployment, and how it was kept", "promises", nil, func(ctx context.Context, a *app.App, in *OfDeployment) ([]promises.Kept, error) {
		d, err := in.find(ctx, a)
		if err != nil {
			return nil, err
		}
		return a.PromisesOf(ctx, d.ID, time.Now())
	})
	type promising struct {
		OfDeployment
		Kind string `path:"kind" maxLength:"64" doc:"saved, replicated, drilled, hours, lease, guarded or recovered"`
		Body struct {
			Saved      *promise.SavedTerms      `json:"saved,omitempty"`
			Replicated *promise.ReplicatedTerms `json:"replicated,omitempty"`
			Drilled    *promise.DrilledTerms    `json:"drilled,omitempty"`
			Hours      *promise.HoursTerms      `json:"hours,omitempty"`
			Lease      *promise.LeaseTerms      `json:"lease,omitempty"`
			Guarded    *promise.GuardedTerms    `json:"guarded,omitempty"`
			Recovered  *promise.RecoveredTerms  `json:"recovered,omitempty"`
		}
	}
	does(s, operation{id: "promise", method: http.MethodPut, path: "/deployments/{deployment}/promises/{kind}", summary: "Promise something of a deployment, by its terms", tag: "promises", status: http.StatusOK,
		twins: []string{"snapshot every", "replica every", "snapshot drill", "hours", "lease", "calendar guard", "recovery"}},
		func(ctx context.Context, a *app.App, in *promising) (*body[promise.Promise], error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			b := in.Body
			p, err := a.SetPromise(ctx, promise.Promise{Deployment: d.ID, Kind: promise.Kind(in.Kind), Saved: b.Saved, Replicated: b.Replicated, Drilled: b.Drilled, Hours: b.Hours, Lease: b.Lease, Guarded: b.Guarded,
				Recovered: b.Recovered}, time.Now())
			return &body[promise.Promise]{p}, fault.Default(fault.Invalid, err)
		})
	type dropping struct {
		OfDeployment
		Kind string `path:"kind" maxLength:"64"`
	}
	does(s, operation{id: "promiseNoMore", method: http.MethodDelete, path: "/deployments/{deployment}/promises/{kind}", summary: "Promise it no more", tag: "promises", status: http.StatusNoContent,
		twins: []string{"snapshot every drop", "replica every drop", "snapshot drill drop", "hours drop", "lease drop", "calendar guard drop", "recovery drop"}},
		func(ctx context.Context, a *app.App, in *dropping) (*gone, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			return nil, a.DropPromise(ctx, d.ID, promise.Kind(in.Kind))
		})
	addressOperations(s)
}

// levelOperations give service levels, and see to what is kept by them.
func levelOperations(s *Server) {
	type levelled struct {
		Whether
		Level string `json:"level,omitempty" maxLength:"128" doc:"the service level; none where nothing is said"`
	}
	changes(s, "giveLevel", "/level", "Give a deployment a service level, or none", []string{"level give", "level drop"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *levelled) (deployments.Order, error) {
		return a.Levelling(ctx, d.ID, in.Level, time.Now())
	})
	type until struct {
		OfDeployment
		Set  string `path:"set" maxLength:"128"`
		Body struct {
			Until time.Time `json:"until"`
		}
	}
	does(s, operation{id: "endSnapshots", method: http.MethodPut, path: "/deployments/{deployment}/snapshots/{set}/until", summary: "Have a set of snapshots be dropped at a time", tag: "snapshots", status: http.StatusOK, twins: []string{"snapshot until"}},
		func(ctx context.Context, a *app.App, in *until) (*body[promise.EndsTerms], error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			x, err := a.EndSnapshot(ctx, d.ID, in.Set, in.Body.Until, time.Now())
			return &body[promise.EndsTerms]{x}, err
		})
	type beside struct {
		Whether
		Set  string `json:"set"`
		Name string `json:"name"`
	}
	changes(s, "raiseBeside", "/snapshots/beside", "Raise another deployment of what a set of snapshots keeps", []string{"snapshot beside"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *beside) (deployments.Order, error) {
		return a.Beside(ctx, d.ID, in.Set, in.Name)
	})
}
