package tosca

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"pgregory.net/rapid"
)

// large is a template of n hosts with what else is put among them, long enough to be read in pieces.
func large(n int, seed uint64, extra string) string {
	r := rand.New(rand.NewPCG(seed, 1))
	var b strings.Builder
	b.WriteString("# a comment\n" + header + "topology_template:\n  inputs: {port: {type: integer, default: 80}}\n  node_templates:\n\n")
	for i := range n {
		switch r.IntN(5) {
		case 0:
			fmt.Fprintf(&b, "    # host %d\n    host-%d: { type: Compute }\n", i, i)
		case 1:
			fmt.Fprintf(&b, "    host-%d:\n      type: Compute\n      description: |\n        line one\n\n          indented: like a key\n      capabilities:\n        host: { properties: { num_cpus: 2,\n          mem_size: 4 GiB } }\n", i)
		case 2:
			fmt.Fprintf(&b, "    host-%d:\n      type: Compute\n      description: >-\n        folded\n        text\n      metadata: {a: \"b\"}\n", i)
		case 3:
			fmt.Fprintf(&b, "    host-%d:\n      type: Compute\n      requirements:\n      - dependency: host-%d\n", i, i+1)
		default:
			fmt.Fprintf(&b, "    \"host-%d\":\n        type: Compute\n        description: 'it is %d'\n", i, i)
		}
	}
	fmt.Fprintf(&b, "    host-%d: { type: Compute }\n", n)
	b.WriteString(extra)
	b.WriteString("  outputs:\n    o: {value: {get_input: port}}\n# the end\n")
	return b.String()
}

// planted reads a text to a tree, in pieces or whole.
func planted(text string, pieces bool) (*tree, Diagnostics, bool) {
	doc := &document{file: "t.yaml"}
	var diags Diagnostics
	root := &tree{}
	if pieces {
		p, ok := plantPieces(doc, []byte(text), root)
		if ok {
			diags = *p.diags
		}
		return root, diags, ok
	}
	var y yaml.Node
	if yaml.Unmarshal([]byte(text), &y) != nil {
		return nil, nil, false
	}
	newPlanter(doc, &diags).plant(y.Content[0], root, 0)
	diags.sort()
	return root, diags, true
}

func TestPiecesAreTheWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := large(2500, rapid.Uint64().Draw(t, "seed"), "")
		if len(text) < piecesFrom {
			t.Fatalf("only %d bytes", len(text))
		}
		a, _, ok := planted(text, true)
		if !ok {
			t.Fatal("not read in pieces")
		}
		b, _, _ := planted(text, false)
		if d := difference(a, b); d != "" {
			t.Fatalf("the pieces are not the whole: %s", d)
		}
	})
}

func sameTree(a, b *tree) bool { return difference(a, b) == "" }

// difference says where two trees differ first, "" if nowhere.
func difference(a, b *tree) string {
	if a.value != b.value || a.form != b.form || a.tag != b.tag || a.line != b.line || a.col != b.col || len(a.content) != len(b.content) {
		return fmt.Sprintf("line %d %q and line %d %q", a.line, a.value, b.line, b.value)
	}
	for i := range a.content {
		if d := difference(&a.content[i], &b.content[i]); d != "" {
			return d
		}
	}
	return ""
}

func TestWhatReachesAcrossIsReadWhole(t *testing.T) {
	for name, extra := range map[string]string{
		"an anchor":                   "    x: &x { type: Compute }\n    y: *x\n",
		"a merge":                     "    x: { <<: { type: Compute } }\n",
		"a tab":                       "    x: { type:\tCompute }\n",
		"quotes over lines":           "    x:\n      type: Compute\n      description: \"one\n    y: two\n    \"\n",
		"brackets over lines":         "    x: { type: Compute, metadata: {\n    a: b\n    } }\n",
		"a key of another kind":       "    ? x\n    : { type: Compute }\n",
		"a document marker":           "    x: { type: Compute }\n---\na: b\n",
		"node templates that are not": "    - x\n",
	} {
		text := large(2500, 7, extra)
		a, _, inPieces := planted(text, true)
		b, _, isYAML := planted(text, false)
		if inPieces {
			require.True(t, isYAML, "%s: pieces read what is no YAML", name)
			assert.Empty(t, difference(a, b), name)
		}
	}
	_, diags := read(large(2500, 7, "    host-1: { type: Compute }\n"))
	require.Len(t, diags, 1)
	assert.Equal(t, CodeDuplicateKey, diags[0].Code, "seen across pieces")
	assert.Contains(t, diags[0].Message, "the first is at line")
}

func TestLargeTemplatesAreCheckedAsSmallOnes(t *testing.T) {
	text := large(2500, 3, "    wrong: { type: Compute, propertys: {} }\n    worse: { type: Compute, capabilities: { host: { properties: { mem_size: 3 } } } }\n")
	tmpl, diags := read(text)
	require.Len(t, diags, 2, diags.Error())
	lines := strings.Split(text, "\n")
	assert.Contains(t, lines[diags[0].Line-1], "propertys", "at its line")
	assert.Contains(t, lines[diags[1].Line-1], "mem_size: 3")
	assert.Greater(t, len(tmpl.Nodes), 2000)
	assert.Equal(t, "host-0", tmpl.Nodes[0].Name, "in the order of the file")
}

func TestDeepAndWideInputIsBounded(t *testing.T) {
	for name, text := range map[string]string{
		"a hundred lists":    header + "metadata: {x: " + strings.Repeat("[", 100) + strings.Repeat("]", 100) + "}\n",
		"a hundred mappings": header + "metadata:\n" + nested(100),
		"an alias bomb":      header + bomb(12),
		"an alias to itself": header + "metadata: &a { x: *a }\n",
	} {
		_, diags := read(text)
		require.NotEmpty(t, diags, name)
		assert.Equal(t, CodeTooLarge, diags[0].Code, name)
	}
}

func nested(depth int) string {
	var b strings.Builder
	for i := range depth {
		b.WriteString(strings.Repeat(" ", i+1) + "a:\n")
	}
	return b.String()
}

// bomb is aliases that expand to ten to the power of levels.
func bomb(levels int) string {
	var b strings.Builder
	b.WriteString("dsl_definitions:\n  a0: &a0 [ x, x, x, x, x, x, x, x, x, x ]\n")
	for i := 1; i < levels; i++ {
		fmt.Fprintf(&b, "  a%d: &a%d [ %s ]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 10), ", "))
	}
	return b.String()
}

func TestMergeKeysAreMerged(t *testing.T) {
	tmpl, diags := read(header + `dsl_definitions:
  a: &a { num_cpus: 1, mem_size: 1 GiB }
  b: &b { disk_size: 8 GiB, num_cpus: 9 }
topology_template:
  node_templates:
    x: { type: Compute, capabilities: { host: { properties: { <<: [ *a, *b ], mem_size: 2 GiB } } } }
`)
	require.Empty(t, diags, diags.Error())
	host := tmpl.Node("x").Capabilities["host"]
	assert.Equal(t, int64(1), host["num_cpus"].Literal, "the first that brings a key wins")
	assert.Equal(t, "2 GiB", host["mem_size"].Literal, "its own key wins over all")
	assert.Equal(t, "8 GiB", host["disk_size"].Literal)
}

func TestSourcesAreReadBackAsTheyWere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String().Draw(t, "text")
		v := LiteralOf(map[string]any{"a": []any{text, int64(3), 2.5, true, nil}, text: "x"}, Pos{})
		again, diags := ParseInput("x", v.Source())
		if len(diags) > 0 || fmt.Sprint(again.Plain()) != fmt.Sprint(v.Plain()) {
			t.Fatalf("%s read back as %v: %v", v.Source(), again, diags)
		}
	})
}

func FuzzPieces(f *testing.F) {
	f.Add("    x: { type: Compute }\n")
	f.Add("    x: \"a\n    b: c\n    \"\n")
	f.Add("   x: |\n    a\n")
	f.Fuzz(func(t *testing.T, extra string) {
		text := large(2500, 1, extra)
		a, _, ok := planted(text, true)
		if !ok {
			return
		}
		b, _, isYAML := planted(text, false)
		if !isYAML || !sameTree(a, b) {
			t.Fatal("the pieces are not the whole")
		}
	})
}

func TestCutFindsEntriesOnly(t *testing.T) {
	text := []byte(large(2500, 5, ""))
	cuts := cut(text)
	require.Greater(t, len(cuts), 2)
	for i, c := range cuts {
		assert.True(t, bytes.HasPrefix(bytes.TrimLeft(text[c.from:], " \""), []byte("host-")), "piece %d", i)
		assert.Equal(t, bytes.Count(text[:c.from], []byte("\n")), c.line)
	}
}
