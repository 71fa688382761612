package draw

import (
	"fmt"
	"math"

	"andamio/internal/core/elevation"
	"andamio/internal/core/run"
)

// Measures of the elevation, in points.
const (
	margin    = 28.0
	headRoom  = 62.0
	footRoom  = 30.0
	plankH    = 15.0
	plankGap  = 2.5
	levelGap  = 9.0
	bayW      = 176.0
	levelRoom = 18.0
	// mostRows is how many rows an elevation may have before instances of one node are drawn together.
	mostRows = 90
)

// Elevation is the picture of a state: bays, levels, planks, the ground line.
func Elevation(s *run.State, by elevation.By) *Picture {
	pic := elevation.New(s, by, false)
	if sum(pic.Rows()) > mostRows {
		pic = elevation.New(s, by, true)
	}
	rows := pic.Rows()
	h := headRoom + footRoom
	for _, r := range rows {
		h += float64(r)*(plankH+plankGap) + levelGap
	}
	w := margin*2 + levelRoom + bayW*float64(max(len(pic.Bays), 1))
	return &Picture{W: w, H: h, paint: func(p *painter) { paintElevation(p, s, pic, rows, w, h) }}
}

func sum(rows []int) int {
	n := 0
	for _, r := range rows {
		n += r
	}
	return n
}

func paintElevation(p *painter, s *run.State, pic *elevation.Picture, rows []int, w, h float64) {
	p.rect(0, 0, w, h, paper)
	paintTitle(p, s, w)
	left := margin + levelRoom
	for i, b := range pic.Bays {
		x := left + bayW*float64(i)
		end := p.text(x+6, headRoom-8, bayW-12, 10, true, ink, b.Name)
		p.text(end+6, headRoom-8, x+bayW-end-12, 8.5, false, dim, b.Note)
	}
	y := h - footRoom
	ground := y
	for l := range rows {
		top := y - float64(rows[l])*(plankH+plankGap) - levelGap
		p.textRight(left-6, top+levelGap+plankH-4, levelRoom, 9, steel, fmt.Sprint(l+1))
		for b, cell := range pic.Cells[l] {
			for i := range cell.Planks {
				paintPlank(p, left+bayW*float64(b)+5, top+levelGap+float64(i)*(plankH+plankGap)-plankGap, bayW-10, &cell.Planks[i])
			}
		}
		p.line(left, top, left+bayW*float64(len(pic.Bays)), top, 1, steel)
		y = top
	}
	for i := range len(pic.Bays) + 1 {
		x := left + bayW*float64(i)
		p.line(x, y-5, x, ground, 1.6, steel)
	}
	p.rect(margin-8, ground, w-2*margin+16, 5, steel)
	p.legend(left, ground+19, run.Planned, run.UnderWay, run.Standing, run.Failed, run.Held)
	p.rect(left+330, ground+13, 3, 7, ochre)
	p.text(left+338, ground+19, 200, 8, false, dim, "critical path")
}

func paintTitle(p *painter, s *run.State, w float64) {
	x := p.text(margin, 26, w-2*margin, 14, true, ink, s.Plan.Name)
	detail := fmt.Sprintf("%s   %d of %d steps standing   %.3f %s/h", s.Plan.Preset, s.Done, len(s.Steps), s.Plan.CostPerHour, s.Plan.Currency)
	p.text(x+10, 26, w-x-margin, 9.5, false, dim, detail)
}

func paintPlank(p *painter, x, y, w float64, pl *elevation.Plank) {
	p.rect(x, y, w, plankH, pale[pl.Status])
	if pl.Status == run.UnderWay {
		c := status[run.UnderWay]
		c.A = 0x60
		p.rect(x, y, math.Round(w*pl.Fraction), plankH, c)
	}
	if pl.Critical {
		p.rect(x, y, 2.5, plankH, ochre)
	}
	p.mark(x+6, y+4.5, 6, pl.Status)
	end := p.text(x+17, y+plankH-4.5, w-22, 8.5, false, ink, pl.Title)
	p.textRight(x+w-5, y+plankH-4.5, x+w-end-12, 7.5, dim, pl.Note)
}
