package storetest

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/quota"
	"andamio/internal/store"
)

func takes(account string, m quota.Measure, amount, most int64) quota.Take {
	return quota.Take{Account: account, Measure: m, Amount: amount, Most: most}
}

// sums are how much of each account is taken.
func sums(t *testing.T, s store.Store) map[string]int64 {
	t.Helper()
	all, err := s.Takes(ctx)
	require.NoError(t, err)
	out := map[string]int64{}
	for _, x := range all {
		out[x.Account+" "+string(x.Measure)] += x.Amount
	}
	return out
}

// noQuotaIsOverrun has many take at once from a team's account and their own: of each no more is taken than there is, and all that there is.
func noQuotaIsOverrun(t *testing.T, open Opener) {
	name := fresh(t)
	users := []store.Store{open(t, name), open(t, name), open(t, name), open(t, name)}
	var got, refused atomic.Int64
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() {
			for range 25 {
				_, err := users[i%4].HoldQuota(ctx, store.Hold{State: quota.Held, At: noon}, []quota.Take{takes("own", quota.Cores, 1, 1000), takes("team", quota.Cores, 2, 101), takes("team", quota.Instances, 1, 1000)})
				var over *quota.Overrun
				switch {
				case err == nil:
					got.Add(1)
				case errors.As(err, &over):
					refused.Add(1)
					assert.Equal(t, "team", over.Account)
					assert.EqualValues(t, 2, over.Amount)
					assert.Greater(t, over.Taken+2, int64(101))
				default:
					assert.NoError(t, err)
				}
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 50, got.Load())
	assert.EqualValues(t, 150, refused.Load())
	assert.Equal(t, map[string]int64{"own cores": 50, "team cores": 100, "team instances": 50}, sums(t, users[0]), "what was refused took nothing of the other accounts")
}

// whatIsHeldIsChangedAndGivenBack builds, enlarges, pauses and gives back what was held.
func whatIsHeldIsChangedAndGivenBack(t *testing.T, open Opener) {
	s := open(t, fresh(t))
	h := store.Hold{Request: 7, Owner: guard.Owner{Team: "map", Person: "ibo"}, Parts: []quota.Part{{Site: "vega", Amounts: quota.Amounts{quota.Cores: 4}}}, State: quota.Held, At: noon}
	id, err := s.HoldQuota(ctx, h, []quota.Take{takes("team", quota.Cores, 4, 10), takes("team", quota.Instances, 2, 4)})
	require.NoError(t, err)
	h.ID = id
	all, err := s.Holds(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.True(t, noon.Equal(all[0].At))
	all[0].At = noon
	assert.Equal(t, h, all[0])
	other, err := s.HoldQuota(ctx, store.Hold{State: quota.Used, At: noon}, []quota.Take{takes("team", quota.Cores, 5, 10)})
	require.NoError(t, err)
	h.State, h.Deployment = quota.Used, 3
	require.NoError(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Cores, 5, 10), takes("team", quota.Instances, 2, 4)}, false), "all that there is")
	var over *quota.Overrun
	require.ErrorAs(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Cores, 6, 10)}, false), &over)
	assert.EqualValues(t, []int64{1, 10, 10}, []int64{over.Amount, over.Most, over.Taken})
	assert.Equal(t, map[string]int64{"team cores": 10, "team instances": 2}, sums(t, s), "what was refused changed nothing")
	require.ErrorAs(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Cores, 6, 8)}, false), &over, "the limit was lowered")
	require.NoError(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Cores, 3, 8)}, false), "what is less than before is no matter of limits")
	require.NoError(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Cores, 7, 8)}, true), "by force")
	require.ErrorAs(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Cores, 8, 8)}, false), &over)
	assert.EqualValues(t, []int64{8, 12}, []int64{over.Most, over.Taken}, "whoever takes next finds the limit as it is")
	mine, err := s.TakesOf(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []quota.Take{takes("team", quota.Cores, 7, 12)}, mine)
	h.State = quota.Paused
	require.NoError(t, s.ChangeHold(ctx, h, []quota.Take{takes("team", quota.Instances, 2, 4), takes("disks", quota.DiskGiB, 9, 9)}, false))
	assert.Equal(t, map[string]int64{"team cores": 5, "team instances": 2, "disks disk_gib": 9}, sums(t, s))
	states := map[quota.State]bool{}
	found, err := s.Takes(ctx)
	require.NoError(t, err)
	for _, x := range found {
		states[x.State] = true
	}
	assert.Equal(t, map[quota.State]bool{quota.Used: true, quota.Paused: true}, states)
	require.NoError(t, s.ChangeHold(ctx, h, nil, false))
	same, err := s.HoldOf(ctx, 0, 3)
	require.NoError(t, err)
	assert.Equal(t, id, same.ID, "one that takes nothing is there as long as there are parts of it")
	none, err := s.HoldOf(ctx, 7, 0)
	require.NoError(t, err)
	assert.Nil(t, none, "it is of a deployment by now")
	h.Parts = nil
	require.NoError(t, s.ChangeHold(ctx, h, nil, false))
	require.NoError(t, s.ChangeHold(ctx, store.Hold{ID: other, At: noon}, nil, false))
	assert.Empty(t, sums(t, s))
	require.ErrorIs(t, s.ChangeHold(ctx, h, nil, false), store.ErrNotFound)
	_, err = s.HoldQuota(ctx, h, []quota.Take{takes("team", quota.Cores, 10, 10)})
	require.NoError(t, err, "all of it is there again")
}
