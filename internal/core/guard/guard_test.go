package guard

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEveryActIsThereOnceWithARightAndWords(t *testing.T) {
	rights := []Right{Read, Ask, Approve, Deploy, Operate, Move, Settle, Connect, Keep}
	seen := map[Act]bool{}
	for _, r := range Acts {
		assert.False(t, seen[r.Act], r.Act)
		seen[r.Act] = true
		assert.Contains(t, rights, r.Right, r.Act)
		assert.NotEmpty(t, r.Words, r.Act)
		assert.Same(t, Of(r.Act), Of(r.Act))
		assert.Equal(t, r, *Of(r.Act))
	}
	assert.Nil(t, Of("sing"))
}

func TestWhoMayDoWhat(t *testing.T) {
	ana := Actor{"ana", Screen}
	for _, w := range []Way{Screen, Command, API, Schedule, Rule} {
		for _, r := range Acts {
			assert.NoError(t, Allow(ana.By(w), r.Act, "x"))
		}
	}
	for _, c := range []struct {
		actor Actor
		act   Act
		says  string
	}{
		{Actor{"", Screen}, BeginRun, "nobody may not do that (begin-run, run 7): it is not known who asks"},
		{Actor{}, BeginRun, "it is not known who asks"},
		{Actor{"ana", ""}, BeginRun, "it is not known by which way"},
		{Actor{"ana", "telepathy"}, BeginRun, "it is not known by which way"},
		{ana, "sing", "ana by screen may not do that (sing, run 7): no such act is known"},
	} {
		err := Allow(c.actor, c.act, "run 7")
		var refused *Refused
		assert.ErrorAs(t, err, &refused)
		assert.ErrorContains(t, err, c.says)
	}
}
