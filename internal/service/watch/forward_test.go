package watch

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/snappy"
	"github.com/prometheus/prometheus/prompb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/measure"
	"andamio/internal/service/workspace"
)

// taker takes what is sent by remote write, or refuses it.
type taker struct {
	mu     sync.Mutex
	status int
	series map[string]float64
	auth   []string
}

func (k *taker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.auth = append(k.auth, r.Header.Get("Authorization"))
	if k.status != 0 {
		http.Error(w, "not now\x1b[2J", k.status)
		return
	}
	body, err := io.ReadAll(r.Body)
	if err == nil {
		body, err = snappy.Decode(nil, body)
	}
	var req prompb.WriteRequest
	if err == nil {
		err = req.Unmarshal(body)
	}
	if err != nil || r.Header.Get("Content-Encoding") != "snappy" || r.Header.Get("Content-Type") != "application/x-protobuf" || r.Header.Get("X-Prometheus-Remote-Write-Version") != "0.1.0" {
		http.Error(w, "what is this", http.StatusBadRequest)
		return
	}
	for _, s := range req.Timeseries {
		name, last := "", ""
		for _, l := range s.Labels {
			if l.Name <= last || l.Value == "" {
				http.Error(w, "labels are not in order, or empty", http.StatusBadRequest)
				return
			}
			last = l.Name
			if l.Name != "key" && l.Name != "kind" {
				name += l.Name + "=" + l.Value + " "
			}
		}
		for _, x := range s.Samples {
			k.series[name] = x.Value
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

func (k *taker) answers(status int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.status = status
}

func (k *taker) has() map[string]float64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := map[string]float64{}
	for name, v := range k.series {
		out[name] = v
	}
	return out
}

// TestMeasuresAreSentOn sends rounds to somebody who takes them, is away, refuses them, and takes them again.
func TestMeasuresAreSentOn(t *testing.T) {
	t.Setenv("ANDAMIO_SECRET_LEDGE", "let me in")
	to := &taker{series: map[string]float64{}}
	server := httptest.NewServer(to)
	defer server.Close()
	ws, err := workspace.Open(t.TempDir())
	require.NoError(t, err)
	svc := &Service{workspace: ws, memory: &Memory{}, log: slog.New(slog.DiscardHandler)}
	require.NoError(t, ws.SetForward(workspace.Forward{URL: server.URL, Secret: "ledge"}))
	k := &known{things: map[string]*measure.Thing{measure.SelfKey: {Key: measure.SelfKey, Kind: measure.OfRun, Name: "andamio"},
		"e": {Key: "e", Kind: measure.OfEndpoint, Name: "page 1", Site: "vega", Of: "one-door", Tags: map[string]string{"env": "trial"}}}}
	now := time.Unix(1000, 0)
	round1 := func(v float64) *round {
		now = now.Add(Every)
		r := &round{of: map[string]*figures{}}
		r.put("e", measure.AnswerTime, v)
		r.put("e", `queue{river="upper \"Sil\"",site="own"}`, v)
		r.put("gone", measure.On, 1)
		require.NoError(t, svc.forward(t.Context(), k, r, now))
		return r
	}
	idle := func() bool {
		f := &svc.memory.forwarder
		f.mu.Lock()
		defer f.mu.Unlock()
		return !f.sending
	}
	settled := func() { t.Helper(); require.Eventually(t, idle, 10*time.Second, time.Millisecond) }

	round1(1)
	settled()
	assert.Equal(t, map[string]float64{
		"__name__=andamio_answer_time_seconds deployment=one-door name=page 1 site=vega tag_env=trial ":                  1,
		`__name__=queue deployment=one-door exported_by_site=vega name=page 1 river=upper "Sil" site=own tag_env=trial `: 1,
		"__name__=andamio_forward_late_seconds name=andamio ":                                                            0, "__name__=andamio_forward_lost name=andamio ": 0,
	}, to.has())
	assert.Equal(t, []string{"Bearer let me in"}, to.auth)

	to.answers(http.StatusServiceUnavailable)
	round1(2)
	settled()
	r := round1(3)
	settled()
	assert.Equal(t, []float64{Every.Seconds(), 0}, []float64{r.of[measure.SelfKey].values[measure.ForwardLate], r.of[measure.SelfKey].values[measure.ForwardLost]}, "it waits, and is late")
	to.answers(0)
	round1(4)
	settled()
	for name, v := range to.has() {
		if name != "__name__=andamio_forward_late_seconds name=andamio " && name != "__name__=andamio_forward_lost name=andamio " {
			assert.Equal(t, 4.0, v, "%s: all came, in their order", name)
		}
	}

	to.answers(http.StatusBadRequest)
	round1(5)
	settled()
	to.answers(0)
	r = round1(6)
	settled()
	assert.Equal(t, []float64{0, 4}, []float64{r.of[measure.SelfKey].values[measure.ForwardLate], r.of[measure.SelfKey].values[measure.ForwardLost]}, "what is refused as it is is lost, and said so")

	require.NoError(t, ws.SetForward(workspace.Forward{}))
	before := len(to.auth)
	round1(7)
	settled()
	assert.Len(t, to.auth, before, "nothing is sent any more")
}

func TestWhereMeasuresMayNotBeSent(t *testing.T) {
	ws, err := workspace.Open(t.TempDir())
	require.NoError(t, err)
	for f, want := range map[workspace.Forward]fault.Code{
		{URL: "ftp://there"}: fault.Invalid, {URL: "there"}: fault.Invalid, {URL: "http://a:b@there/x"}: fault.Invalid, {Secret: "x"}: fault.Invalid,
		{URL: "http://there/x", Secret: "x"}: fault.Refused,
	} {
		assert.Equal(t, want, fault.CodeOf(ws.SetForward(f)), "%+v", f)
	}
	require.NoError(t, ws.SetForward(workspace.Forward{URL: "https://there/x", Secret: "x"}))
	got, err := ws.Forward()
	require.NoError(t, err)
	assert.Equal(t, "https://there/x", got.URL)
}

func TestOnlySoMuchWaitsToBeSent(t *testing.T) {
	ws, err := workspace.Open(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, ws.SetForward(workspace.Forward{URL: "http://127.0.0.1:1/"}))
	to, err := ws.Forward()
	require.NoError(t, err)
	svc := &Service{workspace: ws, memory: &Memory{}, log: slog.New(slog.DiscardHandler)}
	f := &svc.memory.forwarder
	f.to, f.pending, f.sending = to, make([]sample, heldMost), true
	k := &known{things: map[string]*measure.Thing{"e": {Key: "e", Kind: measure.OfEndpoint}}}
	r := &round{of: map[string]*figures{}}
	r.put("e", measure.Answers, 1)
	require.NoError(t, svc.forward(t.Context(), k, r, time.Unix(1, 0)))
	assert.Len(t, f.pending, heldMost)
	assert.Equal(t, 1, f.lost)
}

// TestWhatIsOnItsWayIsNotLost has more wait than may, while the oldest are on their way: those that were taken are done with, each other is sent later or counted as lost.
func TestWhatIsOnItsWayIsNotLost(t *testing.T) {
	t.Parallel()
	to := workspace.Forward{URL: "https://taker.example/write"}
	values := func(of []sample) (out []float64) {
		for _, s := range of {
			out = append(out, s.value)
		}
		return out
	}
	f := &forwarder{to: to}
	for v := range 3 {
		f.pending = append(f.pending, sample{value: float64(v)})
	}
	assert.Equal(t, []float64{0, 1, 2}, values(f.take(to)))
	for v := range 4 {
		f.pending = append(f.pending, sample{value: float64(10 + v)})
	}
	f.hold(5)
	assert.Equal(t, 2, f.lost)
	f.landed(to, false, false)
	assert.Equal(t, []any{[]float64{12, 13}, 2}, []any{values(f.pending), f.lost})
	f.take(to)
	f.landed(to, true, true)
	assert.Equal(t, []float64{12, 13}, values(f.pending), "they go again")
	f.hold(1)
	assert.Equal(t, []any{[]float64{13}, 3}, []any{values(f.pending), f.lost}, "none is on its way now")
	f.take(to)
	f.landed(to, false, true)
	assert.Equal(t, []any{0, 4}, []any{len(f.pending), f.lost})
	assert.Empty(t, f.take(workspace.Forward{URL: "https://another.example/"}))
}
