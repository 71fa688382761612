package operate

import (
	"context"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/fronts"
	"andamio/internal/service/promises"
	"andamio/internal/service/reactions"
	"andamio/internal/service/replicas"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// promisedTo are the promises of a deployment.
func (v *View) promisedTo(d *deployments.Deployment) []promises.Kept {
	var out []promises.Kept
	for i := range v.promised {
		if v.promised[i].Deployment == d.ID {
			out = append(out, v.promised[i])
		}
	}
	return out
}

// drawPromised shows what is promised of the deployment, how it was kept time by time, and when what is due next.
func (v *View) drawPromised(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	all, level := v.promisedTo(d), v.levelOf(d)
	if len(all) == 0 && (level == nil || !level.Below) {
		return r.Y
	}
	y := r.Y
	c.Text(r.X, y, part.In(part.Steel).Strong(), "promised")
	switch {
	case level == nil:
	case level.Below:
		c.Right(r.X+r.W, y, part.In(part.Coral), "has to be "+level.Required)
	case level.Outdated:
		c.Right(r.X+r.W, y, part.In(part.Ochre), level.Level+", changed since")
	default:
		c.Right(r.X+r.W, y, part.In(part.Teal), level.Level)
	}
	for i := range all {
		y = v.drawPromise(c, part.Rect{X: r.X, Y: y + 1, W: r.W, H: 2}, &all[i])
	}
	return y + 2
}

func (v *View) drawPromise(c *part.Canvas, r part.Rect, k *promises.Kept) int {
	status, word := how(k, v.now)
	at := c.Text(r.X, r.Y, part.In(part.InkOf(status)), c.Look.Mark(status))
	if k.Kind == promise.Lease {
		c.Cut(at+1, r.Y, r.W-part.Width(word)-4, part.In(part.Text), k.Words)
		c.Right(r.X+r.W, r.Y, part.In(part.InkOf(status)), word)
		return r.Y
	}
	for i, row := range part.Wrap(k.Words, r.W-2) {
		if i > 0 {
			r.Y++
		}
		c.Text(at+1, r.Y, part.In(part.Text), row)
	}
	next := ""
	if !k.Next.IsZero() {
		next = "  next in " + ahead(k.Next.Sub(v.now))
	}
	c.Right(r.X+r.W, r.Y+1, part.In(part.Dim), next)
	c.Right(r.X+r.W-part.Width(next), r.Y+1, part.In(part.InkOf(status)), word)
	marks := k.Proof.Marks
	if room := r.W - part.Width(next) - part.Width(word) - 4; len(marks) > room {
		marks = marks[len(marks)-max(room, 0):]
	}
	x := r.X + 2
	for _, m := range marks {
		s, ink := markOf(m.State)
		x = c.Text(x, r.Y+1, part.In(ink), c.Look.Mark(s))
	}
	return r.Y + 1
}

// ahead is how long it is until something that may be days away.
func ahead(d time.Duration) string {
	if d < 48*time.Hour {
		return part.Clock(d)
	}
	return promise.Span(d.Round(time.Hour))
}

// markOf is how one time at which something was due is shown.
func markOf(s promise.State) (run.Status, part.Ink) {
	switch s {
	case promise.Kept:
		return run.Standing, part.Teal
	case promise.Late:
		return run.UnderWay, part.Ochre
	case promise.Broken:
		return run.Failed, part.Coral
	case promise.Held:
		return run.Held, part.Violet
	}
	return run.UnderWay, part.Sky
}

// how says how a promise stands: kept and when last, unproven, or broken; of a lease, how long it has.
func how(k *promises.Kept, now time.Time) (run.Status, string) {
	if n := len(k.Proof.Marks); n > 0 && k.Proof.Marks[n-1].State == promise.Broken {
		return run.Failed, "broken"
	}
	if n := len(k.Proof.Marks); n > 0 && k.Proof.Marks[n-1].State == promise.Held {
		return run.Held, "held"
	}
	if k.Kind == promise.Lease {
		switch left := k.Lease.Until.Sub(now); {
		case left <= 0:
			return run.Stopped, "over, kept " + promise.Span(max(k.Lease.Until.Add(k.Lease.Grace).Sub(now), 0).Round(time.Hour)) + " more"
		case left < soon:
			return run.Held, promise.Span(left.Round(time.Hour)) + " left"
		default:
			return run.Standing, promise.Span(left.Round(24*time.Hour)) + " left"
		}
	}
	switch {
	case k.Stale:
		return run.Failed, "too old"
	case k.Kind.Conditional() && k.Proof.Unproven():
		return run.Standing, k.Unproven()
	}
	if k.Proof.Unproven() {
		return run.Planned, k.Unproven()
	}
	return run.Standing, part.Age(k.Proof.Last, now)
}

// soon is how long before its end a lease is spoken of.
const soon = 7 * 24 * time.Hour

// extending is the act that has a lease end later, where it may.
func (v *View) extending(d *deployments.Deployment) []view.Action {
	for _, k := range v.promisedTo(d) {
		if k.Kind != promise.Lease || k.Lease.Extended >= k.Lease.Times {
			continue
		}
		return []view.Action{{Name: "extend the lease of " + d.Name, Effect: "by " + promise.Span(k.Lease.By) + "; what ended is started by itself no more", Do: func() tea.Cmd {
			return func() tea.Msg {
				p, err := v.app.ExtendLease(v.ctx, d.ID, time.Now())
				if err != nil {
					return view.Failed(err)
				}
				return tea.BatchMsg{view.Cmd(view.Notice{Text: d.Name + " " + p.Words()}), v.recall()}
			}
		}}}
	}
	return nil
}

// levelling are the acts that give the deployment a service level: what a rule asks of it, any that there is, and none.
func (v *View) levelling(d *deployments.Deployment, first func(name, effect string, make func() (deployments.Order, error)) view.Action) []view.Action {
	give := func(name string) func() (deployments.Order, error) {
		return func() (deployments.Order, error) { return v.app.Levelling(v.ctx, d.ID, name, time.Now()) }
	}
	s := v.levelOf(d)
	if s == nil || len(v.levels.names) == 0 {
		return nil
	}
	var out []view.Action
	switch {
	case s.Below:
		out = append(out, first("give it the service level "+s.Required, "the rule "+s.Rule+" asks for it", give(s.Required)))
	case s.Outdated:
		out = append(out, first("give it the service level "+s.Level+" again", "it says something else by now", give(s.Level)))
	}
	out = append(out, view.Action{Name: "give it a service level", Effect: "has be kept up what it promises; shows the plan first", Ask: strings.Join(v.levels.names, ", "),
		Answer: func(text string) tea.Cmd { return v.compile(give(strings.TrimSpace(text))) },
		Wrong: func(text string) string {
			if !slices.Contains(v.levels.names, strings.TrimSpace(text)) {
				return "there are " + strings.Join(v.levels.names, ", ")
			}
			return ""
		}})
	if s.Level != "" {
		out = append(out, first("take its service level away", "what "+s.Level+" promises is kept up no more; what was kept stays", give("")))
	}
	return out
}

// levelOf is the service level of a deployment and what is required; nil where that is not known yet.
func (v *View) levelOf(d *deployments.Deployment) *promises.LevelState {
	for i := range v.levels.states {
		if v.levels.states[i].Deployment == d.ID {
			return &v.levels.states[i]
		}
	}
	return nil
}

// levels are the service levels that there are, and which of them deployments have.
type levels struct {
	names  []string
	states []promises.LevelState
}

// recalled are the promises as they are now.
type recalled struct {
	all      []promises.Kept
	levels   levels
	reacting []reactions.Status
	fronts   []fronts.Status
}

// recallWithin bounds how long it is looked for them.
const recallWithin = 10 * time.Second

// recall looks what is promised.
func (v *View) recall() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, recallWithin)
		defer cancel()
		all, err := v.app.Promises(ctx, time.Now())
		if err != nil {
			return view.Failed(err)
		}
		names, err := v.app.LevelNames(ctx)
		if err != nil {
			return view.Failed(err)
		}
		states, err := v.app.LevelStates(ctx, time.Now())
		if err != nil {
			return view.Failed(err)
		}
		reacting, err := v.app.Reacting(ctx)
		if err != nil {
			return view.Failed(err)
		}
		inFront, err := v.app.FrontStates(ctx)
		if err != nil {
			return view.Failed(err)
		}
		return recalled{all, levels{names, states}, reacting, inFront}
	}
}

// overTime says what is promised of the selected deployment and what is kept of its disks, for screens that have no room for it beside.
func (v *View) overTime() []view.Line {
	d := v.selected()
	if d == nil {
		return nil
	}
	var out []view.Line
	section := func(title string) { out = append(out, view.Say(""), view.Head(title)) }
	for i, k := range v.promisedTo(d) {
		if i == 0 {
			section("promised of " + d.Name)
		}
		_, word := how(&k, v.now)
		text := "  " + k.Words + ": " + word
		if !k.Next.IsZero() {
			text += ", " + k.Does + " in " + ahead(k.Next.Sub(v.now))
		}
		out = append(out, view.Say(text))
	}
	for i, s := range v.reactingTo(d) {
		if i == 0 {
			section("done by itself to " + d.Name)
		}
		out = append(out, view.Say("  "+s.Reaction+" "+s.Words+": "+s.Stands()))
	}
	for i, x := range replicas.Of(d.Stand) {
		if i == 0 {
			section("copies of " + d.Name + " elsewhere")
		}
		_, word := copied(&x, v.now)
		out = append(out, view.Say("  "+x.Site+": "+printable.Bytes(x.Held)+", "+word))
	}
	for i, x := range newest(d) {
		if i == 0 {
			section("snapshots of " + d.Name)
		}
		_, word := kept(&x, v.now)
		out = append(out, view.Say("  "+x.Name+": "+printable.Bytes(x.Held)+", "+word))
	}
	return out
}
