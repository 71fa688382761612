package letter

import (
	"context"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// box is a server that takes letters, or does not.
type box struct {
	mu      sync.Mutex
	letters []string
	to      []string
	refuse  *smtp.SMTPError
	// hangUp ends the conversation after the letter, without an answer.
	hangUp bool
	conns  []net.Conn
}

func (b *box) NewSession(c *smtp.Conn) (smtp.Session, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.conns = append(b.conns, c.Conn())
	return b, nil
}
func (b *box) Reset()                               {}
func (b *box) Logout() error                        { return nil }
func (b *box) Mail(string, *smtp.MailOptions) error { return nil }
func (b *box) Rcpt(to string, _ *smtp.RcptOptions) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.to = append(b.to, to)
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, Message: "there is no such box"}
	}
	return nil
}
func (b *box) Data(r io.Reader) error {
	data, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.letters = append(b.letters, string(data))
	if b.hangUp {
		for _, c := range b.conns {
			_ = c.Close()
		}
	}
	if b.refuse != nil {
		return b.refuse
	}
	return nil
}

// open starts a server on loopback.
func (b *box) open(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := smtp.NewServer(b)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Close() })
	return l.Addr().String()
}

func letter(to ...string) Letter {
	return Letter{ID: "run-7.letters@andamio", To: to, Subject: "trial-7 is refusé", Text: "Somebody looks after it.\n.\nfor  ibo\n", At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
}

// TestALetterArrivesAsItWasWritten gives one to a server, and reads what came there.
func TestALetterArrivesAsItWasWritten(t *testing.T) {
	b := &box{}
	require.NoError(t, Send(t.Context(), Server{Address: b.open(t), From: "Andamio <andamio@ribera.test>", Plain: true}, letter("ibo@ribera.test", "teo@ribera.test")))
	require.Len(t, b.letters, 1)
	assert.Equal(t, []string{"ibo@ribera.test", "teo@ribera.test"}, b.to)
	for _, want := range []string{"Message-ID: <run-7.letters@andamio>", "Auto-Submitted: auto-generated", "From: \"Andamio\" <andamio@ribera.test>", "Mon, 23 Nov 2026 09:00:00 +0000", "Somebody looks after it.\r\n.\r\nfor  ibo"} {
		assert.Contains(t, b.letters[0], want)
	}
}

// TestALetterThatWasNotTakenIsNotUnsure has servers that refuse it, hang up after they had it, are not there, or speak in clear where that is
// not said.
func TestALetterThatWasNotTakenIsNotUnsure(t *testing.T) {
	var unsure *Unsure
	refuses := &box{refuse: &smtp.SMTPError{Code: 554, Message: "that is no letter"}}
	err := Send(t.Context(), Server{Address: refuses.open(t), From: "a@ribera.test", Plain: true}, letter("ibo@ribera.test"))
	require.ErrorContains(t, err, "that is no letter")
	assert.NotErrorAs(t, err, &unsure)
	err = Send(t.Context(), Server{Address: refuses.open(t), From: "a@ribera.test", Plain: true}, letter("nobody@ribera.test"))
	require.ErrorContains(t, err, "there is no such box")
	assert.NotErrorAs(t, err, &unsure)
	drops := &box{hangUp: true}
	err = Send(t.Context(), Server{Address: drops.open(t), From: "a@ribera.test", Plain: true}, letter("ibo@ribera.test"))
	require.ErrorAs(t, err, &unsure, "it may have been taken")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	err = Send(t.Context(), Server{Address: l.Addr().String(), From: "a@ribera.test", Plain: true}, letter("ibo@ribera.test"))
	require.ErrorContains(t, err, "does not take letters")
	fine := &box{}
	err = Send(t.Context(), Server{Address: fine.open(t), From: "a@ribera.test"}, letter("ibo@ribera.test"))
	require.Error(t, err, "nothing is sent in clear")
	assert.Empty(t, fine.letters)
	for _, s := range []Server{{Address: "x", From: "a@b.test"}, {Address: "x:y", From: "a@b.test"}, {Address: "x:25", From: "nobody"}} {
		require.Error(t, Send(t.Context(), s, letter("ibo@ribera.test")))
	}
}

// TestNobodyIsWaitedForForEver has a server say nothing.
func TestNobodyIsWaitedForForEver(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	done := make(chan error, 1)
	go func() {
		done <- Send(ctx, Server{Address: l.Addr().String(), From: "a@ribera.test", Plain: true}, letter("ibo@ribera.test"))
	}()
	select {
	case err := <-done:
		require.Error(t, err)
	case <-time.After(time.Minute):
		t.Fatal("it waits still")
	}
}
