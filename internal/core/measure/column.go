package measure

import (
	"encoding/binary"
	"fmt"
	"math"
)

// missing stands for a sample that was not taken.
const missing = math.MinInt64

// Part is what a column says of each span of time.
type Part byte

// The parts. A raw row has means alone, which are the samples.
const (
	Mean Part = iota
	Min
	Max
	parts
)

// Column are the samples of one measure in one row, from its first slot on. Those after the last that was taken are missing.
type Column struct {
	Name string
	Part Part
	Data []byte
}

// A column is a series of numbers in the variable length of package encoding/binary. A number from 3 on is a difference to the sample before, as binary puts signs
// into the lowest bit, and 3 more; the lesser ones are followed by how many samples they stand for.
const (
	same   = 0
	absent = 1
	lowest = 2
)

// pen writes a column as samples come. The zero pen is a column without samples.
type pen struct {
	data []byte
	n    int64
	last int64
	// sames and absents are those of a run that is not written yet: at most one of them is not 0.
	sames, absents uint64
}

// put adds the sample of a slot, counted from the first; those that were left out are missing. A slot that has its sample already keeps it.
func (p *pen) put(slot, q int64) bool {
	if slot < p.n {
		return false
	}
	if q == missing {
		return true // it is missing by what comes after it
	}
	if gap := slot - p.n; gap > 0 {
		p.flush()
		p.absents = uint64(gap)
		p.n = slot
	}
	p.n++
	if q == p.last {
		if p.absents > 0 {
			p.flush()
		}
		p.sames++
		return true
	}
	p.flush()
	p.data = binary.AppendUvarint(p.data, zigzag(q-p.last)+lowest)
	p.last = q
	return true
}

// flush writes a run that has ended.
func (p *pen) flush() {
	if p.sames > 0 {
		p.data = binary.AppendUvarint(append(p.data, same), p.sames)
	}
	if p.absents > 0 {
		p.data = binary.AppendUvarint(append(p.data, absent), p.absents)
	}
	p.sames, p.absents = 0, 0
}

// column is what was written, which may go on.
func (p *pen) column() []byte {
	whole := *p
	whole.data = append([]byte(nil), p.data...)
	whole.flush()
	return whole.data
}

func zigzag(d int64) uint64 { return uint64(d<<1) ^ uint64(d>>63) }

func unzigzag(u uint64) int64 { return int64(u>>1) ^ -int64(u&1) }

// read gives each sample of a column with its slot, counted from the first. Data that no pen wrote is an error, wherever it ends.
func read(data []byte, most int64, each func(slot, q int64)) error {
	var slot, last int64
	for len(data) > 0 {
		u, n := binary.Uvarint(data)
		if n <= 0 {
			return fmt.Errorf("a column is cut off")
		}
		data = data[n:]
		if u >= lowest {
			last += unzigzag(u - lowest)
			if slot++; slot > most {
				return tooMany(most)
			}
			each(slot-1, last)
			continue
		}
		run, n := binary.Uvarint(data)
		if n <= 0 {
			return fmt.Errorf("a column is cut off")
		}
		data = data[n:]
		if run > uint64(most-slot) {
			return tooMany(most)
		}
		for range run {
			if u == same {
				each(slot, last)
			}
			slot++
		}
	}
	return nil
}

func tooMany(most int64) error { return fmt.Errorf("a column has more than %d samples", most) }

// Pack makes one value of the columns of a row.
func Pack(columns []Column) []byte {
	var out []byte
	for _, c := range columns {
		out = appendColumn(out, c.Name, c.Part, c.Data)
	}
	return out
}

func appendColumn(out []byte, name string, part Part, data []byte) []byte {
	out = binary.AppendUvarint(out, uint64(len(name)))
	out = append(out, name...)
	out = append(out, byte(part))
	out = binary.AppendUvarint(out, uint64(len(data)))
	return append(out, data...)
}

// Unpack is the columns of a row.
func Unpack(body []byte) ([]Column, error) {
	var out []Column
	for len(body) > 0 {
		name, rest, ok := piece(body)
		if !ok || len(rest) == 0 || Part(rest[0]) >= parts {
			return nil, fmt.Errorf("a row of measures is damaged")
		}
		part := Part(rest[0])
		data, rest, ok := piece(rest[1:])
		if !ok {
			return nil, fmt.Errorf("a row of measures is cut off")
		}
		out, body = append(out, Column{string(name), part, data}), rest
	}
	return out, nil
}

// piece takes bytes that their number stands before.
func piece(from []byte) (got, rest []byte, ok bool) {
	n, k := binary.Uvarint(from)
	if k <= 0 || n > uint64(len(from)-k) {
		return nil, nil, false
	}
	return from[k : k+int(n)], from[k+int(n):], true
}
