package names_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/names"
)

// TestANameBelongsToWhoPublishedIt has two owners want the same name, and one that was made by hand.
func TestANameBelongsToWhoPublishedIt(t *testing.T) {
	servers(t, func(t *testing.T, z names.Zone) {
		ctx := t.Context()
		other := z
		other.Owner = "d2-18"
		target := names.Target{Address: "127.8.1.4", Ports: map[string]int{"http": 80}}
		mine := func() {
			address, _, _, err := z.Ask(ctx, z.Server, "river-map", "http")
			require.NoError(t, err)
			assert.Equal(t, target.Address, address)
		}

		_, taken, err := z.Taken(ctx, "river-map")
		require.NoError(t, err)
		assert.False(t, taken)
		require.NoError(t, z.Publish(ctx, "river-map", target))
		owner, taken, err := other.Taken(ctx, "river-map")
		require.NoError(t, err)
		assert.True(t, taken)
		assert.Equal(t, z.Owner, owner)

		err = other.Publish(ctx, "river-map", names.Target{Address: "127.9.9.9"})
		require.ErrorIs(t, err, names.ErrTaken)
		assert.ErrorContains(t, err, "river-map.ribera.test belongs to the deployment with the mark d1-17")
		mine()
		require.ErrorIs(t, other.Withdraw(ctx, "river-map", []string{"http"}), names.ErrTaken)
		mine()

		target.Address = "127.8.1.5"
		require.NoError(t, z.Publish(ctx, "river-map", target), "its owner changes it")
		mine()
		require.NoError(t, z.Withdraw(ctx, "river-map", []string{"http"}))
		require.NoError(t, other.Publish(ctx, "river-map", target), "what was given up is free")
		require.NoError(t, other.Withdraw(ctx, "river-map", []string{"http"}))
	})
}

// TestWhatWasMadeByHandIsNotChanged looks at a name that bears no mark.
func TestWhatWasMadeByHandIsNotChanged(t *testing.T) {
	z := realNamed(t)
	require.ErrorContains(t, z.Publish(t.Context(), "ns", names.Target{Address: "127.9.9.9"}), "was made by others")
	require.ErrorIs(t, z.Withdraw(t.Context(), "ns", nil), names.ErrTaken)
	owner, taken, err := z.Taken(t.Context(), "ns")
	require.NoError(t, err)
	assert.True(t, taken)
	assert.Empty(t, owner)
}
