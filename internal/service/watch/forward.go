package watch

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/snappy"
	"github.com/prometheus/prometheus/prompb"

	"andamio/internal/core/guard"
	"andamio/internal/core/measure"
	"andamio/internal/core/printable"
	"andamio/internal/service/workspace"
	"andamio/internal/web"
)

// Forwarding is where measures are sent on to.
func (svc *Service) Forwarding(context.Context) (workspace.Forward, error) {
	if err := svc.desk.Read("where measures are sent"); err != nil {
		return workspace.Forward{}, err
	}
	return svc.workspace.Forward()
}

// SetForwarding has measures be sent on to somewhere from the next round on, or nowhere.
func (svc *Service) SetForwarding(ctx context.Context, f workspace.Forward) error {
	if err := f.Check(); err != nil {
		return err
	}
	return svc.desk.Do(ctx, guard.SendMeasures, guard.Named(f.URL), func() error { return svc.workspace.SetForward(f) })
}

const (
	// heldMost is how many samples wait at most while nobody takes them: half an hour of what 400 things tell. The oldest are lost first.
	heldMost = 1 << 20
	// sentMost is how many samples go at once.
	sentMost = 10_000
	// sendWithin is how long sending some may take.
	sendWithin = 10 * time.Second
)

// forwarder sends measures on, some after others, beside the rounds.
type forwarder struct {
	mu      sync.Mutex
	to      workspace.Forward
	pending []sample
	sending bool
	// flying are how many of the first that wait are on their way.
	flying int
	// lost are how many samples nobody took, until that is told.
	lost int
	// series are the labels of each series, worked out once for all its samples as long as the same is known.
	series map[string][]prompb.Label
	of     *known
}

// labels are those of a series.
func (f *forwarder) labels(k *known, t *measure.Thing, name string) []prompb.Label {
	if f.of != k {
		f.series, f.of = map[string][]prompb.Label{}, k
	}
	key := t.Key + "\x00" + name
	of, has := f.series[key]
	if !has {
		of = seriesLabels(t, name)
		f.series[key] = of
	}
	return of
}

// hold has no more than so many samples wait: the oldest that are not on their way are lost.
func (f *forwarder) hold(most int) {
	if over := min(len(f.pending)-most, len(f.pending)-f.flying); over > 0 {
		f.pending, f.lost = slices.Delete(f.pending, f.flying, f.flying+over), f.lost+over
	}
}

// take are those that go next, on their way from now on; none where measures are sent elsewhere by now.
func (f *forwarder) take(to workspace.Forward) []sample {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.to != to {
		return nil
	}
	f.flying = min(len(f.pending), sentMost)
	return slices.Clone(f.pending[:f.flying])
}

// landed has those that were on their way be done with, or, where they are to go again, wait as before. Refused ones are lost.
func (f *forwarder) landed(to workspace.Forward, again, refused bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.to != to {
		return // they are not among those that wait now
	}
	if !again {
		f.pending = f.pending[f.flying:]
		if refused {
			f.lost += f.flying
		}
	}
	f.flying = 0
}

// sample is one figure with what is known of its thing.
type sample struct {
	series []prompb.Label
	value  float64
	at     time.Time
}

// forward has what was measured in a round be sent on, and tells how that goes.
func (svc *Service) forward(ctx context.Context, k *known, r *round, now time.Time) error {
	to, err := svc.workspace.Forward()
	if err != nil {
		return err
	}
	f := &svc.memory.forwarder
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.to != to {
		f.to, f.pending, f.lost, f.flying = to, nil, 0, 0
	}
	if to.URL == "" {
		return nil
	}
	if len(f.pending) > 0 {
		r.put(measure.SelfKey, measure.ForwardLate, max(now.Sub(f.pending[0].at).Seconds(), 0))
	} else {
		r.put(measure.SelfKey, measure.ForwardLate, 0)
	}
	r.put(measure.SelfKey, measure.ForwardLost, float64(f.lost))
	f.lost = 0
	for key, of := range r.of {
		t := k.things[key]
		if t == nil {
			continue
		}
		for name, v := range of.values {
			f.pending = append(f.pending, sample{f.labels(k, t, name), v, now})
		}
	}
	f.hold(heldMost)
	if !f.sending {
		f.sending = true
		go svc.send(context.WithoutCancel(ctx), to)
	}
	return nil
}

// send sends what waits until nothing does, or it is not taken: then the next round tries again.
func (svc *Service) send(ctx context.Context, to workspace.Forward) {
	f := &svc.memory.forwarder
	defer func() {
		f.mu.Lock()
		f.sending = false
		f.mu.Unlock()
	}()
	for {
		some := f.take(to)
		if len(some) == 0 {
			return
		}
		again, err := svc.write(ctx, to, some)
		if err != nil {
			svc.log.Warn("measures could not be sent on", "to", to.URL, "err", err, "again", again)
		}
		f.landed(to, again, err != nil)
		if again {
			return
		}
	}
}

// write sends some by remote write (Remote-Write 1.0, "Protocol"). What is refused as it is would be refused again, and is lost; all else is tried again.
func (svc *Service) write(ctx context.Context, to workspace.Forward, some []sample) (again bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	body, err := written(some)
	if err != nil {
		return false, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to.URL, bytes.NewReader(body))
	if err != nil {
		return false, err
	}
	req.Header.Set("Content-Encoding", "snappy")
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("X-Prometheus-Remote-Write-Version", "0.1.0")
	req.Header.Set("User-Agent", "andamio")
	if to.Secret != "" {
		secrets, err := svc.workspace.Secrets([]string{to.Secret})
		if err != nil {
			return true, err
		}
		req.Header.Set("Authorization", "Bearer "+secrets[to.Secret])
	}
	resp, err := sender.Do(req)
	if err != nil {
		return true, err
	}
	defer resp.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 400))
	switch {
	case resp.StatusCode < 300:
		return false, nil
	case resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode >= 500 || resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden:
		return true, fmt.Errorf("it answered %s: %s", resp.Status, printable.Clean(string(said)))
	}
	return false, fmt.Errorf("it refused %s: %s: %s", printable.Count(len(some), "sample"), resp.Status, printable.Clean(string(said)))
}

// sender sends measures on. It follows nobody elsewhere.
var sender = web.Client(sendWithin, nil)

// written are samples as remote write has them: those of one series together, in the order of time.
func written(some []sample) ([]byte, error) {
	var req prompb.WriteRequest
	at := map[string]int{}
	for _, s := range some {
		var key strings.Builder
		for _, l := range s.series {
			key.WriteString(l.Name + "\x00" + l.Value + "\x00")
		}
		i, known := at[key.String()]
		if !known {
			i = len(req.Timeseries)
			at[key.String()] = i
			req.Timeseries = append(req.Timeseries, prompb.TimeSeries{Labels: s.series})
		}
		req.Timeseries[i].Samples = append(req.Timeseries[i].Samples, prompb.Sample{Value: s.value, Timestamp: s.at.UnixMilli()})
	}
	body, err := req.Marshal()
	if err != nil {
		return nil, err
	}
	return snappy.Encode(nil, body), nil
}

// seriesLabels are the labels of a series, by name: those of a measure as they are exported, and of what software tells of itself also its own.
func seriesLabels(t *measure.Thing, name string) []prompb.Label {
	var out []prompb.Label
	for _, l := range labels(t) {
		out = append(out, prompb.Label{Name: l.GetName(), Value: l.GetValue()})
	}
	if measure.Known(name) {
		out = append(out, prompb.Label{Name: nameLabel, Value: family(name).GetName()})
	} else {
		for own, v := range ownLabels(name) {
			if i := slices.IndexFunc(out, func(l prompb.Label) bool { return l.Name == own }); i >= 0 {
				out[i].Name = "exported_by_" + own // what is known of the thing, and what it says itself, are both kept
			}
			out = append(out, prompb.Label{Name: own, Value: v})
		}
	}
	slices.SortFunc(out, func(a, b prompb.Label) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// nameLabel is the label that has the name of a metric.
const nameLabel = "__name__"
