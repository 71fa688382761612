package draw

import (
	"fmt"
	"image/color"

	"andamio/internal/core/ledger"
	"andamio/internal/core/printable"
)

// mostLines is how many lines of an account have a colour of their own.
const mostLines = 6

var violet = color.NRGBA{0x9d, 0x7f, 0xe0, 0xff}

// Account draws what a time cost as a column for each of its parts, stacked by the lines of the account.
func Account(a *ledger.Account) *Picture {
	const h, top, ground, left = 360.0, 78.0, 316.0, 84.0
	lines := a.Top(mostLines)
	fills := []color.NRGBA{sky, teal, ochre, violet, steel, free}
	most := 1e-9
	for _, x := range a.Total.Each {
		most = max(most, x.Units())
	}
	return &Picture{W: chartW, H: h, paint: func(p *painter) {
		p.rect(0, 0, chartW, h, paper)
		p.text(24, 30, chartW-48, 15, true, ink, fmt.Sprintf("%s to %s: %.2f %s, by %s", a.From.Format("2 January 2006"), a.To.Format("2 January 2006"), a.Total.Cost, a.Currency, a.By))
		x := 24.0
		for i, l := range lines {
			p.rect(x, 44, 10, 10, fills[i])
			x = p.text(x+14, 53, 150, 9, false, dim, fmt.Sprintf("%s %.2f", named(l.Key), l.Cost)) + 14
		}
		for i := range 3 {
			v := most * float64(2-i) / 2
			y := top + (ground-top)*float64(i)/2
			p.line(left, y, chartW-24, y, 0.5, free)
			p.textRight(left-8, y+3, 60, 8, dim, fmt.Sprintf("%.2f", v))
		}
		step := (chartW - 24 - left) / float64(max(len(a.Parts), 1))
		for k, at := range a.Parts {
			y := ground
			for i, l := range lines {
				hi := (ground - top) * l.Each[k].Units() / most
				p.rect(left+float64(k)*step+step*0.12, y-hi, step*0.76, hi, fills[i])
				y -= hi
			}
			if every := max(len(a.Parts)/12, 1); k%every == 0 {
				p.text(left+float64(k)*step, ground+16, step*float64(every), 8, false, dim, at.Format(layouts[a.Every]))
			}
		}
		p.line(left, ground, chartW-24, ground, 1.5, steel)
	}}
}

// layouts say when a part of an account's time begins.
var layouts = map[string]string{ledger.Hourly: "2 Jan 15:04", ledger.Daily: "2 Jan", ledger.Monthly: "Jan 06"}

// named is the key of a line in words.
func named(key string) string {
	if key == "" {
		return "nobody's"
	}
	return printable.Clean(key)
}
