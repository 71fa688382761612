package tui

import (
	"context"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestScreensTakeTurns has many screens want to be drawn at one moment: each gets a turn of its own, a round of all takes no longer than it may, and one that is left alone waits for nobody.
func TestScreensTakeTurns(t *testing.T) {
	for _, n := range []int{1, 10, 50, 200} {
		var p pace
		ctx, leave := context.WithCancel(t.Context())
		for range n {
			p.join(ctx)
		}
		now, last := time.Now(), time.Duration(-1)
		for range n {
			left := p.turn(now)
			assert.Greater(t, left, last, "after the one before")
			last = left
		}
		assert.LessOrEqual(t, last, mostARound)
		assert.LessOrEqual(t, last, time.Duration(n)*betweenTwo)
		assert.Zero(t, p.turn(now.Add(time.Minute)), "nobody else wants to be drawn by then")
		leave()
		require.Eventually(t, func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.screens == 0 }, 10*time.Second, time.Millisecond)
	}
}

// TestWhatIsDoneIsDrawnAtOnce has a screen be drawn as it was until its turn comes, and at once after a key.
func TestWhatIsDoneIsDrawnAtOnce(t *testing.T) {
	f, _ := framed(t, 160, 47)
	var p pace
	f.pace = p.join(t.Context())
	shown := func() string { return f.View().Content }
	f.Update(tick(time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)))
	first := shown()
	assert.Contains(t, first, "10:00")
	p.turn(time.Now()) // somebody else's
	_, cmd := f.Update(tick(time.Date(2026, 12, 1, 10, 1, 0, 0, time.UTC)))
	require.NotNil(t, cmd)
	assert.Equal(t, first, shown(), "its turn is to come")
	f.Update(tick(time.Date(2026, 12, 1, 10, 2, 0, 0, time.UTC)))
	assert.Equal(t, first, shown())
	f.Update(due{})
	assert.Contains(t, shown(), "10:02", "all that happened until then")
	for range 5 {
		p.turn(time.Now())
	}
	f.Update(tick(time.Date(2026, 12, 1, 10, 3, 0, 0, time.UTC)))
	assert.Contains(t, shown(), "10:02")
	f.Update(tea.KeyPressMsg{Code: tea.KeyF12})
	assert.Contains(t, shown(), "10:03", "somebody did something")
	f.Update(tick(time.Date(2026, 12, 1, 10, 4, 0, 0, time.UTC)))
	assert.Contains(t, shown(), "10:04", "and looks")
}
