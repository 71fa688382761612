// Package today is the Today view: what needs me now, and why first? One ranked queue, then what is under way, what
// stands, and what happened lately.
package today

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/health"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/hooks"
	"andamio/internal/service/moves"
	"andamio/internal/service/promises"
	"andamio/internal/service/reactions"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/requests"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
	"andamio/internal/service/watch"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Today view.
type View struct {
	app   *app.App
	runs  []app.Run
	known bool
	draft *templates.Draft
	inv   *reconcile.Inventory
	// health is how deployments are, by number, as Operate read them last.
	health map[int64]health.Deployment
	// moves are those that wait for somebody, looked at when it says.
	moves  []moves.Waiting
	looked time.Time
	// done is what was done last, the newest first.
	done []app.Entry
	// proposals are the plans that wait for somebody to confirm them.
	proposals []runs.Proposal
	// requests are those that the user may see, deliveries what hooks told last.
	requests   []requests.View
	deliveries []hooks.Delivery
	// promised is what is promised of deployments, with how it was kept.
	promised []promises.Kept
	// stories are what had to do with alerts, by their numbers.
	stories map[int64][]string
	// wholes are what was measured of deployments in the last hour, by their numbers.
	wholes map[int64]watch.Overview
	// reacting is how reactions stand to deployments.
	reacting []reactions.Status
	// addresses are those that are leased.
	addresses []promise.AddressLease
	// alerts are what is wrong.
	alerts []alarm.Alert
	// levels are the service levels of deployments, with those that they have to have.
	levels []promises.LevelState
	// clock is what is due, and who sees to it.
	clock app.Clock
	at    int
	rows  map[int]int
	// now is when the view was drawn last: what is selected is what was seen.
	now time.Time
}

// New makes the view.
func New(a *app.App) *View { return &View{app: a} }

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Today" }
func (v *View) Digit() string { return "0" }

// Badge counts what needs the user.
func (v *View) Badge(now time.Time) string {
	n := 0
	for _, i := range v.items(now) {
		if i.rank < rankReady {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		v.runs, v.known = msg.Runs, true
		return v.lookAtMoves()
	case waiting:
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		v.moves = msg.all
	case done:
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		v.done, v.proposals, v.clock = msg.last, msg.proposals, msg.clock
		v.requests, v.deliveries, v.promised, v.addresses, v.levels, v.alerts, v.reacting, v.stories, v.wholes = msg.requests, msg.deliveries, msg.promised, msg.addresses, msg.levels, msg.alerts, msg.reacting, msg.stories, msg.wholes
	case view.Drafted:
		v.draft = msg.Draft
	case view.Compared:
		v.inv = msg.Inventory
	case view.Health:
		v.health = map[int64]health.Deployment{}
		for _, d := range msg.All {
			v.health[d.ID] = d
		}
	}
	return nil
}

// Ranks of the queue: what endangers a service comes first, what is only possible last.
const (
	rankSilent = iota
	rankAlert
	rankFailed
	rankEndangered
	rankBroken
	rankSurvey
	rankMistakes
	rankNoPlace
	rankMove
	rankEnding
	rankRequest
	rankProposal
	rankHook
	rankFindings
	rankReady
)

// item is one thing that needs the user, with the act that settles it.
type item struct {
	rank                    int
	status                  run.Status
	title, below, why, acts string
	do                      tea.Cmd
	reason                  []string
	// alert is the number of the alert that it is, 0 if it is none.
	alert int64
	// reaction is the one that calls a person; nil where none does.
	reaction *reactions.Status
}

// queue is the queue as it was drawn last.
func (v *View) queue() []item { return v.items(v.now) }

// items is the queue, the most urgent first. A failed run needs nobody once a later run of the same deployment began, or
// a person left it as it is.
func (v *View) items(now time.Time) []item {
	var out []item
	begun, newest := map[string]bool{}, map[int64]bool{}
	for _, r := range v.runs {
		begun[r.Name] = true
		if newest[r.Deployment] {
			continue
		}
		newest[r.Deployment] = true
		if it, needs := runItem(r, now); needs && !v.covered(r.ID) {
			out = append(out, it)
		}
	}
	if it, needs := v.draftItem(begun); needs {
		out = append(out, it)
	}
	out = append(out, v.alertItems(now)...)
	out = append(out, v.reactionItems(now)...)
	out = append(out, v.unwell(now)...)
	out = append(out, v.inventoryItems(now)...)
	out = append(out, v.moveItems(now)...)
	out = append(out, v.requestItems(now)...)
	out = append(out, v.proposalItems(now)...)
	out = append(out, v.hookItems(now)...)
	out = append(out, v.promiseItems(now)...)
	out = append(out, v.addressItems(now)...)
	out = append(out, v.levelItems()...)
	for i := range out { // few items: an insertion sort keeps equal ranks in order
		for j := i; j > 0 && out[j].rank < out[j-1].rank; j-- {
			out[j], out[j-1] = out[j-1], out[j]
		}
	}
	return out
}

// unwell are the deployments of which something is not well, though their last runs ended well.
func (v *View) unwell(now time.Time) []item {
	var out []item
	for _, id := range slices.Sorted(maps.Keys(v.health)) {
		d := v.health[id]
		if d.Status != run.Failed || d.Worst == "" || v.endedBadly(id) || v.hit(id) {
			continue
		}
		out = append(out, item{rank: rankEndangered, status: run.Failed, title: d.Name + " is not well", below: d.Word + ", asked " + part.Age(d.At, now), why: d.Worst, acts: "look at what is wrong",
			do:     view.Cmd(view.Show{Thing: reconcile.Thing{Kind: reconcile.ADeployment, ID: fmt.Sprint(id), Deployment: id}}),
			reason: []string{"Its last run ended well, and what its sites or endpoints say now does not fit: " + d.Worst + "."}})
	}
	return out
}

// endedBadly reports that the last run of a deployment needs somebody itself.
func (v *View) endedBadly(deployment int64) bool {
	for _, r := range v.runs { // the newest first
		if r.Deployment == deployment {
			return r.State != run.Standing
		}
	}
	return false
}

func runItem(r app.Run, now time.Time) (item, bool) {
	name := fmt.Sprintf("%s run %d", r.Name, r.ID)
	open := tea.Batch(view.Cmd(view.OpenRun{ID: r.ID}), view.Cmd(view.Goto{Digit: "4"}))
	switch {
	case runs.Abandoned(r, now):
		return item{rank: rankSilent, status: run.Failed, title: name + " has lost its worker", below: "last heard " + part.Age(r.Beat, now),
			why: "what it was building may be half built, and nobody watches it", acts: "look at how far it got", do: open,
			reason: []string{"A run's worker shows every 0.3 s that it lives. This one has not for " + part.Clock(now.Sub(r.Beat)) + ".",
				"The journal says which steps were done; those under way may have happened or not."}}, true
	case r.Left:
		return item{}, false
	case r.State == run.Failed:
		return item{rank: rankFailed, status: run.Failed, title: name + " failed", below: "ended " + part.Age(r.Ended, now), why: "what failed holds what stands on it; what it built stands and costs",
			acts: "retry, skip, change or roll back", do: open, reason: []string{"A step of it failed for good, so everything that stands on it was not built."}}, true
	case r.State == run.Stopped:
		return item{rank: rankFailed, status: run.Stopped, title: name + " was cancelled", below: "ended " + part.Age(r.Ended, now), why: "what it built so far stands and costs",
			acts: "look at what stands", do: open, reason: []string{"It was cancelled before everything stood; nothing of it was removed."}}, true
	}
	return item{}, false
}

func (v *View) draftItem(begun map[string]bool) (item, bool) {
	d := v.draft
	switch {
	case d == nil:
		return item{}, false
	case d.Diagnostics.Errors() > 0:
		return item{rank: rankMistakes, status: run.Failed, title: d.Template.Name + " has " + plural(d.Diagnostics.Errors(), "mistake", "mistakes"), below: d.Template.Root,
			why: "nothing can be planned from it", acts: "look at the lines", do: view.Cmd(view.Goto{Digit: "2"}), reason: []string{d.Diagnostics[0].Error()}}, true
	case d.Err != nil:
		return item{rank: rankNoPlace, status: run.Held, title: d.Template.Name + " cannot be placed", below: d.Preset, why: firstLine(d.Err.Error()), acts: "look at what forbids it",
			do: view.Cmd(view.Goto{Digit: "3"}), reason: strings.Split(d.Err.Error(), "\n")}, true
	case d.Plan != nil && !begun[d.Plan.Name]:
		p := d.Plan
		return item{rank: rankReady, status: run.Planned, title: p.Name + " is ready to build", below: fmt.Sprintf("%s · %s at %s", d.Preset, printable.Count(len(p.Resources), "resource"), printable.Count(len(p.Sites), "site")),
			why:  fmt.Sprintf("no run of it yet; about %s, then %.3f %s/h", part.Clock(time.Duration(p.Seconds*1e9)), p.CostPerHour, p.Currency),
			acts: "see the plan", do: tea.Batch(view.Cmd(view.OpenDraft{Draft: d}), view.Cmd(view.Goto{Digit: "4"})),
			reason: []string{"The template has no mistakes and every workload has a place, but nothing has been built from it in this workspace."}}, true
	}
	return item{}, false
}

func firstLine(s string) string { return strings.SplitN(s, "\n", 2)[0] }

// count is how many rows can be selected: the queue, then the runs.
func (v *View) count(items []item) int { return len(items) + len(v.listed()) }

// open goes to what is selected.
func (v *View) open(items []item) tea.Cmd {
	if v.at < len(items) {
		cmd := items[v.at].do
		return cmd
	}
	if i := v.at - len(items); i < len(v.listed()) {
		return tea.Batch(view.Cmd(view.OpenRun{ID: v.listed()[i].ID}), view.Cmd(view.Goto{Digit: "4"}))
	}
	return nil
}

// mostListed bounds the list of runs.
const mostListed = 12

// listed are the newest runs in the order in which they are drawn: under way, standing, earlier.
func (v *View) listed() []app.Run {
	out := slices.Clone(v.runs[:min(len(v.runs), mostListed)])
	slices.SortStableFunc(out, func(a, b app.Run) int { return cmp.Compare(v.section(a), v.section(b)) })
	return out
}

// section is the part of the list a run belongs to: what goes on, what left what stands now, what is over.
func (v *View) section(r app.Run) int {
	switch {
	case (r.State == run.UnderWay || r.State == run.Planned) && !runs.Abandoned(r, v.now):
		return 0
	case deployments.EndOf(r) == run.Standing && v.last(r):
		return 1
	}
	return 2
}

// last reports that no later run of its deployment was begun.
func (v *View) last(r app.Run) bool {
	return r.Deployment == 0 || !slices.ContainsFunc(v.runs, func(o app.Run) bool { return o.Deployment == r.Deployment && o.ID > r.ID && !o.Void })
}

// Click selects a row, and opens it when it is selected already.
func (v *View) Click(_, y int) tea.Cmd {
	if i, ok := v.rows[y]; ok {
		if v.at == i {
			return v.open(v.queue())
		}
		v.at = i
	}
	return nil
}

// Wheel moves the selection.
func (v *View) Wheel(dy int) { v.at = min(max(v.at+dy, 0), max(v.count(v.queue())-1, 0)) }

// Find selects the first row with the text.
func (v *View) Find(text string) bool {
	items := v.queue()
	text = strings.ToLower(text)
	for i, it := range items {
		if strings.Contains(strings.ToLower(it.title+it.why), text) {
			v.at = i
			return true
		}
	}
	for i, r := range v.listed() {
		if strings.Contains(strings.ToLower(fmt.Sprintf("%s %s run %d %s", r.Name, r.Preset, r.ID, r.State)), text) {
			v.at = len(items) + i
			return true
		}
	}
	return false
}

// Keys are the view's keys.
func (v *View) Keys() []view.Key {
	return []view.Key{
		view.On(view.UpDown+view.Pages, "↑↓", "item", "selects what needs you, and below it the runs", v.step),
		view.On("enter", "enter", "go there", "shows the selected item where it can be settled", view.Run(func() tea.Cmd { return v.open(v.queue()) })),
	}
}

// step moves the selection.
func (v *View) step(key string) tea.Cmd {
	_, dy := view.Way(key)
	v.at = min(max(v.at+dy, 0), max(v.count(v.queue())-1, 0))
	return nil
}

// Why explains the selected item's place in the queue.
func (v *View) Why() view.Note {
	items := v.queue()
	if v.at >= len(items) {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("A run of this workspace; it needs nothing from you.")}}
	}
	it := items[v.at]
	lines := []view.Line{view.Head("why it is here")}
	for _, r := range it.reason {
		lines = append(lines, view.Say("  "+r))
	}
	lines = append(lines, view.Say(""), view.Head("why in this place"), view.Say("  first what nobody watches, then what is critical, then what failed, then what endangers a service, then sites that do not answer, then what cannot be planned, then moves that wait, then what was proposed, then what is not as it should be, then what could be begun"))
	return view.Note{Title: it.title, Lines: lines}
}

// Actions are those of the selected item.
func (v *View) Actions() []view.Action {
	items := v.queue()
	if v.at < len(items) {
		return append([]view.Action{{Name: items[v.at].acts, Effect: "goes there; changes nothing", Do: func() tea.Cmd { return v.open(items) }}}, append(v.alertActs(items[v.at]), v.reactionActs(items[v.at].reaction)...)...)
	}
	return nil
}

// Export has nothing to write.
func (v *View) Export() tea.Cmd { return nil }
