package plan_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/plan"
)

func text(s any) plan.Expr { return plan.Expr{Literal: s} }

func call(name string, args ...plan.Expr) plan.Expr { return plan.Expr{Func: name, Args: args} }

func TestFunctionsOfARun(t *testing.T) {
	r := known{"db.address": "127.0.0.5", "db.output.Standard.create.KEY": "k1", "db.tags": `{"a": [1, {"b": "deep"}]}`, "secret pw": "hush"}
	attribute := func(path ...any) plan.Expr {
		e := call("get_attribute")
		for _, p := range path {
			e.Args = append(e.Args, text(p))
		}
		return e
	}
	for _, c := range []struct {
		e     plan.Expr
		want  string
		wrong string
		shown string
	}{
		{attribute("db", "address"), "127.0.0.5", "", "‹address of db›"},
		{attribute("db", "tags", "a", "1", "b"), "deep", "", "‹tags of db›"},
		{attribute("db", "tags", "a", "7"), "", `has nothing at "7"`, "‹tags of db›"},
		{attribute("db", "address", "x"), "", "has nothing within", "‹address of db›"},
		{attribute("db", "gone"), "", "db has no gone yet", "‹gone of db›"},
		{call("get_operation_output", text("db"), text("Standard.create"), text("KEY")), "k1", "", "‹KEY put out by Standard.create of db›"},
		{call("get_secret", text("pw")), "hush", "", "‹secret pw›"},
		{call("get_secret", text("other")), "", "was not given to this run", "‹secret other›"},
		{call("get_artifact", text("data/t.csv"), text("")), "/var/lib/andamio/t.csv", "", "/var/lib/andamio/t.csv"},
		{call("get_artifact", text("data/t.csv"), text("/srv/t.csv")), "/srv/t.csv", "", "/srv/t.csv"},
		{call("concat", text("http://"), attribute("db", "address"), text(":"), text(80)), "http://127.0.0.5:80", "", "http://‹address of db›:80"},
		{call("join", call("list", text("a"), attribute("db", "address")), text("-")), "a-127.0.0.5", "", "‹join of [a, ‹address of db›], -›"},
		{call("join", text([]any{"a", "b"})), "ab", "", `‹join of ["a","b"]›`},
		{call("token", attribute("db", "address"), text("."), text(3)), "5", "", "‹token of ‹address of db›, ., 3›"},
		{call("token", attribute("db", "address"), text("."), text(9)), "", "has no part 9", "‹token of ‹address of db›, ., 9›"},
		{call("list", text("a"), text(1)), `["a","1"]`, "", "[a, 1]"},
		{text(map[string]any{"a": true}), `{"a":true}`, "", `{"a":true}`},
		{text(nil), "", "", ""}, {text(2.50), "2.5", "", "2.5"},
	} {
		got, err := c.e.Text(r)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong)
		} else {
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		}
		assert.Equal(t, c.shown, c.e.String())
		data, err := json.Marshal(c.e)
		require.NoError(t, err)
		var again plan.Expr
		require.NoError(t, json.Unmarshal(data, &again))
		back, err := json.Marshal(again)
		require.NoError(t, err)
		assert.JSONEq(t, string(data), string(back), "read as it is written")
	}
	for _, bad := range []string{`{"get_attribute": ["a"]}`, `{"token": ["a", ","]}`, `{"get_secret": []}`, `{"join": [1, 2, 3]}`} {
		assert.Error(t, json.Unmarshal([]byte(bad), &plan.Expr{}), bad)
	}
	literal := plan.Expr{}
	require.NoError(t, json.Unmarshal([]byte(`{"get_attribute": ["a", "b"], "more": 1}`), &literal))
	assert.Empty(t, literal.Func, "a map of two keys is a map")
}

func TestExpressionsAreReadAsTheyAreWritten(t *testing.T) {
	var any func(depth int) *rapid.Generator[plan.Expr]
	any = func(depth int) *rapid.Generator[plan.Expr] {
		return rapid.Custom(func(t *rapid.T) plan.Expr {
			if depth == 0 || rapid.Bool().Draw(t, "leaf") {
				return text(rapid.String().Draw(t, "text"))
			}
			name := rapid.SampledFrom([]string{"concat", "list"}).Draw(t, "function")
			return call(name, rapid.SliceOfN(any(depth-1), 1, 3).Draw(t, "args")...)
		})
	}
	rapid.Check(t, func(t *rapid.T) {
		e := any(3).Draw(t, "expression")
		data, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		var again plan.Expr
		if err := json.Unmarshal(data, &again); err != nil {
			t.Fatal(err)
		}
		a, errA := e.Text(known{})
		b, errB := again.Text(known{})
		if a != b || (errA == nil) != (errB == nil) {
			t.Fatalf("%s: %q and %q", data, a, b)
		}
	})
}
