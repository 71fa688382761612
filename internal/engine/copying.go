package engine

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
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
	e     *Engine
	s     *plan.Step
	from  site.Source
	to    site.Target
	terms plan.Copying
	// compress says that compressing pays.
	compress bool
	order    int64
	// changing is how many bytes a second change on each disk, bandwidth how many get through.
	changing  map[string]float64
	bandwidth float64
	listed    map[string]time.Time
}

// rate is how many bytes a second change on all disks together.
func (c *copier) rate() float64 {
	sum := 0.0
	for _, x := range c.changing {
		sum += x
	}
	return sum
}

func (e *Engine) copies(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	c := &copier{e: e, s: s, terms: *s.Copying, order: firstOrder, changing: map[string]float64{}, listed: map[string]time.Time{}, compress: s.Copying.Compress == "on"}
	var okFrom, okTo bool
	switch s.Op {
	case op.Consolidate:
		return c.consolidateAll(ctx)
	case op.Hold:
		return c.wait(ctx)
	}
	c.from, okFrom = e.Sites[s.Copying.From].(site.Source)
	c.to, okTo = e.Sites[s.Site].(site.Target)
	if !okFrom || !okTo {
		return site.Final(fmt.Errorf("between %s and %s no disks can be copied", s.Copying.From, s.Site))
	}
	for _, d := range c.terms.Disks {
		if err := c.grant(ctx, d); err != nil {
			return err
		}
	}
	switch s.Op {
	case op.Replicate:
		return c.first(ctx)
	case op.Follow:
		return c.follow(ctx)
	}
	return c.finish(ctx)
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
	if !c.terms.Grant {
		return nil
	}
	id, err := c.id(d.From)
	if err != nil {
		return err
	}
	return c.e.call(ctx, c.s, func() error { return c.from.Grant(ctx, c.s.Site, id) })
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

// first copies all disks whole, or goes on where it was broken off.
func (c *copier) first(ctx context.Context) error {
	if err := c.size(ctx); err != nil {
		return err
	}
	for _, d := range c.terms.Disks {
		if len(c.known(d).Past) > 0 {
			continue
		}
		if _, err := c.round(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// size notes how much all disks hold before the first of them is copied, so that it can be said when all will be.
func (c *copier) size(ctx context.Context) error {
	for _, d := range c.terms.Disks {
		k := c.known(d)
		if k.Whole > 0 || k.Round > 0 {
			continue
		}
		from, err := c.id(d.From)
		if err != nil {
			return err
		}
		list, err := c.list(ctx, from, k)
		if err != nil {
			return err
		}
		err = c.e.record(run.Event{Kind: run.Sized, Step: c.s.ID, Resource: d.To,
			Attributes: map[string]string{"disk": d.To, "total": strconv.FormatInt(site.Bytes(list.Written), 10)}})
		if err != nil {
			return err
		}
	}
	return nil
}

// follow copies what changed, round after round, until it is to be cut over and what is left is little enough.
func (c *copier) follow(ctx context.Context) error {
	worse, calm, before := 0, 0, 0.0
	for number := 1; ; number++ {
		began := time.Now()
		bytes := int64(0)
		for _, d := range c.terms.Disks {
			n, err := c.round(ctx, d)
			if err != nil {
				return err
			}
			bytes += n
		}
		took := time.Since(began)
		pause := 0.0
		if c.bandwidth > 0 {
			pause = c.rate() * max(took, shortRound).Seconds() / c.bandwidth
		}
		if err := c.judge(number, bytes, pause); err != nil {
			return err
		}
		cut := (!c.terms.Await || c.control().Cut) && c.allCopied()
		enough := c.terms.Pause > 0 && pause <= c.terms.Pause || c.terms.Pause == 0 && (c.terms.Await || took <= shortRound || worse > 0)
		if cut && enough {
			return nil
		}
		if number > 1 && pause >= 0.9*before {
			worse++
		}
		if calm++; number == 1 || pause < 0.5*before {
			calm = 0
		}
		before = pause
		if cut && c.terms.Pause > 0 && worse >= patientFor {
			return site.Final(fmt.Errorf("it does not converge: %s a second change and %s a second get through, so that it would stand still for %.2f s, and may for %.2f s: allow a longer pause, lift the limit, or move it warm",
				mega(c.rate()), mega(c.bandwidth), pause, c.terms.Pause))
		}
		if err := c.rest(ctx, took, calm); err != nil {
			return err
		}
	}
}

// allCopied reports that nothing of the run is copied for the first time any more: since all are stopped together, the
// first goes on with its rounds until the last can be.
func (c *copier) allCopied() bool {
	c.e.mu.Lock()
	defer c.e.mu.Unlock()
	return !slices.ContainsFunc(c.e.state.Steps, func(st run.Step) bool {
		return st.Op == op.Replicate && st.Status != run.Standing && st.Status != run.Passed
	})
}

func mega(x float64) string { return fmt.Sprintf("%.1f MB", x/1e6) }

// rest waits before the next round: ever longer while rounds leave no less than those before and somebody is waited for,
// not at all once it is to be cut over.
func (c *copier) rest(ctx context.Context, took time.Duration, calm int) error {
	wait := min(max(shortRound-took, 0)+took/2, mostIdle)
	if c.terms.Await {
		wait = max(wait, min(shortRound<<min(calm, 5), mostIdle))
	}
	until := time.Now().Add(wait)
	for time.Now().Before(until) && !c.control().Cut {
		if err := pause(ctx, 20*time.Millisecond); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (c *copier) judge(number int, bytes int64, pause float64) error {
	return c.e.record(run.Event{Kind: run.Judged, Step: c.s.ID, Resource: c.s.Resource, Attributes: map[string]string{"round": strconv.Itoa(number),
		"bytes": strconv.FormatInt(bytes, 10), "changing": fmt.Sprintf("%.0f", c.rate()), "bandwidth": fmt.Sprintf("%.0f", c.bandwidth), "pause": fmt.Sprintf("%.3f", pause)}})
}

// finish copies what is left now that nothing changes any more, and notes as of when the target is like the source: what
// is written there from then on can be had back.
func (c *copier) finish(ctx context.Context) error {
	if !c.terms.Back {
		if err := c.size(ctx); err != nil {
			return err
		}
	}
	for _, d := range c.terms.Disks {
		if c.terms.Back {
			if err := c.baseline(d); err != nil {
				return err
			}
		}
		if _, err := c.round(ctx, d); err != nil {
			return err
		}
		to, err := c.id(d.To)
		if err != nil {
			return err
		}
		var now site.Changes
		err = c.e.call(ctx, c.s, func() (err error) {
			now, err = c.to.Changes(ctx, to, "", 0)
			return err
		})
		if err != nil {
			return err
		}
		err = c.e.record(run.Event{Kind: run.Learned, Resource: d.To, Attributes: map[string]string{attrEpoch: now.Epoch, attrUpTo: strconv.FormatUint(uint64(now.UpTo), 10), attrLayers: strconv.Itoa(now.Layers)}})
		if err != nil {
			return err
		}
	}
	return nil
}

// Attributes of what was copied to: as of when it is like what it was copied from.
const (
	attrEpoch = "copied.epoch"
	attrUpTo  = "copied.upto"
	// attrLayers is in how many layers a disk is kept.
	attrLayers = "disk.layers"
)

// baseline begins a copy of which nothing is known in this run with what was noted when the disks were alike.
func (c *copier) baseline(d plan.DiskCopy) error {
	if k := c.known(d); len(k.Past) > 0 || k.Running {
		return nil
	}
	epoch, known := c.e.Attribute(d.From, attrEpoch)
	upto, _ := c.e.Attribute(d.From, attrUpTo)
	if !known {
		return nil
	}
	return c.e.record(run.Event{Kind: run.RoundBegun, Resource: d.To, Attributes: map[string]string{"disk": d.To, "round": "0", "epoch": epoch, "upto": upto}},
		run.Event{Kind: run.RoundDone, Resource: d.To, Attributes: map[string]string{"disk": d.To}})
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
	whole := list.Whole && (len(k.Past) > 0 || number > 1 || k.Running && k.Epoch != list.Epoch)
	if whole { // what was noted at the source is lost: the disks are compared, block by block
		if list.Written, list.Zero, err = c.unequal(ctx, from, to, list); err != nil {
			return 0, err
		}
		total = site.Bytes(list.Written)
	}
	c.learnRate(d, list, whole || number == 1)
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

// consolidate makes the layers of a disk one.
func (c *copier) consolidate(ctx context.Context, at site.Copier, disk string) error {
	return c.e.call(ctx, c.s, func() error {
		_, err := at.Consolidate(ctx, disk)
		return err
	})
}

// consolidateAll makes the layers of all disks of a workload one, while it runs.
func (c *copier) consolidateAll(ctx context.Context) error {
	at, ok := c.e.Sites[c.s.Site].(site.Copier)
	if !ok {
		return site.Final(fmt.Errorf("%s keeps no disks in layers", c.s.Site))
	}
	for _, d := range c.terms.Disks {
		id, err := c.id(d.To)
		if err != nil {
			return err
		}
		if err := c.consolidate(ctx, at, id); err != nil {
			return err
		}
		if err := c.e.record(run.Event{Kind: run.Learned, Resource: d.To, Attributes: map[string]string{attrLayers: "1"}}); err != nil {
			return err
		}
	}
	return nil
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

// learnRate works out how fast a disk changes, by what was written since it was listed last; for the first round of a step
// since the round before it began.
func (c *copier) learnRate(d plan.DiskCopy, list site.Changes, first bool) {
	now := time.Now()
	last, known := c.listed[d.To]
	if past := c.known(d).Past; !known && len(past) > 0 && !past[len(past)-1].Began.IsZero() {
		last, known = past[len(past)-1].Began, true
	}
	if s := now.Sub(last).Seconds(); known && !first && s > 0 {
		c.changing[d.To] = float64(site.Bytes(list.Written)) / s
	}
	c.listed[d.To] = now
}

// callAt is call at another site than the step's.
func (e *Engine) callAt(ctx context.Context, s *plan.Step, at string, make func() error) error {
	other := *s
	other.Site = at
	return e.call(ctx, &other, make)
}
