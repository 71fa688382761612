package change

import (
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Snapping says of which disks snapshots are taken together, and how.
type Snapping struct {
	// Set is what they go by together.
	Set string
	// Disks are instances, of which all disks are kept, and volumes.
	Disks []string
	// Barrier has all machines stand still from before the first is taken until after the last. Without it they run on, and are taken in the
	// order in which nothing is kept that what it depends on does not have: whatever stands on something else first, and that after it.
	Barrier bool
	// Memory keeps what is in the memory of machines too, which stand still meanwhile.
	Memory bool
	// Cost is what keeping so much at a site costs an hour; nil is nothing.
	Cost func(site string, gib float64) money.Amount
}

// SnapshotID is the id of the snapshot of a disk in a set.
func SnapshotID(disk, set string) string { return disk + "." + set }

// Snapshot is the plan that takes snapshots of disks of what stands.
func Snapshot(from Standing, s Snapping, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	disks, err := disksOf(from, s.Disks)
	if err != nil {
		return nil, err
	}
	if s.Memory {
		s.Barrier = true
		if disks, err = disksOf(from, machinesOf(disks)); err != nil {
			return nil, err
		}
	}
	if _, err := s.together(from, p, disks); err != nil {
		return nil, err
	}
	p.Secrets = p.SecretsAsked()
	return p, plan.Reindexed(p).Arrange()
}

// together adds the steps that take snapshots of disks together, and returns those after which all are taken.
func (s *Snapping) together(from Standing, p *plan.Plan, disks []disk) ([]string, error) {
	for _, d := range disks {
		if id := SnapshotID(d.id, s.Set); p.Resource(id) != nil {
			return nil, fmt.Errorf("there is a snapshot %s of %s already", s.Set, d.id)
		}
	}
	quiet := &quiet{from: from.Plan}
	if !s.Memory { // what software has not written yet is kept with what is in memory
		quiet = quieted(from, p, disks)
	}
	before := map[string]bool{}
	if s.Barrier {
		for _, d := range disks {
			if m := from.Plan.Resource(d.on); d.on != "" && !before[still(d.on)] && !m.Off {
				before[still(d.on)] = true
				stand := stepOf(op.Suspend, m, "let it stand still", 1)
				stand.After = quiet.steps
				p.Steps = append(p.Steps, stand)
			}
		}
	}
	s.take(from, p, disks, slices.Concat(quiet.steps, slices.Sorted(maps.Keys(before))))
	taken := s.taken(from, disks)
	after := slices.Clone(taken)
	for _, id := range slices.Sorted(maps.Keys(before)) {
		m := p.Resource(op.ResourceOf(id))
		on := stepOf(op.Boot, m, "let it go on", 1)
		on.After = taken
		p.Steps = append(p.Steps, on)
		after = append(after, on.ID)
	}
	may := quiet.steps
	if !s.Barrier { // else its machine stands still then
		may = slices.Concat(may, taken)
	}
	quiet.resume(p, after, may)
	return taken, nil
}

// still is the step that has a machine stand still.
func still(instance string) string { return op.Suspend.On(instance) }

func stepOf(does op.Op, r *plan.Resource, title string, seconds float64) plan.Step {
	return plan.Step{ID: does.On(r.ID), Resource: r.ID, Op: does, Site: r.Site, Title: title, Seconds: seconds, Check: plan.Condition{Kind: plan.CheckSite}}
}

// take adds the snapshots and the steps that take them: what stands highest first, where nothing stands still.
func (s *Snapping) take(from Standing, p *plan.Plan, disks []disk, before []string) {
	last, above := -1, before
	var level []string
	for _, d := range disks { // from the highest on
		if !s.Barrier && d.rank != last {
			above, level, last = slices.Concat(before, level), nil, d.rank
		}
		of := from.Plan.Resource(d.id)
		r := plan.Resource{ID: SnapshotID(d.id, s.Set), Node: of.Node + ".snapshot", Title: of.Title + ", snapshot " + s.Set, Kind: kinds.Snapshot, Service: of.Service, Site: of.Site,
			Zone: of.Zone, Detail: estate.GiB(of.DiskGiB()), Change: plan.Build, Reasons: []string{"it is taken"},
			Spec: plan.SnapshotSpec{Set: s.Set, Of: d.id, DiskGiB: of.DiskGiB(), Parts: s.parts(from, disks), Barrier: s.Barrier, Parent: Head(from, d.id), Holds: holds(from, d.id)}}
		if s.Cost != nil {
			r.CostPerHour = s.Cost(of.Site, of.DiskGiB())
			p.CostPerHour += r.CostPerHour
		}
		p.Resources = append(p.Resources, r)
		taken := stepOf(op.Create, &r, "take a snapshot of "+d.id, 5)
		taken.After = above
		p.Steps = append(p.Steps, taken)
		level = append(level, taken.ID)
	}
	s.takeMemory(from, p, disks, before)
	plan.Reindexed(p)
}

// disk is one of which a snapshot is taken: the instance that it is of or attached to, if any, and how high that stands.
type disk struct {
	id, on string
	rank   int
}

// disksOf are the disks of instances and volumes, each once, from those that stand highest on.
func disksOf(from Standing, ids []string) ([]disk, error) {
	attached := map[string]string{}
	for i := range from.Plan.Steps {
		if s := &from.Plan.Steps[i]; s.Op == op.Attach {
			attached[s.Volume] = s.Resource
		}
	}
	heights, err := heights(from.Plan)
	if err != nil {
		return nil, err
	}
	found := map[string]disk{}
	for _, id := range ids {
		r := from.Plan.Resource(id)
		switch {
		case r == nil || r.Kind != kinds.Instance && r.Kind != kinds.Volume || r.IsCopy():
			return nil, fmt.Errorf("%q is no instance and no volume that stands", id)
		case r.AsInstance().Appliance != "": // what a site runs itself has none
		case from.Unsure[op.Create.On(id)]:
			return nil, fmt.Errorf("whether %s is whole is not known: mend its deployment first", id)
		case r.Kind == kinds.Volume:
			on := attached[id]
			found[id] = disk{id, on, heights[on]}
		default:
			found[id] = disk{id, id, heights[id]}
			for v, on := range attached {
				if on == id {
					found[v] = disk{v, id, heights[id]}
				}
			}
		}
	}
	out := slices.Collect(maps.Values(found))
	slices.SortFunc(out, func(a, b disk) int {
		if a.rank != b.rank {
			return b.rank - a.rank
		}
		return strings.Compare(a.id, b.id)
	})
	return out, nil
}

// heights say how high instances stand: as high as the highest of what runs on them. The levels that steps have are those of the plans by which they were
// done, of which each counts from its own ground, so they are worked out anew.
func heights(p *plan.Plan) (map[string]int, error) {
	whole := *p
	whole.Steps, whole.Resources = slices.Clone(p.Steps), slices.Clone(p.Resources)
	if err := plan.Reindexed(&whole).Arrange(); err != nil {
		return nil, err
	}
	out := map[string]int{}
	for i := range whole.Steps { // what is started after something else was depends on it
		s := &whole.Steps[i]
		if on := instanceOf(&whole, whole.Resource(s.Resource)); on != "" && s.Op == op.Start {
			out[on] = max(out[on], s.Level)
		}
	}
	return out, nil
}

// SetName is a name for a set that is taken at a time, with words before it, that no other of what stands has.
func SetName(s Standing, words string, at time.Time) string {
	return words + free(s, at, func(moment string) []string { return []string{words + moment} })
}

// Moment names a time, so that neither of the sets that replicating takes then has a name of what stands.
func Moment(s Standing, at time.Time) string {
	return free(s, at, func(moment string) []string { return []string{ShippedPrefix + moment, CopiedPrefix + moment} })
}

// MomentOf is the time that a set of snapshots is named by, to the minute (UTC); zero if it is named otherwise.
func MomentOf(set string) time.Time {
	for _, prefix := range []string{ShippedPrefix, CopiedPrefix} {
		set = strings.TrimPrefix(set, prefix)
	}
	t, _ := time.Parse(momentFormat, set[:min(len(momentFormat), len(set))])
	return t
}

// momentFormat is how times are written in names of sets.
const momentFormat = "20060102-1504"

// free is a time in words, with a number after it where a set of what stands has one of the names that are made of it.
func free(s Standing, at time.Time, names func(moment string) []string) string {
	base := at.UTC().Format(momentFormat)
	moment := base
	for n := 2; slices.ContainsFunc(s.Plan.Resources, func(r plan.Resource) bool { return slices.Contains(names(moment), r.AsSnapshot().Set) }); n++ {
		moment = fmt.Sprintf("%s-%d", base, n)
	}
	return moment
}

// Head is the set that a disk held last: the one that was taken of it, or that it was restored to, whichever was later; "" if there is none.
func Head(s Standing, disk string) string {
	head, at := s.Plan.Known[disk][AttrRestored], moment(s.Plan.Known[disk][AttrRestoredAt])
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if taken := moment(s.Plan.Known[r.ID][AttrTaken]); r.Kind == kinds.Snapshot && r.AsSnapshot().Of == disk && taken.After(at) {
			head, at = r.AsSnapshot().Set, taken
		}
	}
	return head
}

// moment reads a time of an attribute; what is none is before all others.
func moment(text string) time.Time {
	t, _ := time.Parse(time.RFC3339Nano, text)
	return t
}

// What is known of a disk that was restored, and of a snapshot: to which set and when, and when it was taken (RFC 3339, of UTC). Restoring sets the
// first two.
const (
	AttrRestored   = "restored"
	AttrRestoredAt = "restored.at"
	AttrTaken      = "taken"
	// AttrHeld is how many bytes of a snapshot hold something.
	AttrHeld = "held"
)

// Dropped is the plan that takes away the snapshots of a set.
func Dropped(from Standing, set, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Snapshot || r.AsSnapshot().Set != set {
			continue
		}
		r.Change, r.Reasons = plan.Retire, []string{"it is dropped"}
		p.CostPerHour -= r.CostPerHour
		gone := stepOf(op.Remove, r, "drop the snapshot", 1)
		gone.Drops = []string{op.Create.On(r.ID)}
		p.Steps = append(p.Steps, gone)
	}
	if p.Steps == nil {
		return nil, fmt.Errorf("there is no snapshot %q", set)
	}
	return p, plan.Reindexed(p).Arrange()
}

// withKeepsakes is a design with the snapshots and copies that stand, and no others: no change of what they are of takes them away, and no snapshot that is
// gone can be taken again. Those of a set that is not whole are left out, since the rest of it was never taken: the next change takes them away.
func withKeepsakes(from Standing, to *plan.Plan) *plan.Plan {
	keepsake := func(r plan.Resource) bool { return r.Kind == kinds.Snapshot || r.IsCopy() }
	if !slices.ContainsFunc(from.Plan.Resources, keepsake) && !slices.ContainsFunc(to.Resources, keepsake) {
		return to
	}
	out := *to
	out.Resources = slices.DeleteFunc(slices.Clone(to.Resources), keepsake)
	out.Steps = slices.DeleteFunc(slices.Clone(to.Steps), func(s plan.Step) bool { return keepsake(*to.Resource(s.Resource)) })
	for i := range to.Resources {
		if keepsake(to.Resources[i]) {
			out.CostPerHour -= to.Resources[i].CostPerHour
		}
	}
	if len(out.Resources) == 0 {
		return plan.Reindexed(&out) // all is taken away, they too
	}
	for _, r := range from.Plan.Resources {
		created := from.Plan.Step(op.Create.On(r.ID))
		if !keepsake(r) || created == nil || r.Kind == kinds.Snapshot && !Whole(from, r.AsSnapshot().Set) {
			continue
		}
		out.Resources = append(out.Resources, r)
		out.CostPerHour += r.CostPerHour
		out.Steps = append(out.Steps, *created)
	}
	return plan.Reindexed(&out)
}

// Whole reports that all snapshots of a set were taken.
func Whole(s Standing, set string) bool {
	n, parts := 0, 0
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if x := r.AsSnapshot(); r.Kind == kinds.Snapshot && x.Set == set {
			parts = x.Parts
			if !s.Unsure[op.Create.On(r.ID)] {
				n++
			}
		}
	}
	return parts > 0 && n == parts
}

// Restoring says to which snapshots disks are restored.
type Restoring struct {
	Set string
	// Disks are those that are restored; none is all of the set.
	Disks []string
	// Before, if it is not nil, is taken of the disks before they are restored, so that there is a way back.
	Before *Snapping
}

// Restored is the plan that has disks of what stands hold again what a set of snapshots keeps, and then leads to a design. What runs on their
// machines is stopped before, from the top down, and started after.
func Restored(from Standing, to *plan.Plan, r Restoring, purpose string) (*plan.Plan, error) {
	list, err := r.disks(from)
	if err != nil {
		return nil, err
	}
	off := map[string]bool{}
	for _, d := range list {
		off[d.on] = true
	}
	down, err := Compile(from, Rest(from.Plan, func(x *plan.Resource) bool { return x.Off || off[x.ID] }), purpose)
	if err != nil {
		return nil, err
	}
	steps, err := r.steps(from, down, list)
	if err != nil {
		return nil, err
	}
	rested, err := Done(from, down)
	if err != nil {
		return nil, err
	}
	if err := forgetOther(from, &rested, list, r.Set); err != nil {
		return nil, err
	}
	up, err := Compile(rested, to, purpose)
	if err != nil {
		return nil, err
	}
	return joined(down, steps, up)
}

// holds says of the software on an instance's own disk as what it stands there.
func holds(s Standing, instance string) map[string]string {
	return held(s, instance, false)
}

// held says so; where memory is held too what was started counts, and since when what scripts were given is as it is does not.
func held(s Standing, instance string, memory bool) map[string]string {
	parts := map[string][]string{}
	for i := range s.Plan.Steps {
		st := &s.Plan.Steps[i]
		r := s.Plan.Resource(st.Resource)
		if st.Script == nil || st.Op == op.Start && !memory || cmp.Or(st.On, r.On) != instance {
			continue
		}
		given := []any{st.ID, s.Unsure[st.ID], s.Plan.Scripts[st.Script.Path], st.Script.Inputs}
		for id := range attributesOf(st) {
			if !memory { // what it is known by may be as before, and it another
				given = append(given, id, s.Plan.Known[id], s.Since[id].UnixNano())
			} else {
				given = append(given, id, lasting(s.Plan.Known[id]))
			}
		}
		for _, f := range st.Script.Files {
			given = append(given, f, s.Plan.Files[f.File])
		}
		text, _ := json.Marshal(given) // which is plain data
		parts[st.Resource] = append(parts[st.Resource], string(text))
	}
	out := map[string]string{}
	for id, all := range parts {
		slices.Sort(all)
		out[id] = fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(all, "\n"))))
	}
	return out
}

// lasting is what is known of something, but when it was restored.
func lasting(known map[string]string) map[string]string {
	out := maps.Clone(known)
	delete(out, AttrRestored)
	delete(out, AttrRestoredAt)
	return out
}

// forgetOther has the software on the disks of instances that are restored be done again where it was another then, or was given something else:
// what stands says how it is now.
func forgetOther(from Standing, rested *Standing, list []disk, set string) error {
	of := func(id string) *plan.Resource { return from.Plan.Resource(SnapshotID(id, set)) }
	for _, d := range list {
		if d.id != d.on {
			continue
		}
		now := holds(from, d.id)
		for id := range of(d.id).AsSnapshot().Holds {
			if _, still := now[id]; !still {
				return fmt.Errorf("%s was on %s then and is not any more: restore its volumes alone, or beside", id, d.id)
			}
		}
	}
	forgetOtherBy(from, rested, list, of)
	return nil
}

// forgetOtherBy does so by the snapshots that a function finds of the disks. What was on them and is wanted no more stays.
func forgetOtherBy(from Standing, rested *Standing, list []disk, of func(disk string) *plan.Resource) {
	undone := map[string]bool{}
	for _, d := range list {
		if d.id != d.on {
			continue
		}
		then := of(d.id).AsSnapshot().Holds
		for id, as := range holds(from, d.id) {
			undone[id+" on "+d.id] = then[id] != as
		}
	}
	p := *rested.Plan
	p.Steps = slices.DeleteFunc(slices.Clone(p.Steps), func(s plan.Step) bool {
		return s.Script != nil && undone[s.Resource+" on "+cmp.Or(s.On, p.Resource(s.Resource).On)]
	})
	rested.Plan = plan.Reindexed(&p)
}

// disks are those that are restored, each with the machine that it is of.
func (r *Restoring) disks(from Standing) ([]disk, error) {
	if !Whole(from, r.Set) {
		return nil, fmt.Errorf("there is no whole snapshot %q", r.Set)
	}
	var ids []string
	for i := range from.Plan.Resources {
		x := &from.Plan.Resources[i]
		s := x.AsSnapshot()
		if x.Kind != kinds.Snapshot || s.Memory || s.Set != r.Set || len(r.Disks) > 0 && !slices.Contains(r.Disks, s.Of) {
			continue
		}
		switch of := from.Plan.Resource(s.Of); {
		case of == nil:
			return nil, fmt.Errorf("%s does not stand any more: restore beside, or leave it out", s.Of)
		case of.Site != x.Site:
			return nil, fmt.Errorf("%s is at %s by now, and its snapshot at %s: move it back first", s.Of, of.Site, x.Site)
		case of.DiskGiB() < s.DiskGiB:
			return nil, fmt.Errorf("%s is smaller than what was kept of it", s.Of)
		}
		ids = append(ids, s.Of)
	}
	for _, id := range r.Disks {
		if !slices.Contains(ids, id) {
			return nil, fmt.Errorf("the snapshot %s keeps nothing of %s", r.Set, id)
		}
	}
	return disksOnly(from, ids)
}

// disksOnly are some disks, without others of their machines.
func disksOnly(from Standing, ids []string) ([]disk, error) {
	all, err := disksOf(from, ids)
	return slices.DeleteFunc(all, func(d disk) bool { return !slices.Contains(ids, d.id) }), err
}

// steps are those between going down and coming up: what there is is kept, and then the disks are restored.
func (r *Restoring) steps(from Standing, down *plan.Plan, list []disk) ([]plan.Step, error) {
	var all, before []string
	for i := range down.Steps {
		all = append(all, down.Steps[i].ID)
	}
	var out []plan.Step
	if r.Before != nil {
		for i := range list {
			if id := SnapshotID(list[i].id, r.Before.Set); from.Plan.Resource(id) != nil {
				return nil, fmt.Errorf("there is a snapshot %s already", id)
			}
		}
		first := len(down.Steps)
		r.Before.Barrier = true // nothing runs
		r.Before.take(from, down, list, all)
		for i := range down.Steps[first:] {
			before = append(before, down.Steps[first+i].ID)
		}
	}
	for _, d := range list {
		out = append(out, r.restoring(from, d, slices.Concat(all, before)))
	}
	return out, nil
}

// joined is one plan of two, with steps between them: what comes up does so after all of that.
func joined(down *plan.Plan, between []plan.Step, up *plan.Plan) (*plan.Plan, error) {
	out := *up
	out.Resources = slices.Clone(up.Resources)
	for i := range out.Resources {
		r := &out.Resources[i]
		switch first := down.Resource(r.ID); {
		case first == nil:
		case slices.ContainsFunc(between, func(s plan.Step) bool { return s.Resource == r.ID }):
			r.Change, r.Reasons = plan.Amend, []string{"it is restored"}
		case r.Change == plan.Keep && first.Change != plan.Keep:
			r.Change, r.Reasons = first.Change, first.Reasons
		case r.Change == plan.Amend && first.Change == plan.Amend && r.Kind == kinds.Instance:
			r.Reasons = []string{"it is off while its disks are restored"}
		case r.Change == plan.Amend && first.Change == plan.Amend:
			r.Reasons = []string{"it is stopped while a disk is restored"}
		}
	}
	for _, r := range down.Resources {
		if up.Resource(r.ID) == nil {
			out.Resources = append(out.Resources, r)
			out.CostPerHour += r.CostPerHour
		}
	}
	out.Scripts, out.Files = maps.Clone(up.Scripts), maps.Clone(up.Files)
	maps.Copy(out.Scripts, down.Scripts)
	maps.Copy(out.Files, down.Files)
	var last []string
	for i := range between {
		last = append(last, between[i].ID)
	}
	out.Steps = slices.Concat(down.Steps, between)
	for _, s := range up.Steps {
		s.After = slices.Concat(s.After, last)
		out.Steps = append(out.Steps, s)
	}
	for _, s := range down.Sites {
		if !slices.ContainsFunc(out.Sites, func(x plan.Site) bool { return x.Name == s.Name }) {
			out.Sites = append(out.Sites, s)
		}
	}
	p := plan.Reindexed(&out)
	p.Secrets = p.SecretsAsked()
	return p, p.Arrange()
}
