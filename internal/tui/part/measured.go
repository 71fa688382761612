package part

import "andamio/internal/core/measure"

// InkAt is the ink of a point: by how much of its limit is used, or by whether it answers.
func InkAt(m *measure.Measure, p *measure.Point, limit float64) Ink {
	switch {
	case m.Answering() && p.Min < 1:
		return Coral
	case m.Answering():
		return Teal
	case limit <= 0:
		return Sky
	case p.Mean > 0.95*limit:
		return Coral
	case p.Mean > 0.85*limit:
		return Ochre
	}
	return Teal
}

// MostOf is how high a curve goes: to its limit, or to the most that was measured.
func MostOf(m *measure.Measure, points []measure.Point, limit float64) float64 {
	switch {
	case m.Answering():
		return 1
	case limit > 0:
		return limit
	}
	most := 0.0
	for i := range points {
		most = max(most, points[i].Max)
	}
	return most
}

// Measured draws a measure as bars of one row.
func Measured(c *Canvas, x, y, w int, name string, points []measure.Point, limit float64) {
	m := measure.Of(name)
	points = measure.Squeeze(points, w)
	values := make([]Known, len(points))
	for i := range points {
		values[i] = Known{Value: points[i].Mean, Is: points[i].N > 0}
		if m.Answering() { // that it failed for a moment is not to be lost in the mean
			values[i].Value = points[i].Min
		}
	}
	Bars(c, x, y, values, MostOf(&m, points, limit), func(i int) Ink { return InkAt(&m, &points[i], limit) })
}
