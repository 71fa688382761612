package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/golden"
	"andamio/internal/testprogram"
	"andamio/schemas"
)

// TestMain has every value that a command prints in this process be held against its schema.
func TestMain(m *testing.M) {
	hold = heldTo
	testprogram.Main(m, &binary)
}

// compiled are the schemas of the values, by name.
var compiled = sync.OnceValue(func() map[string]*jsonschema.Schema {
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	add := func(file string) string {
		data, err := schemas.Files.ReadFile(file)
		if err != nil {
			return ""
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
		if err != nil {
			panic(fmt.Sprintf("%s: %v", file, err))
		}
		where := "https://schemas.andamio.example/" + file
		if err := c.AddResource(where, doc); err != nil {
			panic(fmt.Sprintf("%s: %v", file, err))
		}
		return where
	}
	add("plan.schema.json")
	out := map[string]*jsonschema.Schema{}
	for _, v := range values {
		if where := add("values/" + v.name + ".schema.json"); where != "" {
			out[v.name] = c.MustCompile(where)
		}
	}
	return out
})

// heldTo says what is wrong with a value, by its schema.
func heldTo(name string, text []byte) error {
	s := compiled()[name]
	if s == nil {
		return fmt.Errorf("the value %s has no schema: run the tests with -update", name)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err == nil {
		err = s.Validate(doc)
	}
	if err != nil {
		return fmt.Errorf("what is printed as %s is not as its schema says: %w\n%s", name, err, text)
	}
	return nil
}

// commandOf are the words of a command that a value is said to be printed by.
func commandOf(text string) []string {
	words := strings.Fields(strings.Split(text, " (")[0])
	return slices.DeleteFunc(words, func(w string) bool { return strings.HasPrefix(w, "-") || strings.ToLower(w) != w })
}

// heldToOne holds what a command line printed against the schemas of the values that its command prints. A log has a value a line.
func heldToOne(args []string, text []byte) error {
	if len(bytes.TrimSpace(text)) == 0 {
		return nil // what went wrong is told elsewhere
	}
	if args[0] == "--workspace" {
		args = args[2:]
	}
	found, _, err := newRoot(&shared{}).Find(slices.DeleteFunc(slices.Clone(args), func(w string) bool { return strings.HasPrefix(w, "-") }))
	if err != nil {
		return err
	}
	path := strings.TrimPrefix(found.CommandPath(), "andamio ")
	said := error(fmt.Errorf("no value is said to be printed by %s", path))
	for _, v := range values {
		if !slices.ContainsFunc(v.commands, func(c string) bool { return strings.Join(commandOf(c), " ") == path }) {
			continue
		}
		if said = heldTo(v.name, bytes.Split(text, []byte("\n{\""))[0]); said == nil {
			return nil
		}
	}
	return said
}

// TestValuesHaveSchemas writes the schema of each value from its type, and compares.
func TestValuesHaveSchemas(t *testing.T) {
	seen := map[string]bool{}
	for _, v := range values {
		assert.False(t, seen[v.name], "two values are called %s", v.name)
		seen[v.name] = true
		text, err := json.MarshalIndent(schemaOf(v.name, v.of), "", "  ")
		require.NoError(t, err)
		golden.Is(t, filepath.Join("../../schemas/values", v.name+".schema.json"), string(text)+"\n")
	}
	files, err := filepath.Glob("../../schemas/values/*.json")
	require.NoError(t, err)
	for _, f := range files {
		assert.True(t, seen[strings.TrimSuffix(filepath.Base(f), ".schema.json")], "%s is of no value", f)
	}
}

// TestEveryValueHoldsToItsSchema encodes values of each type, empty and with all sorts of things in them.
func TestEveryValueHoldsToItsSchema(t *testing.T) {
	for _, v := range values {
		if v.of == reflect.TypeFor[*plan.Plan]() {
			continue // plans have a schema, and tests, of their own
		}
		for seed := range uint64(12) {
			x := reflect.New(v.of).Elem()
			if seed > 0 {
				(&filler{rand.New(rand.NewPCG(seed, 7)), plantest.Plan(t, "drill")}).fill(x, 0)
			}
			text, err := encoded(x.Interface())
			require.NoError(t, err, v.name)
			require.NoError(t, heldTo(v.name, text))
		}
	}
}

// A filler puts something into a value of any type.
type filler struct {
	*rand.Rand
	plan *plan.Plan
}

func (f *filler) fill(v reflect.Value, depth int) {
	if !v.CanSet() {
		return
	}
	switch x := v.Addr().Interface().(type) {
	case *time.Time:
		*x = time.Unix(f.Int64N(1<<32), 0).UTC()
		return
	case *json.RawMessage:
		*x = json.RawMessage(`{"a":1}`)
		return
	case *plan.Expr:
		x.Literal = "x"
		return
	case **plan.Plan:
		*x = f.plan
		return
	}
	f.kind(v, depth)
}

func (f *filler) kind(v reflect.Value, depth int) {
	switch v.Kind() {
	case reflect.Bool:
		v.SetBool(f.IntN(2) == 0)
	case reflect.String:
		v.SetString([]string{"", "gauge", "a \"b\""}[f.IntN(3)])
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(int64(f.IntN(100)))
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(uint64(f.IntN(100)))
	case reflect.Float32, reflect.Float64:
		v.SetFloat(f.Float64() * 100)
	case reflect.Pointer:
		if depth < 6 && f.IntN(3) > 0 {
			v.Set(reflect.New(v.Type().Elem()))
			f.fill(v.Elem(), depth+1)
		}
	case reflect.Slice:
		if n := f.IntN(3); n > 0 && depth < 6 {
			v.Set(reflect.MakeSlice(v.Type(), n, n))
			for i := range n {
				f.fill(v.Index(i), depth+1)
			}
		}
	case reflect.Map:
		if depth < 6 && v.Type().Key().Kind() == reflect.String {
			v.Set(reflect.MakeMap(v.Type()))
			x := reflect.New(v.Type().Elem()).Elem()
			f.fill(x, depth+1)
			v.SetMapIndex(reflect.ValueOf("key").Convert(v.Type().Key()), x)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f.fill(v.Field(i), depth+1)
		}
	}
}

// TestTheGuideListsEveryValue holds the table of docs/cli.md, which is written from the values.
func TestTheGuideListsEveryValue(t *testing.T) {
	const begin, end, file = "<!-- values -->\n", "<!-- end of values -->\n", "../../docs/cli.md"
	var table strings.Builder
	table.WriteString("| printed by | value |\n|---|---|\n")
	rows := slices.Clone(values)
	slices.SortStableFunc(rows, func(a, b described) int { return strings.Compare(a.commands[0], b.commands[0]) })
	for _, v := range rows {
		require.NotEmpty(t, v.commands, v.name)
		var by []string
		for _, c := range v.commands {
			words, more, _ := strings.Cut(c, " (")
			if by = append(by, "`"+words+"`"); more != "" {
				by[len(by)-1] += " (" + more
			}
		}
		fmt.Fprintf(&table, "| %s | [%s](../schemas/values/%s.schema.json) |\n", strings.Join(by, ", "), v.name, v.name)
	}
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, ok := strings.Cut(string(data), begin)
	require.True(t, ok)
	_, after, ok := strings.Cut(rest, end)
	require.True(t, ok)
	golden.Is(t, file, before+begin+table.String()+end+after)
}

// TestTheCommandsOfValuesAreThere holds that each command that is said to print a value is one.
func TestTheCommandsOfValuesAreThere(t *testing.T) {
	root := newRoot(&shared{})
	for _, v := range values {
		for _, c := range v.commands {
			words := commandOf(c)
			found, rest, err := root.Find(words)
			require.NoError(t, err, c)
			assert.Empty(t, rest, "%s: there is no %q", v.name, c)
			assert.NotEqual(t, root, found, c)
		}
	}
}
