// Package letter sends letters by SMTP (RFC 5321), over an encrypted conversation unless it is told otherwise.
package letter

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"
)

// Server is who takes letters, and who we are there.
type Server struct {
	// Address is HOST:PORT. Port 465 is encrypted from its first byte, any other by STARTTLS (RFC 3207), unless Plain says that nothing is.
	Address        string
	From           string
	User, Password string
	Plain          bool
}

// Letter is what is sent: plain text to some addresses, with an id of its own.
type Letter struct {
	ID            string
	To            []string
	Subject, Text string
	At            time.Time
}

// Unsure is the error of a letter of which nobody knows whether it was taken: the server had it, and did not say.
type Unsure struct{ Err error }

func (u *Unsure) Error() string {
	return fmt.Sprintf("the server had the letter and did not say that it took it: %v", u.Err)
}

// Unwrap is what broke off.
func (u *Unsure) Unwrap() error { return u.Err }

// Patience is how long a conversation may take.
const Patience = 20 * time.Second

// Send gives a letter to a server. *[Unsure] says that it may have been taken; any other error, that it was not.
func Send(ctx context.Context, s Server, l Letter) error {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	m := mail.NewMsg()
	if err := errors.Join(m.From(s.From), m.To(l.To...)); err != nil {
		return err
	}
	m.Subject(l.Subject)
	m.SetDateWithValue(l.At)
	m.SetMessageIDWithValue(l.ID)
	m.SetBodyString(mail.TypeTextPlain, l.Text)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's machine answers it
	client, err := s.client(ctx)
	if err != nil {
		return err
	}
	if err := client.DialWithContext(ctx); err != nil {
		return fmt.Errorf("%s does not take letters: %w", s.Address, err)
	}
	defer func() { _ = client.Close() }()
	err = client.Send(m)
	var sent *mail.SendError
	if errors.As(err, &sent) && (sent.Reason == mail.ErrWriteContent || sent.Reason == mail.ErrSMTPDataClose) && !sent.IsTemp() {
		if code := sent.ErrorCode(); code < 400 { // a server that answers says that it did not take it
			return &Unsure{err}
		}
	}
	return err
}

// portEncrypted is where a conversation is encrypted from its first byte (RFC 8314, section 3.3).
const portEncrypted = 465

// client speaks to the server until a context ends.
func (s Server) client(ctx context.Context) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("%q is no port", port)
	}
	options := []mail.Option{mail.WithTimeout(Patience), mail.WithDialContextFunc(dial(ctx, host, number == portEncrypted && !s.Plain))}
	switch {
	case s.Plain:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case number == portEncrypted:
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	options = append(options, mail.WithPort(number))
	if s.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User), mail.WithPassword(s.Password))
	}
	return mail.NewClient(host, options...)
}

// dial opens conversations that end with a context, whatever the other side does: the library waits for a server that says nothing.
func dial(ctx context.Context, host string, encrypted bool) mail.DialContextFunc {
	return func(asked context.Context, network, address string) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(asked, network, address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(ctx, func() { _ = conn.Close() })
		if !encrypted {
			return conn, nil
		}
		over := tls.Client(conn, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})
		return over, over.HandshakeContext(asked)
	}
}
