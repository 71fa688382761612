package engine

import (
	"cmp"
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

// follow copies what changes until it is to be cut over.
func (e *Engine) follow(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	c, err := e.copierBetween(ctx, s)
	if err != nil {
		return err
	}
	return c.follow(ctx)
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
		switch {
		case c.bandwidth > 0:
			pause = c.rate() * max(took, shortRound).Seconds() / c.bandwidth
		case bytes > 0: // so little that it does not tell how much gets through: what is left takes about as long
			pause = took.Seconds()
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
			through := cmp.Or(c.bandwidth, float64(bytes)/took.Seconds())
			return site.Final(fmt.Errorf("it does not converge: %s a second change and %s a second get through, so that it would stand still for %.2f s, and may for %.2f s: allow a longer pause, lift the limit, or move it warm",
				mega(c.rate()), mega(through), pause, c.terms.Pause))
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
