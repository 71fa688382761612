package cli

import (
	"cmp"
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/window"
)

// calendarWindows lists when what is done by itself may change anything.
func (s *shared) calendarWindows() *cobra.Command {
	return &cobra.Command{
		Use: "windows", Short: "List blackouts and maintenance windows", Args: cobra.NoArgs,
		Long: `In a blackout nothing is changed by itself: no snapshot by rule, no drill, no off hours, no end of a lease. What takes service away by itself, as a
snapshot for which machines stand still, is done only within a maintenance window, where one is meant for the deployment. What is held is
done when it may be. People are not bound, nor is switching on what is to serve.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			f, err := a.Windows(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return windowsValue.print(s, f)
			}
			if len(f.Blackouts)+len(f.Maintenance) == 0 {
				fmt.Fprintln(s.out, "there are no blackouts and no maintenance windows; docs/promises.md says how they are written, and andamio calendar set FILE keeps them")
				return nil
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "KIND\tNAME\tWHEN\tFOR\tNOW\t")
			now := time.Now()
			printSpans(w, "blackout", f.Blackouts, now)
			printSpans(w, "maintenance", f.Maintenance, now)
			return w.Flush()
		}),
	}
}

func printSpans(w *tabwriter.Writer, kind string, all []window.Span, now time.Time) {
	for i := range all {
		x := &all[i]
		state := "–"
		if end := x.End(now); !end.IsZero() {
			state = "until " + end.Format("2 Jan 15:04 MST")
		} else if at := x.Next(now); !at.IsZero() {
			state = "next " + at.Format("2 Jan 15:04 MST")
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t\n", kind, printable.Clean(x.Name), printable.Clean(x.Words()), printable.Clean(cmp.Or(x.When, "all")), state)
	}
}

// windowsIn says how much is in a file.
func windowsIn(f *window.File) string {
	return printable.Count(len(f.Blackouts), "blackout") + ", " + printable.Count(len(f.Maintenance), "maintenance window")
}

func (s *shared) calendarCheck() *cobra.Command {
	return checking(s, "blackouts and maintenance windows", window.Read, func(f *window.File) string { return windowsIn(f) + ": nothing is wrong" })
}

func (s *shared) calendarSet() *cobra.Command {
	return setting(s, "Keep blackouts and maintenance windows", window.Read, (*app.App).SetWindows, func(f *window.File) string { return windowsIn(f) + " kept" })
}

// calendarGuard has nothing take service away by itself from a deployment at hours, or only after it was said.
func (s *shared) calendarGuard() *cobra.Command {
	var rule, at, zone, lasts, notice string
	cmd := s.promising("guard DEPLOYMENT", "Have nothing take service away by itself at hours, or only after that was said",
		`Promises that nothing takes service away from the deployment by itself within hours that begin by --rule at --at and last --for; and with --notice
that where something does otherwise that was not promised it is said so long before: Today has it, and it is done within the day that follows. Snapshots
and copies for which machines stand still wait until guarded hours are over; off hours and the end of a lease keep their times. People are not bound.`,
		func(now time.Time, p *promise.Promise) (err error) {
			p.Kind = promise.Guarded
			if lasts == "" {
				rule, at = "", ""
			}
			p.Guarded, err = promise.Guarding(now, rule, at, lasts, notice, zone)
			return err
		})
	cmd.Flags().StringVar(&rule, "rule", "FREQ=DAILY", "recurrence rule of guarded hours (RFC 5545), counted from today at --at")
	cmd.Flags().StringVar(&at, "at", "06:00", "time of day at which they begin")
	cmd.Flags().StringVar(&lasts, "for", "", "how long they last, such as 16h (default: there are none)")
	cmd.Flags().StringVar(&notice, "notice", "", "how long before it is said, such as 24h")
	cmd.Flags().StringVar(&zone, "zone", "UTC", "time zone, by its IANA name")
	cmd.AddCommand(s.dropping("drop DEPLOYMENT", "Have it be guarded no more", promise.Guarded))
	return cmd
}
