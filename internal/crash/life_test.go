package crash

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/shells"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// Life does to a deployment of a design drawn by the seed what may be done to one, act after act, and looks after each
// that everything serves or is said not to, that the sites hold exactly what is declared, that inventory, names and
// reservations agree with them, and that nothing written was lost without a word. Workers are killed as often as the
// trial says.
func (t Trial) Life(ctx context.Context, acts int) (Result, error) {
	var out Result
	begun := time.Now()
	l, err := t.beginLife(ctx)
	if err != nil {
		return out, err
	}
	defer l.close()
	err = l.raise(ctx, "life")
	for n := 0; n < acts && err == nil; n++ {
		err = l.act(ctx)
	}
	if err == nil {
		err = l.retireAll(ctx)
	}
	if err != nil {
		err = fmt.Errorf("seed %d, %+v, %s: %w", t.Seed, l.design, strings.Join(l.done, ", "), err)
	}
	out = l.out
	out.Seconds = time.Since(begun).Seconds()
	return out, err
}

// life is a workspace with deployments in it.
type life struct {
	t      Trial
	r      *rand.Rand
	a      *app.App
	box    *sandbox.Sandbox
	cfg    sandbox.Config
	design lifeDesign
	place  string
	done   []string
	out    Result
	// off says of each deployment's tiers that they were stopped, word what its store is to serve.
	off   map[int64]map[string]bool
	word  map[int64]string
	names int
	// kept says of each deployment what its store had when each set of snapshots was taken; "" where its disk is not among them.
	kept map[int64]map[string]string
	// copies says what its store had when copies of it were made at a site, by deployment and site.
	copies map[string]string
}

func (t Trial) beginLife(ctx context.Context) (*life, error) {
	e, err := templates.DemoEstate()
	if err != nil {
		return nil, err
	}
	for _, s := range e.Sites {
		s.Bandwidth = nil
	}
	l := &life{t: t, r: rand.New(rand.NewPCG(t.Seed, 15)), off: map[int64]map[string]bool{}, word: map[int64]string{}, kept: map[int64]map[string]string{}, copies: map[string]string{}}
	l.design = drawDesign(l.r)
	l.place = filepath.Join(t.Dir, fmt.Sprintf("template-%d", t.Seed))
	if err := l.design.write(l.place); err != nil {
		return nil, err
	}
	l.cfg = sandbox.Config{Estate: e, Pace: t.Pace, Seed: t.Seed, Zone: "ribera.test", System: 2 << 20, Churn: 16 << 10, Record: true,
		Folder: filepath.Join(t.Dir, fmt.Sprintf("sites-%d", t.Seed))}
	l.box, err = sandbox.Start(l.cfg)
	if err != nil {
		return nil, err
	}
	if l.a, err = t.open(ctx, fmt.Sprintf("life-%d", t.Seed)); err != nil {
		l.box.Close()
		return nil, err
	}
	if err := l.connect(ctx); err != nil {
		l.close()
		return nil, err
	}
	return l, nil
}

func (l *life) close() {
	l.a.Close()
	l.box.Close()
}

// connect connects and pairs the stand-ins.
func (l *life) connect(ctx context.Context) error {
	if err := l.a.ConnectSandbox(l.box); err != nil {
		return err
	}
	z, err := l.a.Zone()
	if err != nil {
		return err
	}
	z.TTL = 0
	if err := setZone(ctx, l.a, *z); err != nil {
		return err
	}
	for i, x := range l.box.Endpoints {
		for _, y := range l.box.Endpoints[:i] {
			if _, err := l.a.MakePair(ctx, x.Site, y.Site, sites.Both); err != nil {
				return err
			}
		}
	}
	return nil
}

// carry carries an order out, whatever happens to its workers, and notes what it said that it loses.
func (l *life) carry(ctx context.Context, o deployments.Order) error {
	if len(o.Plan.Steps) == 0 {
		return nil
	}
	id, err := l.make(ctx, o)
	if err != nil {
		return err
	}
	return l.finish(ctx, id)
}

// make makes a run of an order: at once, or as one proposes and another, who opened the workspace by themselves, confirms.
func (l *life) make(ctx context.Context, o deployments.Order) (int64, error) {
	if o.Move != 0 || l.r.IntN(3) > 0 {
		return l.a.NewRun(ctx, o)
	}
	p, err := l.a.As(app.Actor{Name: "ana", Way: app.ByScreen}).Propose(ctx, o, time.Hour)
	if err != nil {
		return 0, err
	}
	other, err := app.Open(ctx, l.a.Opened().Dir, app.Idle())
	if err != nil {
		return 0, err
	}
	defer other.Close()
	out, err := other.Confirm(ctx, p.ID)
	return out.Run, err
}

// startMove begins a move: at once, or as one proposes and another confirms.
func (l *life) startMove(ctx context.Context, d *moves.Draft) (move, runID int64, err error) {
	if l.r.IntN(3) > 0 {
		return l.a.StartMove(ctx, d, nil)
	}
	p, err := l.a.As(app.Actor{Name: "ana", Way: app.ByScreen}).ProposeMove(ctx, d, time.Hour)
	if err != nil {
		return 0, 0, err
	}
	out, err := l.a.Confirm(ctx, p.ID)
	if err != nil {
		return 0, 0, err
	}
	all, err := l.a.Moves(ctx)
	if err != nil {
		return 0, 0, err
	}
	return all[0].ID, out.Run, nil // the newest first
}

// carryOut settles findings: at once, or as one proposes and another confirms.
func (l *life) carryOut(ctx context.Context, s *reconcile.Settling) ([]int64, error) {
	if l.r.IntN(3) > 0 {
		_, runs, err := l.a.Settle(ctx, s)
		return runs, err
	}
	p, err := l.a.As(app.Actor{Name: "ana", Way: app.ByScreen}).ProposeSettling(ctx, s, time.Hour)
	if err != nil {
		return nil, err
	}
	out, err := l.a.Confirm(ctx, p.ID)
	return out.Runs, err
}

func (l *life) finish(ctx context.Context, id int64) error {
	l.out.Runs++
	if l.t.Program != "" {
		return l.toTheEnd(ctx, id)
	}
	return l.work(ctx, id)
}

// failures says which steps of a run failed.
func failures(s *run.State) error {
	var out []error
	if s == nil {
		return nil
	}
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Status == run.Failed {
			said := fmt.Sprintf("%+v", s.Resource(st.Resource).Answer)
			out = append(out, fmt.Errorf("%s: %s (%s) %v", st.ID, st.Error, said, st.Log))
		}
	}
	return errors.Join(out...)
}

func (l *life) template(ctx context.Context) (*templates.Template, error) {
	return templates.OpenTemplate(ctx, source.Place{Path: l.place})
}

// raise raises the design under a name.
func (l *life) raise(ctx context.Context, name string) error {
	l.done = append(l.done, "raise "+name)
	t, err := l.template(ctx)
	if err != nil {
		return err
	}
	if err := l.raiseAs(ctx, t, name, func(*plan.Plan) error { return nil }); err != nil {
		return err
	}
	return l.holds(ctx)
}

// raiseAs raises a template under a name, if its plan is as it should be.
func (l *life) raiseAs(ctx context.Context, t *templates.Template, name string, check func(*plan.Plan) error) error {
	d, err := l.a.Drafting(ctx, t, templates.DraftRequest{Name: name})
	if err != nil || d.Plan == nil {
		return errors.Join(fmt.Errorf("there is no plan: %v", d.Diagnostics), err, d.Err)
	}
	if err := check(d.Plan); err != nil {
		return err
	}
	o, err := l.a.OrderOf(ctx, d)
	if err != nil {
		return err
	}
	if err := l.carry(ctx, o); err != nil {
		return err
	}
	return l.stands(ctx, name, wordOf(d.Plan))
}

// stands notes that a deployment of a name stands, and what its store is to serve.
func (l *life) stands(ctx context.Context, name, word string) error {
	made, err := l.a.Taken(ctx, name)
	if err != nil || made == nil {
		return errors.Join(fmt.Errorf("%s does not stand", name), err)
	}
	l.off[made.ID], l.word[made.ID] = map[string]bool{}, word
	return nil
}

// act does something that may be done, and looks at everything then.
func (l *life) act(ctx context.Context) error {
	ids := slices.Sorted(maps.Keys(l.off))
	if len(ids) == 0 {
		return l.raise(ctx, "life")
	}
	id := ids[l.r.IntN(len(ids))]
	acts := []struct {
		name string
		do   func(context.Context, int64) error
	}{{"change", l.change}, {"scale", l.scale}, {"power", l.power}, {"move", l.move}, {"lose", l.lose}, {"fell", l.fell}, {"alter", l.alter}, {"roll back", l.rollBack}, {"elsewhere", l.elsewhere},
		{"ask", l.ask}, {"ask", l.ask}, {"clone", l.clone}, {"capture", l.capture}, {"retire", l.retire}, {"move", l.move}, {"keep", l.keep}, {"keep", l.keep}, {"restore", l.restore}, {"restore", l.restore}, {"drop", l.drop}, {"replicate", l.replicate}, {"replicate", l.replicate}, {"fail over", l.failOver}, {"fail over", l.failOver}, {"drop copies", l.dropCopies}, {"fall", func(context.Context, int64) error { return l.fall() }}, {"survey", func(context.Context, int64) error { return nil }}}
	a := acts[l.r.IntN(len(acts))]
	l.done = append(l.done, fmt.Sprintf("%s %d", a.name, id))
	if err := a.do(ctx, id); err != nil {
		return err
	}
	return l.holds(ctx)
}

// losses has what a plan loses be forgotten: what is built anew begins with the word of now.
func (l *life) losses(id int64, p *plan.Plan, word string) {
	for _, x := range p.Losses() {
		if x.Resource == l.keeper() {
			l.word[id] = word
		}
	}
}

// keeper is what keeps the store's word.
func (l *life) keeper() string {
	if l.design.volume {
		return "store-vol-1"
	}
	return "store-host-1"
}

// wordOf is the input that a deployment's store is configured with.
func wordOf(p *plan.Plan) string {
	if w, ok := p.Inputs["word"].(string); ok {
		return w
	}
	return "one"
}

func (l *life) change(ctx context.Context, id int64) error {
	word := []string{"one", "two", "three"}[l.r.IntN(3)]
	v, _ := tosca.ParseInput("word", word)
	d, o, err := l.a.Updating(ctx, id, templates.Place{}, templates.DraftRequest{Inputs: tosca.Inputs{"word": v}})
	if err != nil || d.Plan == nil {
		return errors.Join(err, d.Err)
	}
	if len(o.Plan.Losses()) > 0 {
		return fmt.Errorf("another word loses %v", o.Plan.Losses())
	}
	return l.carry(ctx, o)
}

func (l *life) scale(ctx context.Context, id int64) error {
	o, err := l.a.Scaling(ctx, id, "front-host", 1+l.r.IntN(3))
	if err != nil {
		return err
	}
	for i := range o.Plan.Resources {
		r := &o.Plan.Resources[i]
		if r.Change == plan.Rebuild {
			return fmt.Errorf("scaling rebuilds %s: %v", r.ID, r.Reasons)
		}
		if r.Change == plan.Retire {
			delete(l.off[id], r.ID)
		}
	}
	return l.carry(ctx, o)
}

func (l *life) power(ctx context.Context, id int64) error {
	tier := []string{"store-host", "front-host"}[l.r.IntN(2)]
	on := l.off[id][tier+"-1"]
	o, err := l.a.Powering(ctx, id, tier, on)
	if err != nil {
		return err
	}
	for i := range o.Plan.Resources {
		if r := &o.Plan.Resources[i]; r.Node == tier && r.Kind == kinds.Instance {
			l.off[id][r.ID] = !on
		}
	}
	return l.carry(ctx, o)
}

func (l *life) move(ctx context.Context, id int64) error {
	d, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	tier := []string{"store-host", "front-host"}[l.r.IntN(2)]
	if l.off[id][tier+"-1"] {
		return nil
	}
	from := d.Stand.Plan.Resource(tier + "-1").Site
	to := from
	for to == from {
		to = l.box.Endpoints[l.r.IntN(len(l.box.Endpoints))].Site
	}
	mode := []change.Mode{change.Cold, change.Warm, change.Live}[l.r.IntN(3)]
	l.done = append(l.done, fmt.Sprintf("%s-1 %s from %s to %s", tier, mode, from, to))
	draft, err := l.a.DraftMove(ctx, id, moves.Request{What: []string{tier + "-1"}, To: to, Mode: mode, AtOnce: true})
	if err != nil {
		if strings.Contains(err.Error(), "no room") || strings.Contains(err.Error(), "no size") {
			return nil
		}
		return err
	}
	moveID, runID, err := l.startMove(ctx, draft)
	if err != nil {
		return err
	}
	return l.endMove(ctx, moveID, runID)
}

// endMove has a move come to its end, and commits it or goes back.
func (l *life) endMove(ctx context.Context, moveID, runID int64) error {
	if err := l.finish(ctx, runID); err != nil {
		return err
	}
	if err := l.holds(ctx); err != nil {
		return fmt.Errorf("while the move waits to be committed: %w", err)
	}
	act := l.a.Commit
	if l.r.IntN(2) == 0 {
		act = l.a.GoBack
		l.done = append(l.done, "go back")
	}
	runID, err := act(ctx, moveID, 0)
	if err != nil {
		return err
	}
	return l.finish(ctx, runID)
}

// lose has an instance vanish from its site, and settles what is found.
func (l *life) lose(ctx context.Context, id int64) error {
	d, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	var hosts []*plan.Resource
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance {
			hosts = append(hosts, r)
		}
	}
	h := hosts[l.r.IntN(len(hosts))]
	l.done = append(l.done, "of it "+h.ID)
	if err := l.vanish(ctx, d.Stand.Plan, h); err != nil {
		return err
	}
	if h.ID == l.keeper() {
		l.word[id] = wordOf(d.Stand.Plan)
	}
	return l.settle(ctx, inventory.CorrectSite)
}

// vanish takes an instance away at its site, with what is linked to it.
func (l *life) vanish(ctx context.Context, p *plan.Plan, h *plan.Resource) error {
	sites, err := l.a.Sites()
	if err != nil {
		return err
	}
	s := sites[h.Site]
	for name, id := range p.Known[h.ID] {
		if strings.HasPrefix(name, "site.id.") && id != "" {
			if err := s.Delete(ctx, kinds.Attachment, id); err != nil {
				return err
			}
		}
	}
	for i := range p.Resources {
		if f := &p.Resources[i]; f.Kind == kinds.Interface && f.AsInterface().Instance == h.ID {
			if err := s.Delete(ctx, kinds.Interface, p.Known[f.ID]["site.id"]); err != nil {
				return err
			}
		}
	}
	return s.Delete(ctx, kinds.Instance, p.Known[h.ID]["site.id"])
}

// alter has things be changed by hand, and settles what is found in a way that it has.
func (l *life) alter(ctx context.Context, _ int64) error {
	for _, d := range l.box.Drift(sandbox.DriftRequest{Seed: l.r.Uint64(), Count: 1, Sorts: []sandbox.Change{sandbox.Tagged, sandbox.Renamed, sandbox.Resized, sandbox.Created}}) {
		l.done = append(l.done, fmt.Sprintf("%s %s", d.Change, d.Title))
	}
	return l.settle(ctx, []inventory.Way{"", inventory.CorrectSite, inventory.CorrectRecord, inventory.Adopt}[l.r.IntN(4)])
}

// settle surveys, and settles every finding in one way, or in the one that is suggested first.
func (l *life) settle(ctx context.Context, way inventory.Way) error {
	inv, err := l.survey(ctx)
	if err != nil {
		return err
	}
	var choices []reconcile.Choice
	for _, f := range inv.Findings {
		w := f.Ways[0]
		if way != "" && f.Can(way) {
			w = way
		}
		if f.Type == inventory.Unmanaged {
			w = inventory.Retire
		}
		l.done = append(l.done, fmt.Sprintf("%s %s by %s", f.Type, f.Name, w))
		choices = append(choices, reconcile.Choice{Finding: f, Way: w})
	}
	if len(choices) == 0 {
		return nil
	}
	s, err := l.a.Settling(ctx, inv, choices, "", time.Time{})
	if err != nil {
		return err
	}
	runs, err := l.carryOut(ctx, s)
	if err != nil {
		return err
	}
	for _, id := range runs {
		if err := l.finish(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

func (l *life) survey(ctx context.Context) (*reconcile.Inventory, error) {
	if _, errs := l.a.SurveyAll(ctx, false, nil); errors.Join(errs...) != nil {
		return nil, errors.Join(errs...)
	}
	return l.a.Reconcile(ctx)
}

// rollBack takes the last change back, where there was one that can be.
func (l *life) rollBack(ctx context.Context, id int64) error {
	d, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	if len(d.Runs) < 2 || strings.Contains(d.Last().Purpose, "move") || strings.Contains(d.Last().Purpose, "settle") {
		return nil
	}
	o, err := l.a.RollingBack(ctx, d.Last().ID)
	if err != nil {
		for _, why := range []string{"nothing to roll back", "move", "andamio snapshot drop", "there is no way back", "does not stand any more", "was changed", "is not any more"} {
			if strings.Contains(err.Error(), why) {
				return nil
			}
		}
		return err
	}
	word := l.word[id]
	if err := l.carryBack(ctx, id, o); err != nil {
		if strings.Contains(err.Error(), "is held by run") { // another one was given the address that it had where it was
			l.word[id] = word
			return nil
		}
		return err
	}
	l.losses(id, o.Plan, wordOf(o.Plan))
	if d, err = l.a.Deployment(ctx, id); err != nil {
		return err
	}
	for _, h := range shells.HostsOf(d) { // what was stopped or started is so no more
		l.off[id][h.ID] = h.Off
	}
	return nil
}

func (l *life) clone(ctx context.Context, id int64) error {
	if len(l.off) > 2 {
		return nil
	}
	l.names++
	name := fmt.Sprintf("copy-%d", l.names)
	o, err := l.a.Cloning(ctx, id, name)
	if err != nil {
		if strings.Contains(err.Error(), "no room") {
			return nil
		}
		return err
	}
	if err := l.carry(ctx, o); err != nil {
		return err
	}
	if err := l.stands(ctx, name, wordOf(o.Plan)); err != nil {
		return err
	}
	made, err := l.a.Taken(ctx, name)
	if err != nil {
		return err
	}
	_, same, err := l.a.Updating(ctx, made.ID, templates.Place{}, templates.DraftRequest{})
	if err == nil && len(same.Plan.Steps) > 0 {
		err = fmt.Errorf("of the fresh clone something is otherwise: %s", same.Plan.Steps[0].ID)
		for i := range same.Plan.Resources {
			if r := &same.Plan.Resources[i]; r.Change != plan.Keep {
				err = fmt.Errorf("%w; %s: %v", err, r.ID, r.Reasons)
			}
		}
	}
	return err
}

// capture makes a template of what stands, and raises that beside it.
func (l *life) capture(ctx context.Context, id int64) error {
	if len(l.off) > 2 {
		return nil
	}
	l.names++
	name := fmt.Sprintf("captured-%d", l.names)
	dir := filepath.Join(l.t.Dir, fmt.Sprintf("%s-%d", name, l.t.Seed))
	if _, err := l.a.Capture(ctx, id, dir); err != nil {
		return err
	}
	t, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	if err != nil {
		return err
	}
	if t.Diagnostics.Errors() > 0 {
		return fmt.Errorf("what was captured is wrong: %w", t.Diagnostics)
	}
	of, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	return l.raiseAs(ctx, t, name, func(p *plan.Plan) error { return alike(of.Stand.Plan, p) })
}

// alike says what one plan has more of than another, by kind.
func alike(a, b *plan.Plan) error {
	count := func(p *plan.Plan) map[kinds.Kind]int {
		out := map[kinds.Kind]int{}
		for i := range p.Resources {
			if !p.Resources[i].IsCopy() { // nor what was kept of it elsewhere
				out[p.Resources[i].Kind]++
			}
		}
		delete(out, kinds.Network)  // one a site: they follow the placement
		delete(out, kinds.Snapshot) // what was kept of the one is not raised again
		return out
	}
	if x, y := count(a), count(b); !maps.Equal(x, y) {
		return fmt.Errorf("what was captured would raise %v, not %v", y, x)
	}
	return nil
}

func (l *life) retire(ctx context.Context, id int64) error {
	o, err := l.a.Retiring(ctx, id)
	if err != nil {
		return err
	}
	if err := l.carry(ctx, o); err != nil {
		return err
	}
	delete(l.off, id)
	delete(l.word, id)
	return nil
}

func (l *life) retireAll(ctx context.Context) error {
	for _, id := range slices.Sorted(maps.Keys(l.off)) {
		l.done = append(l.done, fmt.Sprintf("retire %d", id))
		if err := l.retire(ctx, id); err != nil {
			return err
		}
	}
	if left := l.box.Holds(); len(left) > 0 {
		return fmt.Errorf("everything was retired, and there is %v", left)
	}
	held, err := l.a.Reservations(ctx)
	if err == nil && len(held) > 0 {
		err = fmt.Errorf("everything was retired, and %v is held", held)
	}
	return err
}
