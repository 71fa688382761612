package cli

import (
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/core/quota"
)

func (s *shared) quota() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "quota",
		Short: "Say how much of every quota and budget is used, held, paused and free",
		Long: `Quotas limit what stands and what it costs, by team, person, site and stage (see docs/quotas.md). What is decided is held, what stands
is used, and what is switched off is paused; of a month's budget what stands takes what it costs to the month's end.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error { return s.printUses(ctx, a) }),
	}
	cmd.AddCommand(s.quotaCheck(), s.quotaSet())
	return cmd
}

func (s *shared) printUses(ctx context.Context, a *app.App) error {
	uses, err := a.Uses(ctx, time.Now())
	if err != nil {
		return err
	}
	if s.json {
		return quotasValue.print(s, uses)
	}
	if len(uses) == 0 {
		fmt.Fprintln(s.out, "there are no quotas; docs/quotas.md says how they are written, and andamio quota set FILE keeps them")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "QUOTA\tOF\tUSED\tHELD\tPAUSED\tFREE\tMOST\t")
	for _, u := range uses {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t", printable.Clean(u.Account), u.Measure, plain(u.Measure, u.Used), plain(u.Measure, u.Held), plain(u.Measure, u.Paused), plain(u.Measure, u.Free()), plain(u.Measure, u.Most))
		if f := u.Forecast; f != nil && !f.RunsOut.IsZero() {
			fmt.Fprintf(w, " runs out on %s", f.RunsOut.Local().Format("2 January"))
		}
		fmt.Fprintln(w)
	}
	return w.Flush()
}

// plain is an amount as a number, with as many places as its measure has.
func plain(m quota.Measure, amount int64) string {
	v := m.Value(amount)
	switch m {
	case quota.PerHour:
		return fmt.Sprintf("%.3f", v)
	case quota.PerMonth:
		return fmt.Sprintf("%.2f", v)
	}
	return fmt.Sprintf("%g", v)
}

func (s *shared) quotaCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with a file of quotas",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, _, err := readFile(args[0], quota.Read)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s: nothing is wrong\n", printable.Count(len(f.Quotas), "quota"))
			return nil
		},
	}
}

func (s *shared) quotaSet() *cobra.Command {
	return &cobra.Command{
		Use:   "set FILE",
		Short: "Keep quotas; what is taken stays taken, though it be more",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			_, text, err := readFile(args[0], quota.Read)
			if err != nil {
				return err
			}
			f, err := a.SetQuotas(ctx, text)
			if err != nil {
				return named(args[0], err)
			}
			fmt.Fprintf(s.out, "kept: %s; they hold from the next run on\n", printable.Count(len(f.Quotas), "quota"))
			return nil
		}),
	}
}
