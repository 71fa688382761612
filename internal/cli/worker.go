package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/reach"
	"andamio/internal/service/workers"
	"andamio/internal/tunnel"
	"andamio/internal/upgrade"
)

// joining is a worker that joins a pool.
type joining struct {
	server      *serverAt
	file        string
	pool, name  string
	labels      map[string]string
	allow       tunnel.Allow
	address     string
	authority   string
	networks    []string
	labelsGiven []string
}

func (s *shared) work() *cobra.Command {
	var w joining
	cmd := &cobra.Command{
		Use:   "work --join ADDRESS --pool POOL --token-file FILE",
		Short: "Be a worker in a closed network: connect out, and have what is here be reached through this machine",
		Long: `Connects out to a server (andamio serve --api) and to nothing else, and is gone through by those who serve the workspace: to sites that say so (andamio site through NAME POOL), to
their machines by SSH, and to endpoints. It needs no workspace, and has nothing of one: what goes through is encrypted between those who speak at its ends. Where the
server goes away it is waited for. The token is one of a person who may connect sites (andamio token make --right connect); it is read anew each time it is shown.

Of several workers of a pool the nearest that reaches a site is gone through, and another when that is gone. --network bounds what it connects to.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if w.address == "" {
				if len(args) != 1 {
					return usageError{errors.New("say --join ADDRESS, the server's")}
				}
				return s.withRun(func(ctx context.Context, a *app.App, id int64) error { return a.Work(ctx, id) })(cmd, args)
			}
			if len(args) > 0 {
				return usageError{errors.New("a worker that joins is told no run")}
			}
			if err := w.read(); err != nil {
				return err
			}
			return w.join(cmd.Context(), func(how string) {
				fmt.Fprintf(s.err, "%s  %s\n", clockTime(time.Now()), printable.Clean(how))
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&w.address, "join", "", "address of a server, such as https://andamio.ribera.test:8470")
	f.StringVar(&w.authority, "authority", "", "file of the authorities that vouch for the server (PEM; default: those that this machine trusts)")
	f.StringVar(&w.file, "token-file", "", "file of the token that it shows")
	f.StringVar(&w.pool, "pool", "", "pool of workers that it joins")
	f.StringVar(&w.name, "name", "", "what it is called in its pool (default: the name of this machine)")
	f.StringSliceVar(&w.labelsGiven, "label", nil, "what is told of it, as NAME=VALUE; may be repeated")
	f.StringSliceVar(&w.networks, "network", nil, "network that it connects to, such as 10.7.0.0/16, and no other; may be repeated (default: any)")
	return cmd
}

// read reads what options say.
func (w *joining) read() (err error) {
	if w.pool == "" || w.file == "" {
		return usageError{errors.New("say the --pool that it joins, and the --token-file of the token that it shows")}
	}
	if w.server, err = newServerAt(w.address, w.authority, "", ""); err != nil {
		return err
	}
	if w.labels, err = workers.Labels(w.labelsGiven); err != nil {
		return err
	}
	if w.allow, err = workers.Networks(w.networks); err != nil {
		return err
	}
	if w.name == "" {
		host, err := os.Hostname()
		if err != nil {
			return fault.Invalidf("this machine has no name: say --name: %w", err)
		}
		w.name, _, _ = strings.Cut(strings.ToLower(host), ".")
	}
	return nil
}

// join connects out to a server as a worker, and is gone through until the context ends. Where the server is not there, or goes, it comes again.
func (w *joining) join(ctx context.Context, told func(string)) error {
	for pause := firstAgain; ; pause = min(2*pause, mostAgain) {
		began := time.Now()
		err := w.once(ctx, told)
		if ctx.Err() != nil {
			return nil
		}
		var no *upgrade.Refused
		if errors.As(err, &no) && no.Status < http.StatusInternalServerError && no.Status != http.StatusConflict && no.Status != http.StatusTooManyRequests {
			return refusedAs(no)
		}
		if time.Since(began) > mostAgain {
			pause = firstAgain
		}
		told(goneWords(err))
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
	}
}

// A worker that lost its server comes again after a while, which grows.
const (
	firstAgain = time.Second
	mostAgain  = 15 * time.Second
)

func goneWords(err error) string {
	var no *upgrade.Refused
	switch {
	case errors.As(err, &no):
		return "not taken, which is tried again: " + refusedAs(no).Error()
	case err == nil || errors.Is(err, io.EOF):
		return "the server is gone, which is waited for"
	}
	return "the server is not there, which is waited for: " + err.Error()
}

func (w *joining) once(ctx context.Context, told func(string)) error {
	secret, err := passwordIn(w.file) // which may have been rotated since
	if err != nil {
		return fault.Default(fault.Invalid, err)
	}
	c, err := upgrade.Ask(ctx, tunnel.Protocol, w.server.url+"/workers/join", w.says(), secret, w.server.trust)
	if err != nil {
		return err
	}
	told("joined the pool " + w.pool + " as " + w.name)
	return tunnel.Work(ctx, c, w.allow)
}

func (w *joining) says() url.Values {
	q := url.Values{"pool": {w.pool}, "name": {w.name}}
	for name, value := range w.labels {
		q.Add("label", name+"="+value)
	}
	return q
}

// refusedAs is why a server does not take a worker, as it says.
func refusedAs(no *upgrade.Refused) error {
	var p detail
	if json.Unmarshal([]byte(no.Text), &p) != nil || p.Detail == "" {
		return fault.Unavailablef("the server answers %d, and not why: is it one of Andamio?", no.Status)
	}
	return p.err()
}

func (s *shared) workers() *cobra.Command {
	return &cobra.Command{
		Use:   "workers",
		Short: "List the workers in closed networks, with the sites that they reach",
		Long:  `Lists who has joined (andamio work --join), since when and from where, to which process of the workspace, and how far the sites are that are reached through its pool.`,
		Args:  cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			all, err := a.Workers(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return workersValue.print(s, all)
			}
			if len(all) == 0 {
				fmt.Fprintln(s.out, "no worker has joined; andamio work --join does, on a machine of a closed network")
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for i := range all {
				x := &all[i]
				fmt.Fprintf(w, "%s\t%s\t%s\tsince %s\tfrom %s to %s\t%s\n", printable.Clean(x.Pool), printable.Clean(x.Name), printable.Clean(workers.LabelText(x.Labels)), clockTime(x.Since), printable.Clean(x.From), printable.Clean(x.At), printable.Clean(x.Reaches()))
			}
			return w.Flush()
		}),
	}
}

func (s *shared) siteThrough() *cobra.Command {
	return &cobra.Command{
		Use:   "through NAME [POOL [LABEL=VALUE...] [wait DURATION]]",
		Short: "Have a site be reached through a pool of workers, or from here",
		Long: `The site, its machines and its endpoints are reached through workers of the pool from then on (andamio work --join), whoever asks: runs, surveys, measures, shells and
copies. Labels choose among the workers of the pool: those are gone through
that have all of them. Without a pool they are reached from here. The site is tried first, so join a worker before. While later none of them is there the site does not answer: a step of a run waits for one, for
10 minutes or for as long as is said after wait (wait 2h; wait 0s is not at all), and is taken up again then; all else fails as with any site that does not answer.`,
		Args: cobra.MinimumNArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			through, err := reach.ReadThrough(strings.Join(args[1:], " "))
			if err != nil {
				return usageError{err}
			}
			if err := a.SetThrough(ctx, args[0], through); err != nil {
				return err
			}
			if s.json {
				return siteThroughValue.print(s, throughOf(args[0], through))
			}
			how := "from here"
			if through.Pool != "" {
				how = fmt.Sprintf("through workers of the pool %s; a step waits %s for one", through.Whom(), through.Patience())
			}
			fmt.Fprintf(s.out, "%s is reached %s\n", printable.Clean(args[0]), how)
			return nil
		}),
	}
}

// siteThrough says how a site is reached.
type siteThrough struct {
	Site string `json:"site"`
	reach.Through
	// Wait is for how many seconds a step of a run waits for one of the workers where none is there.
	Wait float64 `json:"wait,omitempty"`
}

// throughOf says how a site is reached.
func throughOf(site string, t reach.Through) siteThrough {
	out := siteThrough{Site: site, Through: t}
	if t.Pool != "" {
		out.Wait = t.Patience().Seconds()
	}
	return out
}

// throughWords say through which pool a site is reached, after how it is secured.
func throughWords(pool string) string {
	if pool == "" {
		return ""
	}
	return ", through the pool " + pool
}
