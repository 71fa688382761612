package bus_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/bus"
	"andamio/internal/bus/bustest"
)

func happened(t *testing.T, id string, data any) event.Event {
	t.Helper()
	e := event.New()
	e.SetID(id)
	e.SetSource("andamio")
	e.SetType("example.andamio.tried")
	require.NoError(t, e.SetData(event.ApplicationJSON, data))
	return e
}

func joined(t *testing.T, x *bustest.Server, subject string) *bus.Stream {
	t.Helper()
	s, err := bus.Join(t.Context(), bus.Server{URL: x.URL, User: bustest.User, Secret: bustest.Password}, subject)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// TestAnEventIsKeptOnceWhoeverBringsIt has several bring the same events side by side, each in order: each is kept once, in the order that all have, across an end of the server.
func TestAnEventIsKeptOnceWhoeverBringsIt(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	const many, who = 60, 4
	var kept atomic.Int64
	bring := func(from, to int) {
		var group sync.WaitGroup
		for range who {
			s := joined(t, x, "ribera")
			group.Go(func() {
				for i := from; i < to; i++ {
					is, err := s.Keep(t.Context(), fmt.Sprintf("log.act.%d", i), happened(t, fmt.Sprint(i), i))
					if !assert.NoError(t, err) {
						return
					}
					if is {
						kept.Add(1)
					}
				}
			})
		}
		group.Wait()
	}
	bring(0, many/2)
	x.Stop()
	x.Again(t)
	bring(0, many)
	assert.EqualValues(t, many, kept.Load(), "each was kept for one of them")
	all := x.Kept(t, "RIBERA")
	require.Len(t, all, many)
	for i, m := range all {
		assert.Equal(t, fmt.Sprintf("ribera.log.act.%d", i), m.Subject)
		assert.Equal(t, event.ApplicationCloudEventsJSON, m.Header.Get("content-type"))
	}
	s := joined(t, x, "ribera")
	newest, err := s.Newest(t.Context(), "log")
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprint(many-1), newest.ID())
	none, err := s.Newest(t.Context(), "lake")
	require.NoError(t, err)
	assert.Nil(t, none)
	is, err := s.Kept(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "RIBERA", is.Stream)
	assert.EqualValues(t, many, is.Messages)
	assert.WithinDuration(t, time.Now(), is.Last, time.Minute)
}

// TestWhatIsTooLargeIsKeptWithoutItsData has the stream go on after an event that no message can carry.
func TestWhatIsTooLargeIsKeptWithoutItsData(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	s := joined(t, x, "ribera")
	for i, size := range []int{900 << 10, 1 << 20, 3 << 20} {
		is, err := s.Keep(t.Context(), fmt.Sprintf("log.%d", i), happened(t, fmt.Sprint(i), strings.Repeat("x", size)))
		require.NoError(t, err)
		assert.True(t, is)
	}
	all := x.Kept(t, "RIBERA")
	require.Len(t, all, 3)
	for i, has := range []bool{true, false, false} {
		var e event.Event
		require.NoError(t, e.UnmarshalJSON(all[i].Data))
		assert.Equal(t, has, len(e.Data()) > 0)
		assert.Equal(t, fmt.Sprint(i), e.ID())
	}
}

// TestAStreamThatIsThereIsUsed keeps events in the stream that somebody made for them, and says what keeps it from there being one.
func TestAStreamThatIsThereIsUsed(t *testing.T) {
	t.Parallel()
	x := bustest.New(t)
	x.Stream(t, "floods", "basin.>")
	x.Stream(t, "LAKE", "sea.>")
	s := joined(t, x, "basin.andamio")
	_, err := s.Keep(t.Context(), "log.1", happened(t, "1", 1))
	require.NoError(t, err)
	assert.Len(t, x.Kept(t, "floods"), 1)
	_, err = bus.Join(t.Context(), bus.Server{URL: x.URL, User: bustest.User, Secret: bustest.Password}, "lake")
	require.ErrorContains(t, err, "the stream LAKE is there, and does not keep lake.>")
	_, err = bus.Join(t.Context(), bus.Server{URL: x.URL, User: bustest.User, Secret: "lake"}, "ribera")
	require.ErrorIs(t, err, bus.ErrNotLet)
	x.Stop()
	_, err = s.Keep(t.Context(), "log.2", happened(t, "2", 2))
	require.Error(t, err)
	assert.True(t, s.Away())
	_, err = s.Newest(t.Context(), "log")
	require.Error(t, err)
	_, err = s.Kept(t.Context())
	require.Error(t, err)
	_, err = bus.Join(t.Context(), bus.Server{URL: x.URL}, "ribera")
	require.Error(t, err)
}

// read are the ids of what a stream keeps, as a program reads them that goes on where it left off.
func read(ctx context.Context, js jetstream.JetStream, stream, filter string, most int) (out []string, err error) {
	c, err := js.CreateOrUpdateConsumer(ctx, stream, jetstream.ConsumerConfig{FilterSubject: filter, AckPolicy: jetstream.AckExplicitPolicy})
	if err != nil {
		return nil, err
	}
	batch, err := c.Fetch(most, jetstream.FetchMaxWait(2*time.Second))
	if err != nil {
		return nil, err
	}
	for m := range batch.Messages() {
		out = append(out, m.Subject())
		if err := m.DoubleAck(ctx); err != nil {
			return out, err
		}
	}
	return out, batch.Error()
}
