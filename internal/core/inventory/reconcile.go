package inventory

import (
	"cmp"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Region is a part of a site that is surveyed by itself.
type Region struct{ Site, Region string }

// Coverage says of which regions all is known, and since when. A nil coverage says that everything was seen; a region
// that is not in it was not, and nothing there counts as gone.
type Coverage map[Region]time.Time

// saw reports that whatever stood where a record is since a time must have been seen. A record that does not say its
// region is seen for sure only if every region of its site was.
func (c Coverage) saw(r *Record, since time.Time, whole map[string]bool) bool {
	if c == nil {
		return true
	}
	if r.Region != "" {
		at, ok := c[Region{r.Site, r.Region}]
		return ok && !at.Before(since)
	}
	for k, at := range c {
		if k.Site == r.Site && at.Before(since) {
			return false
		}
	}
	return whole[r.Site]
}

// Decision is a person's word on whether an observation is a record.
type Decision struct {
	Site     string `json:"site"`
	Provider string `json:"provider_id"`
	Record   string `json:"record"`
	Same     bool   `json:"same"`
}

// Input is what is reconciled. Any source may be nil.
type Input struct {
	Declared, Recorded, Observed Source
	Coverage                     Coverage
	// Regions are all regions of each site that is surveyed; those that Coverage lacks failed.
	Regions   []Region
	Rules     Rules
	Decisions []Decision
	Ignored   []Ignored
	// Now is the time; StaleAfter how long something may be unseen, 24 hours if 0.
	Now        time.Time
	StaleAfter time.Duration
	Limits     Limits
}

// Follow is a record that takes over what counts without anybody being asked: what only a site can know, or what
// declared and observed agree on.
type Follow struct {
	Record  Record
	Changes []Difference
}

// Report is what a reconciliation found.
type Report struct {
	// Findings are ranked, the gravest first; Ignored are those that a person let be.
	Findings []Finding `json:"findings"`
	Ignored  []Finding `json:"ignored,omitempty"`
	// Follows are changes of records that nobody need settle; New are records to be made of what is declared and there.
	Follows []Follow `json:"-"`
	New     []Record `json:"-"`
	// Seen are the observations of records that are there, by the record's id.
	Pairs []Pair `json:"-"`
	// Counts.
	Declared int `json:"declared"`
	Recorded int `json:"recorded"`
	Observed int `json:"observed"`
	Agreeing int `json:"agreeing"`
	// Weighed is how many were matched by evidence, Review how many a person should look at.
	Weighed int `json:"weighed"`
	Review  int `json:"review"`
}

// Pair is a record and the observation that is the same thing, by their places in the sources.
type Pair struct{ Recorded, Observed int32 }

// entity is one thing by its places in the sources, -1 where a source does not know it.
type entity struct {
	d, r, o int32
	// match is the place in the matches of what made them one, -1 for nothing yet.
	match  int32
	review bool
}

// reconciler is one reconciliation under way.
type reconciler struct {
	in       Input
	entities []entity
	// matches are why entities have observations; the first are those of sure keys and of decisions, which many share.
	matches []Match
	// byKey leads from the hash of a sure key to an entity.
	byKey map[uint64]int32
	// ofObserved is each observation's entity, or -1; twin is the entity that an observation is a duplicate of.
	ofObserved []int32
	twins      map[int32]int32
	// recordTwins are entities of a record that is the same thing as another entity.
	recordTwins map[int32]int32
	apart       map[apart]bool
	whole       map[string]bool
	report      Report
}

func empty(s Source) Source {
	if s == nil {
		return Records(nil)
	}
	return s
}

// Reconcile compares the sources.
func Reconcile(in Input) *Report {
	in.Declared, in.Recorded, in.Observed = empty(in.Declared), empty(in.Recorded), empty(in.Observed)
	if in.StaleAfter == 0 {
		in.StaleAfter = 24 * time.Hour
	}
	in.Limits = in.Limits.filled()
	c := &reconciler{in: in, byKey: make(map[uint64]int32, in.Recorded.Len()+in.Declared.Len()), twins: map[int32]int32{},
		recordTwins: map[int32]int32{}, matches: slices.Clone(shared), apart: map[apart]bool{}, whole: wholeSites(in)}
	c.report.Declared, c.report.Recorded, c.report.Observed = in.Declared.Len(), in.Recorded.Len(), in.Observed.Len()
	c.known()
	c.sure()
	c.weigh()
	c.judge()
	c.order()
	return &c.report
}

// wholeSites are the sites of which every region was seen.
func wholeSites(in Input) map[string]bool {
	whole := map[string]bool{}
	for r := range in.Coverage {
		whole[r.Site] = true
	}
	for _, r := range in.Regions {
		if _, seen := in.Coverage[r]; !seen {
			whole[r.Site] = false
		}
	}
	return whole
}

// known makes entities of what is recorded and declared.
func (c *reconciler) known() {
	c.entities = make([]entity, 0, c.in.Recorded.Len()+c.in.Declared.Len())
	for i := range c.in.Recorded.Len() {
		at := int32(len(c.entities))
		c.entities = append(c.entities, entity{-1, int32(i), -1, -1, false})
		for _, k := range c.in.Recorded.Keys(i) {
			if first, taken := c.byKey[k]; k != 0 && taken {
				c.recordTwins[at] = first
			} else if k != 0 {
				c.byKey[k] = at
			}
		}
	}
	// The site's id of all of them first: what a move keeps where it was has the mark of what serves elsewhere now.
	at0 := make([]int32, c.in.Declared.Len())
	for i := range at0 {
		at0[i] = -1
		k := c.in.Declared.Keys(i)[byProvider]
		if e, known := c.byKey[k]; k != 0 && known && c.entities[e].d < 0 {
			at0[i], c.entities[e].d = e, int32(i)
		}
	}
	for i := range at0 {
		at := at0[i]
		keys := c.in.Declared.Keys(i)
		for _, k := range keys {
			if e, known := c.byKey[k]; at < 0 && k != 0 && known && c.entities[e].d < 0 {
				at = e
			}
		}
		if at < 0 {
			at = int32(len(c.entities))
			c.entities = append(c.entities, entity{-1, -1, -1, -1, false})
		}
		c.entities[at].d = int32(i)
		for _, k := range keys {
			if _, known := c.byKey[k]; k != 0 && !known {
				c.byKey[k] = at
			}
		}
	}
}

// sure matches observations by keys that cannot be mistaken: the provider's id for all of them first, so that a copy
// that bears another's mark does not take its place.
func (c *reconciler) sure() {
	c.ofObserved = make([]int32, c.in.Observed.Len())
	c.decided()
	for i := range c.ofObserved {
		if c.ofObserved[i] >= 0 {
			continue
		}
		if e, ok := c.byKey[c.in.Observed.Keys(i)[byProvider]]; ok && c.entities[e].o < 0 && c.may(int32(i), e) {
			c.join(int32(i), e, byProvider)
		}
	}
	for i := range c.ofObserved {
		keys := c.in.Observed.Keys(i)
		if c.ofObserved[i] >= 0 && keys[byMark] == 0 && keys[bySerial] == 0 {
			continue
		}
		for kind := byProvider; kind <= bySerial; kind++ {
			e, ok := c.byKey[keys[kind]]
			if !ok || keys[kind] == 0 || c.ofObserved[i] == e || !c.may(int32(i), e) {
				continue
			}
			mine := c.ofObserved[i]
			switch {
			case mine >= 0 && c.entities[e].o < 0 && c.entities[e].r >= 0 && c.entities[e].d < 0:
				c.recordTwins[e] = mine
			case mine >= 0:
			case c.entities[e].o >= 0:
				c.twins[int32(i)] = e
			default:
				c.join(int32(i), e, int32(kind))
			}
		}
	}
}

// shared are the matches that many have: by each sure key, and by a person's word.
var shared = []Match{byProvider: {By: "provider id", Score: certain}, byMark: {By: "our mark", Score: certain}, bySerial: {By: "serial number", Score: certain},
	byDecision: {By: "decision", Score: certain}}

// byDecision is the place of matches by a person's word.
const byDecision = bySerial + 1

func (c *reconciler) join(o, e, m int32) {
	c.ofObserved[o] = e
	c.entities[e].o, c.entities[e].match = o, m
	delete(c.twins, o)
}

// judge turns entities into findings, on all cores.
func (c *reconciler) judge() {
	workers := runtime.GOMAXPROCS(0)
	parts := make([]reconciler, workers)
	var group sync.WaitGroup
	for w := range workers {
		parts[w] = *c
		parts[w].report = Report{}
		n := len(c.entities)
		group.Go(func() { parts[w].judgeSome(n*w/workers, n*(w+1)/workers) })
	}
	group.Wait()
	for w := range parts {
		c.report.merge(&parts[w].report)
	}
	for o, e := range c.ofObserved {
		if e >= 0 {
			continue
		}
		if of, twin := c.twins[int32(o)]; twin {
			c.duplicate(int32(o), &c.entities[of])
			continue
		}
		c.unmanaged(int32(o))
	}
	c.fold()
}

// merge adds what another part of the work found.
func (r *Report) merge(o *Report) {
	r.Findings = append(r.Findings, o.Findings...)
	r.Follows = append(r.Follows, o.Follows...)
	r.New = append(r.New, o.New...)
	r.Pairs = append(r.Pairs, o.Pairs...)
	r.Agreeing += o.Agreeing
}

// judgeSome judges the entities from one to another.
func (c *reconciler) judgeSome(from, to int) {
	for i := from; i < to; i++ {
		e := &c.entities[i]
		if e.o >= 0 && e.r >= 0 && c.in.Limits.Pairs {
			c.report.Pairs = append(c.report.Pairs, Pair{e.r, e.o})
		}
		switch {
		case c.twin(int32(i)):
		case e.o >= 0 && e.d < 0 && e.r >= 0 && !e.review && c.in.Recorded.Digest(int(e.r)) == c.in.Observed.Digest(int(e.o)):
			c.report.Agreeing++
		case e.o < 0:
			c.missing(e)
		default:
			c.compare(e)
		}
	}
}

// twin makes a finding of a record that is the same thing as another; false if the entity is none.
func (c *reconciler) twin(i int32) bool {
	of, twin := c.recordTwins[i]
	if !twin || c.entities[i].o >= 0 {
		return false
	}
	c.recordedTwice(&c.entities[i], &c.entities[of])
	return true
}

// order ranks findings and sets aside those that are ignored.
func (c *reconciler) order() {
	let := map[string]time.Time{}
	for _, i := range c.in.Ignored {
		let[i.Finding] = i.Until
	}
	all := c.report.Findings
	c.report.Findings = all[:0:0]
	for i := range all {
		all[i].identify()
		if until, ignored := let[all[i].ID]; ignored && (until.IsZero() || c.in.Now.Before(until)) {
			c.report.Ignored = append(c.report.Ignored, all[i])
			continue
		}
		if all[i].Review {
			c.report.Review++
		}
		c.report.Findings = append(c.report.Findings, all[i])
	}
	slices.SortStableFunc(c.report.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Rank, a.Rank), cmp.Compare(a.Site, b.Site), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
	})
}

// same reports that two values say the same: equal text, or equal numbers.
func same(a, b string) bool {
	if a == b {
		return true
	}
	x, errX := strconv.ParseFloat(a, 64)
	y, errY := strconv.ParseFloat(b, 64)
	return errX == nil && errY == nil && x == y
}
