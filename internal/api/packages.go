package api

import (
	"context"
	"net/http"
	"os"

	"andamio/internal/app"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
)

// packaged is the media type of packages: archives (tar) of the Open Virtualization Format (DMTF DSP0243).
const packaged = "application/x-tar"

// Built says where a package is built.
type Built struct {
	Site    string `json:"site" query:"site" required:"true" maxLength:"128"`
	Zone    string `json:"zone,omitempty" query:"zone" maxLength:"128" doc:"zone there"`
	Size    string `json:"size,omitempty" query:"size" maxLength:"128" doc:"size there; without it the cheapest that is no less"`
	Network string `json:"network,omitempty" query:"network" maxLength:"128" doc:"network there; without it the one that it was in"`
	Name    string `json:"name,omitempty" query:"name" maxLength:"128" doc:"name of the deployment; without it that of the package"`
}

func (b *Built) request() moves.ImportRequest {
	return moves.ImportRequest{Site: b.Site, Zone: b.Zone, Size: b.Size, Network: b.Network, Name: b.Name}
}

// packageOperations are those on archives of the Open Virtualization Format.
func packageOperations(s *Server) {
	type packing struct {
		OfDeployment
		Instance string `path:"instance" maxLength:"200"`
		Running  bool   `query:"running" doc:"it is packed although it is on"`
	}
	gives(s, operation{id: "exportPackage", path: "/deployments/{deployment}/instances/{instance}/package/file", summary: "Pack an instance with its disks", tag: "packages", twins: []string{"package export"}}, packaged,
		func(ctx context.Context, a *app.App, in *packing, name string) error {
			d, err := in.find(ctx, a)
			if err != nil {
				return err
			}
			_, err = a.ExportPackage(ctx, d.ID, in.Instance, name, in.Running)
			return err
		})
	type importing struct {
		Built
		Sent
		Lift    bool   `query:"lift" doc:"it is brought to the site's object storage first, and the site builds from it"`
		Confirm string `query:"confirm" doc:"the deployment's name: it is begun"`
	}
	takes(s, operation{id: "importPackage", method: http.MethodPost, path: "/packages", summary: "Build at a site what was packed", tag: "packages", status: http.StatusOK, upload: true, sends: packaged, twins: []string{"package import"}},
		func(in *importing) *Sent { return &in.Sent }, func(ctx context.Context, a *app.App, in *importing, name string) (*ordered, error) {
			w := in.request()
			w.File, w.Lift = name, in.Lift
			return importPackage(ctx, a, w, in.Confirm)
		})
	type lift struct {
		Built
		Confirm  string `json:"confirm,omitempty" doc:"the name of the deployment that is built: it is begun"`
		Instance string `json:"instance" maxLength:"200"`
		Running  bool   `json:"running,omitempty" doc:"it is packed although it is on"`
	}
	does(s, operation{id: "liftPackage", method: http.MethodPost, path: "/deployments/{deployment}/package/lift", summary: "Lift an instance to a site's object storage, and build from it there", tag: "packages", status: http.StatusOK, twins: []string{"package lift"}},
		func(ctx context.Context, a *app.App, in *changing[lift]) (*ordered, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			order, packed, err := a.Lifting(ctx, d.ID, in.Body.Instance, in.Body.Running, in.Body.request())
			if err != nil {
				return nil, err
			}
			return begun(ctx, a, order, packed.File, in.Body.Confirm)
		})
	changes(s, "dropPackage", "/package/drop", "Take away what of it is kept in object storage", []string{"package drop"}, func(ctx context.Context, a *app.App, d *deployments.Deployment, _ *Whether) (deployments.Order, error) {
		return a.Dropping(ctx, d.ID)
	})
}

// importPackage builds what was packed. The file stays where runs find it if it is begun.
func importPackage(ctx context.Context, a *app.App, w moves.ImportRequest, confirm string) (*ordered, error) {
	kept, err := a.KeepPackage(ctx, w.File)
	if err != nil {
		return nil, err
	}
	w.File = kept
	order, _, err := a.ImportPackage(ctx, w)
	if err != nil {
		return nil, without(kept, err)
	}
	return begun(ctx, a, order, kept, confirm)
}

// begun begins what is built of a package, if it is confirmed; else the package is kept no longer.
func begun(ctx context.Context, a *app.App, order deployments.Order, file, confirm string) (*ordered, error) {
	out, err := carry(ctx, a, order.Plan.Name, order, Whether{Confirm: confirm})
	if err != nil || out.Body.Run == 0 {
		return out, without(file, err)
	}
	return out, nil
}

// without removes a file that nobody needs.
func without(name string, err error) error {
	_ = os.Remove(name) // it is of no use, and in nobody's way
	return err
}
