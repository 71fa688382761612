package ledger

import (
	"cmp"
	"slices"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// Book is what is written down of one deployment, run after run.
type Book struct {
	// Charges are all that were ever made; those that go on have no end.
	Charges []Charge `json:"charges"`
	// Never are resources that the site was asked for and never took: nothing stands of them, though nobody is sure.
	Never map[string]bool `json:"never,omitempty"`
	// Last is as of when the book is: no charge begins or ends before it any more.
	Last time.Time `json:"last"`

	deployment int64
	open       map[string]int
}

// NewBook is an empty book of a deployment.
func NewBook(deployment int64) *Book { return (&Book{}).Of(deployment) }

// Of goes on with a book that was kept.
func (b *Book) Of(deployment int64) *Book {
	b.deployment, b.open = deployment, map[string]int{}
	for i := range b.Charges {
		if b.Charges[i].To.IsZero() {
			b.open[b.Charges[i].Resource] = i
		}
	}
	if b.Never == nil {
		b.Never = map[string]bool{}
	}
	return b
}

// Clone is a copy that can be written on by itself.
func (b *Book) Clone() *Book {
	out := &Book{Charges: slices.Clone(b.Charges), Never: map[string]bool{}, Last: b.Last}
	for id := range b.Never {
		out.Never[id] = true
	}
	return out.Of(b.deployment)
}

// Reader writes the journal of one run into a book.
type Reader struct {
	book  *Book
	state *run.State
	stand *change.Following
	made  time.Time
	err   error
	begin func() (*change.Following, error)
}

// Read begins to read the journal of a run that was made at a time, over what stood before it.
func (b *Book) Read(before change.Standing, p *plan.Plan, made time.Time) *Reader {
	return &Reader{book: b, state: run.New(p), made: made, begin: func() (*change.Following, error) { return change.Follow(before, p) }}
}

// State is how the run is, by what was read of it.
func (r *Reader) State() *run.State { return r.state }

// Apply writes down what the next event of the journal means. The first error is kept, and nothing is written after it.
func (r *Reader) Apply(e run.Event) error {
	if r.err != nil {
		return r.err
	}
	r.state.Apply(e)
	if r.stand == nil {
		if r.state.Started.IsZero() {
			return nil
		}
		if r.stand, r.err = r.begin(); r.err != nil {
			return r.err
		}
		r.whole(e.At)
	}
	s := r.state.Step(e.Step)
	if s == nil {
		return nil
	}
	switch e.Kind {
	case run.StepAsked:
		if builds(s) {
			delete(r.book.Never, s.Resource) // it is at the site from now on, whether it becomes what was asked for or not
			r.write(r.stand.Step(s), e.At)
		}
	case run.Discarded: // what the site built is removed again
		if builds(s) {
			r.book.Never[s.Resource] = true
			r.write([]string{s.Resource}, e.At)
		}
	case run.StepDone, run.StepPassed, run.StepFailed, run.StepStopped, run.Decided:
		r.ended(s, e.At)
	}
	return nil
}

// ended writes down how a step ended, or what was decided on it.
func (r *Reader) ended(s *run.Step, at time.Time) {
	switch {
	case s.Status == run.Standing:
		delete(r.book.Never, s.Resource)
	case builds(s) && s.AskedID == "" && !r.stands(s.Resource):
		r.book.Never[s.Resource] = true
	}
	r.write(r.stand.Step(s), at)
}

func (r *Reader) stands(resource string) bool {
	_, open := r.book.open[resource]
	return open
}

// builds reports that a step has the site build its resource.
func builds(s *run.Step) bool { return s.Op == op.Create && s.Script == nil }

// whole writes down all that stands.
func (r *Reader) whole(at time.Time) {
	ids := r.stand.Resources()
	for id := range r.book.open {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	r.write(slices.Compact(ids), at)
}

// write ends the charges of resources that are otherwise since a moment, and begins others for what they are.
func (r *Reader) write(ids []string, at time.Time) {
	b := r.book
	if at = at.UTC().Truncate(time.Second); at.Before(b.Last) {
		at = b.Last // a clock that was put back takes nothing back
	}
	b.Last = at
	for _, id := range ids {
		now, is := r.charge(id)
		if i, open := b.open[id]; open {
			if is && same(&b.Charges[i], &now) {
				continue
			}
			b.end(i, at)
		}
		if is {
			now.From = at
			b.open[id] = len(b.Charges)
			b.Charges = append(b.Charges, now)
		}
	}
}

// end ends a charge.
func (b *Book) end(i int, at time.Time) {
	b.Charges[i].To = at
	delete(b.open, b.Charges[i].Resource)
}

// charge is what a resource is as it stands; false if nothing is charged for it.
func (r *Reader) charge(id string) (Charge, bool) {
	x, stands := r.stand.Resource(id)
	if !stands || r.book.Never[id] || x.Kind != kinds.Instance && x.Kind != kinds.Volume && x.Kind != kinds.Snapshot && x.Costs() == 0 {
		return Charge{}, false
	}
	i := x.AsInstance()
	return Charge{Deployment: r.book.deployment, Resource: id, Title: x.Title, Kind: x.Kind, Service: x.Service, Site: x.Site, Zone: x.Zone, Size: i.Size,
		Class: cmp.Or(i.Class, x.AsVolume().Class), Cores: i.Cores, MemoryGiB: i.MemoryGiB, DiskGiB: x.DiskGiB(), Off: x.Off,
		PerHour: x.Costs(), PerHourOff: x.CostOff, Agreed: r.made}, true
}

// same reports that two charges are of a thing that has not changed.
func same(a, b *Charge) bool {
	x, y := *a, *b
	x.Agreed, x.From, x.To, x.base = y.Agreed, y.From, y.To, y.base
	return x == y
}

// Closed are the charges without those that began and ended within one second.
func (b *Book) Closed() []Charge {
	return slices.DeleteFunc(slices.Clone(b.Charges), func(c Charge) bool { return !c.To.IsZero() && !c.To.After(c.From) })
}
