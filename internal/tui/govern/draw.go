package govern

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/quota"
	"andamio/internal/core/run"
	"andamio/internal/service/quotas"
	"andamio/internal/service/requests"
	"andamio/internal/tui/part"
)

// sideWidth is how wide the panel beside the requests is, sideFrom from how wide a screen there is one.
const (
	sideWidth = 46
	sideFrom  = 120
)

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.seen = v.seen || len(v.all) > 0
	v.now, v.rows = now, map[int]int{}
	d := &page{v: v, c: c, r: r, y: r.Y, now: now}
	if r.W >= sideFrom {
		d.r.W -= sideWidth + 2
		c.Downward(r.X+d.r.W, r.Y, r.H, part.In(part.Dim), c.Look.Glyphs.Down)
		v.side(c, part.Rect{X: r.X + d.r.W + 2, Y: r.Y, W: sideWidth - 1, H: r.H}, now)
	}
	d.summary()
	d.gauges()
	if h := d.r.Y + d.r.H - d.y; h < bothFrom && v.pane == atAccount {
		d.accountChart(h)
		return
	} else if h >= bothFrom {
		room := min(max(h-3-2*len(v.all), leastAccount), mostAccount) // what requests do not need
		d.r.H -= room
		d.requests()
		d.r.H += room
		d.y = d.r.Y + d.r.H - room
		d.accountChart(room)
		return
	}
	d.requests()
}

// The account is below the requests where there are so many rows, else in their place while it is looked at.
const (
	bothFrom     = 22
	leastAccount = 13
	mostAccount  = 21
)

// page writes the view from the top.
type page struct {
	v   *View
	c   *part.Canvas
	r   part.Rect
	y   int
	now time.Time
}

func (d *page) summary() {
	x := d.c.Text(d.r.X+1, d.y, part.In(part.Text).Strong(), d.now.Format("January 2006")) + 3
	mine, waits := 0, 0
	for i := range d.v.all {
		if d.v.all[i].Mine {
			mine++
		} else if d.v.all[i].Waits != "" {
			waits++
		}
	}
	text := "nothing waits for you"
	ink := part.Dim
	if mine > 0 {
		text, ink = fmt.Sprintf("%s for you", counted(mine, "request waits", "requests wait")), part.Violet
	}
	x = d.c.Text(x, d.y, part.In(ink), text)
	if waits > 0 {
		x = d.c.Text(x, d.y, part.In(part.Dim), fmt.Sprintf(", %s for others", counted(waits, "waits", "wait")))
	}
	if text := bursts(d.v.uses); text != "" {
		d.c.Cut(x+3, d.y, d.r.X+d.r.W-x-4, part.In(part.Coral), text)
	}
	d.y += 2
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// bursts says which budget runs out first; "" if none does.
func bursts(uses []quotas.Use) string {
	var first *quotas.Use
	for i := range uses {
		if f := uses[i].Forecast; f != nil && !f.RunsOut.IsZero() && (first == nil || f.RunsOut.Before(first.Forecast.RunsOut)) {
			first = &uses[i]
		}
	}
	if first == nil {
		return ""
	}
	return fmt.Sprintf("at this pace %s runs out on %s", plainName(first.Account), first.Forecast.RunsOut.Local().Format("2 January"))
}

// plainName is an account without the month that it is of.
func plainName(account string) string {
	name, _, _ := strings.Cut(account, "#")
	return name
}

func (d *page) head(title string, more func(x int)) {
	d.c.Text(d.r.X+1, d.y, part.In(part.Steel).Strong(), title)
	if more != nil {
		more(d.r.X + d.nameWidth() + 2)
	}
	d.c.Across(d.r.X+1, d.y+1, d.r.W-2, part.In(part.Dim), d.c.Look.Glyphs.Thin)
	d.y += 2
}

func (d *page) nameWidth() int {
	if d.r.W < 90 {
		return 16
	}
	return 20
}

// gauged is what is taken of a quota: its budget of the month, and the fullest of its other measures.
type gauged struct {
	name  string
	money *quotas.Use
	other *quotas.Use
}

// byName are the quotas by name.
func byName(uses []quotas.Use) []gauged {
	var out []gauged
	for i := range uses {
		u := &uses[i]
		name := plainName(u.Account)
		k := slices.IndexFunc(out, func(a gauged) bool { return a.name == name })
		if k < 0 {
			k = len(out)
			out = append(out, gauged{name: name})
		}
		switch a := &out[k]; {
		case u.Measure == quota.PerMonth:
			a.money = u
		case a.other == nil || share(u) > share(a.other):
			a.other = u
		}
	}
	return out
}

func share(u *quotas.Use) float64 {
	if u.Most == 0 {
		return 0
	}
	return float64(u.Most-u.Free()) / float64(u.Most)
}

// gauges draws how much is taken of every quota.
func (d *page) gauges() {
	all := byName(d.v.uses)
	d.head("quotas", func(x int) {
		if len(all) == 0 || d.r.W < 70 {
			return
		}
		for _, l := range []struct {
			ink   part.Ink
			glyph rune
			word  string
		}{{part.Steel, d.c.Look.Glyphs.Bar, "used"}, {part.Sky, d.c.Look.Glyphs.Bar, "held"}, {part.Violet, d.c.Look.Glyphs.Bar, "paused"}, {part.Dim, d.c.Look.Glyphs.Forecast, "free"}} {
			d.c.Rune(x, d.y, part.In(l.ink), l.glyph)
			x = d.c.Text(x+2, d.y, part.In(part.Dim), l.word) + 3
		}
	})
	if len(all) == 0 {
		text := "there are none: andamio quota set FILE keeps some (docs/quotas.md)"
		if !d.v.known {
			text = "looking"
		}
		d.c.Cut(d.r.X+2, d.y, d.r.W-3, part.In(part.Dim), text)
		d.y += 2
		return
	}
	room := max((d.r.H-6)/3, 3)
	for i, a := range all {
		if i == room && len(all) > room+1 {
			d.c.Text(d.r.X+2, d.y, part.In(part.Dim), fmt.Sprintf("and %d more; andamio quota lists all", len(all)-i))
			d.y++
			break
		}
		d.c.Cut(d.r.X+2, d.y, d.nameWidth()-1, part.In(part.Text), a.name)
		half := (d.r.W - d.nameWidth() - 4) / 2
		x := d.r.X + d.nameWidth() + 2
		d.gauge(x, half, a.other)
		d.gauge(x+half, half, a.money)
		d.y++
	}
	d.y++
}

// labelWidth is how much room the numbers beside a gauge have.
const labelWidth = 21

// gauge draws how much of a measure is taken, and the numbers beside it.
func (d *page) gauge(x, w int, u *quotas.Use) {
	if u == nil || w < 12 {
		return
	}
	label := numbers(u)
	bar := max(w-labelWidth-3, 4)
	cells := func(n int64) int {
		if u.Most <= 0 {
			return 0
		}
		return int(math.Round(float64(bar) * float64(n) / float64(u.Most)))
	}
	d.c.Across(x, d.y, bar, part.In(part.Dim), d.c.Look.Glyphs.Forecast)
	at := 0
	for _, p := range []struct {
		n   int64
		ink part.Ink
	}{{u.Used, part.Steel}, {u.Paused, part.Violet}, {u.Held, part.Sky}} {
		n := cells(p.n)
		if p.n > 0 && n == 0 {
			n = 1
		}
		n = min(n, bar-at)
		d.c.Across(x+at, d.y, n, part.In(p.ink), d.c.Look.Glyphs.Bar)
		at += n
	}
	ink := part.Text
	if u.Free() < 0 || u.Forecast != nil && !u.Forecast.RunsOut.IsZero() {
		ink = part.Coral
	}
	d.c.Text(x+bar+1, d.y, part.In(ink), label)
}

// numbers are how much is taken of how much.
func numbers(u *quotas.Use) string {
	v := func(n int64) string {
		x := u.Measure.Value(n)
		if u.Measure == quota.PerHour {
			return fmt.Sprintf("%.2f", x)
		}
		return fmt.Sprintf("%.0f", x)
	}
	return fmt.Sprintf("%s of %s %s", v(u.Most-u.Free()), v(u.Most), measureWord(u.Measure))
}

func measureWord(m quota.Measure) string {
	switch m {
	case quota.PerMonth:
		return "this month"
	case quota.PerHour:
		return "an hour"
	case quota.MemoryGiB:
		return "GiB memory"
	case quota.DiskGiB:
		return "GiB disk"
	}
	return string(m)
}

// The stages that have a column.
var columns = []string{requests.StageAsked, requests.StageApproved, requests.StageBuilding, requests.StageServing}

func (d *page) requests() {
	x0 := d.r.X + d.nameWidth() + 12
	step := max((d.r.X+d.r.W-x0-12)/len(columns), 8)
	d.head("requests", func(int) {
		for i, word := range []string{"asked", "decided", "building", "serving"} {
			d.c.Text(x0+i*step, d.y, part.In(part.Dim), word)
		}
	})
	if len(d.v.all) == 0 {
		text := "nothing was asked for"
		if !d.v.known {
			text = "looking"
		}
		d.c.Text(d.r.X+2, d.y, part.In(part.Dim), text)
		return
	}
	room := max((d.r.Y+d.r.H-d.y)/2, 1)
	first := max(min(d.v.at-room/2, len(d.v.all)-room), 0)
	for i := first; i < len(d.v.all) && d.y+1 < d.r.Y+d.r.H; i++ {
		d.request(i, x0, step)
	}
}

// request draws a request: the stages that it has been through with the time between them, and what it waits for.
func (d *page) request(i, x0, step int) {
	r := &d.v.all[i]
	d.v.rows[d.y], d.v.rows[d.y+1] = i, i
	if i == d.v.at {
		d.c.Fill(part.Rect{X: d.r.X + 1, Y: d.y, W: d.r.W - 2, H: 2}, part.OnSelected)
		d.c.Rune(d.r.X, d.y, part.In(part.Ochre).Strong(), d.c.Look.Glyphs.PickLeft)
		d.c.Rune(d.r.X, d.y+1, part.In(part.Ochre).Strong(), d.c.Look.Glyphs.PickLeft)
	}
	w := d.nameWidth()
	d.c.Cut(d.r.X+2, d.y, w-1, part.In(part.Text).Strong(), middled(r.Name, w-1))
	d.c.Cut(d.r.X+2+w, d.y, 9, part.In(part.Dim), r.Person)
	d.c.Cut(d.r.X+2, d.y+1, w+8, part.In(part.Dim), r.Title)
	x, status := d.stages(r, x0, step, i == d.v.at)
	text := r.Stage
	switch {
	case r.Waits != "":
		text = "waits " + part.Clock(d.now.Sub(waitsSince(r))) + " for " + r.Waits
		if r.Mine {
			text = "waits " + part.Clock(d.now.Sub(waitsSince(r))) + " for you"
		}
	case r.Stage == requests.StageServing && r.Off:
		text = "switched off"
	case r.Stage == requests.StageServing:
		text = "serving for " + part.Clock(d.now.Sub(r.Since))
	case r.Stage == requests.StageBuilding:
		text = "building, " + part.Clock(d.now.Sub(r.Since))
	case r.Stage == requests.StageRefused:
		text = "refused by " + by(r)
	}
	x = d.c.Text(x, d.y, part.In(part.InkOf(status)), d.c.Look.Mark(status)) + 1
	d.c.Cut(x, d.y, d.r.X+d.r.W-x-1, part.In(part.InkOf(status)), text)
	d.c.Cut(x0, d.y+1, d.r.X+d.r.W-x0-1, part.In(part.Dim), d.below(r))
	d.y += 2
}

// middled is a name without its middle where it is too long: names of one offer differ in their ends.
func middled(name string, w int) string {
	r := []rune(name)
	if len(r) <= w || w < 5 {
		return name
	}
	tail := w / 2
	return string(r[:w-tail-1]) + "…" + string(r[len(r)-tail:])
}

func waitsSince(r *requests.View) time.Time {
	if r.Asked.IsZero() {
		return r.Created
	}
	return r.Asked
}

// by is who, or which rule, brought a request to its stage.
func by(r *requests.View) string {
	last := r.Stages[len(r.Stages)-1]
	switch {
	case strings.HasPrefix(last.Rule, "quota "):
		return "the " + last.Rule
	case last.Rule != "":
		return "rule " + last.Rule
	case last.By.Name != "":
		return last.By.Name
	}
	return "nobody"
}

// below is the sentence of the rule, or of whoever decided last.
func (d *page) below(r *requests.View) string {
	switch {
	case r.Waits != "" && !r.Next.IsZero() && r.Next.Before(d.now):
		return "later than usual: " + r.Decision.Say
	case r.Waits != "":
		return r.Decision.Say
	}
	for _, s := range slices.Backward(r.Stages) {
		if s.Text != "" && !strings.HasPrefix(s.Text, "run ") {
			return s.Text
		}
	}
	return ""
}

// stages draws the line of a request as far as it is, and returns where it ends and how it is.
func (d *page) stages(r *requests.View, x0, step int, selected bool) (int, run.Status) {
	in := func(ink part.Ink) part.Style {
		if selected {
			return part.In(ink).On(part.OnSelected)
		}
		return part.In(ink)
	}
	x := x0
	var before time.Time
	status := run.UnderWay
	for _, s := range r.Stages {
		k := slices.Index(columns, s.Stage)
		if k < 0 {
			continue
		}
		at := x0 + k*step
		if !before.IsZero() {
			d.c.Across(x, d.y, at-x, in(part.Dim), d.c.Look.Glyphs.Thin)
			d.c.Text(x+1, d.y, part.In(part.Dim), " "+part.Clock(s.At.Sub(before))+" ")
		}
		d.c.Text(at, d.y, part.In(part.Teal), d.c.Look.Mark(run.Standing))
		x, before = at+1, s.At
	}
	switch r.Stage {
	case requests.StageServing:
		status = run.Standing
		if r.Off {
			status = run.Planned
		}
	case requests.StageRefused, requests.StageFailed:
		status = run.Failed
	case requests.StageGone, requests.StageWithdrawn:
		status = run.Retired
	}
	if r.Waits != "" {
		status = run.Held
	}
	d.c.Across(x, d.y, 2, in(part.InkOf(status)), d.c.Look.Glyphs.Thin)
	return x + 2, status
}
