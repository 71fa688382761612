// Package reconcile is the Reconcile view: what is really there? Findings by sort, what is declared, recorded and observed
// side by side with only the disagreements lit, how each can be settled and what that would do, many at once; and the map
// of what serves what.
package reconcile

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/health"
	"andamio/internal/core/inventory"
	"andamio/internal/core/servicemap"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
	"andamio/internal/tui/view"
)

// View is the Reconcile view.
type View struct {
	ctx context.Context
	app *app.App

	inv *reconcile.Inventory
	// health is how deployments are, as Operate read them last.
	health []health.Deployment
	err    error
	rows   []row
	at     int
	top    int
	// folded groups show their head alone.
	folded map[inventory.Type]bool
	// chosen are the findings that are to be settled, and how.
	chosen map[string]inventory.Way
	// effect is what settling them would do, for the choice that key names.
	effect    *reconcile.Settling
	effectErr error
	effectKey string
	// history is that of the selected finding's record.
	history   []app.RecordChange
	historyOf string
	spots     map[int]int
	// asked and drawn are when the sources were compared, and when the view was on screen, last.
	asked, drawn, now time.Time
	// stamp is that of what was compared last, whole when that was done whatever it was.
	stamp     string
	whole     time.Time
	busy      bool
	surveying int
	// stop ends the survey that is under way.
	stop  context.CancelFunc
	world world
}

// row is a line of the list: the head of a group, or a finding.
type row struct {
	group   inventory.Type
	finding int // -1 for a head
}

// New makes the view.
func New(ctx context.Context, a *app.App) *View {
	return &View{ctx: ctx, app: a, world: world{then: then{stride: firstStep}}, folded: map[inventory.Type]bool{inventory.Stale: true}, chosen: map[string]inventory.Way{}}
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Reconcile" }
func (v *View) Digit() string { return "7" }

// Badge counts the findings.
func (v *View) Badge(time.Time) string {
	if v.inv == nil || len(v.inv.Findings) == 0 {
		return ""
	}
	return fmt.Sprint(len(v.inv.Findings))
}

// Messages.
type (
	compared struct {
		inv   *reconcile.Inventory
		m     *servicemap.Map
		stamp string
		err   error
	}
	unchanged struct{}
	worked    struct {
		key    string
		effect *reconcile.Settling
		err    error
	}
	settled struct {
		act    int64
		runs   int
		orders []deployments.Order
		text   string
		err    error
	}
	surveyed struct {
		n, ruled int
		failed   []string
	}
	recalled struct {
		of      string
		history []app.RecordChange
	}
)

// How often the sources are compared anew: while the view is on screen, and otherwise.
const (
	compareEvery = 3 * time.Second
	compareIdle  = 20 * time.Second
	// compareWhole is after how long they are compared even if nothing seems to have changed: what is ignored ends.
	compareWhole = time.Minute
)

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Health:
		v.health = msg.All
	case view.Show:
		return v.show(msg.Thing)
	case view.Runs: // each second
		every := compareIdle
		if time.Since(v.drawn) < 2*time.Second {
			every = compareEvery
		}
		if v.world.open && v.world.past.IsZero() && time.Since(v.world.asked) > troubledEvery {
			return v.readTroubles()
		}
		if v.app != nil && !v.busy && time.Since(v.asked) > every {
			return tea.Batch(v.compare(), v.recall())
		}
		if time.Since(v.drawn) < 2*time.Second {
			return v.recall() // what was found with / was selected without a key
		}
	case compared:
		return v.take(msg)
	case troubled:
		return v.takeTroubles(msg)
	case unchanged:
		v.busy = false
	case worked:
		if msg.key == v.effectKey {
			v.effect, v.effectErr = msg.effect, msg.err
		}
	case settled:
		return v.done(msg)
	case surveyed:
		v.surveying = 0
		text := fmt.Sprintf("%d sites surveyed", msg.n)
		if msg.ruled > 0 {
			text += fmt.Sprintf(", %d findings settled by standing rules", msg.ruled)
		}
		if len(msg.failed) > 0 {
			text += "; not whole: " + strings.Join(msg.failed, ", ")
		}
		return tea.Batch(v.compare(), view.Cmd(view.Notice{Text: text, Bad: len(msg.failed) > 0}))
	case recalled:
		if msg.of == v.historyOf {
			v.history = msg.history
		}
	}
	return nil
}

func (v *View) compare() tea.Cmd {
	v.busy, v.asked = true, time.Now()
	was := v.stamp
	if time.Since(v.whole) > compareWhole {
		was, v.whole = "", time.Now()
	}
	return func() tea.Msg {
		stamp, err := v.app.InventoryStamp(v.ctx)
		if err == nil && stamp == was {
			return unchanged{}
		}
		inv, err := v.app.Reconcile(v.ctx)
		if err != nil {
			return compared{err: err}
		}
		m, err := v.app.ServiceMap(v.ctx, inv)
		return compared{inv, m, stamp, err}
	}
}

// take shows what was compared; what was selected and chosen stays so, as far as it is there still.
func (v *View) take(msg compared) tea.Cmd {
	v.busy = false
	if v.err = msg.err; msg.err != nil {
		return nil
	}
	v.stamp = msg.stamp
	was, group := "", inventory.Type("")
	if f := v.finding(); f != nil {
		was = f.ID
	} else if v.at < len(v.rows) {
		group = v.rows[v.at].group
	}
	v.inv = msg.inv
	if v.world.past.IsZero() {
		v.world.take(msg.m)
	}
	ids := map[string]bool{}
	for i := range v.inv.Findings {
		ids[v.inv.Findings[i].ID] = true
	}
	before := len(v.chosen)
	for id := range v.chosen {
		if !ids[id] {
			delete(v.chosen, id)
		}
	}
	v.list()
	for i, r := range v.rows {
		if r.finding >= 0 && v.inv.Findings[r.finding].ID == was || r.finding < 0 && r.group == group {
			v.at = i
		}
	}
	v.at = min(v.at, max(len(v.rows)-1, 0))
	if v.at < len(v.rows) && v.rows[v.at].finding < 0 && was == "" && group == "" && len(v.rows) > v.at+1 {
		v.at++ // the first finding, rather than its head
	}
	cmds := []tea.Cmd{v.recall(), view.Cmd(view.Compared{Inventory: v.inv})}
	if before != len(v.chosen) {
		cmds = append(cmds, v.work())
	}
	return tea.Batch(cmds...)
}

// show selects a finding, or in the map what a record is of.
func (v *View) show(t reconcile.Thing) tea.Cmd {
	switch {
	case v.inv == nil:
		return nil
	case t.Kind == reconcile.ARecord:
		return v.showRecord(t)
	case t.Kind != reconcile.AFinding:
		return nil
	}
	v.world.open = false
	for i := range v.inv.Findings {
		if f := &v.inv.Findings[i]; f.ID == t.ID {
			v.folded[f.Type] = false
		}
	}
	v.list()
	for i, r := range v.rows {
		if r.finding >= 0 && v.inv.Findings[r.finding].ID == t.ID {
			v.at = i
		}
	}
	return v.recall()
}

// showRecord selects the part of the map that a record is of; what is in no map is told of.
func (v *View) showRecord(t reconcile.Thing) tea.Cmd {
	if v.world.m != nil && v.world.show(v.inv.MapNode(v.world.m, t.ID)) {
		v.world.open = true
		return nil
	}
	return view.Cmd(view.Notice{Text: fmt.Sprintf("the record of %s: %s; nothing is otherwise with it", t.Name, t.Where)})
}

// sorts are the sorts of findings there are, that of the gravest first.
func (v *View) sorts() []inventory.Type {
	var out []inventory.Type
	for i := range v.inv.Findings {
		if t := v.inv.Findings[i].Type; !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}

// list makes the rows: each sort with its findings, the gravest first.
func (v *View) list() {
	v.rows = nil
	for _, t := range v.sorts() {
		first := true
		for i := range v.inv.Findings {
			if v.inv.Findings[i].Type != t {
				continue
			}
			if first {
				v.rows = append(v.rows, row{t, -1})
				first = false
			}
			if !v.folded[t] {
				v.rows = append(v.rows, row{t, i})
			}
		}
	}
}

func (v *View) count(t inventory.Type) int {
	n := 0
	for i := range v.inv.Findings {
		if v.inv.Findings[i].Type == t {
			n++
		}
	}
	return n
}

// finding is the selected one, or nil.
func (v *View) finding() *inventory.Finding {
	if v.inv == nil || v.at >= len(v.rows) || v.rows[v.at].finding < 0 || v.rows[v.at].finding >= len(v.inv.Findings) {
		return nil
	}
	return &v.inv.Findings[v.rows[v.at].finding]
}

func (v *View) move(by int) tea.Cmd {
	v.at = min(max(v.at+by, 0), max(len(v.rows)-1, 0))
	return v.recall()
}

// recall asks for the history of the selected finding's record.
func (v *View) recall() tea.Cmd {
	f := v.finding()
	if f == nil || f.Recorded == nil || v.app == nil {
		v.history, v.historyOf = nil, ""
		return nil
	}
	if v.historyOf == f.Recorded.ID {
		return nil
	}
	id := f.Recorded.ID
	v.history, v.historyOf = nil, id
	return func() tea.Msg {
		h, err := v.app.RecordHistory(v.ctx, id)
		if err != nil {
			return view.Failed(err)
		}
		return recalled{id, h}
	}
}

// under are the findings that a key is about: the selected one, or all of the selected head's.
func (v *View) under() []*inventory.Finding {
	if f := v.finding(); f != nil {
		return []*inventory.Finding{f}
	}
	var out []*inventory.Finding
	if v.inv == nil || v.at >= len(v.rows) {
		return nil
	}
	for i := range v.inv.Findings {
		if f := &v.inv.Findings[i]; f.Type == v.rows[v.at].group {
			out = append(out, f)
		}
	}
	return out
}

// mark chooses the suggested way, or takes the choice back.
func (v *View) mark() tea.Cmd {
	all := v.under()
	chosen := len(all) > 0 && v.chosen[all[0].ID] != ""
	for _, f := range all {
		if chosen {
			delete(v.chosen, f.ID)
		} else if f.Ways[0] != inventory.Ignore {
			v.chosen[f.ID] = f.Ways[0]
		}
	}
	cmd := v.work()
	if v.finding() != nil {
		return tea.Batch(cmd, v.move(1))
	}
	return cmd
}

// alike reports that two findings are of one sort: the same type and class, differing in the same attributes.
func alike(a, b *inventory.Finding) bool {
	return a.Type == b.Type && a.Class == b.Class && slices.EqualFunc(a.Differences, b.Differences, func(x, y inventory.Difference) bool { return x.Attribute == y.Attribute })
}

// markLike chooses for all that are like the selected one what was chosen for it, or what is suggested.
func (v *View) markLike() tea.Cmd {
	f := v.finding()
	if f == nil {
		return v.mark()
	}
	w := v.chosen[f.ID]
	if w == "" {
		w = f.Ways[0]
	}
	for i := range v.inv.Findings {
		if x := &v.inv.Findings[i]; alike(f, x) && x.Can(w) && w != inventory.Ignore {
			v.chosen[x.ID] = w
		}
	}
	return v.work()
}

// choose settles what is selected in a way: it is marked so, and done with enter. To ignore asks for a reason at once.
func (v *View) choose(w inventory.Way) tea.Cmd {
	var can []*inventory.Finding
	for _, f := range v.under() {
		if f.Can(w) {
			can = append(can, f)
		}
	}
	if len(can) == 0 {
		return view.Cmd(view.Notice{Text: fmt.Sprintf("this cannot be settled by: %s", wordOf(w))})
	}
	if w == inventory.Ignore {
		return v.ignore(can)
	}
	for _, f := range can {
		v.chosen[f.ID] = w
	}
	return v.work()
}

func wordOf(w inventory.Way) string {
	for _, k := range keyOf {
		if k.way == w {
			return k.word
		}
	}
	return string(w)
}

// choices are what is marked, in the order of the findings.
func (v *View) choices() []reconcile.Choice {
	var out []reconcile.Choice
	for i := range v.inv.Findings {
		if w := v.chosen[v.inv.Findings[i].ID]; w != "" {
			out = append(out, reconcile.Choice{Finding: v.inv.Findings[i], Way: w})
		}
	}
	return out
}

// work works out what settling the choices would do, beside the screen.
func (v *View) work() tea.Cmd {
	v.effect, v.effectErr, v.effectKey = nil, nil, ""
	if v.inv == nil || v.app == nil || len(v.chosen) == 0 {
		return nil
	}
	choices, inv := v.choices(), v.inv
	var key strings.Builder
	for _, c := range choices {
		fmt.Fprintf(&key, "%s %s;", c.Finding.ID, c.Way)
	}
	v.effectKey = key.String()
	return func() tea.Msg {
		s, err := v.app.Settling(v.ctx, inv, choices, "", time.Time{})
		return worked{key.String(), s, err}
	}
}
