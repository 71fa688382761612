package bus

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// What a stream that is made here keeps at most: beyond that the oldest goes.
const (
	MostKept      = 100_000
	mostKeptBytes = 1 << 30
)

// Stream keeps the events of a workspace on a server, each under a subject of its own and once, whoever brings it and however often.
type Stream struct {
	conn    *nats.Conn
	stream  jetstream.Stream
	js      jetstream.JetStream
	subject string
}

// Join returns the stream of a server that keeps what is published under a subject; where none does one is made, named by the subject.
func Join(ctx context.Context, s Server, subject string) (*Stream, error) {
	conn, err := s.connect()
	if err != nil {
		return nil, err
	}
	out := &Stream{conn: conn, subject: subject}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if out.js, err = jetstream.New(conn); err == nil {
		out.stream, err = out.find(ctx)
	}
	if err != nil {
		conn.Close()
		return nil, explained(err)
	}
	return out, nil
}

// StreamOf is the name of the stream that is made for a subject.
func StreamOf(subject string) string {
	return strings.ToUpper(strings.ReplaceAll(subject, ".", "_"))
}

func (s *Stream) find(ctx context.Context) (jetstream.Stream, error) {
	name, err := s.js.StreamNameBySubject(ctx, s.subject+".>")
	if errors.Is(err, jetstream.ErrStreamNotFound) {
		made, err := s.js.CreateStream(ctx, jetstream.StreamConfig{Name: StreamOf(s.subject), Subjects: []string{s.subject + ".>"}, Description: "What happens in an Andamio workspace, as CloudEvents",
			MaxMsgs: MostKept, MaxBytes: mostKeptBytes, Discard: jetstream.DiscardOld})
		if errors.Is(err, jetstream.ErrStreamNameAlreadyInUse) { // another was faster, or its subjects are others
			if name, err = s.js.StreamNameBySubject(ctx, s.subject+".>"); err != nil {
				return nil, fmt.Errorf("the stream %s is there, and does not keep %s.>: %w", StreamOf(s.subject), s.subject, err)
			}
			return s.js.Stream(ctx, name)
		}
		return made, err
	}
	if err != nil {
		return nil, err
	}
	return s.js.Stream(ctx, name)
}

// Keep has an event be kept under the subject of the stream and words of its own, as one message that is the whole of it, and returns when it is; kept is false where it was before.
func (s *Stream) Keep(ctx context.Context, words string, e event.Event) (kept bool, err error) {
	m, err := message(s.subject+"."+words, e, false)
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if int64(len(m.Data)) > s.conn.MaxPayload()-mostHeaders { // what it is about can be asked for; that it happened is to be known
		if m, err = message(m.Subject, without(e), false); err != nil {
			return false, err
		}
	}
	_, err = s.js.PublishMsg(ctx, m, jetstream.WithExpectLastSequencePerSubject(0), jetstream.WithRetryAttempts(0))
	var api *jetstream.APIError
	if errors.As(err, &api) && (api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence || api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequenceConstant) {
		return false, nil
	}
	return err == nil, explained(err)
}

// mostHeaders is more than the headers and the subject of a message take.
const mostHeaders = 4 << 10

// without is an event without its data.
func without(e event.Event) event.Event {
	out := e.Clone()
	out.DataEncoded, out.DataBase64 = nil, false
	out.SetDataContentType("")
	return out
}

// Newest is the event that was kept last under words of the stream's subject; nil if there is none.
func (s *Stream) Newest(ctx context.Context, words string) (*event.Event, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	m, err := s.stream.GetLastMsgForSubject(ctx, s.subject+"."+words+".>")
	if errors.Is(err, jetstream.ErrMsgNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, explained(err)
	}
	var e event.Event
	if err := e.UnmarshalJSON(m.Data); err != nil {
		return nil, fmt.Errorf("what is under %s on the bus is no event: %w", m.Subject, err)
	}
	return &e, nil
}

// Kept says what a stream keeps.
type Kept struct {
	Stream   string    `json:"stream"`
	Messages uint64    `json:"messages"`
	Last     time.Time `json:"last,omitzero"`
}

// Kept says what it keeps at this moment.
func (s *Stream) Kept(ctx context.Context) (Kept, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	info, err := s.stream.Info(ctx)
	if err != nil {
		return Kept{}, explained(err)
	}
	return Kept{info.Config.Name, info.State.Msgs, info.State.LastTime}, nil
}

// Away reports that the server is not there at this moment.
func (s *Stream) Away() bool { return !s.conn.IsConnected() }

// Close ends the connection.
func (s *Stream) Close() { s.conn.Close() }
