package condition

import (
	"fmt"
	"testing"

	"cel.dev/cel-go/cel"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func environment(t testing.TB) *cel.Env {
	env, err := cel.NewEnv(cel.Variable("x", cel.MapType(cel.StringType, cel.DynType)))
	require.NoError(t, err)
	return env
}

func TestConditionsHoldOrAreRefused(t *testing.T) {
	facts := map[string]any{"x": map[string]any{"team": "gauging", "sites": []string{"vega"}, "price": 0.5, "yes": true}}
	for text, want := range map[string]bool{"": true, `x.team == "gauging"`: true, `x.price > 1.0`: false, `"vega" in x.sites`: true, `x.yes`: true, `has(x.other)`: false} {
		c, err := New(environment(t), text)
		require.NoError(t, err, text)
		got, err := c.Holds(facts)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, says := range map[string]string{`x.team ==`: "Syntax error", `1 + 1`: "of type int", `y == 1`: "undeclared reference"} {
		_, err := New(environment(t), text)
		require.ErrorContains(t, err, says, text)
		assert.NotContains(t, err.Error(), "\n")
	}
	for text, says := range map[string]string{`x.other == 1`: "no such key", `x.team`: "it is gauging, and not true or false",
		`[1,2,3,4,5,6,7,8,9].all(a, [1,2,3,4,5,6,7,8,9].all(b, [1,2,3,4,5,6,7,8,9].all(c, [1,2,3,4,5,6,7,8,9].all(d, [1,2,3,4,5,6,7,8,9].all(e, a+b+c+d+e > 0)))))`: "cost limit"} {
		c, err := New(environment(t), text)
		require.NoError(t, err, text)
		_, err = c.Holds(facts)
		require.ErrorContains(t, err, says, text)
	}
}

func ExampleNew() {
	env, _ := cel.NewEnv(cel.Variable("event", cel.MapType(cel.StringType, cel.DynType)))
	c, _ := New(env, `event.team == "gauging" && event.per_hour > 0.5`)
	fmt.Println(c.Holds(map[string]any{"event": map[string]any{"team": "gauging", "per_hour": 0.7}}))
	// Output: true <nil>
}
