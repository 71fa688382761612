package draw

import (
	"fmt"

	"andamio/internal/core/servicemap"
)

// Measures of the map, in points.
const (
	mapColumn = 190.0
	mapRow    = 18.0
	mapTop    = 86.0
	mapBox    = 150.0
)

// ServiceMap draws what serves what: services at the left, over their parts, instances and hosts to the sites. What the
// selected node needs and what needs it is drawn strongly; "" selects none.
func ServiceMap(m *servicemap.Map, selected string) *Picture {
	rows := 1
	for l := range servicemap.Layer(servicemap.Layers) {
		rows = max(rows, len(m.On(l)))
	}
	w, h := 24+mapColumn*float64(servicemap.Layers), mapTop+float64(rows)*mapRow+44
	return &Picture{W: w, H: h, paint: func(p *painter) {
		p.rect(0, 0, w, h, paper)
		d := &mapDrawing{p: p, m: m, at: map[string][2]float64{}}
		d.place(rows)
		d.lit = map[string]bool{}
		title := "what serves what"
		if n := m.Node(selected); n != nil {
			title = n.Name + ": what it needs, and what needs it"
			for _, set := range []map[string]bool{m.Under(selected), m.Over(selected)} {
				for id := range set {
					d.lit[id] = true
				}
			}
		}
		p.text(24, 30, w-48, 15, true, ink, title)
		d.links()
		d.nodes()
		d.legend(h)
	}}
}

type mapDrawing struct {
	p   *painter
	m   *servicemap.Map
	at  map[string][2]float64
	lit map[string]bool
}

// place puts each layer in its column, spread over the height.
func (d *mapDrawing) place(rows int) {
	for l := range servicemap.Layer(servicemap.Layers) {
		on := d.m.On(l)
		step := mapRow
		if len(on) > 0 {
			step = mapRow * float64(rows) / float64(len(on))
		}
		for i, n := range on {
			d.at[n.ID] = [2]float64{24 + mapColumn*float64(l), mapTop + step*(float64(i)+0.5)}
		}
	}
}

func (d *mapDrawing) links() {
	for _, strong := range []bool{false, true} {
		for _, l := range d.m.Links {
			from, okF := d.at[l.From]
			to, okT := d.at[l.To]
			if !okF || !okT || (d.lit[l.From] && d.lit[l.To]) != strong {
				continue
			}
			c, width := free, 0.6
			switch {
			case strong:
				c, width = teal, 1.2
			case l.Peer:
				c = sky
			}
			if l.Peer && from[0] == to[0] { // beside the column, not through it
				x := from[0] + mapBox + 8
				d.p.line(from[0]+mapBox, from[1], x, from[1], width, c)
				d.p.line(x, from[1], x, to[1], width, c)
				d.p.line(x, to[1], to[0]+mapBox, to[1], width, c)
				continue
			}
			d.p.line(from[0]+mapBox, from[1], to[0], to[1], width, c)
		}
	}
}

func (d *mapDrawing) nodes() {
	for l := range servicemap.Layer(servicemap.Layers) {
		d.p.text(24+mapColumn*float64(l), mapTop-16, mapBox, 10, true, dim, fmt.Sprintf("%s  %d", l.Word(), len(d.m.On(l))))
	}
	for i := range d.m.Nodes {
		n := &d.m.Nodes[i]
		xy := d.at[n.ID]
		fill := free
		if d.lit[n.ID] {
			fill = pale["standing"]
		}
		d.p.rect(xy[0], xy[1]-7, mapBox, 14, fill)
		name := n.Name
		if n.Layer == servicemap.Hosts {
			name += " at " + n.Site
		}
		c := ink
		if n.Missing {
			name, c = "missing: "+name, status["failed"]
		}
		d.p.text(xy[0]+5, xy[1]+3, mapBox-10, 8.5, d.lit[n.ID], c, name)
	}
}

func (d *mapDrawing) legend(h float64) {
	x := d.p.text(24, h-16, 300, 8, false, dim, "read from left to right: needs")
	d.p.line(x+16, h-19, x+40, h-19, 1.2, sky)
	d.p.text(x+46, h-16, 300, 8, false, dim, "talks to")
}
