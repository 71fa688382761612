// Package damage makes inventories whose identifiers are damaged, with the truth beside them: what the thresholds of
// identity are measured with.
//
// In go a seed and sizes; out come records, observations of what still stands, and which is which. Every observation of
// a damaged thing has lost its sure keys, as after a restore or a move by hand, and each further identifier is damaged
// with a chance of its own. Siblings stand beside it: instances of one tier, alike in size, image, zone and tags. Heirs
// are new things that took over the name, the host name or the address of one that is gone.
package damage

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
)

// Config says how much there is and how it is damaged.
type Config struct {
	Seed uint64
	// Things is how many there are in truth.
	Things int
	// Gone is the share of records whose thing is gone, New that of observations nobody recorded, Lost that of things
	// whose sure keys are lost.
	Gone, New, Lost float64
}

// Default is what the thresholds were set with: a third of all things have lost their sure keys.
func Default(seed uint64) Config {
	return Config{Seed: seed, Things: 2000, Gone: 0.05, New: 0.05, Lost: 0.33}
}

// Truth is a damaged inventory: Is leads from the id of an observation to that of its record, where there is one.
type Truth struct {
	Recorded, Observed inventory.Records
	Is                 map[string]string
}

var (
	words  = strings.Fields("gauge river map contacts alert forecast relay archive valve sluice intake tide basin weir report feed ledger notice")
	roles  = strings.Fields("api db web worker cache queue edge batch store proxy")
	sites  = []string{"presa", "vega", "alisio-norte", "alisio-sur", "tramonta"}
	images = []string{"debian-12", "debian-13", "debian-12-edge"}
	owners = strings.Fields("telemetry warning register mapping operations")
)

// heirs gives some of the new things what the gone ones had: a name is used again, an address is handed out again.
func (t *Truth) heirs(r *rand.Rand) {
	var gone []inventory.Record
	is := map[string]bool{}
	for _, record := range t.Is {
		is[record] = true
	}
	for _, record := range t.Recorded {
		if !is[record.ID] {
			gone = append(gone, record)
		}
	}
	for i := range t.Observed {
		seen := &t.Observed[i]
		if t.Is[seen.ID] != "" || len(gone) == 0 || r.Float64() < 0.5 {
			continue
		}
		seen.Mark = ""
		from := gone[r.IntN(len(gone))]
		switch r.IntN(3) {
		case 0:
			seen.Name = from.Name
		case 1:
			seen.Attributes[inventory.AttrInside] = from.Attributes[inventory.AttrInside]
		default:
			seen.Attributes[inventory.AttrHostname] = from.Attributes[inventory.AttrHostname]
		}
	}
}

// New makes one.
func New(cfg Config) Truth {
	r := rand.New(rand.NewPCG(cfg.Seed, 0x5eed))
	t := Truth{Is: map[string]string{}}
	n := 0
	for n < cfg.Things {
		tier := newTier(r)
		for i := range 1 + r.IntN(8) {
			n++
			thing := tier.member(r, n, i+1)
			record := thing.Clone()
			record.ID = fmt.Sprintf("record-%d", n)
			seen := thing.Clone()
			seen.ID = fmt.Sprintf("seen-%d", n)
			if r.Float64() < cfg.Lost {
				Harm(r, &seen, n)
			}
			switch fate := r.Float64(); {
			case fate < cfg.Gone:
				t.Recorded = append(t.Recorded, record)
			case fate < cfg.Gone+cfg.New:
				t.Observed = append(t.Observed, seen)
			default:
				t.Recorded, t.Observed = append(t.Recorded, record), append(t.Observed, seen)
				t.Is[seen.ID] = record.ID
			}
		}
	}
	t.heirs(r)
	r.Shuffle(len(t.Observed), func(i, j int) { t.Observed[i], t.Observed[j] = t.Observed[j], t.Observed[i] })
	return t
}

// tier is what siblings share.
type tier struct {
	name, site, zone, image, owner string
	cores                          int
	memory, disk                   float64
}

func newTier(r *rand.Rand) tier {
	cores := 1 << r.IntN(4)
	return tier{pick(r, words) + "-" + pick(r, roles), pick(r, sites), string(rune('a' + r.IntN(3))), pick(r, images), pick(r, owners),
		cores, float64(cores * (2 << r.IntN(2))), float64(20 * (1 + r.IntN(5)))}
}

func pick(r *rand.Rand, from []string) string { return from[r.IntN(len(from))] }

func (t tier) member(r *rand.Rand, n, i int) inventory.Record {
	name := fmt.Sprintf("%s-%d", t.name, i)
	return inventory.Record{Class: kinds.Instance, Name: name, Site: t.site, Provider: fmt.Sprintf("%s-compute-%d", t.site, n),
		Mark: fmt.Sprintf("mark-%d", n), Attributes: map[string]string{
			inventory.AttrHostname: name + ".ribera.test", inventory.AttrCores: inventory.Number(float64(t.cores)),
			inventory.AttrMemory: inventory.Number(t.memory), inventory.AttrDisk: inventory.Number(t.disk), inventory.AttrImage: t.image,
			inventory.AttrZone: t.zone, inventory.AttrMAC: hardware(r), inventory.AttrInside: inside(r), "tag.owner": t.owner,
			"tag.tier": t.name}}
}

func hardware(r *rand.Rand) string {
	x := r.Uint64()
	return fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", x>>32&255, x>>24&255, x>>16&255, x>>8&255, x&255)
}

func inside(r *rand.Rand) string {
	return fmt.Sprintf("10.%d.%d.%d", r.IntN(64), r.IntN(256), 1+r.IntN(254))
}

// Harm takes an observation's sure keys away and damages other identifiers, each with a chance of its own. At least one
// of the hardware address, the inside address and the host name survives: of what has none left nobody could tell.
func Harm(r *rand.Rand, seen *inventory.Record, n int) {
	seen.Provider, seen.Mark = fmt.Sprintf("%s-restored-%d", seen.Site, n), ""
	keep := r.IntN(3)
	if keep != 0 && r.Float64() < 0.4 {
		seen.Attributes[inventory.AttrMAC] = hardware(r)
	}
	if keep != 1 && r.Float64() < 0.5 {
		seen.Attributes[inventory.AttrInside] = inside(r)
	}
	if keep != 2 && r.Float64() < 0.35 {
		delete(seen.Attributes, inventory.AttrHostname)
	}
	switch x := r.Float64(); {
	case x < 0.15:
		seen.Name = misspelt(r, seen.Name)
	case x < 0.25:
		seen.Name = strings.ToUpper(strings.ReplaceAll(seen.Name, "-", "_"))
	case x < 0.4:
		seen.Name = "restored-" + fmt.Sprint(r.IntN(1000))
	}
	if r.Float64() < 0.1 {
		seen.Attributes[inventory.AttrMemory] = inventory.Number(seen.Number(inventory.AttrMemory) * 2)
	}
	if r.Float64() < 0.08 {
		seen.Attributes[inventory.AttrZone] = string(rune('a' + r.IntN(3)))
	}
	if r.Float64() < 0.1 {
		delete(seen.Attributes, "tag.owner")
	}
	if r.Float64() < 0.05 {
		seen.Site = pick(r, sites)
	}
}

// misspelt exchanges two letters of a name.
func misspelt(r *rand.Rand, name string) string {
	b := []byte(name)
	i := r.IntN(len(b) - 2)
	if b[i] == '-' || b[i+1] == '-' || b[i+1] >= '0' && b[i+1] <= '9' {
		return name
	}
	b[i], b[i+1] = b[i+1], b[i]
	return string(b)
}
