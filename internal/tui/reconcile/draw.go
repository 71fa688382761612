package reconcile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/tui/part"
)

// Sizes: the findings' list beside the detail from wideFrom columns on; below that the one above the other.
const (
	wideFrom  = 110
	listWidth = 46
	barRows   = 3
)

// inkOf is the colour of a sort of finding.
var inkOf = map[inventory.Type]part.Ink{inventory.Changed: part.Ochre, inventory.Unmanaged: part.Sky, inventory.Missing: part.Coral,
	inventory.Moved: part.Violet, inventory.Duplicate: part.Violet, inventory.Stale: part.Steel}

// Draw draws the view.
func (v *View) Draw(c *part.Canvas, r part.Rect, now time.Time) {
	v.now, v.drawn = now, time.Now()
	v.spots = map[int]int{}
	if v.world.open {
		v.world.draw(c, r, now)
		return
	}
	if v.inv == nil {
		text := "comparing what is declared, recorded and observed"
		if v.err != nil {
			text = v.err.Error()
		}
		c.Cut(r.X+2, r.Y+2, r.W-4, part.In(part.Dim), text)
		return
	}
	v.summary(c, r)
	body := part.Rect{X: r.X, Y: r.Y + 2, W: r.W, H: r.H - 2}
	if len(v.chosen) > 0 {
		body.H -= barRows
		v.bar(c, part.Rect{X: r.X, Y: r.Y + r.H - barRows, W: r.W, H: barRows})
	}
	if len(v.rows) == 0 {
		v.nothing(c, body)
		return
	}
	if r.W >= wideFrom {
		v.drawList(c, part.Rect{X: body.X, Y: body.Y, W: listWidth, H: body.H})
		c.Downward(body.X+listWidth, body.Y, body.H, part.In(part.Dim), c.Look.Glyphs.Down)
		v.detail(c, part.Rect{X: body.X + listWidth + 2, Y: body.Y, W: body.W - listWidth - 3, H: body.H})
		return
	}
	h := min(max(body.H*2/5, 4), len(v.rows)+1)
	v.drawList(c, part.Rect{X: body.X, Y: body.Y, W: body.W, H: h})
	c.Across(body.X+1, body.Y+h, body.W-2, part.In(part.Dim), c.Look.Glyphs.Thin)
	v.detail(c, part.Rect{X: body.X + 1, Y: body.Y + h + 1, W: body.W - 2, H: body.H - h - 1})
}

// summary says how much there is, how old what is known of each site is, and what the findings cost and endanger.
func (v *View) summary(c *part.Canvas, r part.Rect) {
	x := c.Text(r.X+1, r.Y, part.In(part.Text).Strong(), plural(len(v.inv.RecordedRecords), "record")) + 3
	end := r.X + r.W - 1
	cost, endangers := money.Amount(0), map[string]bool{}
	for i := range v.inv.Findings {
		cost += v.inv.Findings[i].CostPerHour
		for _, e := range v.inv.Findings[i].Endangers {
			endangers[e] = true
		}
	}
	ink := part.Ochre
	if len(v.inv.Findings) == 0 {
		ink = part.Teal
	}
	x = c.Cut(x, r.Y, end-x, part.In(ink).Strong(), plural(len(v.inv.Findings), "finding")) + 2
	var parts []string
	if cost > 0 {
		parts = append(parts, fmt.Sprintf("%.3f %s/h nobody asked for", cost, v.inv.Currency))
	}
	if len(endangers) > 0 {
		parts = append(parts, plural(len(endangers), "service")+" endangered")
	}
	if n := len(v.inv.Ignored); n > 0 {
		parts = append(parts, fmt.Sprintf("%d ignored", n))
	}
	x = c.Cut(x, r.Y, end-x, part.In(part.Text), strings.Join(parts, " · ")) + 3
	if v.surveying > 0 {
		c.Cut(x, r.Y, end-x, part.In(part.Sky), c.Look.Mark("under way")+" surveying · s stops it")
		return
	}
	v.ages(c, x, r.Y, end)
}

// ages says how long ago each site was seen whole; a site with a region that failed says so.
func (v *View) ages(c *part.Canvas, x, y, end int) {
	oldest, failed := map[string]time.Time{}, map[string]bool{}
	for _, k := range v.inv.Coverage {
		if t, ok := oldest[k.Site]; !ok || k.Seen.Before(t) {
			oldest[k.Site] = k.Seen
		}
		failed[k.Site] = failed[k.Site] || k.Error != ""
	}
	if len(oldest) == 0 {
		c.Cut(x, y, end-x, part.In(part.Ochre), "no site was surveyed yet; s surveys")
		return
	}
	for _, site := range slices.Sorted(maps.Keys(oldest)) {
		if failed[site] {
			x = c.Cut(x, y, end-x, part.In(part.Coral), "✕ "+site+" not whole") + 2
			delete(oldest, site)
		}
	}
	if len(oldest) == 0 {
		return
	}
	first := slices.MinFunc(slices.Collect(maps.Values(oldest)), time.Time.Compare)
	c.Cut(x, y, end-x, part.In(part.Dim), fmt.Sprintf("%s seen within %s", plural(len(oldest), "site"), part.Clock(v.now.Sub(first))))
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// nothing is what stands where no finding is.
func (v *View) nothing(c *part.Canvas, r part.Rect) {
	mark := c.Look.Mark("standing")
	text := "declared, recorded and observed agree"
	if len(v.inv.Coverage) == 0 {
		mark, text = c.Look.Mark("planned"), "what is really there is not known yet: s surveys all sites"
	}
	c.Text(r.X+2, r.Y+1, part.In(part.Teal), mark)
	c.Text(r.X+4, r.Y+1, part.In(part.Text).Strong(), text)
	y := v.unwell(c, r, r.Y+2) + 1
	classes := map[kinds.Kind]int{}
	for i := range v.inv.RecordedRecords {
		classes[v.inv.RecordedRecords[i].Class]++
	}
	for _, k := range slices.Sorted(maps.Keys(classes)) {
		c.Text(r.X+4, y, part.In(part.Dim), string(k))
		c.Right(r.X+26, y, part.In(part.Text), fmt.Sprint(classes[k]))
		part.Bar(c, r.X+28, y, min(40, r.W-34), float64(classes[k]), float64(len(v.inv.RecordedRecords)), part.Steel)
		y++
	}
	v.trend(c, part.Rect{X: r.X + 4, Y: y + 1, W: r.W - 6, H: 3})
}

// unwell says what is not well though nothing disagrees: that everything is there does not say that it serves, or that a run
// ended well. It returns the line after.
func (v *View) unwell(c *part.Canvas, r part.Rect, y int) int {
	for _, d := range v.health {
		if d.Status != run.Failed && d.Status != run.Stopped {
			continue
		}
		x := c.Text(r.X+2, y, part.In(part.Coral), c.Look.Mark(d.Status))
		x = c.Cut(x+1, y, r.X+r.W-x-3, part.In(part.Text), d.Name+" "+d.Word)
		c.Cut(x+2, y, r.X+r.W-x-3, part.In(part.Dim), strings.TrimPrefix(d.Worst+"; 5 Operate says more", "; "))
		y++
	}
	return y
}

// drawList draws the findings by sort.
func (v *View) drawList(c *part.Canvas, r part.Rect) {
	v.scroll(r.H)
	most := 1
	for _, t := range inventory.Types {
		most = max(most, v.count(t))
	}
	for i := v.top; i < len(v.rows) && i-v.top < r.H; i++ {
		y := r.Y + i - v.top
		v.spots[y] = i
		selected := i == v.at
		if selected {
			c.Fill(part.Rect{X: r.X, Y: y, W: r.W - 1, H: 1}, part.OnSelected)
			c.Rune(r.X, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
		}
		if v.rows[i].finding < 0 {
			v.head(c, r, y, v.rows[i].group, most)
			continue
		}
		v.line(c, r, y, &v.inv.Findings[v.rows[i].finding], selected)
	}
	if left := len(v.rows) - v.top - r.H; left > 0 {
		c.Right(r.X+r.W-1, r.Y+r.H-1, part.In(part.Dim), fmt.Sprintf(" ↓ %d more", left))
	}
}

func (v *View) scroll(h int) {
	v.top = min(v.top, v.at)
	if v.at >= v.top+h {
		v.top = v.at - h + 1
	}
}

func (v *View) head(c *part.Canvas, r part.Rect, y int, t inventory.Type, most int) {
	sign := "▾"
	if v.folded[t] {
		sign = "▸"
	}
	if c.Look.Mark("standing") == "#" {
		sign = map[string]string{"▾": "v", "▸": ">"}[sign]
	}
	c.Text(r.X+1, y, part.In(part.Dim), sign)
	c.Text(r.X+3, y, part.In(inkOf[t]).Strong(), string(t))
	n := v.count(t)
	part.Line(c, r.X+14, y, r.W-22, float64(n), float64(most), inkOf[t])
	c.Right(r.X+r.W-2, y, part.In(part.Text), fmt.Sprint(n))
}

func (v *View) line(c *part.Canvas, r part.Rect, y int, f *inventory.Finding, selected bool) {
	mark, ink := "◇", part.Dim
	if v.chosen[f.ID] != "" {
		mark, ink = "◆", part.Ochre
	}
	if c.Look.Mark("standing") == "#" {
		mark = map[string]string{"◇": ".", "◆": "*"}[mark]
	}
	c.Text(r.X+3, y, part.In(ink), mark)
	name := part.In(part.Text)
	if selected {
		name = name.Strong()
	}
	x := c.Cut(r.X+5, y, max(r.W-20, 8), name, f.Name)
	clause := part.Shorten(short(f, v.inv.Currency), r.X+r.W-3-x)
	c.Right(r.X+r.W-2, y, part.In(part.Dim), clause)
}

// short is a finding in a few words, for the list.
func short(f *inventory.Finding, currency string) string {
	switch {
	case f.Review:
		return fmt.Sprintf("the same? %.0f %%", f.Match.Score*100)
	case f.Type == inventory.Unmanaged && f.CostPerHour > 0:
		return fmt.Sprintf("%s, %.3f %s/h", f.Class, f.CostPerHour, currency)
	case f.Type == inventory.Unmanaged, f.Type == inventory.Stale:
		return string(f.Class) + " at " + f.Site
	case f.Type == inventory.Moved:
		return f.Subject().Site + " → " + f.Observed.Site
	case f.Type == inventory.Missing:
		return string(f.Class) + " gone from " + f.Site
	case len(f.Differences) == 1:
		d := f.Differences[0]
		if strings.HasPrefix(d.Attribute, inventory.TagPrefix) || d.Attribute == inventory.AttrName {
			return word(d.Attribute)
		}
		return fmt.Sprintf("%s %s → %s", word(d.Attribute), none(d.Right), none(d.Observed))
	case len(f.Differences) > 1:
		var names []string
		for _, d := range f.Differences {
			names = append(names, word(d.Attribute))
		}
		return strings.Join(names, ", ")
	}
	return string(f.Class)
}

// words are attributes as people call them.
var words = map[string]string{"memory_gib": "memory", "disk_gib": "disk", "inside_address": "address inside", "attached_to": "attached to",
	"cost_per_hour": "cost", "provider_id": "id at the site"}

func word(attribute string) string {
	if w, ok := words[attribute]; ok {
		return w
	}
	return strings.Replace(attribute, "tag.", "tag ", 1)
}

// shown is a value with its unit.
func shown(attribute, v, currency string) string {
	switch {
	case v == "":
		return "–"
	case strings.HasSuffix(attribute, "_gib"):
		return v + " GiB"
	case attribute == inventory.AttrCost:
		return v + " " + currency + "/h"
	}
	return v
}

func none(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// bar is what the marked findings come to.
func (v *View) bar(c *part.Canvas, r part.Rect) {
	c.Across(r.X, r.Y, r.W, part.In(part.Ochre), c.Look.Glyphs.Rule)
	x := c.Text(r.X+1, r.Y+1, part.In(part.Ochre).Strong(), fmt.Sprintf("%d marked", len(v.chosen))) + 3
	counts := map[inventory.Way]int{}
	for _, w := range v.chosen {
		counts[w]++
	}
	var parts []string
	for _, k := range keyOf {
		if n := counts[k.way]; n > 0 {
			parts = append(parts, fmt.Sprintf("%s %d", k.word, n))
		}
	}
	x = c.Cut(x, r.Y+1, r.W-x-2, part.In(part.Text), strings.Join(parts, " · ")) + 3
	text, ink := v.effectLine()
	c.Cut(x, r.Y+1, r.X+r.W-x-1, part.In(ink), text)
	x = c.Text(r.X+1, r.Y+2, part.In(part.Ochre), "enter")
	x = c.Text(x+1, r.Y+2, part.In(part.Dim), "see what it does, and do it") + 3
	x = c.Text(x, r.Y+2, part.In(part.Ochre), "esc")
	c.Text(x+1, r.Y+2, part.In(part.Dim), "clear the marks")
}

func (v *View) effectLine() (string, part.Ink) {
	switch {
	case v.effectErr != nil:
		return v.effectErr.Error(), part.Coral
	case v.effect == nil:
		return "working out what that does", part.Dim
	}
	steps, secs := v.effect.Effort()
	if steps == 0 {
		return "no site is changed", part.Teal
	}
	text := fmt.Sprintf("%s: %s, about %s", plans(len(v.effect.Orders)), printable.Count(steps, "step"), part.Clock(time.Duration(secs*1e9)))
	if saves := v.effect.Saves(); saves > 0 {
		text += fmt.Sprintf(", %.3f %s/h less", saves, v.inv.Currency)
	}
	return text, part.Teal
}
