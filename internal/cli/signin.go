package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/identity"
	"andamio/internal/service/tokens"
	"andamio/internal/web"
)

func (s *shared) tokenSignIn() *cobra.Command {
	var lasts time.Duration
	cmd := &cobra.Command{
		Use:   "sign-in",
		Short: "Say who you are at the provider of identities, and be given a token",
		Long: `Asks you to open an address in a browser, on whatever machine, and to type a code there; the provider that the directory of teams names (identity, see docs/teams.md) says then who you
are, and a token is made for you: its secret is told once, on standard output. With --server it is the token of a workspace that is served elsewhere (andamio serve --api).`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), 20*time.Minute)
			defer cancel()
			if !s.isFar() {
				return s.with(func(_ context.Context, a *app.App, _ []string) error {
					return s.signIn(ctx, a.SignsIn, func(idToken string) (tokens.Made, error) { return a.SignIn(ctx, idToken, lasts, time.Now()) })
				})(cmd, nil)
			}
			at, err := s.far.server()
			if err != nil {
				return err
			}
			return s.signIn(ctx, func() (by guard.Identity, err error) { return by, at.ask(ctx, http.MethodGet, "/sign-in", nil, &by) }, func(idToken string) (made tokens.Made, err error) {
				err = at.ask(ctx, http.MethodPost, "/sign-in", map[string]any{"id_token": idToken, "for_seconds": max(1, int64(lasts.Seconds()))}, &made)
				return made, err
			})
		},
	}
	f := cmd.Flags()
	f.DurationVar(&lasts, "for", app.SignedInFor, "for how long the token is one, a day at most")
	return cmd
}

// signIn has somebody say who they are, and tells them the token that is made for them.
func (s *shared) signIn(ctx context.Context, provider func() (guard.Identity, error), make func(idToken string) (tokens.Made, error)) error {
	by, err := provider()
	if err != nil {
		return err
	}
	p, err := identity.Ask(ctx, by)
	if err != nil {
		return err
	}
	fmt.Fprintf(s.err, "open %s and type %s there, until %s\n", printable.Clean(p.URL), printable.Clean(p.Code), p.Until.Local().Format(time.TimeOnly))
	if p.Whole != "" {
		fmt.Fprintf(s.err, "or open %s\n", printable.Clean(p.Whole))
	}
	idToken, err := p.Wait(ctx)
	if err != nil {
		return err
	}
	made, err := make(idToken)
	if err != nil {
		return err
	}
	return s.tokenTold(made)
}

// serverAt is a server of programs.
type serverAt struct {
	url    string
	client *http.Client
	trust  *tls.Config
}

// askPatience is how long a server may take for an answer, and mostAsked how many bytes of one are read.
const (
	askPatience = time.Minute
	mostAsked   = 4 << 20
)

func newServerAt(address, authority, certificate, key string) (*serverAt, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" {
		return nil, usageError{fmt.Errorf("%q is no address of a server: write https://NAME:PORT", address)}
	}
	if u.Scheme == "http" && !web.Loopback(u.Hostname()) {
		return nil, usageError{errors.New("what is said to a server in clear can be read on the way: write https://NAME:PORT")}
	}
	var known web.Trust
	for _, x := range []struct {
		file, what string
		into       *string
	}{{authority, "the authorities", &known.Authorities}, {certificate, "the certificate", &known.Certificate}, {key, "its key", &known.Key}} {
		if x.file == "" {
			continue
		}
		text, err := os.ReadFile(x.file)
		if err != nil {
			return nil, fault.Invalidf("%s cannot be read: %w", x.what, err)
		}
		*x.into = string(text)
	}
	trust, err := known.Config()
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	base, _, _ := strings.Cut(strings.TrimRight(u.String(), "/"), "/v1")
	return &serverAt{base + "/v1", web.Client(askPatience, web.Transport(trust)), trust}, nil
}

// detail is why a server did not do what it was asked for (RFC 9457).
type detail struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
}

func (p detail) err() error { return fault.Default(fault.Code(p.Code), errors.New(p.Detail)) }

// ask asks a server for an operation; what it answers that went wrong is an error with its code.
func (at *serverAt) ask(ctx context.Context, method, path string, body, into any) error {
	var sent io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return err
		}
		sent = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, at.url+path, sent)
	if err != nil {
		return err
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := at.client.Do(r)
	if err != nil {
		return fault.Unavailablef("the server does not answer: %w", err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, mostAsked))
	if err != nil {
		return fault.Unavailablef("the server's answer broke off: %w", err)
	}
	if answer.StatusCode >= http.StatusBadRequest {
		var p detail
		if json.Unmarshal(data, &p) != nil || p.Detail == "" {
			return fault.Unavailablef("the server answers %s, and not why", answer.Status)
		}
		return p.err()
	}
	if err := json.Unmarshal(data, into); err != nil {
		return fault.Unavailablef("the server answers what cannot be read: is it one of Andamio? %w", err)
	}
	return nil
}
