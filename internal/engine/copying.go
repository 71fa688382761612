package engine

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
	"andamio/internal/site/relay"
)

// copyingDeadline bounds a step that copies. Rounds go on until a person says so; what hangs is noticed call by call.
const copyingDeadline = 90 * 24 * time.Hour

// How copying is done: how long one order to copy is to take, and how large it may be; how long it waits at most between
// two rounds when little changes.
const (
	orderTime   = 700 * time.Millisecond
	firstOrder  = 16 << 20
	leastOrder  = 1 << 20
	smallOrder  = 64 << 10
	mostOrder   = 256 << 20
	shortRound  = 250 * time.Millisecond
	mostIdle    = 5 * time.Second
	hashBlock   = 64 << 10
	patientFor  = 4 // rounds that leave no less than those before, until it is said that they will not
	compressing = 8 << 20
)

// copier copies the disks of one step.
type copier struct {
	e    *Engine
	s    *plan.Step
	from site.Disks
	to   site.Target
	// direct copies go straight from one site to the other, relayed ones by way of us.
	direct bool
	terms  plan.Copying
	// compress says that compressing pays.
	compress bool
	order    int64
	// changing is how many bytes a second change on each disk, bandwidth how many get through.
	changing  map[string]float64
	bandwidth float64
}

// rate is how many bytes a second change on all disks together.
func (c *copier) rate() float64 {
	sum := 0.0
	for _, x := range c.changing {
		sum += x
	}
	return sum
}

// newCopier is what copies by a step's terms.
func (e *Engine) newCopier(s *plan.Step) *copier {
	return &copier{e: e, s: s, terms: *s.Copying, order: firstOrder, changing: map[string]float64{}, compress: s.Copying.Compress == "on"}
}

// copierBetween is what copies between the sites of a step, once the target may read the disks.
func (e *Engine) copierBetween(ctx context.Context, s *plan.Step) (*copier, error) {
	c := e.newCopier(s)
	from, to := e.Sites[s.Copying.From], e.Sites[s.Site]
	if from == nil || to == nil {
		return nil, site.Final(fmt.Errorf("%s and %s are not both connected", s.Copying.From, s.Site))
	}
	var err error
	from, to = site.Narrowed(ctx, from), site.Narrowed(ctx, to)
	if c.from, c.to, err = relay.Way(from, to); err != nil {
		return nil, site.Final(err)
	}
	c.direct = relay.Direct(from, to)
	for _, d := range c.terms.Disks {
		if err := c.grant(ctx, d); err != nil {
			return nil, err
		}
	}
	return c, nil
}

func (c *copier) id(resource string) (string, error) {
	id, ok := c.e.Attribute(resource, "site.id")
	if !ok || id == "" {
		return "", site.Final(fmt.Errorf("the site's id of %s is not known", resource))
	}
	return id, nil
}

// grant lets the target read a disk, where it may not start moves by itself.
func (c *copier) grant(ctx context.Context, d plan.DiskCopy) error {
	gives, pairs := c.from.(site.Pairer)
	if !c.terms.Grant || !pairs || !c.direct {
		return nil
	}
	id, err := c.id(d.From)
	if err != nil {
		return err
	}
	return c.e.call(ctx, c.s, func() error { return gives.Grant(ctx, c.s.Site, id) })
}

// known is how copying of a disk stands by the journal.
func (c *copier) known(d plan.DiskCopy) run.Disk {
	c.e.mu.Lock()
	defer c.e.mu.Unlock()
	if x := c.e.state.Disks[d.To]; x != nil {
		return *x
	}
	return run.Disk{}
}

func (c *copier) control() run.Control {
	c.e.mu.Lock()
	defer c.e.mu.Unlock()
	out := c.e.state.Step(c.s.ID).Control
	for i := range c.e.state.Steps { // what was said of one step of a workload holds for the others
		if st := &c.e.state.Steps[i]; st.Copying != nil && st.Resource == c.s.Resource && st.ID != c.s.ID {
			out.Cut = out.Cut || st.Control.Cut
			out.Paused = out.Paused || st.Control.Paused
			if st.Control.Limited && !out.Limited {
				out.Limit, out.Limited = st.Control.Limit, true
			}
		}
	}
	return out
}

// round copies what was written on a disk since the last round, and returns how many bytes that was.
func (c *copier) round(ctx context.Context, d plan.DiskCopy) (int64, error) {
	from, err := c.id(d.From)
	if err != nil {
		return 0, err
	}
	to, err := c.id(d.To)
	if err != nil {
		return 0, err
	}
	k := c.known(d)
	list, err := c.list(ctx, from, k)
	if err != nil {
		return 0, err
	}
	number, at, upto, done := k.Round+1, int64(0), list.UpTo, int64(0)
	total := site.Bytes(list.Written)
	if k.Running {
		number = k.Round
		if number == 1 && k.Epoch == list.Epoch && k.Upto > 0 { // goes on where it was; what changed before that is the next round's
			at, upto = k.At, k.Upto
			list.Written = after(list.Written, at)
			done = total - site.Bytes(list.Written)
		}
	}
	whole := list.Whole && (len(k.Past) > 0 || number > 1 || k.Running && k.Epoch != list.Epoch || c.holds())
	if whole { // what was noted at the source is lost: the disks are compared, block by block
		if list.Written, list.Zero, err = c.unequal(ctx, from, to, list); err != nil {
			return 0, err
		}
		total = site.Bytes(list.Written)
	}
	if !whole && number > 1 {
		c.learnRate(d, list)
	}
	begun := map[string]string{"disk": d.To, "round": strconv.Itoa(number), "epoch": list.Epoch, "upto": strconv.FormatUint(uint64(upto), 10),
		"total": strconv.FormatInt(total, 10), "done": strconv.FormatInt(done, 10), "at": strconv.FormatInt(at, 10)}
	if err := c.e.record(run.Event{Kind: run.RoundBegun, Step: c.s.ID, Resource: d.To, Attributes: begun}); err != nil {
		return 0, err
	}
	layer := 0
	if number > 1 || c.terms.Back { // apart from what the disk had: a round that breaks off has spoilt nothing
		layer = number
	}
	wire, err := c.transfer(ctx, d, from, to, list, done, layer)
	if err != nil {
		return 0, err
	}
	if c.terms.Consolidate && layer > 0 {
		if err := c.consolidate(ctx, c.to, to); err != nil {
			return 0, err
		}
	}
	return total, c.e.record(run.Event{Kind: run.RoundDone, Step: c.s.ID, Resource: d.To, Attributes: map[string]string{"disk": d.To, "wire": strconv.FormatInt(wire, 10)}})
}

// holds reports that what is copied to may hold something that nothing is known of: another disk as it was once, or what a run left that broke off.
func (c *copier) holds() bool { return c.terms.Back || c.s.Op == op.Renew }

// consolidate makes the layers of a disk one.
func (c *copier) consolidate(ctx context.Context, at site.Copier, disk string) error {
	return c.e.call(ctx, c.s, func() error {
		_, err := at.Consolidate(ctx, disk)
		return err
	})
}

// list asks what was written since the last round that was done.
func (c *copier) list(ctx context.Context, from string, k run.Disk) (site.Changes, error) {
	var out site.Changes
	err := c.e.callAt(ctx, c.s, c.terms.From, func() (err error) {
		out, err = c.from.Changes(ctx, from, k.Epoch, k.Base)
		return err
	})
	return out, err
}

// learnRate works out how fast a disk changes, by what was written since the round before began: that is as of when it was
// listed, however often this one broke off since.
func (c *copier) learnRate(d plan.DiskCopy, list site.Changes) {
	past := c.known(d).Past
	if len(past) == 0 {
		return
	}
	if s := time.Since(past[len(past)-1].Began).Seconds(); s > 0 {
		c.changing[d.To] = float64(site.Bytes(list.Written)) / s
	}
}

// callAt is call at another site than the step's.
func (e *Engine) callAt(ctx context.Context, s *plan.Step, at string, make func() error) error {
	other := *s
	other.Site = at
	return e.call(ctx, &other, make)
}
