package cli

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/calendar"
	"andamio/internal/core/printable"
	"andamio/internal/durable"
)

// calendar writes what is due for promises as an iCalendar file.
func (s *shared) calendar() *cobra.Command {
	var days int
	var out string
	cmd := &cobra.Command{
		Use: "calendar [DEPLOYMENT]", Short: "Write what is due for promises as an iCalendar file", Args: cobra.MaximumNArgs(1),
		Long: `Writes when what is due for what is promised: snapshots, copies, drills, off hours and their ends, the end of leases (RFC 5545). Times are of UTC, and
each event has the same UID whenever it is written, so that a calendar that takes it in again has it once.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id := int64(0)
			if len(args) == 1 {
				var err error
				if id, err = deploymentID(ctx, a, args[0]); err != nil {
					return err
				}
			}
			if days < 1 || days > 3660 {
				return usageError{fmt.Errorf("between 1 and 3660 days are written, not %d", days)}
			}
			now := time.Now()
			all, err := a.Calendar(ctx, id, now, now.AddDate(0, 0, days))
			if err != nil {
				return err
			}
			if s.json {
				return calendarValue.print(s, all)
			}
			var text bytes.Buffer
			if err := calendar.Write(&text, now, all); err != nil {
				return err
			}
			if out == "" {
				_, err := s.out.Write(text.Bytes())
				return err
			}
			if err := durable.Write(out, text.Bytes()); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s written to %s\n", printable.Count(len(all), "event"), out)
			return nil
		}),
	}
	cmd.AddCommand(s.calendarWindows(), s.calendarCheck(), s.calendarSet(), s.calendarGuard())
	cmd.Flags().IntVar(&days, "days", 90, "how many days from now on")
	cmd.Flags().StringVarP(&out, "output", "o", "", "file that it is written to (default: the output)")
	return cmd
}
