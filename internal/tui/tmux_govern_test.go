package tui_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAnOfferIsMadeAndARequestDecidedOnScreen opens the demo with the scenario's people: an offer is made of the template, seen as another
// would see it, and published; what waits is found in Today, and approved.
func TestAnOfferIsMadeAndARequestDecidedOnScreen(t *testing.T) {
	ws := demoWorkspace(t)
	x := open(t, 160, 47, nil, "demo", "--workspace", ws, "--pace", "0.05")
	x.waitFor(`teo asks for Forecast workers`)
	x.press("2")
	x.waitFor(`what it would build`)
	x.press("a")
	x.waitFor(`offer this`)
	x.press("7")
	x.waitFor(`name of the offer`)
	x.typed("basin-watch")
	x.press("Enter")
	x.waitFor(`64 of \d+ sets of answers were worked out`)
	x.press(escape, "a")
	x.waitFor(`publish basin-watch`)
	x.press("9")
	x.typed("zoe")
	x.waitFor(`there is nobody called so: ana, eva, ibo, lia, teo`)
	for range 3 {
		x.press("BSpace")
	}
	x.typed("teo")
	x.press("Enter")
	seen := x.waitFor(`teo would not see it: it is not for them[\s\S]*where it would stand`)
	assert.NotContains(t, seen, "ask for it")
	x.press(escape)
	x.waitFor(`what it would build`)
	x.press("a")
	x.waitFor(`publish basin-watch`)
	x.press("Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Down", "Enter")
	x.waitFor(`basin-watch is offered to ana: version 1`)
	x.press("8")
	x.waitFor(`workers-1 +teo .*waits .* for you`)
	x.press("y")
	x.waitFor(`it is built at once: 2 instances, 8 cores`)
	x.press("Enter")
	x.waitFor(`workers-1 +teo .*(building|serving)`)
}
