package cli

import (
	"context"
	"crypto/tls"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/service/workspace"
)

func (s *shared) bus() *cobra.Command {
	cmd := &cobra.Command{Use: "bus", Short: "Say on which bus what happens is kept for others, and how far that is", Args: cobra.NoArgs,
		Long: `What happens in the workspace, all that is noted in the log and what becomes of runs, requests and alerts, may be kept in a stream (NATS JetStream), so that programs read it from
where they left off, by subjects, as CloudEvents (docs/hooks.md). Exit status 1 says that the bus is not to be had. andamio serve --bus ADDRESS:PORT runs one of its own.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			b, err := a.BusNow(ctx)
			if err != nil {
				return err
			}
			if b == nil {
				b = &app.BusState{}
			}
			if err := s.printBus(b); err != nil {
				return err
			}
			if b.Trouble != "" {
				return errNo
			}
			return nil
		})}
	cmd.AddCommand(s.busSet(), s.busOff())
	return cmd
}

func (s *shared) printBus(b *app.BusState) error {
	switch {
	case s.json:
		return busValue.print(s, b)
	case b.Server == "":
		fmt.Fprintln(s.out, "what happens is kept on no bus of others; andamio bus set says on which")
	case b.Trouble != "":
		fmt.Fprintf(s.out, "what happens is to be kept on %s, under %s: %s\n", b.Server, b.Subject, printable.Clean(b.Trouble))
	default:
		fmt.Fprintf(s.out, "what happens is kept on %s, under %s\nthe stream %s keeps %d events", b.Server, b.Subject, printable.Clean(b.Kept.Stream), b.Kept.Messages)
		if !b.Kept.Last.IsZero() {
			fmt.Fprintf(s.out, ", the last of %s", clockTime(b.Kept.Last))
		}
		if b.Behind > 0 {
			fmt.Fprintf(s.out, "; %d entries of the log are not in it yet", b.Behind)
		}
		fmt.Fprintln(s.out)
	}
	return nil
}

func (s *shared) busSet() *cobra.Command {
	var b workspace.Bus
	var authority string
	cmd := &cobra.Command{Use: "set SERVER", Short: "Have what happens be kept on a NATS server", Args: cobra.ExactArgs(1),
		Long: `SERVER is tls://HOST:PORT, or nats://HOST:PORT on this machine. Where no stream there keeps what is published under --subject one is made, of 100,000 events; the oldest go first.
Each process that serves the workspace knows of it from the next moment on. It is refused where it is not to be had.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			b.Server = args[0]
			if authority != "" {
				text, err := os.ReadFile(authority)
				if err != nil {
					return fault.Default(fault.Invalid, err)
				}
				b.Authority = string(text)
			}
			if err := a.SetBus(ctx, b); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "what happens is kept on %s, under %s\n", b.Server, b.Subject)
			return nil
		})}
	f := cmd.Flags()
	f.StringVar(&b.Subject, "subject", app.BusSubject, "what it is published under")
	f.StringVar(&b.User, "user", "", "who we are there")
	f.StringVar(&b.Secret, "secret", "", "name of the secret (andamio credentials secret) that is the password there, or without --user the token")
	f.StringVar(&authority, "authority", "", "file of the certificates that vouch for the server (PEM), where this machine does not trust it")
	return cmd
}

func (s *shared) busOff() *cobra.Command {
	return &cobra.Command{Use: "off", Short: "Have what happens be kept on no bus of others", Args: cobra.NoArgs, RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
		if err := a.SetBus(ctx, workspace.Bus{}); err != nil {
			return err
		}
		fmt.Fprintln(s.out, "what happens is kept on no bus of others")
		return nil
	})}
}

// runBus has a bus run in the process that serves, if it is said where.
func (s *shared) runBus(ctx context.Context, v *app.Serving, address string, p programs) error {
	if address == "" {
		return nil
	}
	where := app.BusListening{Address: address}
	if p.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(p.Certificate, p.Key)
		if err != nil {
			return fault.Invalidf("%s and %s are no certificate and its key: %w", p.Certificate, p.Key, err)
		}
		where.TLS = &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
	}
	url, err := v.RunBus(ctx, where)
	if err == nil && !s.json {
		fmt.Fprintf(s.out, "what happens is kept on %s, under %s; andamio token make NAME makes what listens\n", url, app.BusSubject)
	}
	return err
}
