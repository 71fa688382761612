package part

import (
	"fmt"
	"strings"

	"andamio/internal/core/elevation"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
)

// Zoom is how much an elevation shows of each resource.
type Zoom int

// The zooms, from near to far. ZoomFit takes the nearest that fits.
const (
	ZoomFit Zoom = iota
	ZoomPlanks
	ZoomGroups
	ZoomBricks
	ZoomDensity
	zooms
)

// Next is the zoom after this one, round again after the last.
func (z Zoom) Next() Zoom { return (z + 1) % zooms }

func (z Zoom) String() string {
	return []string{"fit", "planks", "groups", "bricks", "density"}[z]
}

// Elevation is a picture of a run, drawn in cells. It remembers where planks were drawn, for the mouse and the arrows.
type Elevation struct {
	By   elevation.By
	Zoom Zoom
	// Selected is the id of the selected resource.
	Selected string
	// Notes gives texts for a plank's right end, the first that fits being shown; nil takes the plank's own.
	Notes func(p *elevation.Plank) []string
	// Marks are words for planks that are to be seen at once, by resource.
	Marks map[string]string
	// scroll is the first row shown, counted from the top.
	scroll int
	spots  []spot
	// shown is the zoom that was drawn last.
	shown Zoom
	// kept are the pictures of the state, with and without groups.
	kept map[bool]*kept
	from source
}

// source says what pictures were made from.
type source struct {
	state *run.State
	by    elevation.By
}

// kept is a picture, up to date to an event, with the widths that its bays' titles need.
type kept struct {
	*elevation.Picture
	seq  int64
	need []int
}

// picture arranges a state. What is where is worked out once; when something has happened only how it is.
func (e *Elevation) picture(s *run.State, group bool) *kept {
	if from := (source{s, e.By}); from != e.from || e.kept == nil {
		e.from, e.kept = from, map[bool]*kept{}
	}
	k := e.kept[group]
	switch {
	case k == nil:
		k = &kept{Picture: elevation.New(s, e.By, group), seq: s.LastSeq}
		e.kept[group] = k
	case k.seq != s.LastSeq:
		k.Refresh()
		k.seq = s.LastSeq
	}
	return k
}

// titles are the widths at which the bays' titles are whole, at most mostNeed.
func (k *kept) titles() []int {
	const mostNeed, around = 24, 6
	if k.need == nil {
		k.need = make([]int, len(k.Bays))
		for l := range k.Cells {
			for b := range k.Cells[l] {
				for i := range k.Cells[l][b].Planks {
					k.need[b] = max(k.need[b], min(Width(k.Cells[l][b].Planks[i].Title), mostNeed)+around)
				}
			}
		}
	}
	return k.need
}

// spot is where a plank was drawn.
type spot struct {
	Rect
	id string
}

// lit are the resources that stand under the selected one and over it.
type lit struct{ under, over map[string]bool }

// Draw draws the elevation into a part of the canvas.
func (e *Elevation) Draw(c *Canvas, r Rect, s *run.State) {
	c = c.Clip(r)
	e.spots = e.spots[:0]
	if r.H < 4 || r.W < 12 {
		return
	}
	d := e.fit(s, c, r)
	if len(d.pic.Bays) == 0 {
		return
	}
	d.heads()
	d.levels()
}

// fit arranges the state at the zoom asked for, or the nearest that fits the height. Before a zoom is given up for a
// farther one, the beams between the levels are.
func (e *Elevation) fit(s *run.State, c *Canvas, r Rect) *drawing {
	d := &drawing{e: e, c: c, r: r, state: s, lit: e.light(s)}
	room := r.H - 2 // head and ground
	for _, z := range []Zoom{ZoomPlanks, ZoomGroups, ZoomBricks, ZoomDensity} {
		if e.Zoom != ZoomFit && e.Zoom != z {
			continue
		}
		e.shown = z
		d.pic = e.picture(s, z == ZoomGroups)
		d.columns()
		d.heights()
		for _, d.gap = range []int{1, 0} {
			if d.total() <= room {
				return d
			}
		}
	}
	if e.Zoom != ZoomFit && e.Zoom != ZoomDensity {
		d.gap = 1 // it is scrolled anyway
	}
	return d
}

// total is how many rows all levels take.
func (d *drawing) total() int {
	n := 1 // the topmost beam stays
	for _, r := range d.rows {
		n += r + d.gap
	}
	return n - d.gap
}

// gutter is the room left of the first post, for the numbers of the levels.
const gutter = 3

// inner is where planks of a bay are drawn: its first column and how many there are.
func (d *drawing) inner(bay int) (x, w int) {
	return d.posts[bay] + 2, max(d.posts[bay+1]-d.posts[bay]-3, 1)
}

// heights works out how many rows each level takes.
func (d *drawing) heights() {
	d.rows = d.pic.Rows()
	if d.e.shown != ZoomDensity && d.e.shown != ZoomBricks {
		return
	}
	for l := range d.rows {
		d.rows[l] = 1
		for b, cell := range d.pic.Cells[l] {
			if _, w := d.inner(b); d.e.shown == ZoomBricks {
				d.rows[l] = max(d.rows[l], (len(cell.Planks)+perRow(w)-1)/perRow(w))
			}
		}
	}
}

// perRow is how many bricks fit into a width.
func perRow(w int) int { return max((w+1)/2, 1) }

func (e *Elevation) light(s *run.State) lit {
	l := lit{map[string]bool{}, map[string]bool{}}
	sel := s.Resource(e.Selected)
	if sel == nil {
		return l
	}
	for _, id := range sel.StandsOn {
		l.under[s.Plan.Plank(id)] = true
	}
	for _, r := range s.Carries(e.Selected) {
		l.over[s.Plan.Plank(r.ID)] = true
	}
	return l
}

// drawing is one act of drawing.
type drawing struct {
	e     *Elevation
	c     *Canvas
	r     Rect
	pic   *kept
	rows  []int
	state *run.State
	lit   lit
	// posts are the columns of the posts, one more than bays; gap is the rows that a beam takes between levels.
	posts []int
	gap   int
}

// columns places the posts: a bay is as wide as its longest title needs, and what is left over is shared. Where there
// is too little room the widest bays give way first.
func (d *drawing) columns() {
	n := len(d.pic.Bays)
	d.posts = d.posts[:0]
	if n == 0 {
		return
	}
	left, width := d.r.X+gutter, d.r.W-gutter-1
	need, sum, widest := make([]int, n), 0, 0
	for i := range need {
		need[i] = d.need(i)
		sum += need[i]
		widest = max(widest, need[i])
	}
	for ; sum > width && widest > 1; widest-- {
		sum = 0
		for i := range need {
			need[i] = min(need[i], widest-1)
			sum += need[i]
		}
	}
	used := 0
	for i := range n {
		d.posts = append(d.posts, left+used+(width-sum)*i/n)
		used += need[i]
	}
	d.posts = append(d.posts, left+width)
}

// need is the width at which a bay's titles are whole.
func (d *drawing) need(bay int) int {
	w := Width(d.pic.Bays[bay].Name) + 3
	if d.e.shown == ZoomPlanks || d.e.shown == ZoomGroups {
		w = max(w, d.pic.titles()[bay])
	}
	return w
}

// heads writes the bays' names above the topmost beam.
func (d *drawing) heads() {
	y := d.r.Y + max(d.r.H-1-d.total()-1, 0)
	for i, b := range d.pic.Bays {
		x, w := d.inner(i)
		end := d.c.Cut(x, y, w, In(Text).Strong(), orElse(b.Name, "no service"))
		if left := x + w - end - 2; left >= Width(b.Note) {
			d.c.Text(end+2, y, In(Dim), b.Note)
		}
	}
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// levels draws the levels from the ground up, scrolled so that the selected plank is seen.
func (d *drawing) levels() {
	room := d.r.H - 2
	over := max(d.total()-room, 0)
	d.e.scroll = min(max(d.e.scroll, 0), over)
	d.reveal(room, over)
	ground := d.r.Y + d.r.H - 1
	d.c.Across(d.r.X, ground, d.r.W, In(Ground), d.c.Look.Glyphs.Ground)
	body := d.c.Clip(Rect{d.r.X, d.r.Y + 1, d.r.W, room})
	y := ground + over - d.e.scroll
	for l := range d.rows {
		y -= d.rows[l]
		d.level(body, l, y)
		if last := l == len(d.rows)-1; last || d.gap > 0 {
			y--
			d.beam(body, y)
		}
	}
	if over > 0 {
		d.c.Right(d.r.X+d.r.W-2, ground, In(Text), fmt.Sprintf(" %d rows above, %d below ", d.e.scroll, over-d.e.scroll))
	}
}

// reveal scrolls so that the selected plank's level is in view; scroll counts from the top, and over is the ground.
func (d *drawing) reveal(room, over int) {
	l, _, index, ok := d.pic.Find(d.state.Plan.Plank(d.e.Selected))
	if !ok || over == 0 {
		d.e.scroll = over
		return
	}
	above := 0
	for i := len(d.rows) - 1; i > l; i-- {
		above += d.rows[i] + d.gap
	}
	row := above + 1
	if d.e.shown == ZoomPlanks || d.e.shown == ZoomGroups {
		row += min(index, d.rows[l]-1)
	}
	if row < d.e.scroll {
		d.e.scroll = max(row-1, 0)
	}
	if row >= d.e.scroll+room {
		d.e.scroll = min(row-room+1, over)
	}
}

func (d *drawing) beam(c *Canvas, y int) {
	g := c.Look.Glyphs
	for i, x := range d.posts {
		if i+1 < len(d.posts) {
			c.Across(x+1, y, d.posts[i+1]-x-1, In(Steel), g.Beam)
		}
		joint := g.Cross
		switch i {
		case 0:
			joint = g.Left
		case len(d.posts) - 1:
			joint = g.Right
		}
		c.Rune(x, y, In(Steel), joint)
	}
}

func (d *drawing) level(c *Canvas, l, y int) {
	c.Right(d.r.X+gutter-1, y, In(Steel).Strong(), fmt.Sprint(l+1))
	for _, x := range d.posts {
		c.Downward(x, y, d.rows[l], In(Steel), c.Look.Glyphs.Post)
	}
	for b, cell := range d.pic.Cells[l] {
		x, w := d.inner(b)
		inside := Rect{x, y, w, d.rows[l]}
		switch d.e.shown {
		case ZoomBricks:
			d.bricks(c, inside, cell)
		case ZoomDensity:
			d.density(c, inside, cell)
		default:
			for i := range cell.Planks {
				d.plank(c, Rect{inside.X, y + i, inside.W, 1}, &cell.Planks[i])
			}
		}
	}
}

// plank draws one plank: filled as far as it is done, its state as a glyph, its title, and a note.
func (d *drawing) plank(c *Canvas, r Rect, p *elevation.Plank) {
	ground := GroundOf(p.Status)
	c.Fill(r, ground)
	if p.Status == run.UnderWay {
		c.Fill(Rect{r.X, r.Y, int(float64(r.W)*p.Fraction + 0.5), 1}, OnDone)
	}
	d.spot(c, r, p.IDs[0])
	ink := InkOf(p.Status)
	x := c.Text(r.X, r.Y, In(ink), c.Look.Mark(p.Status))
	title := In(Text)
	selected := p.Has(d.e.Selected)
	switch {
	case selected:
		title = title.Strong()
	case d.lit.under[p.IDs[0]] || d.lit.over[p.IDs[0]]:
		title = In(Ochre)
	case d.mark(p) != "":
		title = In(Ochre).Strong()
	case p.Status == run.Planned:
		title = In(Steel)
	}
	word, room := d.mark(p), r.X+r.W-x-1
	if word != "" && room-Width(word) > 6 {
		room -= Width(word) + 1 // the word matters more than the end of the title
	} else {
		word = ""
	}
	x = c.Text(x+1, r.Y, title, shortTitle(p.Title+d.relation(p), room))
	if word != "" {
		c.Right(r.X+r.W, r.Y, In(Ochre), word)
	} else {
		c.Right(r.X+r.W, r.Y, In(noteInk(p.Status)), d.note(p, r.X+r.W-x-1))
	}
	if selected {
		c.Rune(r.X-1, r.Y, In(Ochre).Strong(), c.Look.Glyphs.PickLeft)
		c.Rune(r.X+r.W, r.Y, In(Ochre).Strong(), c.Look.Glyphs.PickRight)
	}
}

// mark is the word for a plank, that of any of its resources.
func (d *drawing) mark(p *elevation.Plank) string {
	for _, id := range p.IDs {
		if w := d.e.Marks[id]; w != "" {
			return w
		}
	}
	return ""
}

// shortTitle cuts a title to w columns; a number at its end stays, since it tells one instance from another.
func shortTitle(title string, w int) string {
	at := strings.IndexByte(title, ' ')
	if at < 0 || Width(title) <= w || w < Width(title[at:])+4 {
		return Shorten(title, w)
	}
	return Shorten(title[:at], w-Width(title[at:])) + title[at:]
}

// note is the first of a plank's notes that fits. Of an error the beginning says much, of a measure nothing: only an
// error is cut.
func (d *drawing) note(p *elevation.Plank, room int) string {
	notes := []string{p.Note}
	if d.e.Notes != nil {
		notes = d.e.Notes(p)
	}
	for _, n := range notes {
		if Width(n) <= room {
			return n
		}
		if p.Status == run.Failed && room >= 8 {
			return Shorten(n, room)
		}
	}
	return ""
}

// relation marks what the selected plank stands on and what it carries.
func (d *drawing) relation(p *elevation.Plank) string {
	for _, id := range p.IDs {
		if d.lit.under[id] {
			return " " + string(d.c.Look.Glyphs.Under)
		}
		if d.lit.over[id] {
			return " " + string(d.c.Look.Glyphs.Over)
		}
	}
	return ""
}

func noteInk(s run.Status) Ink {
	if s == run.Planned {
		return Dim
	}
	return InkOf(s)
}

func (d *drawing) spot(c *Canvas, r Rect, id string) {
	if c.clip.Inside(r.X, r.Y) {
		d.e.spots = append(d.e.spots, spot{r, id})
	}
}

// bricks draws every plank as its glyph.
func (d *drawing) bricks(c *Canvas, r Rect, cell elevation.Cell) {
	per := perRow(r.W)
	for i := range cell.Planks {
		p := &cell.Planks[i]
		x, y := r.X+i%per*2, r.Y+i/per
		style := In(InkOf(p.Status))
		switch {
		case p.Has(d.e.Selected):
			style = Style{Fg: Text, Bg: OnSelected, Bold: true}
		case d.lit.under[p.IDs[0]] || d.lit.over[p.IDs[0]], d.mark(p) != "":
			style = In(Ochre)
		}
		c.Text(x, y, style, c.Look.Mark(p.Status))
		d.spot(c, Rect{x, y, 2, 1}, p.IDs[0])
	}
}

// density draws a cell as one bar: how many stand, are under way, failed and held, and the numbers.
func (d *drawing) density(c *Canvas, r Rect, cell elevation.Cell) {
	if len(cell.Planks) == 0 {
		return
	}
	counts := map[run.Status]int{}
	for i := range cell.Planks {
		counts[cell.Planks[i].Status]++
		if cell.Planks[i].Has(d.e.Selected) {
			c.Rune(r.X-1, r.Y, In(Ochre).Strong(), c.Look.Glyphs.PickLeft)
		}
	}
	label := fmt.Sprintf(" %d of %d", counts[run.Standing]+counts[run.Retired], len(cell.Planks))
	if counts[run.Failed] > 0 {
		label += fmt.Sprintf(" %s%d", c.Look.Mark(run.Failed), counts[run.Failed])
	}
	bar := max(r.W-Width(label), 1)
	x, sum := r.X, 0
	for _, s := range []run.Status{run.Standing, run.Retired, run.UnderWay, run.Failed, run.Stopped, run.Held, run.Passed, run.Planned} {
		sum += counts[s]
		to := r.X + bar*sum/len(cell.Planks)
		ch := c.Look.Glyphs.Bar
		if s == run.Planned || s == run.Held {
			ch = c.Look.Glyphs.Forecast
		}
		c.Across(x, r.Y, to-x, In(InkOf(s)), ch)
		x = to
	}
	c.Text(r.X+bar, r.Y, In(Dim), label)
	d.spot(c, Rect{r.X, r.Y, r.W, 1}, cell.Planks[0].IDs[0])
}

// At is the resource drawn at a cell, "" if there is none.
func (e *Elevation) At(x, y int) string {
	for _, s := range e.spots {
		if s.Inside(x, y) {
			return s.id
		}
	}
	return ""
}

// Shown is the zoom drawn last.
func (e *Elevation) Shown() Zoom { return e.shown }

// Move selects the nearest plank in a direction; dx to the right, dy downwards.
func (e *Elevation) Move(s *run.State, dx, dy int) {
	pic := e.picture(s, e.shown == ZoomGroups)
	l, b, i, ok := pic.Find(s.Plan.Plank(e.Selected))
	if !ok {
		e.Selected = First(s)
		return
	}
	if dy != 0 {
		e.vertical(pic.Picture, l, b, i, dy)
		return
	}
	for n := b + dx; n >= 0 && n < len(pic.Bays); n += dx {
		if planks := pic.Cells[l][n].Planks; len(planks) > 0 {
			e.Selected = planks[min(i, len(planks)-1)].IDs[0]
			return
		}
	}
}

// vertical moves within the cell, then to the next level of the bay that has planks.
func (e *Elevation) vertical(pic *elevation.Picture, l, b, i, dy int) {
	if i+dy >= 0 && i+dy < len(pic.Cells[l][b].Planks) {
		e.Selected = pic.Cells[l][b].Planks[i+dy].IDs[0]
		return
	}
	for n := l - dy; n >= 0 && n < pic.Levels; n -= dy {
		planks := pic.Cells[n][b].Planks
		if len(planks) == 0 {
			continue
		}
		at := 0
		if dy < 0 {
			at = len(planks) - 1
		}
		e.Selected = planks[at].IDs[0]
		return
	}
}

// First is the resource that a fresh elevation selects: the first under way or failed, else the first of all that is no copy of another.
func First(s *run.State) string {
	for _, want := range []run.Status{run.Failed, run.UnderWay} {
		for i := range s.Resources {
			if r := &s.Resources[i]; r.Status == want && r.PartOf == "" && !r.Kept() {
				return r.ID
			}
		}
	}
	for _, copies := range []bool{false, true} {
		for i := range s.Resources {
			if r := &s.Resources[i]; r.PartOf == "" && !r.Kept() && (r.Kind == kinds.Snapshot || r.IsCopy()) == copies {
				return r.ID
			}
		}
	}
	return ""
}
