package reconcile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/tui/part"
)

// detail draws the selected finding: the three sources side by side, why it is one, its history, and how it is settled.
func (v *View) detail(c *part.Canvas, r part.Rect) {
	f := v.finding()
	if f == nil {
		v.group(c, r)
		return
	}
	d := &detail{v: v, c: c, r: r, y: r.Y, f: f}
	d.title()
	ways := len(f.Ways) + 2
	d.table(max(r.H-ways-5, 4))
	d.settle()
	d.why()
	d.same()
	d.history()
	if left := r.Y + r.H - d.y; left >= 4 {
		v.trend(c, part.Rect{X: r.X, Y: r.Y + r.H - 3, W: r.W, H: 3})
	}
}

// group is a sort of findings, where its head is selected.
func (v *View) group(c *part.Canvas, r part.Rect) {
	t := v.rows[v.at].group
	c.Text(r.X, r.Y, part.In(inkOf[t]).Strong(), string(t))
	for i, l := range part.Wrap(meaning[t], min(r.W, 90)) {
		c.Text(r.X, r.Y+2+i, part.In(part.Text), l)
	}
	c.Text(r.X, r.Y+5, part.In(part.Dim), "space marks all of them with what is suggested for each; a key below chooses one way for all that it fits")
	y := r.Y + 7
	c.Text(r.X, y, part.In(part.Steel).Strong(), "suggested")
	for i := range v.inv.Findings {
		f := &v.inv.Findings[i]
		if f.Type != t {
			continue
		}
		if y++; y >= r.Y+r.H-4 {
			break
		}
		w := f.Ways[0]
		if chosen := v.chosen[f.ID]; chosen != "" {
			w = chosen
		}
		c.Cut(r.X, y, 26, part.In(part.Text), f.Name)
		c.Cut(r.X+28, y, 20, part.In(part.Teal), wordOf(w))
		c.Cut(r.X+50, y, r.W-50, part.In(part.Dim), f.Why[0])
	}
	v.trend(c, part.Rect{X: r.X, Y: r.Y + r.H - 3, W: r.W, H: 3})
}

// meaning says what the sorts are.
var meaning = map[inventory.Type]string{
	inventory.Changed:   "It is there, and not as it should be: a value differs from the one that counts.",
	inventory.Unmanaged: "It is there, and no deployment declares it and no record knows it.",
	inventory.Missing:   "It is declared or recorded, everything there was listed, and it is not among that.",
	inventory.Moved:     "It is at another site than it is recorded at.",
	inventory.Duplicate: "Two records are one thing, or two things bear one mark.",
	inventory.Stale:     "It was not seen for long, and no survey reached where it is: nobody can say whether it is there.",
}

type detail struct {
	v *View
	c *part.Canvas
	r part.Rect
	y int
	f *inventory.Finding
}

func (d *detail) fits() bool { return d.y < d.r.Y+d.r.H }

// tight reports that there is little room: what only explains is left out.
func (d *detail) tight() bool { return d.r.H < 16 }

func (d *detail) title() {
	f := d.f
	x := d.c.Cut(d.r.X, d.y, d.r.W/2, part.In(part.Text).Strong(), f.Name) + 3
	parts := []string{string(f.Class), f.Site}
	s := f.Subject()
	if s.Region != "" {
		parts[1] += " " + s.Region
	}
	if service := s.Attributes[inventory.AttrService]; service != "" {
		parts = append(parts, "service "+service)
	}
	if s.Origin.Deployment != "" {
		parts = append(parts, "of "+s.Origin.Deployment)
	}
	d.c.Cut(x, d.y, d.r.X+d.r.W-x, part.In(part.Dim), strings.Join(parts, " · "))
	d.y += 2
}

// columns of the table: the attributes, then the three sources.
func (d *detail) columns() [4]int {
	first := 17
	each := (d.r.W - first) / 3
	return [4]int{d.r.X, d.r.X + first, d.r.X + first + each, d.r.X + first + 2*each}
}

// rows are the attributes to show: those that differ first where there is no room for all.
func (d *detail) rows(room int) []string {
	differs := map[string]bool{}
	for _, x := range d.f.Differences {
		differs[x.Attribute] = true
	}
	names := map[string]bool{inventory.AttrName: true}
	for _, r := range []*inventory.Record{d.f.Declared, d.f.Recorded, d.f.Observed} {
		if r != nil {
			for k := range r.Attributes {
				names[k] = true
			}
		}
	}
	for k := range differs {
		names[k] = true
	}
	all := slices.SortedFunc(maps.Keys(names), func(a, b string) int { return rankOf(a) - rankOf(b) + 1000*strings.Compare(a, b)*sameRank(a, b) })
	if len(all) <= room {
		return all
	}
	var out []string
	for _, k := range all {
		if differs[k] {
			out = append(out, k)
		}
	}
	for _, k := range all {
		if !differs[k] && len(out) < room {
			out = append(out, k)
		}
	}
	return out[:min(len(out), room)]
}

// order is that of well-known attributes; others follow by name, tags last but the cost.
var order = []string{inventory.AttrName, inventory.AttrState, inventory.AttrCores, inventory.AttrMemory, inventory.AttrDisk, inventory.AttrSize,
	inventory.AttrImage, inventory.AttrHostname, inventory.AttrZone, inventory.AttrHost, inventory.AttrAddress, inventory.AttrInside}

func rankOf(attribute string) int {
	if i := slices.Index(order, attribute); i >= 0 {
		return i
	}
	switch {
	case attribute == inventory.AttrCost:
		return 90
	case strings.HasPrefix(attribute, inventory.TagPrefix):
		return 80
	}
	return 50
}

func sameRank(a, b string) int {
	if rankOf(a) == rankOf(b) {
		return 1
	}
	return 0
}

// table draws the three sources side by side; only what disagrees is lit.
func (d *detail) table(room int) {
	x := d.columns()
	f := d.f
	for i, h := range [3][2]string{{"declared", "what the deployment asks"}, {"recorded", "what the inventory holds"}, {"observed", d.seen()}} {
		d.c.Text(x[i+1], d.y, part.In(part.Steel).Strong(), h[0])
		if d.tight() {
			continue
		}
		w := d.r.X + d.r.W - x[i+1]
		if i < 2 {
			w = x[i+2] - x[i+1] - 1
		}
		d.c.Cut(x[i+1], d.y+1, w, part.In(part.Dim), h[1])
	}
	heads := 3
	if d.tight() {
		heads = 1
	} else {
		d.c.Across(d.r.X, d.y+2, d.r.W, part.In(part.Steel), d.c.Look.Glyphs.Thin)
	}
	d.y += heads
	for _, name := range d.rows(room - heads) {
		d.attribute(name, x, [3]*inventory.Record{f.Declared, f.Recorded, f.Observed})
	}
	if len(f.Carries) > 0 && d.fits() {
		d.c.Cut(d.r.X, d.y, d.r.W, part.In(part.Dim), "and with it   "+strings.Join(f.Carries, ", "))
		d.y++
	}
	if f.Other != nil && d.fits() {
		d.c.Cut(d.r.X, d.y, d.r.W, part.In(part.Violet), fmt.Sprintf("the other     %s %s at %s", f.Other.ID, f.Other.Name, f.Other.Site))
		d.y++
	}
	d.y++
}

func (d *detail) seen() string {
	if d.f.Observed == nil {
		return "what " + d.f.Site + " says: nothing"
	}
	if d.f.Observed.Seen.IsZero() {
		return "what " + d.f.Observed.Site + " says"
	}
	return fmt.Sprintf("what %s says, %s", d.f.Observed.Site, part.Age(d.f.Observed.Seen, d.v.now))
}

func (d *detail) attribute(name string, x [4]int, sources [3]*inventory.Record) {
	if !d.fits() {
		return
	}
	i := slices.IndexFunc(d.f.Differences, func(k inventory.Difference) bool { return k.Attribute == name })
	differs := i >= 0
	ink := part.Dim
	if differs {
		ink = part.Text
	}
	d.c.Cut(x[0], d.y, x[1]-x[0]-1, part.In(ink), word(name))
	for k, r := range sources {
		if r == nil {
			continue
		}
		v, _ := r.Value(name)
		end := d.r.X + d.r.W
		if k < 2 {
			end = x[k+2] - 1
		}
		style := part.In(part.Dim)
		if differs {
			style = part.In(part.Text)
			if !equal(v, d.f.Differences[i].Right) && (k == 2 || v != "") {
				d.c.Fill(part.Rect{X: x[k+1] - 1, Y: d.y, W: min(max(part.Width(shown(name, v, d.v.inv.Currency))+2, 14), end-x[k+1]+1), H: 1}, part.OnSelected)
				style = part.In(part.Ochre).Strong()
			}
		} else if name == inventory.AttrCost && k == 2 && d.f.CostPerHour > 0 {
			style = part.In(part.Ochre)
		}
		d.c.Cut(x[k+1], d.y, end-x[k+1], style, shown(name, v, d.v.inv.Currency))
	}
	d.y++
}

func equal(a, b string) bool { return a == b }

// settle draws the ways, the suggested one first and what is chosen lit.
func (d *detail) settle() {
	if !d.fits() {
		return
	}
	d.c.Text(d.r.X, d.y, part.In(part.Steel).Strong(), "settle")
	d.y++
	chosen := d.v.chosen[d.f.ID]
	for i, w := range d.f.Ways {
		if !d.fits() {
			return
		}
		key := ""
		for _, k := range keyOf {
			if k.way == w {
				key = k.key
			}
		}
		lit := chosen == w
		if lit {
			d.c.Fill(part.Rect{X: d.r.X - 1, Y: d.y, W: d.r.W + 1, H: 1}, part.OnStanding)
		}
		d.c.Text(d.r.X, d.y, part.In(part.Ochre).Strong(), key)
		d.c.Cut(d.r.X+3, d.y, 22, part.In(part.Text), wordOf(w))
		x := d.c.Cut(d.r.X+26, d.y, d.r.W-40, part.In(part.Dim), about(d.f, w))
		switch {
		case lit:
			d.c.Right(d.r.X+d.r.W-1, d.y, part.In(part.Teal).Strong(), "marked")
		case i == 0 && w != inventory.Ignore && x < d.r.X+d.r.W-12:
			d.c.Right(d.r.X+d.r.W-1, d.y, part.In(part.Teal), "suggested")
		}
		d.y++
	}
	d.y++
}

// why draws the reasons, as far as they fit.
func (d *detail) why() {
	if d.r.Y+d.r.H-d.y < 3 {
		return
	}
	d.c.Text(d.r.X, d.y, part.In(part.Steel).Strong(), "why")
	for _, reason := range d.f.Why {
		for _, l := range part.Wrap(reason, d.r.W-12) {
			if !d.fits() {
				return
			}
			d.c.Text(d.r.X+12, d.y, part.In(part.Text), l)
			d.y++
		}
	}
	d.y++
}

// same says why record and observation are one thing.
func (d *detail) same() {
	m := d.f.Match
	if m.By == "" || d.r.Y+d.r.H-d.y < 2 {
		return
	}
	d.c.Text(d.r.X, d.y, part.In(part.Steel).Strong(), "same thing?")
	x := d.r.X + 13
	switch {
	case d.f.Review:
		x = d.c.Text(x, d.y, part.In(part.Violet).Strong(), fmt.Sprintf("%.0f %% likely", m.Score*100))
	case m.By == "evidence":
		x = d.c.Text(x, d.y, part.In(part.Teal), fmt.Sprintf("%.1f %% likely", m.Score*100))
	default:
		x = d.c.Text(x, d.y, part.In(part.Teal), "certain")
		x = d.c.Text(x, d.y, part.In(part.Dim), " · the "+m.By+" agrees")
	}
	for i, e := range m.Evidence {
		if i == 5 {
			break
		}
		ink := part.Dim
		if e.Bits < 0 {
			ink = part.Coral
		}
		x = d.c.Cut(x+2, d.y, d.r.X+d.r.W-x-2, part.In(ink), fmt.Sprintf("%s %+.0f", word(e.Attribute), e.Bits))
	}
	d.y += 2
}

// history draws what became of the record, the newest first.
func (d *detail) history() {
	if len(d.v.history) == 0 || d.f.Recorded == nil || d.v.historyOf != d.f.Recorded.ID || d.r.Y+d.r.H-d.y < 5 {
		return
	}
	d.c.Text(d.r.X, d.y, part.In(part.Steel).Strong(), "history")
	for i, h := range d.v.history {
		if i == 4 || d.r.Y+d.r.H-d.y < 5 {
			break
		}
		x := d.c.Text(d.r.X+12, d.y, part.In(part.Dim), h.At.Local().Format("Jan 02 15:04")+"  "+h.Who) + 2
		d.c.Cut(x, d.y, d.r.X+d.r.W-x, part.In(part.Text), h.Why)
		d.y++
	}
	d.y++
}

// trend draws how many findings there were over the last days.
func (v *View) trend(c *part.Canvas, r part.Rect) {
	if len(v.inv.Trend) < 2 || r.H < 1 {
		return
	}
	w := min(48, r.W-24)
	from, span := v.inv.Trend[0].At, v.now.Sub(v.inv.Trend[0].At)
	if w < 8 || span <= 0 {
		return
	}
	bars := make([]float64, w)
	k, current := 0, 0.0
	for i := range bars {
		until := from.Add(span * time.Duration(i+1) / time.Duration(w))
		high := current
		for k < len(v.inv.Trend) && !v.inv.Trend[k].At.After(until) {
			current = 0
			for _, n := range v.inv.Trend[k].Counts {
				current += float64(n)
			}
			high = max(high, current)
			k++
		}
		bars[i] = high
	}
	c.Text(r.X, r.Y, part.In(part.Steel).Strong(), "findings")
	c.Text(r.X, r.Y+1, part.In(part.Dim), "last "+part.Span(span))
	part.Spark(c, r.X+13, r.Y, w, 2, bars, part.Steel)
	c.Text(r.X+15+w, r.Y+1, part.In(part.Dim), fmt.Sprintf("most %.0f, now %d", slices.Max(bars), len(v.inv.Findings)))
}
