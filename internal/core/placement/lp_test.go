package placement

import (
	"bytes"
	"math"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// row is a row of a model as its text says it: a sum of terms, at most or just a limit.
type row struct {
	terms map[string]float64
	just  bool
	limit float64
}

func (r *row) sum(x map[string]float64) float64 {
	n := 0.0
	for name, c := range r.terms {
		n += c * x[name]
	}
	return n
}

// holds reports whether values fulfil the row.
func (r *row) holds(x map[string]float64) bool {
	n := r.sum(x)
	return n <= r.limit+1e-7 && (!r.just || n >= r.limit-1e-7)
}

// program is a model as its text says it.
type program struct {
	objective row
	rows      map[string]*row
	none      map[string]bool // what a bound says is nothing
	whole     map[string]bool
}

// readLP reads what [WriteLP] writes, by the text alone.
func readLP(t require.TestingT, text string) *program {
	p := &program{rows: map[string]*row{}, none: map[string]bool{}, whole: map[string]bool{}}
	section, sign, factor := "", 1.0, 1.0
	var at *row
	words := []string{}
	for _, line := range strings.Split(text, "\n") {
		if !strings.HasPrefix(line, "\\") {
			words = append(words, strings.Fields(line)...)
		}
	}
	for i := 0; i < len(words); i++ {
		switch w := words[i]; {
		case w == "Minimize", w == "Bounds", w == "Binaries", w == "End":
			section, at = w, nil
		case w == "Subject":
			section, at = w, nil
			i++
		case section == "Binaries":
			p.whole[w] = true
		case section == "Bounds":
			require.Equal(t, []string{"<=", "0"}, words[i+1:i+3])
			p.none[w] = true
			i += 2
		case strings.HasSuffix(w, ":"):
			at, sign, factor = &row{terms: map[string]float64{}}, 1, 1
			if section == "Minimize" {
				p.objective = *at
				continue
			}
			require.NotContains(t, p.rows, w, "it stands there twice")
			p.rows[w] = at
		case w == "<=", w == "=":
			limit, err := strconv.ParseFloat(words[i+1], 64)
			require.NoError(t, err)
			at.limit, at.just = limit, w == "="
			i++
		case w == "+", w == "-":
			sign = map[string]float64{"+": 1, "-": -1}[w]
		default:
			if c, err := strconv.ParseFloat(w, 64); err == nil {
				factor = c
				continue
			}
			at.terms[w] += sign * factor
			sign, factor = 1, 1
		}
	}
	return p
}

// best is the least objective of a model, by trying everything; infinite if there is no solution.
func (p *program) best(workloads int) float64 {
	least := math.Inf(1)
	x := map[string]float64{}
	var try func(w int)
	try = func(w int) {
		if w == workloads {
			if p.follow(x) && p.holds(x) {
				least = min(least, p.objective.sum(x))
			}
			return
		}
		for name := range p.rows["one_"+strconv.Itoa(w)+":"].terms {
			if !p.none[name] {
				x[name] = 1
				try(w + 1)
				delete(x, name)
			}
		}
	}
	try(0)
	return least
}

// follow sets what follows from where workloads are: between which sites what passes passes, and by how much places exceed what is wished. It reports false where what passes has no way.
func (p *program) follow(x map[string]float64) bool {
	for name := range x {
		if name[0] != 'x' {
			delete(x, name)
		}
	}
	here := map[string]bool{}
	for name, r := range p.rows {
		if strings.HasPrefix(name, "from_") || strings.HasPrefix(name, "to_") {
			here[name] = r.sum(x) > 0.5
		}
		for v := range r.terms {
			if v[0] == 'z' {
				x[v] = max(0, r.sum(map[string]float64{})-r.limit, sumOfX(r, x)-r.limit)
			}
		}
	}
	for name := range p.objectiveAndRows() {
		if part := strings.Split(name, "_"); part[0] == "y" && here["from_"+part[1]+"_"+part[2]+":"] && here["to_"+part[1]+"_"+part[3]+":"] {
			x[name] = 1
		}
	}
	return true
}

func sumOfX(r *row, x map[string]float64) float64 {
	n := 0.0
	for name, c := range r.terms {
		if name[0] == 'x' {
			n += c * x[name]
		}
	}
	return n
}

// objectiveAndRows are the names of all variables.
func (p *program) objectiveAndRows() map[string]bool {
	out := map[string]bool{}
	for name := range p.objective.terms {
		out[name] = true
	}
	for _, r := range p.rows {
		for name := range r.terms {
			out[name] = true
		}
	}
	return out
}

func (p *program) holds(x map[string]float64) bool {
	for _, r := range p.rows {
		if !r.holds(x) {
			return false
		}
	}
	return true
}

// TestTheModelForSolversHasTheSameBest reads models by their text alone, tries everything that they allow, and compares with everything that is allowed here: the model allows the same, and
// counts it alike.
func TestTheModelForSolversHasTheSameBest(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p, m := tinyModel(t)
		want := tryAll(m)
		if rapid.Bool().Draw(t, "budget") && !math.IsInf(want, 1) {
			p.Budget = rapid.Float64Range(0.01, 0.4).Draw(t, "of")
			var err error
			m, err = newModel(p)
			require.NoError(t, err)
			want = tryWithin(m, p.Budget)
		}
		var b bytes.Buffer
		require.NoError(t, WriteLP(&b, *p))
		lp := readLP(t, b.String())
		for name := range lp.objectiveAndRows() {
			require.Equal(t, name[0] == 'x', lp.whole[name], name)
		}
		got := lp.best(len(p.Workloads))
		if math.IsInf(want, 1) || math.IsInf(got, 1) {
			require.Equal(t, want, got, b.String())
			return
		}
		require.InDelta(t, want, got, 1e-6, b.String())
	})
}
