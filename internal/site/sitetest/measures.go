package sitetest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/measure"
	"andamio/internal/site"
)

// measures holds that a site tells what its machines have and use, in measures that there are, no more than they have, and that one that is off uses no processor.
func (u *suite) measures(t *testing.T) {
	meter, can := site.Can[site.Meter](u.ctx(t), u.d)
	if !can {
		u.without("it measures nothing")
		return
	}
	machine := u.made(t, u.named(u.Instance, kinds.Instance))
	u.becomes(t, machine.ID, site.Active)
	read := func() map[string]float64 {
		all, err := meter.Measure(u.ctx(t))
		if err != nil {
			require.Equal(t, site.Transient, classOf(err), "%v", err) // the first time may take long
		}
		for _, m := range all {
			if m.ID == machine.ID {
				return m.Values
			}
		}
		return nil
	}
	var on map[string]float64
	require.Eventually(t, func() bool { on = read(); _, has := on[measure.CoresUsed]; return has }, u.Building, 600*time.Millisecond, "how busy it is")
	for name, v := range on {
		m := measure.Of(name)
		assert.True(t, measure.Known(name) && m.Of == measure.OfInstance, name)
		assert.GreaterOrEqual(t, v, 0.0, name)
		if limit, has := on[m.Limit]; m.Limit != "" && has {
			assert.LessOrEqual(t, v, limit*1.25, name)
		}
	}
	for _, name := range []string{measure.CoresHeld, measure.MemoryHeld} {
		assert.Positive(t, on[name], name)
	}
	u.switched(t, machine.ID, "stop", site.Stopped)
	assert.NotContains(t, read(), measure.CoresUsed, "it is off")
}
