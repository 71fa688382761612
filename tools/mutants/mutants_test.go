package main

import (
	"fmt"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
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
	assert.NotContains(t, got, "7 a number is one more: 0 → 1", "what is told beside an error means nothing")
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

// TestOneTextHoldsWhatWasAndAllChanges lays the changes of a source over it, as few at once as can stand together, and reads what comes of it.
func TestOneTextHoldsWhatWasAndAllChanges(t *testing.T) {
	all, err := inFile("a.go", []byte(sourceText))
	require.NoError(t, err)
	var pointers []*mutation
	for i := range all {
		pointers = append(pointers, &all[i])
	}
	texts, changes := "", 0
	for _, group := range together(pointers) {
		numbered := map[int]*mutation{}
		for i, m := range group {
			numbered[i+1] = m
		}
		changes += len(group)
		text := string(holding([]byte(sourceText), numbered))
		_, err := parser.ParseFile(token.NewFileSet(), "a.go", text, 0)
		require.NoError(t, err, text)
		assert.Equal(t, strings.Count(sourceText, "\n"), strings.Count(text, "\n"), "lines stay where they are")
		texts += text
	}
	assert.Equal(t, len(all), changes, "each is held by one")
	for _, want := range []string{"func() bool { if mutantsChosen(1) { return a <= 0 }; return a < 0 }()", "return 0, func() error { if mutantsChosen(2) { return nil }; return errors.New(\"a\" + \"b\") }()",
		"range mutantsPick(3, 3, 4) {", "if mutantsChosen(5) { break } else { continue }", "if !mutantsChosen(6) { print(a + b) }", "!mutantsChosen(1) && (a < 0 || b == 0)", "(mutantsChosen(1) != (b == 0))"} {
		assert.Contains(t, texts, want)
	}
	a := []*mutation{{File: "a.go", Either: either{First: 1, End: 3, Text: "x"}}, {File: "a.go", Either: either{First: 3, End: 3, Text: "x"}}, {File: "b.go", Either: either{First: 3, End: 3, Text: "x"}}, {File: "a.go"}}
	assert.Equal(t, [][]*mutation{{a[0], a[2]}, {a[1]}}, together(a))
}

// TestWhatCanBeHeldIsAskedByWhatComesByIt asks changes of which some make no program beside what was, some are come by only by a slow test, and some only by another
// package's.
func TestWhatCanBeHeldIsAskedByWhatComesByIt(t *testing.T) {
	t.Chdir(t.TempDir())
	for name, text := range map[string]string{"go.mod": "module a\n\ngo 1.25\n",
		"internal/a/a.go": "package a\n\nimport \"time\"\n\nfunc Wait(n int) time.Duration {\n\treturn 2 * time.Second * time.Duration(n)\n}\n\n" +
			"func Sum(of []int) (s int) {\n\tfor _, n := range of {\n\t\tif n == 4 {\n\t\t\tcontinue\n\t\t}\n\t\ts += n\n\t}\n\treturn s\n}\n\nfunc Elsewhere(a int) bool {\n\treturn a < 3\n}\n",
		"internal/a/a_test.go": "package a\n\nimport \"testing\"\n\nfunc TestWait(t *testing.T) {\n\tif Wait(2).Seconds() != 4 {\n\t\tt.Fatal()\n\t}\n}\n\n" +
			"func TestSum(t *testing.T) {\n\tif Sum([]int{1, 4, 2}) != 3 {\n\t\tt.Fatal()\n\t}\n}\n\nfunc TestHangs(t *testing.T) {\n\tif Sum([]int{1}) != 1 {\n\t\tselect {}\n\t}\n}\n",
		"internal/b/b_test.go": "package b\n\nimport (\n\t\"a/internal/a\"\n\t\"testing\"\n)\n\nfunc TestIt(t *testing.T) {\n\tif !a.Elsewhere(2) || a.Elsewhere(3) {\n\t\tt.Fatal()\n\t}\n}\n",
		"internal/c/c.go":      "package c\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o700))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	made, seen, err := of(t.Context(), options{}, "internal/a", nil)
	require.NoError(t, err)
	assert.Equal(t, []int{10, 8}, []int{made, seen}, "what is in Elsewhere is not noticed")
	made, seen, err = of(t.Context(), options{also: []string{"internal/b", "internal/c"}}, "internal/a", nil)
	require.NoError(t, err)
	assert.Equal(t, []int{10, 10}, []int{made, seen})
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
