package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/portal"
)

func (s *shared) serve() *cobra.Command {
	var where app.Listening
	var stop bool
	var ssh, own string
	var programs programs
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "See to what is due, and hear signed notices of sites",
		Long: `Is the one lasting process of a workspace. It surveys sites when their schedules say, closes proposals whose time is over, and applies
standing rules; andamio clock says what is due and what became of it. What was due while nothing served the workspace is done
once, or said to be missed. The screens start it by themselves, unless ANDAMIO_SERVE is "off"; a second one is refused, and takes over
when the first has been silent for 10 seconds. Where several machines have the workspace (andamio workspace join) each may serve it: they share out who keeps the
clock, who watches and who tells hooks, take over from one that falls silent, and go on with runs whose machine is gone. Goes on until interrupted; --stop ends it.

It takes CloudEvents over HTTP, each site's at its own path and signed with its own secret (HMAC-SHA256 over time stamp and body),
and looks at what they are about. Late, repeated, oversized or badly signed ones are refused. Sites that can are asked to send
theirs here. With --certificate and --key they come over https; without, in clear, which is said where others could read it.

With --api programs are served (docs/api.md): over https with the certificate of --certificate, or the one that --tls-init made; in clear on this
machine alone. With --ssh the screens are served over SSH too, to people who are known by the keys of the directory of teams (docs/teams.md).

With --bus a bus runs in this process (docs/hooks.md): what happens is kept in its stream, for programs that show a token as their password, with the certificate of
--certificate or --tls-init; in clear on this machine alone.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			if stop {
				return a.StopServing(ctx)
			}
			programs.Certificate, programs.Key = where.Certificate, where.Key
			return s.serveUntil(ctx, a, where, ssh, own, programs)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&where.Address, "address", "", "where to listen, as ADDRESS:PORT (default: port "+portNotices+" of where andamio notices says, or any that is free)")
	f.StringVar(&where.Certificate, "certificate", "", "file of the certificate that says who we are (PEM)")
	f.StringVar(&where.Key, "key", "", "file of its private key (PEM)")
	f.StringVar(&programs.Address, "api", "", "serve programs at this ADDRESS:PORT: they show tokens, as andamio token makes them")
	f.StringVar(&programs.Clients, "clients", "", "with --api: file of authorities (PEM); only programs with a certificate of theirs are served")
	f.StringSliceVar(&programs.makes, "tls-init", nil, "with --api: make a certificate of these names and addresses for a first day, and keep it in the workspace")
	f.StringVar(&ssh, "ssh", "", "serve the screens over SSH at this ADDRESS:PORT: people are known by the keys of the directory of teams")
	f.StringVar(&own, "bus", "", "run a bus (NATS JetStream) at this ADDRESS:PORT, on which what happens is kept: whoever listens shows a token")
	f.BoolVar(&stop, "stop", false, "end the process that serves the workspace")
	return cmd
}

// serveUntil serves the workspace until the context ends.
func (s *shared) serveUntil(ctx context.Context, a *app.App, where app.Listening, ssh, own string, programs programs) error {
	told := func(f app.Firing) {
		if !s.json {
			fmt.Fprintf(s.out, "%s  %s\n", clockTime(time.Now()), printable.Clean(firingLine(app.DueWords(f.Kind, f.Subject, nil), f)))
		}
	}
	v, err := s.beginServing(ctx, a, where, told)
	if err != nil {
		return err
	}
	if s.json {
		err = servingValue.print(s, servingAt{v.Address(), v.URL(), v.Sites, v.Silent})
	} else {
		fmt.Fprintf(s.out, "listening at %sSITE\nnotices from %s; %s send none and are surveyed\n", v.URL(), orNobody(v.Sites), orNobody(v.Silent))
	}
	if v.InClear() {
		fmt.Fprintln(s.err, "notices come in clear: whoever is on the way can read them, though not make them up; --certificate and --key name files for https")
	}
	if err != nil {
		return err
	}
	if own != "" || programs.Address != "" { // both have the same
		if err := s.firstCertificate(a.Opened().Dir, &programs); err != nil {
			return err
		}
	}
	if err := s.runBus(ctx, v, own, programs); err != nil {
		return err
	}
	ended, err := s.openPortal(ctx, a, ssh)
	if err != nil {
		return err
	}
	served, err := s.openAPI(ctx, a, programs)
	if err != nil {
		return errors.Join(err, ended())
	}
	err = errors.Join(v.Run(ctx), served(), ended())
	if !s.json {
		fmt.Fprintf(s.out, "%d notices were applied by %d looks\n", v.Taken.Load(), v.Looks.Load())
	}
	return err
}

// openPortal serves the screens over SSH, if it is said where, and returns what waits until that has ended.
func (s *shared) openPortal(ctx context.Context, a *app.App, address string) (ended func() error, err error) {
	if address == "" {
		return func() error { return nil }, nil
	}
	p, err := portal.Open(a, address, portal.Usual)
	if err != nil {
		return nil, err
	}
	if !s.json {
		fmt.Fprintln(s.out, p.Says())
	}
	ctx, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- p.Serve(ctx) }()
	return func() error {
		stop()
		return <-done
	}, nil
}

// beginServing serves at the usual port unless another is named; if something else has that, at one that is free.
func (s *shared) beginServing(ctx context.Context, a *app.App, where app.Listening, told func(app.Firing)) (*app.Serving, error) {
	if where.Address != "" {
		return a.Serve(ctx, where, told)
	}
	h, err := a.Hearing()
	if err != nil {
		return nil, err
	}
	where.Address = h.At(portNotices)
	v, err := a.Serve(ctx, where, told)
	if app.IsTaken(err) {
		where.Address = h.At("0")
		return a.Serve(ctx, where, told)
	}
	return v, err
}

func orNobody(all []string) string {
	if len(all) == 0 {
		return "nobody"
	}
	return strings.Join(all, ", ")
}

func (s *shared) clock() *cobra.Command {
	last := 10
	cmd := &cobra.Command{
		Use:   "clock",
		Short: "Say what is due, and what became of what was",
		Long: `Lists what is due next, such as surveys by schedule, and the last times at which something was: what was done, what failed and is tried
again, what was missed because nothing served the workspace. See andamio serve.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			c, err := a.Clock(ctx, time.Now(), last)
			if err != nil {
				return err
			}
			if s.json {
				return clockValue.print(s, c)
			}
			printClock(s.out, c)
			return nil
		}),
	}
	cmd.Flags().IntVar(&last, "last", last, "how many of the last times are listed")
	return cmd
}

func printClock(out io.Writer, c app.Clock) {
	if c.By.Name == "" {
		fmt.Fprintln(out, "nobody serves this workspace: what is due is not seen to; andamio serve does")
	} else {
		fmt.Fprintf(out, "served by %s since %s\n", printable.Clean(c.By.Name), clockTime(c.By.Since))
	}
	for _, p := range c.Processes {
		does := "stands by"
		if len(p.Duties) > 0 {
			does = "has " + strings.Join(p.Duties, ", ")
		}
		fmt.Fprintf(out, "  %s %s, since %s; %s\n", printable.Clean(p.Name), does, clockTime(p.Since), printable.Clean(p.Note))
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	for _, u := range c.Next {
		at := "not again"
		switch {
		case u.Overdue:
			at = "overdue since " + clockTime(u.At)
		case !u.At.IsZero():
			at = clockTime(u.At)
		}
		fmt.Fprintf(w, "%s\t%s\t%s\n", printable.Clean(c.Words(u.Kind, u.Subject)), at, printable.Clean(strings.ReplaceAll(u.Rule, "\n", " ")))
	}
	w.Flush()
	for _, f := range c.Last {
		fmt.Fprintf(out, "%s  %s\n", clockTime(f.At), printable.Clean(firingLine(c.Words(f.Kind, f.Subject), f)))
	}
}

// firingLine says what became of what was due.
func firingLine(what string, f app.Firing) string {
	text := what + ": " + string(f.State)
	if f.Note != "" {
		text += ", " + f.Note
	}
	if f.Tries > 1 {
		text += fmt.Sprintf(" (try %d)", f.Tries)
	}
	if !f.Again.IsZero() {
		text += "; tried again at " + f.Again.Local().Format(time.TimeOnly)
	}
	if f.Missed > 0 {
		text += fmt.Sprintf("; missed %d times before", f.Missed)
	}
	return text
}

func clockTime(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }
