package inventory

import (
	"cmp"
	"maps"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"

	"andamio/internal/core/kinds"
)

// certain is the score of a match by a sure key.
const certain = 1

// Limits are the thresholds of identity.
type Limits struct {
	// Same is from which probability on two are taken as one thing, Review from which a person is asked. Below that they
	// are two. The defaults are 0.98 and 0.6.
	Same, Review float64
	// Pairs asks for the list of what was matched.
	Pairs bool
}

func (l Limits) filled() Limits {
	if l.Same == 0 {
		l.Same = 0.98
	}
	if l.Review == 0 {
		l.Review = 0.6
	}
	return l
}

// Match is why a record and an observation are one thing.
type Match struct {
	// By is the sure key that agrees, "evidence", or "decision".
	By string `json:"by,omitempty"`
	// Score is the probability that they are one, from 0 to 1.
	Score    float64    `json:"score,omitempty"`
	Evidence []Evidence `json:"evidence,omitempty"`
}

// Evidence is what one attribute says for (above 0) or against two being one thing, in bits: one bit doubles the odds.
type Evidence struct {
	Attribute string  `json:"attribute"`
	Recorded  string  `json:"recorded"`
	Observed  string  `json:"observed"`
	Bits      float64 `json:"bits"`
}

// trait is an attribute that counts as evidence, after the model of Fellegi and Sunter (A Theory for Record Linkage,
// 1969): m is how likely it agrees where two are one thing; u how likely by chance, where nothing is known of how common
// the value is. Those that block lead from an observation to the records it is compared with.
type trait struct {
	attribute string
	m, u      float64
	block     bool
	like      func(a, b string) float64
}

// exact agreement, and agreement of names.
func exactly(a, b string) float64 {
	if same(a, b) {
		return 1
	}
	return 0
}

var traits = []trait{
	{AttrMAC, 0.95, 1e-5, true, exactly},
	{AttrInside, 0.85, 1e-3, true, exactly},
	{AttrAddress, 0.8, 1e-3, true, exactly},
	{AttrHostname, 0.9, 2e-3, true, nameLikeness},
	{AttrName, 0.85, 2e-3, true, nameLikeness},
	{AttrCores, 0.95, 0.2, false, exactly},
	{AttrMemory, 0.93, 0.15, false, exactly},
	{AttrDisk, 0.95, 0.15, false, exactly},
	{AttrImage, 0.97, 0.3, false, exactly},
	{AttrZone, 0.9, 0.4, false, exactly},
	{"cidr", 0.95, 0.05, true, exactly},
	{"vlan", 0.9, 0.05, false, exactly},
	{AttrAttached, 0.85, 1e-3, true, exactly},
	{AttrInstance, 0.85, 1e-3, true, exactly},
	{AttrNetwork, 0.9, 0.1, false, exactly},
	{AttrPorts, 0.9, 0.2, false, exactly},
}

// Tags count alike, whichever they are.
const tagM, tagU = 0.9, 0.25

// The rest of the model: what being at one site says, how far the second best must lie behind, and from how many
// records with one value on that value leads to no comparisons.
const (
	siteBits   = 1.5
	marginBits = 4
	maxBlock   = 64
	// believed is how many observations the assumed commonness of a value is worth.
	believed = 20
)

// weigher matches what sure keys did not.
type weigher struct {
	c *reconciler
	// left are records without an observation, right observations without a record.
	left, right   []Record
	entity, place []int32
	// common counts values among the left, by class and attribute.
	common map[value]int32
	of     map[kinds.Kind]int
	blocks map[value][]int32
}

type value struct {
	class           kinds.Kind
	attribute, text string
}

// weigh matches by evidence what sure keys did not match.
func (c *reconciler) weigh() {
	w := &weigher{c: c, common: map[value]int32{}, of: map[kinds.Kind]int{}, blocks: map[value][]int32{}}
	w.collect()
	w.arrange()
	if len(w.left) == 0 || len(w.right) == 0 {
		return
	}
	w.index()
	w.assign(w.candidates())
}

func (w *weigher) collect() {
	c := w.c
	for i := range c.entities {
		e := &c.entities[i]
		_, twin := c.recordTwins[int32(i)]
		switch {
		case e.o >= 0 || twin:
		case e.r >= 0:
			w.left, w.entity = append(w.left, c.in.Recorded.Record(int(e.r))), append(w.entity, int32(i))
		default:
			w.left, w.entity = append(w.left, c.in.Declared.Record(int(e.d))), append(w.entity, int32(i))
		}
	}
	if len(w.left) == 0 {
		return
	}
	for o, e := range c.ofObserved {
		if _, twin := c.twins[int32(o)]; e < 0 && !twin {
			w.right, w.place = append(w.right, c.in.Observed.Record(o)), append(w.place, int32(o))
		}
	}
}

// arrange puts what is compared into an order that is the same however the sources were ordered: ties are broken by it.
func (w *weigher) arrange() {
	inOrder(w.left, w.entity)
	inOrder(w.right, w.place)
}

// inOrder sorts records, and what goes with each, by what they say.
func inOrder(records []Record, with []int32) {
	type pair struct {
		record Record
		with   int32
		key    string
	}
	all := make([]pair, len(records))
	for i := range records {
		r := &records[i]
		all[i] = pair{*r, with[i], strings.Join([]string{string(r.Class), r.Site, r.Provider, r.ID, r.Name}, "\x00")}
	}
	slices.SortStableFunc(all, func(a, b pair) int {
		if c := cmp.Compare(a.key, b.key); c != 0 {
			return c
		}
		return cmp.Compare(digestOf(&a.record), digestOf(&b.record))
	})
	for i := range all {
		records[i], with[i] = all[i].record, all[i].with
	}
}

// digestOf is all attributes of a record, for telling apart two that are alike in everything else.
func digestOf(r *Record) string {
	var out strings.Builder
	for _, k := range slices.Sorted(maps.Keys(r.Attributes)) {
		out.WriteString(k + "=" + r.Attributes[k] + "\x00")
	}
	return out.String()
}

func (w *weigher) index() {
	for i := range w.left {
		r := &w.left[i]
		w.of[r.Class]++
		for _, t := range traits {
			if v, ok := r.Value(t.attribute); ok {
				w.common[value{r.Class, t.attribute, v}]++
				if t.block {
					at := value{r.Class, t.attribute, blockOf(t, v)}
					w.blocks[at] = append(w.blocks[at], int32(i))
				}
			}
		}
		for k, v := range r.Attributes {
			if strings.HasPrefix(k, TagPrefix) {
				w.common[value{r.Class, k, v}]++
			}
		}
	}
}

// blockOf is under what a value leads to candidates: names in their plain form.
func blockOf(t trait, v string) string {
	if t.attribute == AttrName || t.attribute == AttrHostname {
		return plain(v)
	}
	return v
}

// candidate is a pair that may be one thing.
type candidate struct {
	left, right int32
	bits        float64
}

// candidates are the pairs that may be one thing, the likeliest first. The work is done on all cores.
func (w *weigher) candidates() []candidate {
	workers := runtime.GOMAXPROCS(0)
	parts := make([][]candidate, workers)
	var group sync.WaitGroup
	for k := range workers {
		n := len(w.right)
		group.Go(func() { parts[k] = w.candidatesOf(n*k/workers, n*(k+1)/workers) })
	}
	group.Wait()
	out := slices.Concat(parts...)
	slices.SortFunc(out, func(a, b candidate) int {
		return cmp.Or(cmp.Compare(b.bits, a.bits), cmp.Compare(a.left, b.left), cmp.Compare(a.right, b.right))
	})
	return out
}

// candidatesOf are those of some observations.
func (w *weigher) candidatesOf(from, to int) []candidate {
	var out []candidate
	tried := make([]int32, len(w.left)) // the observation that a record was compared with last
	for o := from; o < to; o++ {
		r := &w.right[o]
		for _, t := range traits {
			v, ok := r.Value(t.attribute)
			if !t.block || !ok {
				continue
			}
			block := w.blocks[value{r.Class, t.attribute, blockOf(t, v)}]
			if len(block) > maxBlock {
				continue
			}
			for _, l := range block {
				if tried[l] == int32(o)+1 || !w.c.may(w.place[o], w.entity[l]) {
					continue
				}
				tried[l] = int32(o) + 1
				if bits := w.bits(&w.left[l], r, nil); bits > -1 {
					out = append(out, candidate{l, int32(o), bits})
				}
			}
		}
	}
	return out
}

// bits weighs all that two records say; into, if not nil, is told each part. What only one of them says counts neither
// way.
func (w *weigher) bits(l, o *Record, into *[]Evidence) float64 {
	sum := -math.Log2(float64(w.of[l.Class]) + 1)
	say := func(attribute, a, b string, bits float64) {
		sum += bits
		if into != nil && math.Abs(bits) >= 0.05 {
			*into = append(*into, Evidence{attribute, a, b, math.Round(bits*10) / 10})
		}
	}
	if l.Site == o.Site {
		say("site", l.Site, o.Site, siteBits)
	} else {
		say("site", l.Site, o.Site, -siteBits)
	}
	for i := range traits {
		t := &traits[i]
		a, okA := l.Value(t.attribute)
		b, okB := o.Value(t.attribute)
		if !okA || !okB || l.Site != o.Site && bound(t.attribute) {
			continue
		}
		say(t.attribute, a, b, w.agreement(l.Class, t.attribute, a, t.m, t.u, t.like(a, b)))
	}
	for _, k := range tagsOf(l) { // sums of equal parts in another order are not the same to the last bit
		if a, b := l.Attributes[k], o.Attributes[k]; b != "" {
			say(k, a, b, w.agreement(l.Class, k, a, tagM, tagU, exactly(a, b))/2)
		}
	}
	if into != nil {
		slices.SortStableFunc(*into, func(a, b Evidence) int {
			return cmp.Or(cmp.Compare(math.Abs(b.Bits), math.Abs(a.Bits)), cmp.Compare(a.Attribute, b.Attribute))
		})
	}
	return sum
}

// tagsOf are the tags of a record, in order.
func tagsOf(r *Record) []string {
	var out []string
	for k := range r.Attributes {
		if strings.HasPrefix(k, TagPrefix) {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

// bound attributes mean something only within their site.
func bound(attribute string) bool {
	switch attribute {
	case AttrZone, AttrNetwork, AttrInstance, AttrAttached, AttrAddress, AttrInside, "vlan":
		return true
	}
	return false
}

// agreement is what agreeing, or not, in one attribute is worth. The commoner a value, the less it says.
func (w *weigher) agreement(class kinds.Kind, attribute, v string, m, u, like float64) float64 {
	n, k := float64(w.of[class]), float64(w.common[value{class, attribute, v}])
	u = min((k-1+believed*u)/(n+believed), 0.95)
	u = max(u, 1e-6)
	against := math.Log2((1 - m) / (1 - min(u, m)))
	return like*math.Log2(max(m, u)/u) + (1-like)*against
}

// assign takes the best pairs first, each record and observation once. Where another pair is nearly as good, a person is
// asked.
func (w *weigher) assign(all []candidate) {
	byLeft, byRight := make([][]int32, len(w.left)), make([][]int32, len(w.right))
	for i, p := range all {
		byLeft[p.left] = append(byLeft[p.left], int32(i))
		byRight[p.right] = append(byRight[p.right], int32(i))
	}
	usedL, usedR := make([]bool, len(w.left)), make([]bool, len(w.right))
	for i, p := range all {
		score := 1 / (1 + math.Exp2(-p.bits))
		if usedL[p.left] || usedR[p.right] || score < w.c.in.Limits.Review {
			continue
		}
		review := score < w.c.in.Limits.Same
		for _, k := range slices.Concat(byLeft[p.left], byRight[p.right]) {
			q := all[k]
			if int(k) != i && !usedL[q.left] && !usedR[q.right] && p.bits-q.bits < marginBits {
				review = true
			}
		}
		usedL[p.left], usedR[p.right] = true, true
		m := Match{By: "evidence", Score: score}
		w.bits(&w.left[p.left], &w.right[p.right], &m.Evidence)
		w.c.matches = append(w.c.matches, m)
		w.c.join(w.place[p.right], w.entity[p.left], int32(len(w.c.matches)-1))
		w.c.entities[w.entity[p.left]].review = review
		w.c.report.Weighed++
	}
}
