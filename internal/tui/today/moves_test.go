package today

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/migrate"
	"andamio/internal/core/run"
	"andamio/internal/service/moves"
	"andamio/internal/store"
	"andamio/internal/tui/view"
)

func TestMovesThatWaitAreInTheQueue(t *testing.T) {
	m := func(id int64) *moves.Move {
		return &moves.Move{Move: store.Move{ID: id, Runs: []store.MoveRun{{Wave: 0, Kind: store.MoveThere, Run: 9}}}, Name: "map-host-1 to alisio-sur",
			Waves: []migrate.Wave{{Instances: []string{"map-host-1"}}}}
	}
	v, _ := seen(t, 140, ended(9, "basin", run.Stopped), going(2))
	v.Update(waiting{all: []moves.Waiting{
		{Move: m(1), State: moves.WaveMoving, Ready: true, Down: 14.2},
		{Move: m(2), State: moves.WaveMoved},
		{Move: m(3), State: moves.WaveBroken},
		{Move: m(4), State: moves.WavePlanned, Opens: now.Add(20 * time.Minute)},
		{Move: m(5), State: moves.WaveMoving, Failures: 1},
		{Move: m(6), State: moves.WaveBroken, Both: []string{"log-host-1"}},
	}})
	text := drawn(v, 160)
	for _, want := range []string{"can be cut over", "would not serve for about 14 s", "is moved, not committed", "broke off", "waits for its window", "opens in 20m", "has a step that failed", "broke off with both sides on"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "was cancelled", "the run that broke off is spoken of as its move")
	items := v.items(now)
	require.Len(t, items, 6)
	assert.Contains(t, items[0].title, "move 3", "what failed comes first")
	v.at = 5
	cmd, used := view.Press(v.Keys(), "enter")
	require.True(t, used)
	assert.Equal(t, view.Goto{Digit: "6"}, cmd())
	assert.Equal(t, "6", v.Badge(now))
}
