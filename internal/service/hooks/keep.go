package hooks

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"andamio/internal/bus"
	"andamio/internal/core/hook"
	"andamio/internal/core/trail"
)

// Stream is what keeps what happens: each event once, under words of its own.
type Stream interface {
	Keep(ctx context.Context, words string, e event.Event) (kept bool, err error)
	Newest(ctx context.Context, words string) (*event.Event, error)
}

// InStream is what whoever keeps what happens in a stream knows to be in it. What is known of one stream is not of another, nor of one whose server was away.
type InStream struct {
	// last is the entry of the log that is in it last; known says that it was asked.
	last  int64
	known bool
	// seen is what has happened that is in it, by the ids of events, and looked when that was looked at last.
	seen   map[string]bool
	looked time.Time
}

// happenedEvery is how often it is looked what has happened: all runs, requests and alerts of two days are.
const happenedEvery = 2 * time.Second

// logWords are before the words of what was noted in the log.
const logWords = "log"

// KeepIn has all that was noted in the log be in a stream, in its order, and what has happened with runs, requests, alerts and reactions in the last two days; it returns how many events that were. What
// is in it is known by the stream itself, so that any number may do so, and whoever takes over from another begins where that one ended.
func (svc *Service) KeepIn(ctx context.Context, s Stream, in *InStream, now time.Time) (int, error) {
	n, err := svc.keepLog(ctx, s, in)
	if err != nil {
		return n, err
	}
	if now.Sub(in.looked) < happenedEvery {
		return n, nil
	}
	more, err := svc.keepHappened(ctx, s, in, now)
	if err == nil {
		in.looked = now
	}
	return n + more, err
}

// keepLog has the entries of the log be in a stream that are not in it.
func (svc *Service) keepLog(ctx context.Context, s Stream, in *InStream) (n int, err error) {
	if !in.known {
		if in.last, err = svc.lastIn(ctx, s); err != nil {
			return 0, err
		}
		in.known = true
	}
	for {
		all, err := svc.store.Trail(ctx, in.last, mostNoted)
		if err != nil || len(all) == 0 {
			return n, err
		}
		for i := range all {
			kept, err := keepEntry(ctx, s, &all[i])
			if err != nil {
				return n, err
			}
			if kept {
				n++
			}
			in.last = all[i].Seq
		}
	}
}

// lastIn is the entry of the log that is in a stream last. One in which there is none yet begins with as many as it can keep.
func (svc *Service) lastIn(ctx context.Context, s Stream) (int64, error) {
	e, err := s.Newest(ctx, logWords)
	if err != nil {
		return 0, err
	}
	if e != nil {
		seq, err := strconv.ParseInt(e.ID(), 10, 64)
		if err != nil || seq < 0 {
			return 0, fmt.Errorf("the newest entry of the log on the bus has the id %q, which is none of ours", e.ID())
		}
		return seq, nil
	}
	newest, err := svc.store.LastOfTrail(ctx, 1)
	if err != nil || len(newest) == 0 {
		return 0, err
	}
	return max(0, newest[0].Seq-bus.MostKept), nil
}

func keepEntry(ctx context.Context, s Stream, e *trail.Entry) (bool, error) {
	out := event.New()
	out.SetID(strconv.FormatInt(e.Seq, 10))
	out.SetSource(trail.Source)
	out.SetType(trail.EventType + string(e.Act))
	out.SetTime(e.At)
	if e.On != "" {
		out.SetSubject(e.On)
	}
	if err := out.SetData(event.ApplicationJSON, e); err != nil {
		return false, err
	}
	return s.Keep(ctx, fmt.Sprintf("%s.%s.%d", logWords, word(string(e.Act)), e.Seq), out)
}

// keepHappened has what has happened be in a stream.
func (svc *Service) keepHappened(ctx context.Context, s Stream, in *InStream, now time.Time) (n int, err error) {
	all, err := svc.happened(ctx, now.Add(-lookBack))
	if err != nil {
		return 0, err
	}
	if in.seen == nil || len(in.seen) >= mostRemembered {
		in.seen = map[string]bool{}
	}
	for i := range all {
		e := &all[i]
		if in.seen[e.ID] {
			continue
		}
		if e.Type == hook.RunBegan {
			if began, err := svc.began(ctx, e.Run); err != nil || !began {
				if err != nil {
					return n, err
				}
				continue
			}
		}
		out, err := cloudEvent(e)
		if err != nil {
			return n, err
		}
		kept, err := s.Keep(ctx, string(e.Type)+"."+word(e.ID), out)
		if err != nil {
			return n, err
		}
		if kept {
			n++
		}
		in.seen[e.ID] = true
	}
	return n, nil
}

// word is a text as one word of a subject.
func word(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' {
			return r
		}
		return '_'
	}, text)
}
