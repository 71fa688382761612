package api

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/netip"
	"reflect"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"andamio/internal/core/run"
	"andamio/internal/service/runs"
)

// Many may follow one run. It is heard once for all of them, each event is written down once, and each follower is sent what there is since it was sent something last; one that is far behind reads
// what it lacks from the journal.

// frame are events that were heard together, as they are sent.
type frame struct {
	data []byte
	seqs []int64
	ends []int
}

// after is what a frame has after an event.
func (f *frame) after(seq int64) []byte {
	from := 0
	for i, n := range f.seqs {
		if n <= seq {
			from = f.ends[i]
		}
	}
	return f.data[from:]
}

func (f *frame) last() int64 { return f.seqs[len(f.seqs)-1] }

// add adds an event with its number, as it is sent (HTML, section 9.2).
func (f *frame) add(seq int64, v any) {
	data, err := json.Marshal(v)
	if err != nil { // what is sent is made of texts and numbers alone
		return
	}
	f.data = append(f.data, "event: event\nid: "+strconv.FormatInt(seq, 10)+"\ndata: "...)
	f.data = append(append(f.data, data...), "\n\n"...)
	f.seqs, f.ends = append(f.seqs, seq), append(f.ends, len(f.data))
}

// framed are events of a run as they are sent.
func framed(events []run.Event) *frame {
	f := &frame{}
	for i := range events {
		f.add(events[i].Seq, &events[i])
	}
	return f
}

// saidAs is another message as it is sent.
func saidAs(kind string, v any) []byte {
	data, _ := json.Marshal(v) // of words alone
	return []byte("event: " + kind + "\ndata: " + string(data) + "\n\n")
}

// ended says that nothing follows.
type ended struct {
	Why string `json:"why"`
}

// silence says that a run's worker shows no sign of life, or does again.
type silence struct {
	Silent bool `json:"silent"`
}

// mostFrames is how many frames are kept for those who are a little behind.
const mostFrames = 64

// hearing is what is heard of a run, for all that follow it.
type hearing struct {
	mu      sync.Mutex
	frames  []*frame
	silent  bool
	over    string
	changed chan struct{}
	follows int
	stop    context.CancelFunc
}

// hear takes in what is heard until the run is over, or nobody follows.
func (h *hearing) hear(heard <-chan runs.Batch) {
	for b := range heard {
		f := framed(b.Events)
		h.take(f, func() {
			h.silent = b.Silent
			switch {
			case b.Err != nil:
				h.over = problemOf(b.Err).Detail
			case b.Last:
				h.over = "the run is over"
			}
		})
	}
}

// take takes in a frame and what changes with it, and has those who follow look.
func (h *hearing) take(f *frame, change func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	change()
	if len(f.seqs) > 0 {
		h.frames = append(h.frames, f)
		h.frames = h.frames[max(0, len(h.frames)-mostFrames):]
	}
	close(h.changed)
	h.changed = make(chan struct{})
}

// since is what is heard after an event. Behind says that more than is kept lies between, up to an event.
func (h *hearing) since(seq int64) (data [][]byte, upTo int64, behind, silent bool, over string, changed <-chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	upTo = seq
	if len(h.frames) > 0 && seq < h.frames[0].seqs[0]-1 {
		return nil, h.frames[0].seqs[0] - 1, true, h.silent, "", h.changed
	}
	for _, f := range h.frames {
		if f.last() > seq {
			data, upTo = append(data, f.after(seq)), f.last()
		}
	}
	return data, upTo, false, h.silent, h.over, h.changed
}

// hub hears what is followed.
type hub struct {
	mu  sync.Mutex
	all map[int64]*hearing
}

// stream is something that may be followed: by its number, whether whoever asks may, how it is heard for all, and how is read what one lacks who is far behind.
type stream struct {
	id   int64
	may  func(ctx context.Context) error
	hear func(ctx context.Context, h *hearing)
	read func(ctx context.Context, after, upTo int64) (*frame, error)
}

// join has something be heard, from its beginning on: who comes to it later may ask for what was before.
func (b *hub) join(ctx context.Context, of stream) *hearing {
	b.mu.Lock()
	defer b.mu.Unlock()
	h := b.all[of.id]
	if h == nil {
		ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
		h = &hearing{changed: make(chan struct{}), stop: stop}
		b.all[of.id] = h
		go of.hear(ctx, h)
	}
	h.follows++
	return h
}

// leave has it be heard no more once nobody follows it.
func (b *hub) leave(id int64, h *hearing) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if h.follows--; h.follows == 0 {
		h.stop()
		if b.all[id] == h {
			delete(b.all, id)
		}
	}
}

// bearingEvery is how often it is looked whether whoever follows may still.
const bearingEvery = time.Second

// following names a run, and the event after which it is followed.
type following struct {
	OfRun
	After int64 `query:"after" minimum:"0" doc:"the event after which it begins"`
	Last  int64 `header:"Last-Event-ID" minimum:"0"`
}

// followRuns adds the events of a run as they happen: each has its number in the journal as id, after which it is gone on by Last-Event-ID.
func (s *Server) followRuns() {
	s.twins = append(s.twins, Twin{Operation: "followRun"})
	event := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[run.Event](), true, "Event")
	huma.Register(s.api, huma.Operation{OperationID: "followRun", Method: http.MethodGet, Path: "/" + Version + "/runs/{run}/events", Summary: "Follow a run: its events, those of the past first", Tags: []string{"runs"},
		Responses: streamed(event)},
		func(ctx context.Context, in *following) (*huma.StreamResponse, error) {
			v := visitorOf(ctx)
			if v == nil {
				return nil, problem("not allowed", "it is not known who asks")
			}
			source := stream{id: in.Run, may: func(ctx context.Context) error { _, err := v.app.Run(ctx, in.Run); return err },
				hear: func(ctx context.Context, h *hearing) { h.hear(s.shared.Watch(ctx, in.Run, 0)) },
				read: func(ctx context.Context, after, upTo int64) (*frame, error) {
					events, err := v.app.Events(ctx, in.Run, after, int(min(upTo-after, mostRead)))
					return framed(events), err
				}}
			return s.streaming(ctx, v, source, max(in.After, in.Last))
		})
}

// streamed is how a stream is described whose events have a schema.
func streamed(event *huma.Schema) map[string]*huma.Response {
	return map[string]*huma.Response{"200": {Description: "events of kind event, silent and ended (HTML, section 9.2); the data of event is as is said here", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: event}}}}
}

// streaming answers with what is heard of something after an event.
func (s *Server) streaming(ctx context.Context, v *visitor, of stream, after int64) (*huma.StreamResponse, error) {
	if err := of.may(ctx); err != nil {
		return nil, problemOf(err)
	}
	select {
	case s.follow <- struct{}{}:
	default:
		return nil, tooMany("too many follow events")
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		defer func() { <-s.follow }()
		c.SetHeader("Content-Type", "text/event-stream")
		ctx, cancel := s.heed(c.Context(), v, of.id, of.may)
		defer cancel()
		s.send(ctx, of, after, c.BodyWriter())
	}}, nil
}

// send sends what is heard of something until it is over, or whoever follows is gone.
func (s *Server) send(ctx context.Context, of stream, seq int64, to io.Writer) {
	h := s.hub.join(ctx, of)
	defer s.hub.leave(of.id, h)
	write := s.writing(to)
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for was := false; ; {
		data, upTo, behind, silent, over, changed := h.since(seq)
		if behind {
			f, err := of.read(ctx, seq, upTo)
			if err != nil || len(f.seqs) == 0 || !write(f.data) {
				return
			}
			seq = f.last()
			continue
		}
		if silent != was {
			was = silent
			data = append(data, saidAs("silent", silence{silent}))
		}
		if over != "" {
			data = append(data, saidAs("ended", ended{over}))
		}
		if !write(data...) || over != "" {
			return
		}
		seq = upTo
		for waits := true; waits; {
			select {
			case <-changed:
				waits = false
			case <-beat.C:
				if !write([]byte(": still here\n\n")) {
					return
				}
			case <-ctx.Done():
				return
			}
		}
	}
}

// beatEvery is how often whoever follows is sent something that is no event, so that it is known on both sides that the other is there.
const beatEvery = 15 * time.Second

// writing is how somebody who follows is sent something, who takes it in time. Between, a stream has no times: over HTTP/2 it would end with them, whatever is going on.
func (s *Server) writing(to io.Writer) func(data ...[]byte) bool {
	w, _ := to.(http.ResponseWriter)
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Time{})
	return func(data ...[]byte) bool {
		_ = control.SetWriteDeadline(time.Now().Add(s.limits.Send))
		for _, d := range data {
			if _, err := to.Write(d); err != nil {
				return false
			}
		}
		err := control.Flush()
		_ = control.SetWriteDeadline(time.Time{})
		return err == nil
	}
}

// mostRead is how many events are read from the journal at once.
const mostRead = 1000

// heed ends a stream of something as soon as the token of whoever follows it holds no more, or they may not look at it any more.
func (s *Server) heed(ctx context.Context, v *visitor, of int64, may func(context.Context) error) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		tick := time.NewTicker(bearingEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case now := <-tick.C:
				if s.bearing.hold(ctx, borne{v.token, v.from, of}, now, func() error {
					return cmp.Or(s.app.Bearing(ctx, v.token, v.from, now), may(ctx))
				}) != nil {
					cancel()
					return
				}
			}
		}
	}()
	return ctx, cancel
}

// bearing remembers for a moment whether tokens hold: many streams of one token ask at once.
type bearing struct {
	mu   sync.Mutex
	seen map[borne]*judged
}

// borne is a token that is used from an address to look at something.
type borne struct {
	token string
	from  netip.Addr
	of    int64
}

// judged is whether a token holds, and when that was looked at.
type judged struct {
	mu  sync.Mutex
	at  time.Time
	err error
}

// mostBorne bounds what is remembered; beyond that all is forgotten.
const mostBorne = 10_000

// hold says why a token does not hold for what is looked at; nil if it does, or did within the last half of what lies between two looks.
func (b *bearing) hold(ctx context.Context, key borne, now time.Time, look func() error) error {
	b.mu.Lock()
	j := b.seen[key]
	if j == nil {
		if b.seen == nil || len(b.seen) >= mostBorne {
			b.seen = map[borne]*judged{}
		}
		j = &judged{}
		b.seen[key] = j
	}
	b.mu.Unlock()
	j.mu.Lock()
	defer j.mu.Unlock()
	if now.Sub(j.at) >= bearingEvery/2 {
		j.at, j.err = now, look()
	}
	if ctx.Err() != nil {
		j.at = time.Time{} // who has gone does not say of others
	}
	return j.err
}
