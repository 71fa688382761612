package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/tokens"
)

// hostile makes requests of the document: such as it describes, and such as it does not.
type hostile struct {
	r   *rand.Rand
	doc *huma.OpenAPI
}

// words are what strings are made of: names that there are, and what hurts where it is not looked at.
var words = []string{"gauges", "vega", "1", "2", "gauge", "host", "", "..", "../../etc/passwd", "'; DROP TABLE runs; --", "\x1b[31m", "\u202e", strings.Repeat("a", 300), "%00", "${HOME}", "*", "[", "nobody",
	"gauge-1", "2026-12-01T00:00:00Z", "lease", "saved", "hours", "all", "pause", "stop"}

func (h *hostile) pick(all ...string) string { return all[h.r.IntN(len(all))] }

// value is one that a schema describes, or nearly.
func (h *hostile) value(s *huma.Schema, deep int) any {
	if s == nil || deep > 5 || h.r.IntN(30) == 0 {
		return []any{nil, -1, 1e300, "x", []any{}, map[string]any{}, true}[h.r.IntN(7)]
	}
	if s.Ref != "" {
		return h.value(h.doc.Components.Schemas.SchemaFromRef(s.Ref), deep+1)
	}
	if len(s.Enum) > 0 {
		return s.Enum[h.r.IntN(len(s.Enum))]
	}
	switch s.Type {
	case "object":
		out := map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
			if h.r.IntN(3) > 0 {
				out[name] = h.value(s.Properties[name], deep+1)
			}
		}
		if h.r.IntN(10) == 0 {
			out[h.pick(words...)] = h.pick(words...)
		}
		return out
	case "array":
		out := []any{}
		for range h.r.IntN(3) {
			out = append(out, h.value(s.Items, deep+1))
		}
		return out
	case "integer":
		return []int64{0, 1, 2, 3, -1, 1 << 40}[h.r.IntN(6)]
	case "number":
		return []float64{0, 0.5, 1, -1, 1e18}[h.r.IntN(5)]
	case "boolean":
		return h.r.IntN(2) == 0
	}
	return h.pick(words...)
}

// request is one of an operation.
func (h *hostile) request(path string, o *huma.Operation) (at, body, kind string) {
	query := url.Values{}
	for _, p := range o.Parameters {
		text := fmt.Sprint(h.value(p.Schema, 0))
		switch {
		case p.In == "path":
			if text == "" || text == ".." {
				text = "x"
			}
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(text))
		case p.In == "query" && h.r.IntN(3) == 0:
			query.Set(p.Name, text)
		}
	}
	if o.RequestBody != nil {
		for media, m := range o.RequestBody.Content {
			kind = media
			data, err := json.Marshal(h.value(m.Schema, 0))
			if body = string(data); err != nil || h.r.IntN(10) == 0 {
				body = h.pick("{", "[]", "null", "\x00", `{"a":`+strings.Repeat("[", 2000), "version: 3", "PK\x03\x04")
			}
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return path, body, kind
}

// operations are all of the document but streams, in an order that is the same each time.
func (h *hostile) operations() []described {
	var all []described
	for _, path := range slices.Sorted(maps.Keys(h.doc.Paths)) {
		each := operationsOf(h.doc.Paths[path])
		for _, method := range slices.Sorted(maps.Keys(each)) {
			if !strings.HasSuffix(path, "/events") {
				all = append(all, described{path, method, each[method]})
			}
		}
	}
	return all
}

// described is an operation of the document.
type described struct {
	path, method string
	*huma.Operation
}

// asDescribed holds that an answer is as the document says.
func (h *hostile) asDescribed(t *testing.T, o described, got answer) {
	t.Helper()
	said := o.Responses[strconv.Itoa(got.status)]
	if got.status >= 300 {
		said = o.Responses["default"]
	}
	if got.body == "" || got.status == http.StatusUnauthorized {
		return
	}
	require.NotNil(t, said, "%s %s: %d", o.method, o.path, got.status)
	media, _, _ := strings.Cut(got.header.Get("Content-Type"), ";")
	m := said.Content[media]
	if m == nil && media == "application/openmetrics-text" {
		return
	}
	require.NotNil(t, m, "%s %s: %s", o.method, o.path, media)
	if !strings.HasSuffix(media, "json") {
		return
	}
	var v any
	require.NoError(t, json.Unmarshal([]byte(got.body), &v))
	var wrong huma.ValidateResult
	huma.Validate(h.doc.Components.Schemas, m.Schema, huma.NewPathBuffer(nil, 0), huma.ModeReadFromServer, v, &wrong)
	require.Empty(t, wrong.Errors, "%s %s: %s", o.method, o.path, got.body)
}

// TestATokenIsAnsweredOnlyWhatItsRightsAreFor asks for everything, many times over, with tokens of one right each: what takes another is done for none of them.
func TestATokenIsAnsweredOnlyWhatItsRightsAreFor(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.PerSecond, limits.Burst = 1e6, 1e6
	a, s, c := opened(t, limits)
	begun := c.ask("POST", "/runs?confirm=gauges", planOf(c, ""))
	require.Equal(t, http.StatusAccepted, begun.status, begun.body)
	heard(c, 1, "")
	h := &hostile{rand.New(rand.NewPCG(7, 7)), s.api.OpenAPI()}
	// What is answered to each beside what it is for: what is its own, which may be nothing.
	may := map[guard.Right][]string{
		guard.Account: {"listTokens", "listAddressLeases", "getAccount", "listSavings", "listQuotas"},
		guard.Approve: {"listTokens", "listAddressLeases", "listRequests"},
		guard.Connect: {"listTokens", "listAddressLeases", "connectSite", "testSite", "removeSite", "rotateCredential", "removePair", "setFileOf_fronts", "dropBus"},
	}
	for _, r := range slices.Sorted(maps.Keys(may)) {
		one := c.with(tokenOf(t, a, tokens.Wish{Name: "of one right", Limit: guard.Limit{Rights: []guard.Right{r}}}))
		for _, path := range []string{"/plans", "/templates/check"} {
			got := one.ask("POST", path, archive(t, gauges), "Content-Type: application/zip")
			assert.Equal(t, http.StatusForbidden, got.status, "%s: %s", path, got.body)
		}
		done := map[string]bool{}
		for _, o := range h.operations() {
			for range 12 {
				path, body, kind := h.request(strings.TrimPrefix(o.path, "/"+Version), o.Operation)
				var header []string
				if kind != "" {
					header = append(header, "Content-Type: "+kind)
				}
				if got := one.ask(o.method, path, body, header...); got.status < 300 {
					done[o.OperationID] = true
				}
			}
		}
		for id := range done {
			assert.Contains(t, may[r], id, "a token of the right to %s is answered", r)
		}
	}
}

// TestNothingThatIsAskedDoesWhatItShouldNot asks at random for all that the document has, and for what it has not: nothing ends as none should, nobody is answered whom nobody looked at, and no secret is told.
func TestNothingThatIsAskedDoesWhatItShouldNot(t *testing.T) {
	t.Parallel()
	many := 1500
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_REQUESTS")); err == nil {
		many = n
	}
	seed := uint64(time.Now().UnixNano() % 1e6)
	if n, err := strconv.ParseUint(os.Getenv("ANDAMIO_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("seed %d", seed)
	limits := Usual
	limits.PerSecond, limits.Burst, limits.Strangers, limits.Patience = 1e6, 1e6, 1e6, 20*time.Second
	a, s, c := opened(t, limits)
	begun := c.ask("POST", "/runs?confirm=gauges", planOf(c, ""))
	require.Equal(t, http.StatusAccepted, begun.status, begun.body)
	heard(c, 1, "")
	bounded := c.with(tokenOf(t, a, tokens.Wish{Name: "bounded", Limit: guard.Limit{Rights: []guard.Right{guard.Read, guard.Ask}, Scope: guard.Scope{Deployments: []string{"other*"}}}}))
	h := &hostile{rand.New(rand.NewPCG(seed, 3)), s.api.OpenAPI()}
	all := h.operations()
	statuses := map[int]int{}
	for range many {
		o := all[h.r.IntN(len(all))]
		path, body, kind := h.request(strings.TrimPrefix(o.path, "/"+Version), o.Operation)
		who, header := c, []string{}
		if h.r.IntN(4) == 0 {
			who = bounded
		}
		stranger := h.r.IntN(10) == 0
		if stranger {
			who = c.with(h.pick("", "x", "andamio_a_b", c.secret[:20]))
		}
		if kind != "" {
			header = append(header, "Content-Type: "+kind)
		}
		if h.r.IntN(20) == 0 {
			header = append(header, "Idempotency-Key: "+h.pick("k1", "k2", "k 3"))
		}
		got := who.ask(o.method, path, body, header...)
		statuses[got.status]++
		require.Less(t, got.status, 500, "%s %s %s: %s", o.method, path, body, got.body)
		if stranger && o.path != signIn {
			require.Equal(t, http.StatusUnauthorized, got.status, "%s %s", o.method, path)
		}
		h.asDescribed(t, o, got)
		require.NotContains(t, got.body, c.secret)
		if got.header.Get("Content-Type") != archives {
			require.NotContains(t, got.body, "\x1b")
		}
		require.NotContains(t, got.body, "root:x:0")
	}
	t.Log(statuses)
	assert.Greater(t, statuses[http.StatusOK], many/20)
}
