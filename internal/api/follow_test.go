package api

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/run"
	"andamio/internal/service/runs"
)

// TestWhoeverFollowsHearsEachEventOnce has a run be heard in batches, and followers ask for what there is at any moment, from any event on: each is sent every event after that once, in order, or told that it is behind.
func TestWhoeverFollowsHearsEachEventOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := &hearing{changed: make(chan struct{})}
		heard := make(chan runs.Batch)
		done := make(chan bool)
		go func() { h.hear(heard); close(done) }()
		total := int64(0)
		at := rapid.Int64Range(0, 40).Draw(t, "begins after")
		var got bytes.Buffer
		want := at
		for range rapid.IntRange(1, 120).Draw(t, "batches") {
			var b runs.Batch
			for range rapid.IntRange(0, 4).Draw(t, "events") {
				total++
				b.Events = append(b.Events, run.Event{Seq: total, Kind: run.StepAsked, Text: "line\nof " + fmt.Sprint(total)})
			}
			heard <- b
			if rapid.IntRange(0, 9).Draw(t, "asks") > 0 {
				continue
			}
			heard <- runs.Batch{} // what was before is taken in by then
			for {
				data, upTo, behind, _, _, _ := h.since(at)
				if behind {
					require.Greater(t, upTo, at)
					for n := at + 1; n <= upTo; n++ { // as the journal has them
						got.Write(framed([]run.Event{{Seq: n, Kind: run.StepAsked, Text: "line\nof " + fmt.Sprint(n)}}).data)
					}
					at = upTo
					continue
				}
				got.Write(bytes.Join(data, nil))
				at = upTo
				break
			}
		}
		close(heard)
		<-done
		n := want
		for line := range strings.Lines(got.String()) {
			if id, is := strings.CutPrefix(strings.TrimSpace(line), "id: "); is {
				n++
				require.Equal(t, fmt.Sprint(n), id)
			}
		}
		assert.Equal(t, max(at, want), n)
	})
}
