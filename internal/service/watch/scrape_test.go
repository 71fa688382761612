package watch

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
)

const openMetrics = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// pageOfFigures has every type of OpenMetrics 1.0.
const pageOfFigures = `# TYPE queue gauge
# HELP queue What waits.
queue{river="upper \"Sil\""} 7
queue{river="lower"} 2
# TYPE read counter
read_total 100
read_created 1.7e9
# TYPE answer_seconds histogram
# UNIT answer_seconds seconds
answer_seconds_bucket{le="0.1"} 3
answer_seconds_bucket{le="+Inf"} 5 # {trace="x"} 0.3 1.7e9
answer_seconds_count 5
answer_seconds_sum 1.25
# TYPE took summary
took{quantile="0.9"} 4
took_count 2
took_sum 6
# TYPE build info
build_info{version="1"} 1
# TYPE pump stateset
pump{pump="on"} 1
pump{pump="off"} 0
# TYPE odd unknown
odd NaN
odd{which="b"} 3 1700000000.5
# EOF
`

func names(all []series) map[string]float64 {
	out := map[string]float64{}
	for _, s := range all {
		out[s.name] = s.value
	}
	return out
}

func TestFiguresAreReadFromOpenMetrics(t *testing.T) {
	want := map[string]float64{`queue{river="upper \"Sil\""}`: 7, `queue{river="lower"}`: 2, "read_per_second": 100, "answer_seconds_count_per_second": 5, "answer_seconds_sum_per_second": 1.25,
		"took_count_per_second": 2, "took_sum_per_second": 6, `pump{pump="on"}`: 1, `pump{pump="off"}`: 0, `odd{which="b"}`: 3}
	for _, kind := range []string{openMetrics, "text/plain", "", "application/octet-stream"} {
		all, err := parsed([]byte(pageOfFigures), kind)
		require.NoError(t, err, kind)
		assert.Equal(t, want, names(all), "%q: a page that ends as the standard says is one, whatever it is called", kind)
	}
	older := "# TYPE reads_total counter\nreads_total 4\n# TYPE level untyped\nlevel 2.5\nplain_total 3\n"
	all, err := parsed([]byte(older), "text/plain; version=0.0.4")
	require.NoError(t, err)
	assert.Equal(t, map[string]float64{"reads_per_second": 4, "level": 2.5, "plain_per_second": 3}, names(all))
}

func TestAPageOfNoFiguresSaysSo(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want int
		err  string
	}{
		"a page for people":       {"<html>hello</html>", 0, "cannot be read"},
		"cut off":                 {"# TYPE a gauge\na 1\na{b=", 1, ""},
		"nothing":                 {"", 0, ""},
		"more than are taken":     {strings.Repeat("x", 0) + many(figuresMost+50), figuresMost, ""},
		"a name beyond measure":   {"a{b=\"" + strings.Repeat("c", 300) + "\"} 1\nshort 2\n", 1, ""},
		"a name of control signs": {"a{b=\"\x1b[2J\"} 1\n", 1, ""},
	} {
		all, err := parsed([]byte(c.text), "text/plain")
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Len(t, all, c.want, name)
		for _, s := range all {
			assert.NotContains(t, s.name, "\x1b", name)
		}
	}
}

func many(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "a{n=\"%d\"} 1\n", i)
	}
	return b.String()
}

func FuzzParsed(f *testing.F) {
	f.Add([]byte(pageOfFigures), openMetrics)
	f.Add([]byte("a 1"), "text/plain")
	f.Fuzz(func(t *testing.T, body []byte, kind string) {
		all, err := parsed(body, kind)
		if err == nil {
			require.LessOrEqual(t, len(all), figuresMost)
		}
	})
}

func TestCountersTellHowFastTheyGo(t *testing.T) {
	var c counters
	now := time.Unix(1000, 0)
	at := func(v float64, past time.Duration) map[string]float64 {
		now = now.Add(past)
		return c.rates("t", []series{{"asked_per_second", v, true}, {"queue", 3, false}}, now)
	}
	assert.Equal(t, map[string]float64{"queue": 3.0}, at(100, 0), "nothing is known of how fast it goes")
	assert.Equal(t, map[string]float64{"queue": 3.0, "asked_per_second": 2}, at(130, 15*time.Second))
	assert.Equal(t, map[string]float64{"queue": 3.0}, at(5, 15*time.Second), "it began anew")
	assert.Equal(t, map[string]float64{"queue": 3.0, "asked_per_second": 1}, at(20, 15*time.Second))
	assert.Equal(t, map[string]float64{"queue": 3.0}, at(20, 0), "no time has passed")
	c.forget(&known{things: map[string]*measure.Thing{}})
	assert.Empty(t, c.of)
}

// TestWhoTellsNoFiguresDoesNotAnswer asks servers that do what they should not.
func TestWhoTellsNoFiguresDoesNotAnswer(t *testing.T) {
	page := func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/metrics":
			assert.Contains(t, r.Header.Get("Accept"), "application/openmetrics-text")
			w.Header().Set("Content-Type", openMetrics)
			_, _ = w.Write([]byte(pageOfFigures))
		case "/elsewhere":
			http.Redirect(w, r, "/metrics", http.StatusFound)
		case "/much":
			_, _ = w.Write([]byte(strings.Repeat("# nothing\n", scrapeMost/10+1)))
		default:
			http.NotFound(w, r)
		}
	}
	server := httptest.NewServer(http.HandlerFunc(page))
	defer server.Close()
	all, err := scraped(t.Context(), server.URL+"/metrics")
	require.NoError(t, err)
	assert.Len(t, all, 10)
	for path, want := range map[string]string{"/none": "404", "/elsewhere": "sends us to", "/much": "larger than"} {
		_, err := scraped(t.Context(), server.URL+path)
		assert.ErrorContains(t, err, want, path)
	}
}
