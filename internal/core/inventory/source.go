package inventory

import (
	"hash/maphash"
	"math/bits"
)

// Source is a list of records that are made only when somebody looks at one: of a million records most are compared by
// their digests alone.
type Source interface {
	Len() int
	// Keys are hashes of the provider's id with its site, of our mark, and of the serial number; 0 where there is none.
	Keys(i int) Keys
	// Digest is equal for two records that agree in everything that can be compared.
	Digest(i int) uint64
	Record(i int) Record
}

// Keys are hashes of a record's sure keys.
type Keys [3]uint64

// The places of the keys.
const (
	byProvider = iota
	byMark
	bySerial
)

// seed is this process's: digests and keys are compared within it and kept nowhere.
var seed = maphash.MakeSeed()

func hashText(s string) uint64 { return maphash.String(seed, s) }

// mix spreads two numbers over one; equal pairs give equal numbers, in this order only.
func mix(a, b uint64) uint64 {
	hi, lo := bits.Mul64(a^0x9e3779b97f4a7c15, b|1)
	return hi ^ lo ^ a
}

// key is the hash of a sure key of one kind.
func key(kind int, value uint64) uint64 { return mix(value, uint64(kind)*2+0xa0761d6478bd642f) | 1 }

// part is what one attribute adds to a digest; the order of attributes does not matter.
func part(column, value uint64) uint64 { return mix(value, column) }

// Records is a source in memory.
type Records []Record

// Len is the number of records.
func (s Records) Len() int { return len(s) }

// Record is one of them.
func (s Records) Record(i int) Record { return s[i] }

// Keys are the sure keys of one.
func (s Records) Keys(i int) Keys {
	r := &s[i]
	var k Keys
	if r.Provider != "" {
		k[byProvider] = key(byProvider, mix(hashText(r.Site), hashText(r.Provider)))
	}
	if r.Mark != "" {
		k[byMark] = key(byMark, hashText(r.Mark))
	}
	if r.Serial != "" {
		k[bySerial] = key(bySerial, hashText(r.Serial))
	}
	return k
}

// Digest sums up what can be compared.
func (s Records) Digest(i int) uint64 {
	r := &s[i]
	var sum uint64
	add := func(column, value string) {
		if value != "" {
			sum += part(hashText(column), hashText(value))
		}
	}
	add(columnClass, string(r.Class))
	add(AttrName, r.Name)
	add(columnSite, r.Site)
	add(columnProvider, r.Provider)
	add(columnMark, r.Mark)
	add(columnSerial, r.Serial)
	for k, v := range r.Attributes {
		add(k, v)
	}
	return sum
}
