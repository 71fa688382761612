package main

import (
	"fmt"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sourceText = `package a

import "errors"

func Least(a, b int) (int, error) {
	if a < 0 || b == 0 {
		return 0, errors.New("a" + "b")
	}
	for range 3 {
		if a > b {
			continue
		}
		print(a + b)
	}
	return a, nil
}
`

func TestEverySortOfChangeIsMade(t *testing.T) {
	all, err := inFile("a.go", []byte(sourceText))
	require.NoError(t, err)
	var got []string
	for _, m := range all {
		got = append(got, fmt.Sprintf("%d %s", m.Line, m.words()))
		text := sourceText[:m.From] + m.New + sourceText[m.To:]
		_, err := parser.ParseFile(token.NewFileSet(), "a.go", text, 0)
		assert.NoError(t, err, m.words())
		assert.Equal(t, "Least", m.Func)
	}
	for _, want := range []string{"6 a condition is turned: a < 0 || b == 0 → !(a < 0 || b == 0)", "6 a guard is left out: a < 0 || b == 0 → false && (a < 0 || b == 0)", "6 an operator is turned: < → <=",
		"6 an operator is turned: || → &&", "6 an operator is turned: == → !=", "6 a number is one more: 0 → 1", `7 an error is emptied: errors.New("a" + "b") → nil`, "9 a number is one more: 3 → 4",
		"10 an operator is turned: > → >=", "11 a loop ends: continue → break", "13 a call is left out: print(a + b) → _ = 0", "13 an operator is turned: + → -"} {
		assert.Contains(t, got, want)
	}
	assert.NotContains(t, got, "7 an operator is turned: + → -", "it is text")
	assert.False(t, slices.ContainsFunc(got, func(s string) bool { return s == "15 an error is emptied: nil → nil" }))
}

func TestWhatWasChanged(t *testing.T) {
	got := changed("diff --git a/internal/a/a.go b/internal/a/a.go\n--- a/internal/a/a.go\n+++ b/internal/a/a.go\n@@ -3 +4,2 @@ func x() {\n+a\n+b\n@@ -9,2 +11,0 @@\n-a\n@@ -20 +21 @@\n+c\n" +
		"+++ b/internal/a/a_test.go\n@@ -1 +1 @@\n+++ b/cmd/x/main.go\n@@ -1 +1 @@\n")
	assert.Equal(t, map[string][]span{"internal/a/a.go": {{4, 5}, {21, 21}}, "cmd/x/main.go": {{1, 1}}}, got)
	assert.Equal(t, []string{"internal/a"}, foldersOf(got))
}

func TestASampleIsOfAllSorts(t *testing.T) {
	var all []mutation
	for i := range 100 {
		all = append(all, mutation{File: "a.go", Line: i, Sort: "common"})
	}
	all = append(all, mutation{File: "a.go", Line: 200, Sort: "seldom"}, mutation{File: "a.go", Line: 200, Sort: "another"})
	some := sample(all, 10, 1)
	assert.Len(t, some, 10)
	assert.Equal(t, some, sample(all, 10, 1))
	assert.NotEqual(t, some, sample(all, 10, 2))
	assert.Len(t, sample(all, 1000, 1), 101, "one a line")
	assert.Equal(t, all, sample(all, 0, 1))
}

// TestWhatNobodyTestsSurvives asks a package of which one function is tested and another is not.
func TestWhatNobodyTestsSurvives(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	for name, text := range map[string]string{"go.mod": "module a\n\ngo 1.25\n", "internal/a/a.go": "package a\n\nfunc Tested(a int) bool { return a < 3 }\n\nfunc Untested(a int) bool { return a < 4 }\n",
		"internal/a/a_test.go": "package a\n\nimport \"testing\"\n\nfunc TestIt(t *testing.T) {\n\tif !Tested(2) || Tested(3) {\n\t\tt.Fatal()\n\t}\n}\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o700))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	made, held, err := of(t.Context(), options{}, "internal/a", nil)
	require.NoError(t, err)
	assert.Equal(t, []int{4, 2}, []int{made, held})
	made, held, err = of(t.Context(), options{}, "internal/a", map[string][]span{"internal/a/a.go": {{3, 3}}})
	require.NoError(t, err)
	assert.Equal(t, []int{2, 2}, []int{made, held})
	require.NoError(t, os.WriteFile("internal/a/a.go", []byte("package a\n\nfunc Tested(a int) bool { return a < 9 }\n"), 0o600))
	_, _, err = of(t.Context(), options{}, "internal/a", nil)
	assert.ErrorContains(t, err, "is not green before anything is changed")
}
