package measure

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"time"
)

// Row is a row of a store: what is known of a thing from a moment on.
type Row struct {
	Thing int64
	Level Level
	// First is the first slot of the row.
	First int64
	Body  []byte
}

// Tail is what was measured of many things for a few samples and is in no row yet, so that it outlives whoever measures.
type Tail struct {
	// Group is which things, of which each belongs to one for ever; First the slot of the row that it will be in; From the first slot that it has.
	Group, First, From int64
	Body               []byte
}

// GroupOf is the group of a thing.
func GroupOf(thing int64) int64 { return thing / 512 }

// Head is what is measured now: the raw row that every thing is in, as far as it is.
type Head struct {
	first int64
	open  map[int64]*opened
}

// opened are the columns of a thing, by measure.
type opened struct {
	names []string
	pens  []pen
}

func (o *opened) pen(name string) *pen {
	for i, n := range o.names {
		if n == name {
			return &o.pens[i]
		}
	}
	o.names, o.pens = append(o.names, name), append(o.pens, pen{})
	return &o.pens[len(o.pens)-1]
}

// NewHead is a head that begins with the row that a moment is in.
func NewHead(now time.Time) *Head {
	slot := Raw.Slot(now)
	return &Head{first: Raw.First(slot), open: map[int64]*opened{}}
}

// Ends is when the row is full, and has to be taken.
func (h *Head) Ends() time.Time { return Raw.At(h.first + Raw.Slots()) }

// Put adds a sample of a thing at a moment of the row. What is not in the row, and a second sample of a slot, is left out: false.
func (h *Head) Put(thing int64, name string, at time.Time, value float64) bool {
	slot := Raw.Slot(at) - h.first
	if slot < 0 || slot >= Raw.Slots() {
		return false
	}
	o := h.open[thing]
	if o == nil {
		o = &opened{}
		h.open[thing] = o
	}
	m := Of(name)
	return o.pen(name).put(slot, m.quanta(value))
}

// Take gives the rows of all things as far as they are, and begins the row that a moment is in.
func (h *Head) Take(now time.Time) []Row {
	rows := make([]Row, 0, len(h.open))
	for thing, o := range h.open {
		rows = append(rows, Row{Thing: thing, Level: Raw, First: h.first, Body: o.pack()})
	}
	slices.SortFunc(rows, func(a, b Row) int { return int(a.Thing - b.Thing) })
	*h = *NewHead(now)
	return rows
}

// Of is the row of a thing as far as it is; its body is empty where nothing was measured.
func (h *Head) Of(thing int64) Row {
	r := Row{Thing: thing, Level: Raw, First: h.first}
	if o := h.open[thing]; o != nil {
		r.Body = o.pack()
	}
	return r
}

func (o *opened) pack() []byte {
	columns := make([]Column, len(o.names))
	for i, name := range o.names {
		columns[i] = Column{Name: name, Data: o.pens[i].column()}
	}
	return Pack(columns)
}

// Round are the samples of one moment, to be kept before the row is full.
type Round struct {
	Slot    int64
	Samples []Measured
}

// Measured is a sample of a thing by its number.
type Measured struct {
	Thing int64
	Name  string
	Value float64
}

// Tails makes of a round what keeps it until its row is written, a tail for every group.
func Tails(r Round) []Tail {
	samples := slices.Clone(r.Samples)
	slices.SortStableFunc(samples, func(a, b Measured) int { return cmp.Compare(a.Thing, b.Thing) })
	var out []Tail
	var packed []byte
	for len(samples) > 0 {
		thing := samples[0].Thing
		packed = packed[:0]
		for len(samples) > 0 && samples[0].Thing == thing {
			packed = appendColumn(packed, samples[0].Name, Mean, one(&samples[0]))
			samples = samples[1:]
		}
		if n := len(out); n == 0 || out[n-1].Group != GroupOf(thing) {
			out = append(out, Tail{Group: GroupOf(thing), First: Raw.First(r.Slot), From: r.Slot})
		}
		t := &out[len(out)-1]
		t.Body = binary.AppendUvarint(t.Body, uint64(thing))
		t.Body = binary.AppendUvarint(t.Body, uint64(len(packed)))
		t.Body = append(t.Body, packed...)
	}
	return out
}

// one is the column of a single sample.
func one(s *Measured) []byte {
	m := Of(s.Name)
	var p pen
	p.put(0, m.quanta(s.Value))
	p.flush()
	return p.data
}

// each gives the columns of each thing of a tail.
func (t *Tail) each(do func(thing int64, columns []Column) error) error {
	body := t.Body
	for len(body) > 0 {
		id, n := binary.Uvarint(body)
		if n <= 0 {
			return fmt.Errorf("a tail of measures is cut off")
		}
		packed, rest, ok := piece(body[n:])
		if !ok {
			return fmt.Errorf("a tail of measures is cut off")
		}
		body = rest
		columns, err := Unpack(packed)
		if err != nil {
			return err
		}
		if err := do(int64(id), columns); err != nil {
			return err
		}
	}
	return nil
}

// Join makes rows of tails, which are those of one row's time. The order of the tails does not matter.
func Join(tails []Tail) ([]Row, error) {
	tails = slices.Clone(tails)
	slices.SortStableFunc(tails, func(a, b Tail) int { return int(a.From - b.From) })
	h := Head{open: map[int64]*opened{}}
	for i := range tails {
		t := &tails[i]
		h.first = t.First
		if err := h.join(t); err != nil {
			return nil, err
		}
	}
	return h.Take(time.Time{}), nil
}

func (h *Head) join(t *Tail) error {
	return t.each(func(thing int64, columns []Column) error {
		if h.open[thing] == nil {
			h.open[thing] = &opened{}
		}
		for _, c := range columns {
			p := h.open[thing].pen(c.Name)
			if err := read(c.Data, Raw.Slots(), func(slot, q int64) { p.put(t.From-t.First+slot, q) }); err != nil {
				return err
			}
		}
		return nil
	})
}

// Resume is a head that goes on where tails end: those of the row that a moment is in. Earlier ones are whole rows, which are to be kept.
func Resume(tails []Tail, now time.Time) (*Head, []Row, error) {
	h, rows := NewHead(now), []Row(nil)
	by := map[int64][]Tail{}
	for _, t := range tails {
		by[t.First] = append(by[t.First], t)
	}
	for first, of := range by {
		if first == h.first {
			slices.SortStableFunc(of, func(a, b Tail) int { return int(a.From - b.From) })
			for i := range of {
				if err := h.join(&of[i]); err != nil {
					return nil, nil, err
				}
			}
			continue
		}
		whole, err := Join(of)
		if err != nil {
			return nil, nil, err
		}
		rows = append(rows, whole...)
	}
	return h, rows, nil
}
