package operate

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/elevation"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/tui/part"
)

// Sizes: the panel at the side appears from wideFrom columns on; the list takes at most listRows rows.
const (
	wideFrom  = 110
	sideWidth = 42
	listRows  = 14
	shellRows = 15
)

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.now, v.today, v.drawn = now, now, time.Now()
	if !v.past.IsZero() {
		v.drawPast(c, part.Rect{X: r.X, Y: r.Y, W: r.W, H: 1})
		r.Y, r.H = r.Y+2, r.H-2
		v.now = v.past
	}
	if len(v.rows) == 0 && !v.past.IsZero() {
		c.Text(r.X+2, r.Y+2, part.In(part.Text).Strong(), "nothing stood then")
		return
	}
	if len(v.rows) == 0 {
		c.Text(r.X+2, r.Y+2, part.In(part.Text).Strong(), "nothing stands yet")
		c.Text(r.X+2, r.Y+4, part.In(part.Dim), "what a run leaves standing is operated here; 2 Design makes a plan, 4 Deploy runs it")
		return
	}
	if v.elevation.Selected == "" && v.state() != nil {
		v.elevation.Selected = part.First(v.state())
	}
	v.elevation.Notes = v.notes
	main := r
	if r.W >= wideFrom {
		main.W = r.W - sideWidth - 1
		c.Downward(main.X+main.W, r.Y, r.H, part.In(part.Dim), c.Look.Glyphs.Down)
		v.drawSide(c, part.Rect{X: main.X + main.W + 2, Y: r.Y, W: sideWidth - 2, H: r.H})
	}
	rows := min(len(v.rows)+1, listRows, max(main.H/2, 4))
	v.drawList(c, part.Rect{X: main.X, Y: main.Y, W: main.W, H: rows})
	rest := part.Rect{X: main.X, Y: main.Y + rows + 1, W: main.W, H: main.H - rows - 1}
	if d := v.selected(); d != nil && !v.past.IsZero() && rest.H >= pastRows+6 {
		rest.H -= pastRows
		v.drawLine(c.Clip(main), part.Rect{X: rest.X, Y: rest.Y + rest.H, W: rest.W, H: pastRows}, d)
	}
	if d := v.selected(); d != nil {
		taken := v.drawCauses(c.Clip(rest), rest, d)
		rest.Y, rest.H = rest.Y+taken, rest.H-taken
	}
	if len(v.shells.open) > 0 {
		h := min(shellRows, rest.H)
		if v.shells.focus && main.H < 34 {
			h = rest.H
		}
		v.shells.draw(c, part.Rect{X: rest.X, Y: rest.Y + rest.H - h, W: rest.W, H: h})
		rest.H -= h + 1
	}
	if d := v.selected(); d != nil && v.watched.shown && rest.H >= 4 {
		if v.beside.shown {
			v.drawBeside(c.Clip(rest), rest)
		} else {
			v.drawPage(c.Clip(rest), rest, d)
		}
		return
	}
	if s := v.state(); s != nil && rest.H >= 4 {
		if len(s.Resources) == 0 {
			text := "everything of it is gone"
			if d := v.selected(); going(d) {
				text = "its run has just begun"
			}
			c.Text(rest.X+2, rest.Y+1, part.In(part.Dim), text)
			return
		}
		v.elevation.Draw(c, rest, s)
	}
}

// narrowFrom is the width below which the list says less.
const narrowFrom = 100

// columns are where the list's columns begin, for a width.
func columns(w int) (name, state, readings, cost int) {
	if w < narrowFrom {
		return 2, 24, 46, w - 12
	}
	return 2, min(28, w/3), min(52, w*55/100), w - 24
}

func (v *View) drawList(c *part.Canvas, r part.Rect) {
	v.at0 = map[int]int{}
	name, state, readings, cost := columns(r.W)
	for x, text := range map[int]string{name: "deployment, tier", state: "we", readings: "site · endpoint", cost: "cost"} {
		c.Text(r.X+x, r.Y, part.In(part.Dim), text)
	}
	first := max(min(v.at-(r.H-2)/2, len(v.rows)-(r.H-1)), 0)
	for i, row := range v.rows[first:] {
		y := r.Y + 1 + i
		if y >= r.Y+r.H {
			c.Right(r.X+r.W-1, r.Y, part.In(part.Dim), fmt.Sprintf("%d more ↓", len(v.rows)-first-i))
			break
		}
		v.at0[y] = first + i
		if first+i == v.at {
			c.Fill(part.Rect{X: r.X, Y: y, W: r.W, H: 1}, part.OnSelected)
			if !v.inElevation && !v.shells.focus {
				c.Rune(r.X, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
			}
		}
		v.drawRow(c.Clip(part.Rect{X: r.X, Y: y, W: r.W, H: 1}), r, y, row)
	}
}

func (v *View) drawRow(c *part.Canvas, r part.Rect, y int, row row) {
	name, state, readings, cost := columns(r.W)
	d := &v.all[row.deployment]
	h := v.tally(d, row.tier)
	status := h.Status()
	if row.tier == "" {
		v.drawDeployment(c, r, y, d)
		return
	}
	x := c.Text(r.X+name+2, y, part.In(part.InkOf(status)), c.Look.Mark(status))
	c.Cut(x+1, y, r.X+state-x-2, part.In(part.Text), titleOf(d, row.tier))
	_, asked := v.looked[d.ID]
	text, ink := fmt.Sprintf("%d of %d well", h.Good, h.All), part.Teal
	if !asked {
		text, ink = fmt.Sprintf("%d of %d stand", h.Good, h.All), part.Dim
	}
	if h.Idle > 0 {
		text = fmt.Sprintf("%d idle, %s", h.Idle, text)
	}
	if h.Off > 0 {
		text = fmt.Sprintf("%d off, %s", h.Off, text)
	}
	switch {
	case h.Bad > 0:
		text, ink = h.Worst, part.Coral
	case going(d):
		text, ink = fmt.Sprintf("%d of %d stand", h.Good, h.All), part.Sky
	}
	c.Cut(r.X+state, y, readings-state-1, part.In(ink), text)
	active, answer := "active", "answer"
	if r.W < narrowFrom {
		active, answer = "", ""
	}
	sites, answers := countInk(h.SitesGood, h.Sites), countInk(h.AnswersGood, h.Answers)
	if going(d) { // what is not there yet is no fault
		sites, answers = part.Sky, part.Sky
	}
	at := c.Text(r.X+readings, y, part.In(sites), counted(h.SitesGood, h.Sites, active))
	at = c.Text(at, y, part.In(part.Dim), " · ")
	at = c.Text(at, y, part.In(answers), counted(h.AnswersGood, h.Answers, answer))
	if looked, ok := v.looked[d.ID]; ok && v.past.IsZero() {
		c.Cut(at+1, y, r.X+cost-at-2, part.In(part.Dim), part.Age(looked.At, v.now))
	}
	c.Right(r.X+r.W-2, y, part.In(part.Dim), fmt.Sprintf("%.3f %s/h", h.Cost, d.Stand.Plan.Currency))
}

func countInk(good, all int) part.Ink {
	switch {
	case all == 0:
		return part.Dim
	case good < all:
		return part.Coral
	}
	return part.Teal
}

func counted(good, all int, word string) string {
	if all == 0 {
		return "none asked"
	}
	return strings.TrimSpace(fmt.Sprintf("%d of %d %s", good, all, word))
}

func (v *View) drawDeployment(c *part.Canvas, r part.Rect, y int, d *deployments.Deployment) {
	name, state, readings, _ := columns(r.W)
	whole, last := v.whole(d), d.Last()
	status := whole.Status
	x := c.Text(r.X+name, y, part.In(part.InkOf(status)), c.Look.Mark(status))
	c.Cut(x+1, y, r.X+state-x-2, part.In(part.Text).Strong(), d.Name)
	c.Cut(r.X+state, y, readings-state-1, part.In(part.InkOf(status)), whole.Word)
	text := fmt.Sprintf("run %d %s", last.ID, cmp.Or(last.Purpose, "raised it"))
	if !last.Ended.IsZero() {
		text += " · " + part.Age(last.Ended, v.now)
	}
	room := r.W - readings - 30
	if r.W < narrowFrom {
		room = r.W - readings - 16
	}
	c.Cut(r.X+readings, y, room, part.In(part.Dim), text)
	if status == run.Retired {
		return
	}
	if r.W < narrowFrom {
		c.Right(r.X+r.W-2, y, part.In(part.Text), fmt.Sprintf("%.3f %s/h", d.CostPerHour(), d.Stand.Plan.Currency))
		return
	}
	spent := d.CostPerHour().Times(v.now.Sub(d.Since()).Hours())
	c.Right(r.X+r.W-2, y, part.In(part.Text), fmt.Sprintf("%.2f so far · %.3f %s/h", spent, d.CostPerHour(), d.Stand.Plan.Currency))
}

func titleOf(d *deployments.Deployment, tier string) string {
	for _, s := range d.Stand.Plan.Services {
		if s.Name == tier && s.Title != "" {
			return s.Title
		}
	}
	return tier
}

// notes say at a plank's end how it is.
func (v *View) notes(p *elevation.Plank) []string {
	s := v.state()
	if len(p.IDs) > 1 {
		return []string{fmt.Sprintf("×%d", len(p.IDs))}
	}
	r := s.Resource(p.IDs[0])
	return []string{v.condition(r).Word, r.Detail}
}

// drawSide is what is known of the selected plank, and where its deployment is reached.
func (v *View) drawSide(c *part.Canvas, r part.Rect) {
	s, d := v.state(), v.selected()
	if s == nil || d == nil {
		return
	}
	c = c.Clip(r)
	y := r.Y
	if res := s.Resource(v.elevation.Selected); res != nil {
		y = v.drawResource(c, r, s, res)
	}
	y = v.drawEndpoints(c, part.Rect{X: r.X, Y: y + 1, W: r.W, H: r.H}, s)
	y = v.drawFronts(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y}, d)
	if !v.past.IsZero() { // what is promised and kept is told of now alone
		v.drawHistory(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y - 1}, d)
		return
	}
	y = v.drawPromised(c, part.Rect{X: r.X, Y: y + 1, W: r.W, H: r.Y + r.H - y - 1}, d)
	y = v.drawReacting(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y - 1}, d)
	y = v.drawCopies(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y - 1}, d)
	y = v.drawKept(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y - 1}, d)
	y = v.drawHistory(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y - 1}, d)
	looked := v.looked[d.ID]
	for _, site := range slices.Sorted(maps.Keys(looked.Failed)) {
		y++
		c.Cut(r.X, y, r.W, part.In(part.Coral), site+" did not answer: "+looked.Failed[site])
	}
}

// drawHistory lists the deployment's runs, the newest first.
func (v *View) drawHistory(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	y := r.Y
	c.Text(r.X, y, part.In(part.Steel).Strong(), "its runs")
	for i := len(d.Runs) - 1; i >= 0 && y < r.Y+r.H-2; i-- {
		y++
		x := d.Runs[i]
		at := c.Text(r.X, y, part.In(part.InkOf(x.State)), c.Look.Mark(x.State))
		age := part.Age(cmp.Or(x.Ended, x.Created), v.now)
		c.Cut(at+1, y, r.W-part.Width(age)-4, part.In(part.Text), fmt.Sprintf("%d  %s", x.ID, cmp.Or(x.Purpose, "raise")))
		c.Right(r.X+r.W, y, part.In(part.Dim), age)
	}
	return y + 1
}

func (v *View) drawResource(c *part.Canvas, r part.Rect, s *run.State, res *run.Resource) int {
	y := r.Y
	x := c.Cut(r.X, y, r.W, part.In(part.Text).Strong(), res.Title)
	c.Cut(x+3, y, r.X+r.W-x-3, part.In(part.Dim), res.Site)
	c.Cut(r.X, y+1, r.W, part.In(part.Dim), cmp.Or(res.Description, string(res.Kind))+" · "+res.Detail)
	y += 3
	cond := v.condition(res)
	on := res
	if host := s.Resource(res.On); host != nil {
		on = host
	}
	if of := s.Resource(res.AsEndpoint().EndpointOf); of != nil {
		on = s.Resource(of.On)
	}
	v.reading(c, r, y, "we", part.InkOf(cond.Status), cond.Word, time.Time{})
	v.reading(c, r, y+1, "site", inkOf(on.SiteSaid), cmp.Or(on.SiteSaid.Text, "not asked"), on.SiteSaid.At)
	v.reading(c, r, y+2, "endpoint", inkOf(res.Answer), cmp.Or(res.Answer.Text, "has none"), res.Answer.At)
	y += 4
	for _, l := range part.Wrap(cond.Why, r.W) {
		c.Text(r.X, y, part.In(part.Dim), l)
		y++
	}
	if iface := v.interfaceOf(s, on); iface != nil {
		y++
		c.Cut(r.X, y, r.W, part.In(part.Dim), "reached at "+iface.Attributes["address"]+"  o: a shell")
		y++
	}
	if d := v.selected(); d != nil {
		y = v.drawMeasures(c, part.Rect{X: r.X, Y: y + 1, W: r.W, H: r.Y + r.H - y - 1}, s, d, res)
	}
	return v.drawLog(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y}, s, res)
}

func (v *View) interfaceOf(s *run.State, host *run.Resource) *run.Resource {
	for i := range s.Resources {
		if s.Resources[i].AsInterface().Instance == host.ID && s.Resources[i].Attributes["address"] != "" {
			return &s.Resources[i]
		}
	}
	return nil
}

func inkOf(r run.Reading) part.Ink {
	switch {
	case r.Text == "":
		return part.Dim
	case r.Good:
		return part.Teal
	}
	return part.Coral
}

func (v *View) reading(c *part.Canvas, r part.Rect, y int, who string, ink part.Ink, text string, at time.Time) {
	age := part.Age(at, v.now)
	c.Text(r.X, y, part.In(part.Dim), who)
	c.Cut(r.X+10, y, r.W-11-part.Width(age), part.In(ink), text)
	c.Right(r.X+r.W, y, part.In(part.Dim), age)
}

// logShown is how many lines of its provisioning's log are shown of a plank, and how many where the log is asked for.
const (
	logShown = 5
	logWhole = 24
)

func (v *View) drawLog(c *part.Canvas, r part.Rect, s *run.State, res *run.Resource) int {
	var lines []run.Line
	for _, st := range s.StepsOf(res.ID) {
		lines = append(lines, st.Log...)
	}
	if len(lines) == 0 {
		return r.Y
	}
	most := logShown
	if v.log {
		most = logWhole
	}
	y := r.Y + 1
	c.Text(r.X, y, part.In(part.Steel).Strong(), "log of its provisioning")
	for _, l := range lines[max(len(lines)-most, 0):] {
		y++
		x := c.Text(r.X, y, part.In(part.Dim), l.At.Local().Format("15:04:05"))
		c.Cut(x+2, y, r.X+r.W-x-2, part.In(part.Text), l.Text)
	}
	return y + 1
}

// drawEndpoints lists where users reach the deployment.
func (v *View) drawEndpoints(c *part.Canvas, r part.Rect, s *run.State) int {
	y := r.Y
	if len(s.Outputs) > 0 {
		c.Text(r.X, y, part.In(part.Steel).Strong(), "reached at")
		for _, name := range slices.Sorted(maps.Keys(s.Outputs)) {
			y++
			c.Cut(r.X, y, r.W, part.In(part.Dim), name)
			for _, l := range part.Wrap(s.Outputs[name], r.W-2) {
				y++
				c.Text(r.X+2, y, part.In(part.Text), l)
			}
		}
		y += 2
	}
	return y
}
