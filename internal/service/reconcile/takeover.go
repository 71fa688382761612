package reconcile

import (
	"context"
	"slices"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/core/plan"
	"andamio/internal/core/takeover"
	"andamio/internal/service/deployments"
	"andamio/internal/site"
)

// TakeOverRequest says which machines that nobody deployed here are to be a deployment, as [SITE/ID] or by their names.
type TakeOverRequest struct {
	Records []string `json:"records"`
	// Name is what the deployment is called; "" is the first machine's.
	Name string `json:"name,omitempty"`
	// Ports are those on which they serve, beside what was seen.
	Ports []int `json:"ports,omitempty"`
}

// TakingOver compiles the plan that takes note of machines as a deployment: with the disks, interfaces and networks that were seen with them. Nothing
// changes at their sites.
func (svc *Service) TakingOver(ctx context.Context, w TakeOverRequest) (deployments.Order, error) {
	if err := svc.desk.Read("what may be taken over"); err != nil {
		return deployments.Order{}, err
	}
	inv, _, err := svc.gather(ctx)
	if err != nil {
		return deployments.Order{}, err
	}
	ids, err := machinesOf(inv.ObservedRecords, w.Records)
	if err != nil {
		return deployments.Order{}, err
	}
	if err := free(inv.DeclaredRecords, inv.ObservedRecords, ids); err != nil {
		return deployments.Order{}, err
	}
	seen := slices.Clone(inv.ObservedRecords)
	if err := svc.lookAt(ctx, seen, ids); err != nil {
		return deployments.Order{}, err
	}
	e, err := svc.sites.Estate(ctx)
	if err != nil {
		return deployments.Order{}, err
	}
	raw, err := svc.store.Observations(ctx)
	if err != nil {
		return deployments.Order{}, err
	}
	wanted, take, err := takeover.Plan(takeover.Input{Name: w.Name, Machines: ids, Seen: seen, Attachments: attachments(raw, seen), Ports: w.Ports, Estate: e})
	if err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	take.Purpose = "take over " + take.Name
	return deployments.Order{Plan: take, Wanted: wanted}, nil
}

// MostNobodys bounds how many machines [Service.Nobodys] lists: more are found by their names.
const MostNobodys = 200

// Nobodys is everything that was seen, is on, and no deployment has, as one design of which none stands: machines with what belongs to them, at
// most [MostNobodys]. nil is that there is none. What a site said too little of is left out.
func (svc *Service) Nobodys(ctx context.Context) (*plan.Plan, error) {
	if err := svc.desk.Read("what may be taken over"); err != nil {
		return nil, err
	}
	inv, _, err := svc.gather(ctx)
	if err != nil {
		return nil, err
	}
	e, err := svc.sites.Estate(ctx)
	if e == nil {
		return nil, err
	}
	raw, err := svc.store.Observations(ctx)
	if err != nil {
		return nil, err
	}
	building, err := svc.building(ctx)
	if err != nil {
		return nil, err
	}
	in := takeover.Input{Seen: inv.ObservedRecords, Attachments: attachments(raw, inv.ObservedRecords), Estate: e}
	var ids []string
	for i := range in.Seen {
		if r := &in.Seen[i]; len(ids) < MostNobodys && r.Class == kinds.Instance && !markedBy(building, r.Mark) && free(inv.DeclaredRecords, in.Seen[i:i+1], []string{r.ID}) == nil {
			if in.Machines = []string{r.ID}; takeable(in) {
				ids = append(ids, r.ID)
			}
		}
	}
	if in.Machines = ids; len(ids) == 0 {
		return nil, nil
	}
	_, take, err := takeover.Plan(in)
	return take, err
}

// takeable reports that a machine can be taken over, as far as was seen.
func takeable(in takeover.Input) bool {
	_, _, err := takeover.Plan(in)
	return err == nil
}

// machinesOf are the ids of the machines that words mean: SITE/ID, the site's own id, or a name that one of them alone has.
func machinesOf(seen inventory.Records, words []string) ([]string, error) {
	var out []string
	for _, w := range words {
		var are []string
		for i := range seen {
			if r := &seen[i]; r.Class == kinds.Instance && (r.ID == w || r.Provider == w || r.Site+"/"+r.Provider == w || r.Name == w) {
				are = append(are, r.ID)
			}
		}
		switch len(are) {
		case 0:
			return nil, fault.NotFoundf("no survey has seen a machine %q: andamio survey looks again", w)
		case 1:
			out = append(out, are[0])
		default:
			return nil, fault.Invalidf("%q is %d machines: say which, as one of %s", w, len(are), strings.Join(are, ", "))
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// free holds that no deployment has any of some machines.
func free(declared, seen inventory.Records, ids []string) error {
	for i := range seen {
		r := &seen[i]
		if !slices.Contains(ids, r.ID) {
			continue
		}
		for j := range declared {
			if d := &declared[j]; d.Site == r.Site && d.Provider == r.Provider {
				return fault.Conflictf("%s is of the deployment %s already", r.Name, d.Origin.Deployment)
			}
		}
	}
	return nil
}

// lookAt asks the sites of machines how these are now: some say more of one that is asked for than of all that are listed.
func (svc *Service) lookAt(ctx context.Context, seen inventory.Records, ids []string) error {
	sites, err := svc.sites.Sites()
	if err != nil {
		return err
	}
	m, err := svc.workspace.Mapping()
	if err != nil {
		return err
	}
	for i := range seen {
		r := &seen[i]
		if !slices.Contains(ids, r.ID) || sites[r.Site] == nil {
			continue
		}
		now, err := sites[r.Site].Read(ctx, kinds.Instance, r.Provider)
		if site.ClassOf(err) == site.NotFound && err != nil {
			return fault.NotFoundf("%s has no %s any more: andamio survey %s looks again", r.Site, r.Name, r.Site)
		}
		if err != nil {
			return err
		}
		o := Observe(r.Site, r.Origin.Account, &now)
		told, known, err := m.Record(&o)
		if err != nil {
			return err
		}
		*r = r.Clone()
		r.Set(inventory.AttrState, string(now.State))
		if size, says := told.Value(inventory.AttrDisk); known && says {
			r.Set(inventory.AttrDisk, size)
		}
	}
	return nil
}

// attachments are the volumes that were seen in machines: what sites tell that leads from a machine to a volume.
func attachments(raw []mapping.Observation, seen inventory.Records) []takeover.Attachment {
	class := map[string]kinds.Kind{}
	for i := range seen {
		class[seen[i].Site+"/"+seen[i].Provider] = seen[i].Class
	}
	var out []takeover.Attachment
	for i := range raw {
		o := &raw[i]
		if class[o.Site+"/"+o.Source] != kinds.Instance || class[o.Site+"/"+o.Target] != kinds.Volume || class[o.Site+"/"+o.ID] == kinds.Snapshot {
			continue
		}
		a := takeover.Attachment{Site: o.Site, ID: o.ID, Machine: o.Source, Volume: o.Target}
		for _, name := range []string{"location", "occi.storagelink.mountpoint"} {
			if a.Location == "" {
				a.Location = o.Raw[name]
			}
		}
		out = append(out, a)
	}
	return out
}
