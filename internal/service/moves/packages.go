package moves

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/ovf"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/site"
)

// Exported is what came of packing a workload.
type Exported struct {
	File  string `json:"file"`
	Bytes int64  `json:"bytes"`
	// Secrets were left out and must be given again where it is unpacked.
	Secrets []string `json:"secrets,omitempty"`
	// Running says that the workload was on: what its disks held was read while it wrote.
	Running bool `json:"running,omitempty"`
}

// ExportPackage packs an instance of a deployment with its disks into an archive (.ova). One that is on is packed only if
// that is said: its disks are then those of a machine whose power failed.
func (svc *Service) ExportPackage(ctx context.Context, deployment int64, instance, file string, running bool) (out *Exported, err error) {
	err = svc.desk.Do(ctx, guard.ExportDisks, guard.Thing{Name: instance, Deployment: deployment}, func() (err error) {
		out, err = svc.exportPackage(ctx, deployment, instance, file, running)
		return err
	}, acting.Saying("to %s", file))
	return out, err
}

func (svc *Service) exportPackage(ctx context.Context, deployment int64, instance, file string, running bool) (*Exported, error) {
	d, wanted, err := svc.deployments.DesignOf(ctx, deployment)
	if err != nil {
		return nil, err
	}
	r := d.Stand.Plan.Resource(instance)
	if r == nil || r.Kind != kinds.Instance {
		return nil, fault.NotFoundf("there is no instance %q; there are %s", instance, strings.Join(instances(d.Stand.Plan), ", "))
	}
	if service := r.AsInstance().Appliance; service != "" {
		return nil, fault.Refusedf("%s is a %s that %s runs itself: it has no disks", instance, service, r.Site)
	}
	if !r.Off && !running {
		return nil, fault.Conflictf("%s is on: stop it first, or have it packed as it is with --running", instance)
	}
	m, err := svc.disks(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	p, ids := packageOf(d.Stand.Plan, wanted, r)
	var sources []ovf.Source
	for i, id := range ids {
		c, err := m.Changes(ctx, id, "", 0)
		if err != nil {
			return nil, err
		}
		p.Disks[i].Bytes = c.Size
		sources = append(sources, diskSource(ctx, m, id, c.Written))
	}
	n, err := writePackage(file, p, sources)
	return &Exported{file, n, p.Secrets, !r.Off}, err
}

// instances are the instances of a plan.
func instances(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		if p.Resources[i].Kind == kinds.Instance {
			out = append(out, p.Resources[i].ID)
		}
	}
	return out
}

// disks are the disks of a site.
func (svc *Service) disks(ctx context.Context, name string) (site.Disks, error) {
	sites, err := svc.sites.Sites()
	if err != nil {
		return nil, err
	}
	m, ok := site.Can[site.Disks](ctx, sites[name])
	if !ok {
		return nil, fault.Refusedf("%s lets no disks be read or written", name)
	}
	return m, nil
}

// packageOf is what is packed of an instance, and the site's ids of its disks.
func packageOf(p, wanted *plan.Plan, r *plan.Resource) (ovf.Package, []string) {
	out := ovf.Package{Name: r.ID, Hostname: r.AsInstance().Hostname, Description: r.Description, Cores: r.AsInstance().Cores, MemoryGiB: r.AsInstance().MemoryGiB, OS: "linux",
		Disks: []ovf.Disk{{Name: "system"}}}
	ids := []string{p.Known[r.ID]["site.id"]}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Attach && s.Resource == r.ID {
			out.Disks = append(out.Disks, ovf.Disk{Name: s.Volume, Location: s.Location})
			ids = append(ids, p.Known[s.Volume]["site.id"])
		}
	}
	for i := range p.Resources {
		if f := &p.Resources[i]; f.Kind == kinds.Interface && f.AsInterface().Instance == r.ID {
			out.Networks = append(out.Networks, p.Resource(f.AsInterface().Network).Node)
			out.Ports = append(out.Ports, f.AsInterface().Ports...)
		}
	}
	for i := range wanted.Steps {
		s := &wanted.Steps[i]
		if s.Script == nil || wanted.Resource(s.Resource).On != r.ID {
			continue
		}
		for _, in := range s.Script.Inputs {
			out.Secrets = append(out.Secrets, in.Value.Secrets()...)
		}
	}
	slices.Sort(out.Secrets)
	out.Secrets = slices.Compact(out.Secrets)
	return out, ids
}

// diskSource reads a disk in large parts, though it is asked for small ones in order.
func diskSource(ctx context.Context, m site.Disks, id string, held []site.Extent) ovf.Source {
	var buf []byte
	at := int64(-1)
	out := ovf.Source{}
	end := int64(0)
	for _, x := range held {
		out.Held = append(out.Held, ovf.Extent{Offset: x.Offset, Length: x.Length})
		end = max(end, x.Offset+x.Length)
	}
	out.Read = func(p []byte, off int64) error {
		for done := 0; done < len(p); {
			where := off + int64(done)
			if at < 0 || where < at || where >= at+int64(len(buf)) {
				n := min(site.MaxPart, max(end-where, int64(len(p)-done)))
				data, err := m.ReadDisk(ctx, id, site.Extent{Offset: where, Length: n})
				if err != nil {
					return err
				}
				buf, at = data, where
			}
			done += copy(p[done:], buf[where-at:])
		}
		return nil
	}
	return out
}

// writePackage writes an archive beside its place and then puts it there, so that none is half there.
func writePackage(file string, p ovf.Package, sources []ovf.Source) (int64, error) {
	dir := filepath.Dir(file)
	spool, err := os.CreateTemp(dir, ".spool-*")
	if err != nil {
		return 0, err
	}
	defer os.Remove(spool.Name())
	defer spool.Close()
	out, err := os.CreateTemp(dir, ".package-*")
	if err != nil {
		return 0, err
	}
	defer os.Remove(out.Name())
	err = errors.Join(ovf.Write(out, p, sources, spool, time.Now()), out.Sync(), out.Close())
	if err != nil {
		return 0, err
	}
	info, err := os.Stat(out.Name())
	if err != nil {
		return 0, err
	}
	return info.Size(), os.Rename(out.Name(), file)
}

// ImportRequest says where a package goes.
type ImportRequest struct {
	File    string `json:"file,omitempty"`
	Site    string `json:"site,omitempty"`
	Zone    string `json:"zone,omitempty"`
	Size    string `json:"size,omitempty"`
	Network string `json:"network,omitempty"`
	// Name is what the deployment is called; "" takes the package's.
	Name string `json:"name,omitempty"`
	// Lift brings the package to the site's object storage first, and has the site build from it there.
	Lift bool `json:"lift"`
}

// ImportPackage checks a package against its manifest, finds it a size and a room at a site, and compiles the plan that
// builds it there as a deployment of its own.
func (svc *Service) ImportPackage(ctx context.Context, w ImportRequest) (deployments.Order, *ovf.Archive, error) {
	if err := svc.desk.Read("what may be raised"); err != nil {
		return deployments.Order{}, nil, err
	}
	file, err := filepath.Abs(w.File)
	if err != nil {
		return deployments.Order{}, nil, err
	}
	arc, sum, size, err := openPackage(file)
	if err != nil {
		return deployments.Order{}, nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.File, err))
	}
	e, err := svc.sites.Estate(ctx)
	if err != nil {
		return deployments.Order{}, nil, err
	}
	s := e.Site(w.Site)
	if s == nil {
		_, err := svc.workspace.Connection(w.Site)
		return deployments.Order{}, nil, err
	}
	p, err := unpacking(arc, w, e, s)
	if err != nil {
		return deployments.Order{}, nil, fault.Refusedf("%s cannot be unpacked at %s: %w", arc.Name, w.Site, err)
	}
	for i := range p.Steps {
		if x := p.Steps[i].Filling; x != nil {
			x.File, x.SHA256, x.Bytes = file, sum, size
		}
	}
	if err := p.Arrange(); err != nil {
		return deployments.Order{}, nil, err
	}
	raise, err := change.Compile(change.Nothing(p), p, "")
	if err != nil {
		return deployments.Order{}, nil, fault.Default(fault.Refused, err)
	}
	return deployments.Order{Plan: raise, Wanted: p}, arc, svc.deployments.Timed(ctx, raise)
}

// withoutSteps is a plan without some of its steps: what is wanted of a deployment is what stands, not how it came there.
func withoutSteps(p *plan.Plan, drop func(*plan.Step) bool) (*plan.Plan, error) {
	out := *p
	out.Steps = change.Without(p.Steps, drop)
	return &out, plan.Reindexed(&out).Arrange()
}

func openPackage(file string) (arc *ovf.Archive, sha256Hex string, size int64, err error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, "", 0, err
	}
	defer f.Close()
	sum := sha256.New()
	if size, err = io.Copy(sum, f); err != nil {
		return nil, "", 0, err
	}
	arc, err = ovf.Open(f, size)
	return arc, hex.EncodeToString(sum.Sum(nil)), size, err
}

// objectSuffix is that of the resource that stands for a package in object storage.
const objectSuffix = ".ova"

// Lifting packs an instance, and compiles the plan that lifts the package to a site's object storage and builds from it
// there. The package is kept in the workspace until the run is over.
func (svc *Service) Lifting(ctx context.Context, deployment int64, instance string, running bool, w ImportRequest) (deployments.Order, *Exported, error) {
	file, err := svc.place(instance)
	if err != nil {
		return deployments.Order{}, nil, err
	}
	out, err := svc.ExportPackage(ctx, deployment, instance, file, running)
	if err != nil {
		return deployments.Order{}, nil, err
	}
	w.File, w.Lift = file, true
	o, _, err := svc.ImportPackage(ctx, w)
	if err != nil {
		return deployments.Order{}, nil, errors.Join(err, os.Remove(file))
	}
	return o, out, nil
}

// KeepPackage moves a package that came from elsewhere to where it is kept until its run is over, and returns its file there.
func (svc *Service) KeepPackage(ctx context.Context, file string) (string, error) {
	if err := svc.desk.Allow(ctx, guard.BeginRun, guard.Named("what was packed")); err != nil {
		return "", err
	}
	kept, err := svc.place("sent")
	if err != nil {
		return "", err
	}
	return kept, move(file, kept)
}

// place is a file in the workspace for a package.
func (svc *Service) place(name string) (string, error) {
	dir := filepath.Join(svc.workspace.Dir, "packages")
	return filepath.Join(dir, fmt.Sprintf("%s-%d.ova", name, time.Now().UnixNano())), os.MkdirAll(dir, 0o700)
}

// move moves a file, which may lie on another disk.
func move(from, to string) error {
	if os.Rename(from, to) == nil {
		return nil
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Close()); err != nil {
		err = errors.Join(err, os.Remove(to))
	}
	return err
}

// Dropping compiles the plan that takes away what of a deployment is kept in object storage.
func (svc *Service) Dropping(ctx context.Context, deployment int64) (deployments.Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return deployments.Order{}, err
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	if err := svc.runs.Quiet(ctx, deployment); err != nil {
		return deployments.Order{}, err
	}
	to, err := withoutObjects(wanted)
	if err != nil {
		return deployments.Order{}, err
	}
	if len(to.Resources) == len(wanted.Resources) {
		return deployments.Order{}, fault.NotFoundf("nothing of deployment %d is kept in object storage", deployment)
	}
	p, err := change.Compile(d.Stand, to, "drop what is in object storage")
	if err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	return deployments.Order{Plan: p, Deployment: d.ID, Wanted: to, Template: d.Template}, svc.deployments.Timed(ctx, p)
}

// withoutObjects is a design without what is kept in object storage: the disks that were unpacked from there have all of
// it.
func withoutObjects(p *plan.Plan) (*plan.Plan, error) {
	rest := *p
	rest.Resources = slices.DeleteFunc(slices.Clone(p.Resources), func(r plan.Resource) bool { return r.Kind == kinds.Object })
	// What was unpacked from there is as it is: should it be lost, it starts from its image.
	return withoutSteps(&rest, func(s *plan.Step) bool {
		return p.Resource(s.Resource).Kind == kinds.Object || s.Op == op.Fill && s.Filling.Object != ""
	})
}

const gib = 1 << 30

// unpacking is the plan that builds what is packed: asleep, filled, plugged in, switched on.
func unpacking(arc *ovf.Archive, w ImportRequest, e *estate.Estate, s *estate.Site) (*plan.Plan, error) {
	image := s.Image(arc.OS, estate.Release{})
	if image == nil {
		return nil, fault.Refusedf("there is no image of its system, %s", arc.OS)
	}
	spec := plan.InstanceSpec{Hostname: arc.Hostname, Cores: arc.Cores, MemoryGiB: arc.MemoryGiB, DiskGiB: float64(arc.Disks[0].Bytes) / gib, Image: image.Name, Asleep: true}
	if err := fit(&spec, s, w.Size); err != nil {
		return nil, err
	}
	need := estate.Capacity{Cores: spec.Cores, MemoryGiB: spec.MemoryGiB, DiskGiB: spec.DiskGiB}
	zone, host := "", ""
	for _, r := range s.Rooms() {
		if zone == "" && (w.Zone == "" || w.Zone == r.Zone) && r.Free.Fits(need) {
			zone, host = r.Zone, r.Host
		}
	}
	if zone == "" {
		return nil, fault.Refusedf("there is no room for %s", need)
	}
	name := w.Name
	if name == "" {
		name = arc.Name
	}
	b := &unpacker{p: &plan.Plan{Version: plan.Version, Name: name, Currency: e.Currency, Inputs: map[string]any{}, Services: []plan.Service{},
		Sites: []plan.Site{{Name: s.Name, Kind: string(s.Kind), Title: s.Title}}, Scripts: map[string]string{}}, s: s, zone: zone, host: host}
	b.build(arc, spec, w)
	return plan.Reindexed(b.p), nil
}

// fit gives a machine a size of the site's, if it has some.
func fit(spec *plan.InstanceSpec, s *estate.Site, name string) error {
	if s.FreeForm && name == "" || len(s.Sizes) == 0 {
		return nil
	}
	var best *estate.Size
	for i := range s.Sizes {
		z := &s.Sizes[i]
		fits := name == z.Name || name == "" && z.Cores >= spec.Cores && z.MemoryGiB >= spec.MemoryGiB
		if fits && (best == nil || z.PricePerHour < best.PricePerHour) {
			best = z
		}
	}
	if best == nil {
		return fault.Refusedf("there is no size of %s and %s or more", estate.Cores(spec.Cores), estate.GiB(spec.MemoryGiB))
	}
	spec.Size, spec.Cores, spec.MemoryGiB = best.Name, best.Cores, best.MemoryGiB
	return nil
}

type unpacker struct {
	p          *plan.Plan
	s          *estate.Site
	zone, host string
}

func (b *unpacker) add(r plan.Resource, s plan.Step, nominal float64, after ...string) string {
	if r.ID != "" {
		r.Site, r.Zone, r.Node = b.s.Name, b.zone, r.ID
		b.p.Resources = append(b.p.Resources, r)
		s.Resource = r.ID
	}
	s.ID, s.Site, s.Seconds, s.After = s.Op.On(s.Resource), b.s.Name, b.s.Seconds(nominal), after
	if s.Volume != "" {
		s.ID += ":" + s.Volume
	}
	if s.Check.Kind == "" {
		s.Check.Kind = plan.CheckSite
	}
	b.p.Steps = append(b.p.Steps, s)
	return s.ID
}

func (b *unpacker) build(arc *ovf.Archive, spec plan.InstanceSpec, w ImportRequest) {
	network := w.Network
	if network == "" {
		network = "site-lan"
		if len(arc.Networks) > 0 {
			network = arc.Networks[0]
		}
	}
	net := network + "@" + b.s.Name
	lan := b.add(plan.Resource{ID: net, Title: network, Kind: kinds.Network, Spec: plan.NetworkSpec{Label: network}}, plan.Step{Op: op.Create, Title: "create network"}, b.s.Timings.Network)
	host := plan.Resource{ID: arc.Name, Title: arc.Name, Kind: kinds.Instance, Host: b.host, Description: arc.Description, Spec: spec, StandsOn: []string{net},
		Detail: strings.TrimSpace(spec.Size + " " + estate.Cores(spec.Cores) + " " + estate.GiB(spec.MemoryGiB))}
	host.CostPerHour, host.CostOff = b.s.Costs(spec.Size, "", estate.Capacity{Cores: spec.Cores, MemoryGiB: spec.MemoryGiB, DiskGiB: spec.DiskGiB})
	disks := []string{arc.Name}
	for _, d := range arc.Disks[1:] {
		host.StandsOn = append(host.StandsOn, d.Name)
		disks = append(disks, d.Name)
	}
	created := b.add(host, plan.Step{Op: op.Create, Title: "create instance"}, b.s.Timings.Instance)
	ready := []string{created}
	for _, d := range arc.Disks[1:] {
		size := float64(d.Bytes) / gib
		volume := b.add(plan.Resource{ID: d.Name, Title: d.Name, Kind: kinds.Volume, Detail: estate.GiB(size), CostPerHour: b.s.VolumeCosts(size, ""), Spec: plan.VolumeSpec{DiskGiB: size, Label: d.Name}},
			plan.Step{Op: op.Create, Title: "create volume"}, b.s.Timings.Volume)
		ready = append(ready, b.add(plan.Resource{}, plan.Step{Resource: arc.Name, Op: op.Attach, Title: "attach " + d.Name, Volume: d.Name, Location: d.Location},
			b.s.Timings.Attachment, created, volume))
	}
	iface := arc.Name + ".if"
	b.add(plan.Resource{ID: iface, Title: arc.Name + " interface", Kind: kinds.Interface, PartOf: arc.Name, StandsOn: []string{arc.Name, net},
		Spec: plan.InterfaceSpec{Network: net, Instance: arc.Name, Ports: arc.Ports}}, plan.Step{Op: op.Plug, Title: "plug into " + network}, b.s.Timings.Interface, created, lan)
	fill := plan.Step{Resource: arc.Name, Op: op.Fill, Title: "write its disks", Filling: &plan.Filling{Disks: disks}}
	if w.Lift {
		object := arc.Name + objectSuffix
		ready = append(ready, b.add(plan.Resource{ID: object, Title: arc.Name + " package", Kind: kinds.Object},
			plan.Step{Op: op.Create, Title: "lift to object storage", Filling: &plan.Filling{}}, 10))
		fill.Title, fill.Filling.Object = "unpack its disks from object storage", object
	}
	b.add(plan.Resource{}, fill, 10, ready...)
}
