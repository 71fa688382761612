// Package operate is the Operate view: is it well, and what can I do to it? The deployments that stand, by tier with
// what we think, what the sites say and whether the endpoints answer; the elevation of the selected one; and shells into
// its instances.
package operate

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/health"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/fronts"
	"andamio/internal/service/promises"
	"andamio/internal/service/reactions"
	"andamio/internal/service/reconcile"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Operate view.
type View struct {
	ctx context.Context
	app *app.App

	all    []deployments.Deployment
	states map[int64]*run.State
	// promised is what is promised of all of them.
	promised []promises.Kept
	reacting []reactions.Status
	fronts   []fronts.Status
	levels   levels
	// read are the readings, by deployment.
	read   map[int64]read
	looked map[int64]deployments.Readings
	rows   []row
	at     int
	// seen says by what runs the deployments were worked out; they are worked out anew when those change.
	seen string
	// drawn is when the view was on screen last: while it is not, nothing is asked.
	drawn     time.Time
	now       time.Time
	elevation part.Elevation
	// inElevation says that the arrows move in the elevation, and not in the list.
	inElevation bool
	log         bool
	at0         map[int]int
	shells      shellPanes
	watched     watched
	beside      beside
	// done is what was done in the time before the moment that is shown.
	done []app.Entry
	// past is the moment that is shown, zero for now; today is now, whatever is shown; runs are those that were told last.
	past, today time.Time
	runs        view.Runs
}

// row is a line of the list: a deployment, or a tier of one.
type row struct {
	deployment int
	tier       string
}

// New makes the view.
func New(ctx context.Context, a *app.App) *View {
	return &View{ctx: ctx, app: a, states: map[int64]*run.State{}, looked: map[int64]deployments.Readings{}}
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Operate" }
func (v *View) Digit() string { return "5" }

// Badge counts the deployments that are not well.
func (v *View) Badge(time.Time) string {
	n := 0
	for i := range v.all {
		if v.tally(&v.all[i], "").Bad > 0 {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// gathered are the deployments with their pictures.
type gathered struct {
	seen   string
	all    []deployments.Deployment
	states map[int64]*run.State
	err    error
}

// looked is what was asked of the sites and endpoints.
type looked struct {
	id  int64
	now deployments.Readings
	err error
}

type lookTick struct{}

// lookEvery is how often what stands is asked for, while it is on screen.
const lookEvery = 4 * time.Second

// noticeWithin is within what time it is noticed that the view came on screen, so that what was asked minutes ago is asked anew.
const noticeWithin = time.Second

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		v.runs = msg
		return v.gather(msg)
	case gathered:
		return v.take(msg)
	case lookTick:
		if v.onScreen() && v.app != nil { // what is due changes by itself
			return tea.Batch(v.look(), v.recall(), v.readMeasures(), v.refreshBeside())
		}
		return v.look()
	case recalledPast:
		return v.takePast(msg)
	case measuredPast:
		return v.takeMeasuredPast(msg)
	case measured:
		v.takeMeasured(msg)
	case picked:
		return v.takeBeside(msg)
	case recalled:
		v.promised, v.levels, v.reacting, v.fronts = msg.all, msg.levels, msg.reacting, msg.fronts
	case looked:
		if msg.err == nil && v.past.IsZero() {
			v.looked[msg.id] = msg.now
			v.apply(msg.id)
			return v.tell()
		}
	case view.Show:
		v.show(msg.Thing)
	case view.OpenShell:
		return v.openShell(msg)
	case shellOutput, shellOpened, shellEnded:
		return v.shells.update(msg)
	}
	return nil
}

// gather works out what stands, when runs have begun or ended since.
func (v *View) gather(msg view.Runs) tea.Cmd {
	if !v.past.IsZero() {
		return nil
	}
	var seen strings.Builder
	for _, r := range msg.Runs {
		fmt.Fprintf(&seen, "%d %s %v;", r.ID, r.State, r.Left)
		if v.onScreen() && (r.State == run.UnderWay || r.State == run.Planned) { // what rises is looked at as it rises
			fmt.Fprintf(&seen, "%d;", time.Now().Unix())
		}
	}
	first := v.seen == ""
	if seen.String() == v.seen {
		return nil
	}
	v.seen = seen.String()
	work := func() tea.Msg {
		out := gathered{seen: seen.String(), states: map[int64]*run.State{}}
		out.all, out.err = v.app.Deployments(v.ctx)
		for i := range out.all {
			if s, err := v.app.Picture(v.ctx, &out.all[i]); err == nil {
				out.states[out.all[i].ID] = s
			}
		}
		return out
	}
	if first {
		return tea.Batch(work, v.tick())
	}
	return work
}

// onScreen reports that the view was drawn a moment ago.
func (v *View) onScreen() bool { return time.Since(v.drawn) < lookEvery }

// pause is how long until it is time to ask again, or to see whether the view is on screen.
func (v *View) pause() time.Duration {
	if v.onScreen() {
		return lookEvery
	}
	return noticeWithin
}

func (v *View) tick() tea.Cmd {
	return tea.Tick(v.pause(), func(time.Time) tea.Msg { return lookTick{} })
}

func (v *View) take(msg gathered) tea.Cmd {
	if msg.err != nil {
		return view.Cmd(view.Failed(msg.err))
	}
	selected := v.selected()
	id, tier := int64(0), ""
	if selected != nil {
		id, tier = selected.ID, v.rows[v.at].tier
	}
	v.all, v.states = msg.all, msg.states
	v.list()
	for i, r := range v.rows {
		if v.all[r.deployment].ID == id && r.tier == tier {
			v.at = i
		}
	}
	v.at = min(v.at, max(len(v.rows)-1, 0))
	for id := range v.looked {
		v.apply(id)
	}
	return tea.Batch(v.askNow(), v.tell(), v.recall(), v.readMeasures())
}

// list makes the rows: deployments that stand with their tiers, then those that are retired.
func (v *View) list() {
	v.rows = nil
	for _, retired := range []bool{false, true} {
		for i := range v.all {
			d := &v.all[i]
			if (d.State() == run.Retired) != retired {
				continue
			}
			v.rows = append(v.rows, row{deployment: i})
			for _, t := range health.Tiers(d.Stand.Plan) {
				v.rows = append(v.rows, row{i, t})
			}
		}
	}
}

// show selects a deployment, or something that stands of one.
func (v *View) show(t reconcile.Thing) {
	if t.Kind != reconcile.ADeployment && t.Kind != reconcile.AResource {
		return
	}
	for i, r := range v.rows {
		d := &v.all[r.deployment]
		if d.ID != t.Deployment {
			continue
		}
		x := d.Stand.Plan.Resource(t.ID)
		if r.tier == "" || x != nil && health.TiersOf(d.Stand.Plan)[x.ID] == r.tier {
			before := v.selected()
			v.at, v.inElevation = i, false
			v.pick(before)
		}
	}
	if s := v.state(); s != nil && t.Kind == reconcile.AResource && s.Resource(t.ID) != nil {
		v.elevation.Selected, v.inElevation = s.Plan.Plank(t.ID), true
	}
}

// look asks what is on screen, and again after a while.
func (v *View) look() tea.Cmd {
	if !v.onScreen() {
		return v.tick()
	}
	return tea.Batch(v.askNow(), v.askOther(), v.tick())
}

// askNow asks the selected deployment's sites and endpoints.
func (v *View) askNow() tea.Cmd {
	d := v.selected()
	if d == nil {
		return nil
	}
	return v.ask(d)
}

// othersEvery is how old what is known of a deployment that is not selected may get.
const othersEvery = 20 * time.Second

// askOther asks the deployment that nobody asked for the longest time, so that none is shown as well that was never asked.
func (v *View) askOther() tea.Cmd {
	var oldest *deployments.Deployment
	for i := range v.all {
		d := &v.all[i]
		if d.State() == run.Retired || time.Since(v.looked[d.ID].At) < othersEvery {
			continue
		}
		if oldest == nil || v.looked[d.ID].At.Before(v.looked[oldest.ID].At) {
			oldest = d
		}
	}
	if oldest == nil || oldest == v.selected() {
		return nil
	}
	return v.ask(oldest)
}

func (v *View) ask(d *deployments.Deployment) tea.Cmd {
	if v.app == nil || !v.past.IsZero() || v.states[d.ID] == nil || len(d.Stand.Plan.Resources) == 0 || going(d) {
		return nil
	}
	id, s := d.ID, v.states[d.ID]
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, 10*time.Second)
		defer cancel()
		now, err := v.app.Look(ctx, s)
		return looked{id, now, err}
	}
}

// going reports that a run of a deployment is under way: how it is is told by that run.
func going(d *deployments.Deployment) bool { return d.State() == run.UnderWay }

// apply takes what was said into the picture. While a run goes on the picture is the run's.
func (v *View) apply(id int64) {
	s := v.states[id]
	if s == nil || v.goes(id) {
		return
	}
	now := v.looked[id]
	for i := range s.Resources {
		r := &s.Resources[i]
		if said, ok := now.Sites[r.ID]; ok {
			r.SiteSaid = said
		}
		if said, ok := now.Answers[r.ID]; ok {
			r.Answer = said
		}
	}
	if d := v.selected(); d != nil && d.ID == id { // planks show how things are, not only that they were built
		for i := range s.Resources {
			s.Resources[i].Status = v.condition(&s.Resources[i]).Status
		}
	}
	s.LastSeq++ // arrangements are kept while nothing happens, and something has
}

// goes reports that a run of the deployment of that number is under way.
func (v *View) goes(id int64) bool {
	for i := range v.all {
		if v.all[i].ID == id {
			return going(&v.all[i])
		}
	}
	return false
}

// selected is the deployment that is selected.
func (v *View) selected() *deployments.Deployment {
	if v.at >= len(v.rows) {
		return nil
	}
	return &v.all[v.rows[v.at].deployment]
}

// state is the picture of the selected deployment.
func (v *View) state() *run.State {
	if d := v.selected(); d != nil {
		return v.states[d.ID]
	}
	return nil
}

func (v *View) move(dx, dy int) {
	s := v.state()
	if v.inElevation && v.watched.shown {
		v.movePage(dx, dy)
		return
	}
	if v.inElevation && s != nil {
		v.elevation.Move(s, dx, dy)
		return
	}
	before := v.selected()
	v.at = min(max(v.at+dy, 0), max(len(v.rows)-1, 0))
	v.pick(before)
}

// pick selects in the elevation what belongs to the selected row.
func (v *View) pick(before *deployments.Deployment) {
	s := v.state()
	if s == nil {
		return
	}
	if d := v.selected(); before == nil || d.ID != before.ID {
		v.elevation.Selected = part.First(s)
	}
	tier := ""
	if v.at < len(v.rows) {
		tier = v.rows[v.at].tier
	}
	for i := range s.Resources {
		if r := &s.Resources[i]; tier != "" && health.TierOf(r.Resource) == tier && r.Kind == kinds.Software {
			v.elevation.Selected = r.ID
			return
		}
	}
}

// Typing reports whether a shell has the focus; Type gives it what is typed and pasted.
func (v *View) Typing() bool                     { return v.shells.focus && len(v.shells.open) > 0 }
func (v *View) Type(msg tea.Msg) (tea.Cmd, bool) { return v.shells.give(msg), true }

// Click selects the plank or row under the mouse; Wheel moves the selection.
func (v *View) Click(x, y int) tea.Cmd {
	if id := v.elevation.At(x, y); id != "" {
		v.elevation.Selected, v.inElevation = id, true
		return nil
	}
	if i, ok := v.at0[y]; ok {
		before := v.selected()
		v.at, v.inElevation = i, false
		v.pick(before)
	}
	return nil
}

// Wheel moves the selection.
func (v *View) Wheel(dy int) { v.move(0, dy) }

// Find selects the first row or plank with the text.
func (v *View) Find(text string) bool {
	text = strings.ToLower(text)
	before := v.selected()
	for i, r := range v.rows {
		if strings.Contains(strings.ToLower(v.all[r.deployment].Name+" "+r.tier), text) && (r.tier != "" || strings.Contains(strings.ToLower(v.all[r.deployment].Name), text)) {
			v.at = i
			v.pick(before)
			return true
		}
	}
	if s := v.state(); s != nil {
		for i := range s.Resources {
			if r := &s.Resources[i]; strings.Contains(strings.ToLower(r.Title+" "+r.ID), text) {
				v.elevation.Selected = s.Plan.Plank(r.ID)
				return true
			}
		}
	}
	return false
}

// Export writes the elevation and the timeline of what stands, or the curves where they are shown.
func (v *View) Export() tea.Cmd {
	s := v.state()
	if s == nil {
		return nil
	}
	if d := v.selected(); d != nil && v.watched.shown && v.app != nil {
		id, span, at := d.ID, v.watched.span, v.clock()
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
			defer cancel()
			return view.Written(v.app.DrawMeasures(ctx, id, spans[span].long, ".", at))
		}
	}
	snap, by := s.Snapshot(), v.elevation.By
	return func() tea.Msg { return view.Written(deployments.ExportPictures(snap, by, time.Now(), ".")) }
}

// Why explains the selected resource: why it is there, and why it counts as well or not.
func (v *View) Why() view.Note {
	s := v.state()
	if s == nil || s.Resource(v.elevation.Selected) == nil {
		return view.Note{Title: "why", Lines: append([]view.Line{view.Say("nothing is selected")}, v.doneJustBefore()...)}
	}
	r := s.Resource(v.elevation.Selected)
	lines := []view.Line{view.Head("why at " + r.Site)}
	for _, w := range r.Why {
		lines = append(lines, view.Say("  "+w))
	}
	lines = append(lines, view.Say(""), view.Head("why it counts as "+string(v.condition(r).Word)), view.Say("  "+v.condition(r).Why))
	lines = append(lines, v.doneJustBefore()...)
	return view.Note{Title: "why " + r.Title, Lines: append(lines, v.overTime()...)}
}
