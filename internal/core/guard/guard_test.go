package guard

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEveryActIsThereOnceWithARightAndWords(t *testing.T) {
	seen := map[Act]bool{}
	for _, r := range Acts {
		assert.False(t, seen[r.Act], r.Act)
		seen[r.Act] = true
		assert.Contains(t, Rights, r.Right, r.Act)
		assert.NotEmpty(t, r.Words, r.Act)
		assert.Same(t, Of(r.Act), Of(r.Act))
		assert.Equal(t, r, *Of(r.Act))
	}
	assert.Nil(t, Of("sing"))
}

// TestEveryActThatIsNamedHasARow reads the names of the acts, so that none is without a right.
func TestEveryActThatIsNamedHasARow(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "guard.go", nil, 0)
	require.NoError(t, err)
	named := 0
	ast.Inspect(f, func(n ast.Node) bool {
		v, is := n.(*ast.ValueSpec)
		if !is || len(v.Values) != 1 || fmt.Sprint(v.Type) != "Act" {
			return true
		}
		named++
		act := Act(strings.Trim(v.Values[0].(*ast.BasicLit).Value, `"`))
		assert.NotNil(t, Of(act), "%s has no row", act)
		return true
	})
	assert.Len(t, Acts, named)
}

func TestWhoMayDoWhat(t *testing.T) {
	ana := Actor{"ana", Screen}
	for _, w := range []Way{Screen, Command, API, Schedule, Rule} {
		for _, r := range Acts {
			assert.NoError(t, Allow(nil, ana.By(w), r.Act, Named("x")))
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
		err := Allow(nil, c.actor, c.act, Named("run 7"))
		var refused *Refused
		assert.ErrorAs(t, err, &refused)
		assert.ErrorContains(t, err, c.says)
	}
}
