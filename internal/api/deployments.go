package api

import (
	"context"
	"strconv"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/replicas"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/templates"
)

// tiered is a tier that is switched off or on; all where none is named.
type tiered struct {
	Whether
	Tier string `json:"tier,omitempty" maxLength:"128" doc:"a service or node; all where nothing is said"`
}

// scaled is how many instances of a node there are to be.
type scaled struct {
	Whether
	Node  string `json:"node" maxLength:"128"`
	Count int    `json:"count" minimum:"0" maximum:"10000"`
}

// named is what another is to be called.
type named struct {
	Whether
	Name string `json:"name" maxLength:"128"`
}

// updated are inputs that are to be others.
type updated struct {
	Whether
	Inputs map[string]string `json:"inputs,omitempty" doc:"by name, as they are written in a template; those that are not named stay"`
}

// shown is a deployment as it stands.
type shown struct {
	reply.Standing
	// Resources are by their places in the plan.
	All     []resource        `json:"all"`
	Outputs map[string]string `json:"outputs"`
}

// resource is a part of a deployment.
type resource struct {
	ID      string            `json:"id"`
	Title   string            `json:"title"`
	Kind    string            `json:"kind"`
	Site    string            `json:"site"`
	Zone    string            `json:"zone,omitempty"`
	Off     bool              `json:"off,omitempty"`
	Known   map[string]string `json:"known,omitempty" doc:"what is known of it, such as its address"`
	Service string            `json:"service,omitempty"`
}

func standingKey(s *reply.Standing) string { return strconv.FormatInt(s.ID, 10) }

func deploymentOperations(s *Server) {
	lists(s, "listDeployments", "/deployments", "List what runs left standing, the newest first", "deployments", []string{"deployments"}, standingKey,
		func(ctx context.Context, a *app.App, _ *paging) ([]reply.Standing, error) {
			all, err := a.Deployments(ctx)
			out := make([]reply.Standing, 0, len(all))
			for i := range all {
				out = append(out, reply.StandingOf(&all[i]))
			}
			return out, err
		})
	reads(s, "getDeployment", "/deployments/{deployment}", "Show a deployment as it stands", "deployments", nil, func(ctx context.Context, a *app.App, in *OfDeployment) (*shown, error) {
		d, err := in.find(ctx, a)
		if err != nil {
			return nil, err
		}
		return shownOf(ctx, a, d)
	})
	changes(s, "scaleDeployment", "/scale", "Give a tier more or fewer instances", []string{"scale"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *scaled) (deployments.Order, error) {
		return a.Scaling(ctx, d.ID, in.Node, in.Count)
	})
	changes(s, "stopDeployment", "/stop", "Switch instances off", []string{"stop"}, powering(false))
	changes(s, "startDeployment", "/start", "Switch instances on again", []string{"start"}, powering(true))
	changes(s, "retireDeployment", "/retire", "Take everything of it away", []string{"retire"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, _ *Whether) (deployments.Order, error) {
		return a.Retiring(ctx, d.ID)
	})
	changes(s, "letGoOfDeployment", "/let-go", "Let go of it: everything stays at the sites as it is", []string{"unmanage"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, _ *Whether) (deployments.Order, error) {
		return a.LettingGo(ctx, d.ID)
	})
	changes(s, "cloneDeployment", "/clone", "Raise another like it, with addresses of its own", []string{"clone"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *named) (deployments.Order, error) {
		return a.Cloning(ctx, d.ID, in.Name)
	})
	changes(s, "updateDeployment", "/update", "Work it out anew by its template, with other inputs", []string{"diff"}, updating)
	keepingOperations(s)
}

// keepingOperations are those on what is kept of a deployment's disks.
func keepingOperations(s *Server) {
	reads(s, "listSnapshots", "/deployments/{deployment}/snapshots", "List what is kept of its disks", "snapshots", []string{"snapshot"}, func(ctx context.Context, a *app.App, in *OfDeployment) ([]snapshots.Set, error) {
		d, err := in.find(ctx, a)
		if err != nil {
			return nil, err
		}
		return a.Snapshots(ctx, d.ID)
	})
	type take struct {
		Whether
		snapshots.TakeRequest
	}
	changes(s, "takeSnapshots", "/snapshots", "Take snapshots of its disks, together", []string{"snapshot take"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *take) (deployments.Order, error) {
		return a.Taking(ctx, d.ID, in.TakeRequest, time.Now())
	})
	type restore struct {
		Whether
		snapshots.RestoreRequest
	}
	changes(s, "restoreSnapshots", "/snapshots/restore", "Have its disks hold again what they held", []string{"snapshot restore"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *restore) (deployments.Order, error) {
		return a.Restoring(ctx, d.ID, in.RestoreRequest, time.Now())
	})
	type drop struct {
		Whether
		Set string `json:"set"`
	}
	changes(s, "dropSnapshots", "/snapshots/drop", "Drop a set of snapshots", []string{"snapshot drop"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *drop) (deployments.Order, error) {
		return a.DroppingSnapshot(ctx, d.ID, in.Set)
	})
	reads(s, "listReplicas", "/deployments/{deployment}/replicas", "List the copies of its disks at other sites", "replicas", []string{"replica"}, func(ctx context.Context, a *app.App, in *OfDeployment) ([]replicas.Replica, error) {
		d, err := in.find(ctx, a)
		if err != nil {
			return nil, err
		}
		return a.Replicas(ctx, d.ID)
	})
	type renew struct {
		Whether
		replicas.Request
	}
	changes(s, "renewReplicas", "/replicas", "Make or renew copies of its disks at another site", []string{"replica renew"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *renew) (deployments.Order, error) {
		return a.Replicating(ctx, d.ID, in.Request, time.Now())
	})
	type dropCopies struct {
		Whether
		Site string `json:"site"`
	}
	changes(s, "dropReplicas", "/replicas/drop", "Drop the copies at a site", []string{"replica drop"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, in *dropCopies) (deployments.Order, error) {
		return a.DroppingReplica(ctx, d.ID, in.Site)
	})
}

func powering(on bool) func(ctx context.Context, a *app.App, d *deployments.Deployment, in *tiered) (deployments.Order, error) {
	return func(ctx context.Context, a *app.App, d *deployments.Deployment, in *tiered) (deployments.Order, error) {
		return a.Powering(ctx, d.ID, in.Tier, on)
	}
}

func updating(ctx context.Context, a *app.App, d *deployments.Deployment, in *updated) (deployments.Order, error) {
	given := tosca.Inputs{}
	for name, text := range in.Inputs {
		v, wrong := tosca.ParseInput(name, text)
		if len(wrong) > 0 {
			return deployments.Order{}, fault.Default(fault.Invalid, wrong)
		}
		given[name] = v
	}
	draft, o, err := a.Updating(ctx, d.ID, templates.Place{}, templates.DraftRequest{Inputs: given})
	if err == nil && draft != nil && o.Plan == nil {
		err = fault.Default(fault.Invalid, draft.Diagnostics)
	}
	return o, err
}

func shownOf(ctx context.Context, a *app.App, d *deployments.Deployment) (*shown, error) {
	s, err := a.Picture(ctx, d)
	if err != nil {
		return nil, err
	}
	out := &shown{Standing: reply.StandingOf(d), All: resourcesOf(s), Outputs: s.Outputs}
	return out, nil
}

func resourcesOf(s *run.State) []resource {
	out := make([]resource, 0, len(s.Resources))
	for i := range s.Resources {
		r := &s.Resources[i]
		out = append(out, resource{r.ID, r.Title, string(r.Kind), r.Site, r.Zone, r.Off, r.Attributes, r.Service})
	}
	return out
}
