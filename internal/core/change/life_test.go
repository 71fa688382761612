package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

// life is a deployment in a model world, from its beginning on.
type life struct {
	t      *rapid.T
	w      *lifeWorld
	is     parts // what is wanted
	wanted *plan.Plan
	stand  change.Standing
	// whole says that everything wanted stands; before is how it was before the last change that ended well.
	whole  bool
	before *life
	// n counts sets of snapshots.
	n int
}

// TestAWholeLife draws what may be done to a deployment, one after another, over generated designs, with steps that take
// time and end badly. Whenever a change ended well, there is what is wanted and nothing else, what was written is there
// unless a plan said that it goes, and nothing was taken away from under what runs or is under way.
func TestAWholeLife(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lived(t, func(l *life) []func() {
			if !l.whole {
				return []func(){l.changed, l.broken}
			}
			return []func(){l.changed, l.broken, l.moved, l.lost, l.byHand, l.rolledBack, l.powered, l.scaled, l.ranScript, l.snapped, l.restored, l.replicated, l.failedOver}
		})
	})
}

// TestALifeOfSnapshots draws little else: what is kept is restored again and again, with memory and without, between changes of what it is of.
func TestALifeOfSnapshots(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lived(t, func(l *life) []func() {
			if !l.whole {
				return []func(){l.changed}
			}
			return []func(){l.snapped, l.snapped, l.restored, l.restored, l.restored, l.restored, l.powered, l.changed, l.ranScript}
		})
	})
}

// lived has a deployment go through what is drawn of some acts, and be retired.
func lived(t *rapid.T, acts func(*life) []func()) {
	l := &life{t: t, w: newLifeWorld(), is: parts{cidr: "10.0.0.0/24"}}
	l.wanted = design(l.is)
	l.stand, l.whole = change.Nothing(l.wanted), true
	l.change("raise")
	for range rapid.IntRange(1, 8).Draw(t, "acts") {
		all := acts(l)
		all[rapid.IntRange(0, len(all)-1).Draw(t, "act")]()
	}
	l.to(change.Nothing(l.wanted).Plan, "retire")
	if w := l.w; !l.stand.Empty() || len(w.snaps)+len(w.machines)+len(w.volumes)+len(w.nets)+len(w.ports) > 0 {
		t.Fatalf("%v: retired, and there is\n%s", l.w.acts, w.picture())
	}
}

// to leads to a design and looks that it is there.
func (l *life) to(to *plan.Plan, act string) {
	l.w.acts = append(l.w.acts, act)
	p, err := change.Compile(l.stand, to, act)
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	if err := p.Check(); err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	l.listedOtherwise(to, p)
	l.did(l.w.run(l.t, p, nil))
	l.wanted = to
	l.holds()
}

// listedOtherwise looks that a change is the same when the steps of what stands and of what is wanted are listed in another order.
func (l *life) listedOtherwise(to, want *plan.Plan) {
	turned := func(p *plan.Plan) *plan.Plan {
		out := *p
		out.Steps = slices.Clone(p.Steps)
		slices.Reverse(out.Steps)
		return plan.Reindexed(&out)
	}
	from := l.stand
	from.Plan = turned(from.Plan)
	got, err := change.Compile(from, turned(to), want.Purpose)
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	orders := func(p *plan.Plan) map[string]string {
		out := map[string]string{}
		for i := range p.Steps {
			out[p.Steps[i].ID] = fmt.Sprint(slices.Sorted(slices.Values(p.Steps[i].After)), slices.Sorted(slices.Values(p.Steps[i].Drops)))
		}
		return out
	}
	if a, b := orders(want), orders(got); !maps.Equal(a, b) {
		l.t.Fatalf("%v: by the order in which steps are listed it is\n%v\nor\n%v", l.w.acts, a, b)
	}
}

// did takes note of a run.
func (l *life) did(s *run.State) {
	before := l.stand
	l.stand = after(l.t, l.stand, s)
	for id, port := range l.w.ports { // as sites tell
		if l.stand.Plan.Resource(id) != nil {
			l.stand.Plan.Known[id] = map[string]string{"address": fmt.Sprint(port.number)}
		}
	}
	l.followed(before, s)
	l.w.unsure = l.stand.Unsure
	if l.w.stands {
		l.w.told.WriteString(stands(l.stand))
	}
}

// followed looks that what stands step by step, in the order in which the steps ended, comes to what stands after the run.
func (l *life) followed(before change.Standing, s *run.State) {
	w, err := change.Follow(before, s.Plan)
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	order := make([]*run.Step, 0, len(s.Steps))
	for i := range s.Steps {
		order = append(order, &s.Steps[i])
	}
	slices.SortStableFunc(order, func(a, b *run.Step) int { return a.Ended.Compare(b.Ended) })
	seen := map[string]plan.Resource{}
	look := func(ids []string) {
		for _, id := range ids {
			delete(seen, id)
			if r, stands := w.Resource(id); stands {
				seen[id] = *r
			}
		}
	}
	look(w.Resources())
	for _, st := range order {
		look(w.Step(st))
	}
	for i := range l.stand.Plan.Resources {
		r := &l.stand.Plan.Resources[i]
		got, stands := seen[r.ID]
		if !stands || got.Off != r.Off || got.Site != r.Site || r.Kind != kinds.Endpoint && fmt.Sprint(got.Spec) != fmt.Sprint(r.Spec) { // which interface an endpoint is at is told at the end
			l.t.Fatalf("%v: followed, %s is %v %+v, and it is %+v", l.w.acts, r.ID, stands, got, *r)
		}
		delete(seen, r.ID)
	}
	if len(seen) > 0 {
		l.t.Fatalf("%v: followed, there is more: %v", l.w.acts, seen)
	}
}

// holds looks that there is what is wanted, and that nothing is left to be done for it.
func (l *life) holds() {
	l.whole = true
	want := newLifeWorld()
	raise, err := change.Compile(change.Nothing(l.wanted), l.wanted, "raise")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	want.run(l.t, raise, nil)
	for id, m := range l.w.machines {
		for name, x := range m.soft {
			if x.quiet {
				l.t.Fatalf("%v: %s on %s was never resumed", l.w.acts, name, id)
			}
		}
	}
	if got, want := l.w.picture(), want.picture(); got != want {
		l.t.Fatalf("%v: there is\n%s\nand wanted is\n%s", l.w.acts, got, want)
	}
	again, err := change.Compile(l.stand, l.wanted, "again")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	if len(again.Steps) > 0 {
		l.t.Fatalf("%v: an unchanged design is changed: %v %v", l.w.acts, ids(again), reasons(again))
	}
	if lost := plantest.Unfounded(l.stand.Plan); len(lost) > 0 {
		l.t.Fatalf("%v: of what stands %v", l.w.acts, lost)
	}
	same, err := change.Compile(l.stand, l.stand.Plan, "same")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	if len(same.Steps) > 0 {
		l.t.Fatalf("%v: what stands is changed to what stands: %v %v", l.w.acts, ids(same), reasons(same))
	}
}

// keep remembers how it is, to be rolled back to.
func (l *life) keep() {
	was := *l
	l.before = &was
}

// change leads to another design.
func (l *life) change(act string) {
	l.keep()
	l.is = draw(l.t, act)
	l.to(design(l.is), act)
}

func (l *life) changed() { l.change("change") }

// broken begins to lead to another design and does not get there.
func (l *life) broken() {
	l.w.acts = append(l.w.acts, "broken change")
	l.whole = false
	p, err := change.Compile(l.stand, design(draw(l.t, "broken")), "change")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	l.did(l.w.run(l.t, p, func(id string) bool { return rapid.IntRange(0, 5).Draw(l.t, id+" fails") == 0 }))
}

// rolledBack leads back to what stood before the last change.
func (l *life) rolledBack() {
	b := l.before
	if b == nil || !b.whole {
		return
	}
	l.is, l.before = b.is, nil
	wanted := b.wanted
	l.to(b.stand.Plan, "roll back")
	l.wanted = wanted
	l.holds()
}

// powered switches instances off or on.
func (l *life) powered() {
	l.keep()
	l.is.off = slices.Clone(l.is.off)
	for i := range l.is.off {
		l.is.off[i] = l.is.off[i] != rapid.Bool().Draw(l.t, fmt.Sprintf("switch %d", i))
	}
	l.to(design(l.is), fmt.Sprintf("power %v", l.is.off))
}

// snapped takes snapshots of what stands, all the way or not; a set that is not whole is gone with the next change.
func (l *life) snapped() {
	s := change.Snapping{Set: fmt.Sprintf("s%d", l.n), Barrier: rapid.Bool().Draw(l.t, "barrier"), Memory: rapid.Bool().Draw(l.t, "memory")}
	l.n++
	for i := range l.stand.Plan.Resources {
		if r := &l.stand.Plan.Resources[i]; (r.Kind == kinds.Instance || r.Kind == kinds.Volume) && !r.IsCopy() && rapid.Bool().Draw(l.t, "of "+r.ID) {
			s.Disks = append(s.Disks, r.ID)
		}
	}
	if s.Disks == nil {
		return
	}
	l.w.acts = append(l.w.acts, fmt.Sprintf("snapshot %s %v", s.Set, s.Disks))
	p, err := change.Snapshot(l.stand, s, "snapshot")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	l.checked(p)
	var bad trouble
	if rapid.IntRange(0, 3).Draw(l.t, "snapshot breaks off") == 0 {
		bad = func(id string) bool { return rapid.IntRange(0, 2).Draw(l.t, id+" fails") == 0 }
	}
	l.did(l.w.run(l.t, p, bad))
	if bad == nil && !change.Whole(l.stand, s.Set) {
		l.t.Fatalf("%v: %s is not whole", l.w.acts, s.Set)
	}
	if bad != nil { // what stands still goes on
		l.to(l.wanted, "heal")
	}
	l.before = nil // rolling back drops no snapshot
	l.holds()
}

func (l *life) checked(p *plan.Plan) {
	if err := p.Check(); err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
}

// restored has disks hold what they held once, or drops what is kept of them.
func (l *life) restored() {
	var sets []string
	for i := range l.stand.Plan.Resources {
		r := &l.stand.Plan.Resources[i]
		if of := l.stand.Plan.Resource(r.AsSnapshot().Of); of != nil && of.IsCopy() {
			continue // it goes with the copy
		}
		if r.Kind == kinds.Snapshot {
			sets = append(sets, r.AsSnapshot().Set)
		}
	}
	if sets == nil {
		return
	}
	set := rapid.SampledFrom(sets).Draw(l.t, "set")
	if rapid.IntRange(0, 3).Draw(l.t, "drop") == 0 {
		l.w.acts = append(l.w.acts, "drop "+set)
		p, err := change.Dropped(l.stand, set, "drop")
		if err != nil {
			l.t.Fatalf("%v: %v", l.w.acts, err)
		}
		l.checked(p)
		l.did(l.w.run(l.t, p, nil))
		l.before = nil
		l.holds()
		return
	}
	r := change.Restoring{Set: set}
	if rapid.Bool().Draw(l.t, "keep before") {
		r.Before = &change.Snapping{Set: fmt.Sprintf("s%d", l.n)}
		l.n++
	}
	act := "restore "
	p, err := change.Restored(l.stand, l.wanted, r, "restore "+set)
	if change.KeepsMemory(l.stand, set) && rapid.IntRange(0, 3).Draw(l.t, "disks only") > 0 {
		act = "recall "
		p, err = change.Recalled(l.stand, r, "recall "+set)
	}
	if err != nil {
		return // what it is of is elsewhere, smaller, another or gone by now
	}
	l.w.acts = append(l.w.acts, act+set)
	l.checked(p)
	var bad trouble
	if rapid.IntRange(0, 3).Draw(l.t, "restore breaks off") == 0 {
		bad = func(id string) bool { return rapid.IntRange(0, 4).Draw(l.t, id+" fails") == 0 }
	}
	l.did(l.w.run(l.t, p, bad))
	if bad != nil {
		l.to(l.wanted, "heal")
	}
	l.before = nil
	l.holds()
}

// ranScript runs a script on what is on; nothing stands of it, whether it came to its end or not.
func (l *life) ranScript() {
	do := change.Doing{Name: "look", Path: "hooks/look.sh", Text: "true\n"}
	for _, id := range slices.Sorted(maps.Keys(l.w.machines)) {
		if l.w.machines[id].on {
			do.Instances = append(do.Instances, id)
		}
	}
	if do.Instances == nil {
		return
	}
	l.w.acts = append(l.w.acts, "run a script")
	p, err := change.Do(l.stand, do, "look")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	if err := p.Check(); err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	before := fmt.Sprint(ids(l.stand.Plan))
	l.did(l.w.run(l.t, p, func(string) bool { return rapid.IntRange(0, 3).Draw(l.t, "script fails") == 0 }))
	if now := fmt.Sprint(ids(l.stand.Plan)); now != before {
		l.t.Fatalf("%v: %s stood, and %s stands", l.w.acts, before, now)
	}
	l.holds()
}

// scaled has the last instances be no more, and nothing else be touched.
func (l *life) scaled() {
	if l.is.hosts == 0 {
		return
	}
	l.keep()
	l.is.hosts = rapid.IntRange(0, l.is.hosts).Draw(l.t, "hosts")
	l.to(design(l.is), fmt.Sprintf("scale to %d", l.is.hosts))
}

// moved moves workloads to the other site, all the way or not, and commits or goes back.
func (l *life) moved() {
	b := l.is
	b.site = slices.Clone(b.site)
	m := change.Moving{Mode: rapid.SampledFrom([]change.Mode{change.Cold, change.Warm, change.Live}).Draw(l.t, "mode")}
	for i := range b.hosts {
		if b.off[i] || !rapid.Bool().Draw(l.t, fmt.Sprintf("move %d", i)) {
			continue
		}
		b.site[i] = map[string]string{"vega": "presa", "presa": "vega"}[b.site[i]]
		m.Instances = append(m.Instances, fmt.Sprintf("host-%d", i))
	}
	if len(m.Instances) == 0 {
		return
	}
	act := fmt.Sprintf("move %v %s", m.Instances, m.Mode)
	l.w.acts = append(l.w.acts, act)
	move, whole, err := change.Move(l.stand, design(b), m, "move")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	var bad trouble
	if rapid.Bool().Draw(l.t, "move breaks off") {
		bad = func(id string) bool { return rapid.IntRange(0, 5).Draw(l.t, id+" fails") == 0 }
	}
	s := l.w.run(l.t, move, bad)
	l.did(s)
	l.before = nil
	l.ended(s, b, m, move, whole, func(*plan.Plan) {})
}

// ended commits a move whose run is over, which leads to other parts, or goes back; before is called with the plan of that.
func (l *life) ended(s *run.State, b parts, m change.Moving, move, whole *plan.Plan, before func(back *plan.Plan)) {
	if count(s.Steps) == len(s.Steps) && rapid.Bool().Draw(l.t, "commit") {
		l.is = b
		l.to(migrate.WithoutKept(whole, move.Renames), "commit")
		return
	}
	if !slices.ContainsFunc(s.Steps, func(x run.Step) bool { return x.Status != run.Planned || !x.Started.IsZero() }) {
		return
	}
	l.w.acts = append(l.w.acts, "go back")
	back, err := change.Back(l.stand, l.wanted, move, m, "back")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	before(back)
	l.w.unsure = change.Renamed(l.stand, back.Renames).Unsure
	l.did(l.w.run(l.t, back, nil))
	l.holds()
}

// replicated keeps copies of what stands at the other site, all the way or not, or drops them.
func (l *life) replicated() {
	to := rapid.SampledFrom([]string{"vega", "presa"}).Draw(l.t, "copies at")
	if change.NewestCopy(l.stand, to) != "" && rapid.IntRange(0, 3).Draw(l.t, "drop copies") == 0 {
		l.w.acts = append(l.w.acts, "drop copies at "+to)
		p, err := change.Unreplicated(l.stand, to, "drop")
		if err != nil {
			l.t.Fatalf("%v: %v", l.w.acts, err)
		}
		l.checked(p)
		l.did(l.w.run(l.t, p, nil))
		l.before = nil
		l.holds()
		return
	}
	r := change.Replicating{At: fmt.Sprintf("t%d", l.n), Site: to, Barrier: rapid.Bool().Draw(l.t, "barrier")}
	l.n++
	for i := range l.stand.Plan.Resources {
		if x := &l.stand.Plan.Resources[i]; (x.Kind == kinds.Instance || x.Kind == kinds.Volume) && !x.IsCopy() {
			r.Disks = append(r.Disks, x.ID)
		}
	}
	p, err := change.Replicate(l.stand, r, "replicate")
	if err != nil {
		return // all of it is there
	}
	l.w.acts = append(l.w.acts, "replicate to "+to)
	l.checked(p)
	var bad trouble
	if rapid.IntRange(0, 3).Draw(l.t, "replicating breaks off") == 0 {
		bad = func(id string) bool { return rapid.IntRange(0, 3).Draw(l.t, id+" fails") == 0 }
	}
	was := change.NewestCopy(l.stand, to)
	l.did(l.w.run(l.t, p, bad))
	if now := change.NewestCopy(l.stand, to); bad == nil && now != change.CopiedPrefix+r.At || now == "" && was != "" {
		l.t.Fatalf("%v: what can be failed over to was %q and is %q", l.w.acts, was, now)
	}
	if bad != nil {
		l.to(l.wanted, "heal")
	}
	l.before = nil
	l.holds()
}

// failedOver goes on where copies are, with the site gone where it was or not, all the way or not, has what was left on be switched off, and commits or goes
// back.
func (l *life) failedOver() {
	to := rapid.SampledFrom([]string{"vega", "presa"}).Draw(l.t, "fail over to")
	m := change.Moving{Mode: change.FromCopy, Set: change.NewestCopy(l.stand, to)}
	b := l.is
	b.site = slices.Clone(b.site)
	for i := range b.hosts {
		if id := fmt.Sprintf("host-%d", i); !b.off[i] && b.site[i] != to && l.stand.Plan.Resource(change.SnapshotID(change.CopyID(id, to), m.Set)) != nil {
			b.site[i] = to
			m.Instances = append(m.Instances, id)
		}
	}
	if len(m.Instances) == 0 {
		return
	}
	from := map[string]string{"vega": "presa", "presa": "vega"}[to]
	if rapid.Bool().Draw(l.t, "it is gone") {
		m.Gone = []string{from}
	}
	move, whole, err := change.Move(l.stand, design(b), m, "fail over")
	if err != nil {
		return // a disk came after the copies, or is smaller by now
	}
	l.w.acts = append(l.w.acts, fmt.Sprintf("fail over %v to %s, gone %v", m.Instances, to, m.Gone))
	l.checked(move)
	var bad trouble
	if rapid.IntRange(0, 3).Draw(l.t, "failing over breaks off") == 0 {
		bad = func(id string) bool { return rapid.IntRange(0, 5).Draw(l.t, id+" fails") == 0 }
	}
	if m.Gone != nil {
		l.w.gone = from
	}
	s := l.w.run(l.t, move, bad)
	l.did(s)
	l.before = nil
	l.w.gone = ""
	for _, id := range m.Instances {
		if there, was := l.w.machines[id], l.w.machines[change.KeptID(id, from)]; there != nil && was != nil {
			was.aside = there.on && was.on
		}
	}
	if m.Gone != nil && count(s.Steps) == len(s.Steps) { // it answers again; with both sides on, going back switches off what is left there
		p, err := change.Fence(l.stand, from, "fence")
		if err != nil {
			l.t.Fatalf("%v: %v", l.w.acts, err)
		}
		l.checked(p)
		l.w.acts = append(l.w.acts, "fence")
		l.did(l.w.run(l.t, p, nil))
		if err := l.w.lawful(); err != nil {
			l.t.Fatalf("%v: %v", l.w.acts, err)
		}
	}
	l.ended(s, b, m, move, whole, func(back *plan.Plan) {
		for _, id := range m.Instances {
			if back.Step(op.Finish.On(id)) == nil { // whether it was begun with at all is not known: what it was counts
				l.w.counts(change.KeptID(id, from), id)
			}
		}
	})
}

// lost has something vanish from its site, which is built again.
func (l *life) lost() {
	var all []string
	for id := range l.w.machines {
		all = append(all, id)
	}
	for id := range l.w.volumes {
		if !strings.Contains(id, "~") {
			all = append(all, id)
		}
	}
	if len(all) == 0 {
		return
	}
	slices.Sort(all)
	id := rapid.SampledFrom(all).Draw(l.t, "lost")
	l.w.vanish(id)
	l.settle(change.Deviation{Resource: id, Verb: change.Rebuild}, "lose "+id)
}

// vanish takes a thing away with all that it had, as a site does that loses it.
func (w *lifeWorld) vanish(id string) {
	w.truth[workload(id)] = 0
	delete(w.volumes, id)
	if w.machines[id] == nil {
		return
	}
	delete(w.machines, id)
	for v, x := range w.volumes {
		if x.at == id {
			w.volumes[v].at = ""
		}
	}
	for p, x := range w.ports {
		if x.machine == id {
			delete(w.ports, p)
		}
	}
}

// settle settles one deviation; afterwards there is what was wanted.
func (l *life) settle(d change.Deviation, act string) {
	l.before = nil
	l.w.acts = append(l.w.acts, act)
	p, err := change.Settle(l.stand, []change.Deviation{d}, "settle")
	if err != nil {
		l.t.Fatalf("%v: %v", l.w.acts, err)
	}
	l.did(l.w.run(l.t, p, nil))
	l.holds()
}

// byHand has somebody change an instance at its site, which is put right or declared from then on.
func (l *life) byHand() {
	var on []int
	for i := range l.is.hosts {
		if !l.is.off[i] {
			on = append(on, i)
		}
	}
	if len(on) == 0 {
		return
	}
	i := rapid.SampledFrom(on).Draw(l.t, "changed by hand")
	id := fmt.Sprintf("host-%d", i)
	d := change.Deviation{Resource: id, Verb: rapid.SampledFrom([]change.Verb{change.Accept, change.Correct, change.Restart}).Draw(l.t, "verb")}
	m := l.w.machines[id]
	if d.Verb == change.Restart { // it hangs: nothing on it runs any more
		m.still()
		l.settle(d, "restart "+id)
		return
	}
	if rapid.Bool().Draw(l.t, "switched off") {
		m.on = false
		m.still()
		d.Seen = map[string]string{"state": "stopped"}
		if d.Verb == change.Accept {
			l.is.off = slices.Clone(l.is.off)
			l.is.off[i] = true
		}
	} else {
		cores := l.is.cores[i]%2 + 1
		r := *l.wanted.Resource(id)
		plan.Respec(&r, func(s *plan.InstanceSpec) { s.Cores = cores })
		m.spec = lifeSpec(&r)
		d.Seen = map[string]string{"cores": fmt.Sprint(cores)}
		if d.Verb == change.Accept {
			l.is.cores = slices.Clone(l.is.cores)
			l.is.cores[i] = cores
		}
	}
	switch {
	case d.Verb == change.Accept && d.Seen["state"] != "": // what is off is not the design's to say, but for this model
		l.wanted = design(l.is)
	case d.Verb == change.Accept:
		declared, err := change.Declared(l.wanted, []change.Deviation{d})
		if err != nil {
			l.t.Fatalf("%v: %v", l.w.acts, err)
		}
		l.wanted = declared
	}
	l.settle(d, fmt.Sprintf("%s %v of %s", d.Verb, d.Seen, id))
}
