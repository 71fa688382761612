package cli

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/ledger"
	"andamio/internal/core/printable"
	"andamio/internal/durable"
)

// accountAsked is what the options ask of an account.
type accountAsked struct {
	by, every, month, from, to string
	only                       []string
}

func (w *accountAsked) options(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&w.month, "month", "", "the `MONTH`, as 2026-11; without it, the one that goes on")
	f.StringVar(&w.from, "from", "", "from a `DAY` on, as 2026-11-01")
	f.StringVar(&w.to, "to", "", "to the end of a `DAY`")
	f.StringArrayVar(&w.only, "only", nil, "only what fits, as team=gauging or tag:fund=7*; may be given more than once")
}

// query is the question that the options ask.
func (w *accountAsked) query(now time.Time) (ledger.Query, error) {
	q := ledger.Query{By: w.by, Every: w.every, Only: map[string]string{}}
	day := func(text string) (time.Time, error) {
		at, err := time.ParseInLocation(time.DateOnly, text, now.Location())
		if err != nil {
			err = fault.Invalidf("%q is no day, such as 2026-11-01", text)
		}
		return at, err
	}
	start := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, now.Location())
	var err error
	if w.month != "" {
		if start, err = time.ParseInLocation("2006-01", w.month, now.Location()); err != nil {
			return q, fault.Invalidf("%q is no month, such as 2026-11", w.month)
		}
	}
	q.From, q.To = start, start.AddDate(0, 1, 0)
	if w.from != "" {
		if q.From, err = day(w.from); err != nil {
			return q, err
		}
		q.To = now
	}
	if w.to != "" {
		if q.To, err = day(w.to); err != nil {
			return q, err
		}
		q.To = q.To.AddDate(0, 0, 1)
	}
	for _, text := range w.only {
		by, pattern, is := strings.Cut(text, "=")
		if !is {
			return q, fault.Invalidf("--only %q: it is written as team=gauging", text)
		}
		q.Only[by] = pattern
	}
	return q, nil
}

func (s *shared) account() *cobra.Command {
	var w accountAsked
	cmd := &cobra.Command{
		Use:   "account",
		Short: "Say what stood, for how long, and what it cost whom",
		Long: `The account is worked out from the journals of runs alone (see docs/account.md): what stood, where and how large, at the price that its
site asked, for whom, second by second. Its lines add up to the total, however it is cut.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			q, err := w.query(time.Now())
			if err != nil {
				return err
			}
			return s.printAccount(ctx, a, q)
		}),
	}
	w.options(cmd)
	cmd.Flags().StringVar(&w.by, "by", "application", "by what: "+strings.Join(ledger.Dimensions, ", ")+", or tag:NAME")
	oneOf(cmd.Flags(), &w.every, "every", "", "in parts of this length", ledger.Hourly, ledger.Daily, ledger.Monthly)
	cmd.AddCommand(s.accountSavings(), s.accountExport(), s.accountRates())
	return cmd
}

func (s *shared) printAccount(ctx context.Context, a *app.App, q ledger.Query) error {
	out, err := a.Account(ctx, q, time.Now())
	if err != nil {
		return err
	}
	if s.json {
		return accountValue.print(s, out)
	}
	fmt.Fprintf(s.out, "%s to %s, in %s\n", out.From.Format("2 January 2006 15:04"), out.To.Format("2 January 2006 15:04"), printable.Clean(out.Currency))
	if len(out.Lines) == 0 {
		fmt.Fprintln(s.out, "nothing stood that you may see")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(w, "%s\tCOST\tSHARE\tHOURS\tOFF\tPER HOUR NOW\t\n", strings.ToUpper(printable.Clean(q.By)))
	for _, l := range append(out.Lines, out.Total) {
		name := printable.Clean(l.Key)
		if name == "" {
			name = "(none)"
		}
		share := 0.0
		if out.Total.Cost > 0 {
			share = 100 * l.Cost.Units() / out.Total.Cost.Units()
		}
		fmt.Fprintf(w, "%s\t%.2f\t%.0f %%\t%.1f\t%.1f\t%.3f\t\n", name, l.Cost, share, l.Hours, l.HoursOff, l.Now)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for i, at := range out.Parts {
		fmt.Fprintf(s.out, "%s  %10.2f\n", at.Format("2006-01-02 15:04"), out.Total.Each[i])
	}
	if len(out.LeftOut) > 0 {
		fmt.Fprintf(s.out, "left out, since their prices are in another unit: %s\n", strings.Join(out.LeftOut, ", "))
	}
	return nil
}

func (s *shared) accountSavings() *cobra.Command {
	var w accountAsked
	cmd := &cobra.Command{
		Use:   "savings",
		Short: "Say what instances would have cost less: stopped at night, smaller, or elsewhere",
		Long: `For each instance: what was paid for it being on at night (20 to 7) and at weekends, what the next smaller size would have saved, and what
the cheapest other site would have. It is of the instance alone, at today's prices, without what passes between it and others.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			q, err := w.query(time.Now())
			if err != nil {
				return err
			}
			q.By = "deployment"
			all, err := a.Savings(ctx, q, time.Now())
			if err != nil {
				return err
			}
			return s.printSavings(all)
		}),
	}
	w.options(cmd)
	return cmd
}

func (s *shared) printSavings(all []ledger.Saving) error {
	if s.json {
		return savingsValue.print(s, all)
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "nothing would have saved anything")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "DEPLOYMENT\tINSTANCE\tAT\tCOST\tSTOPPED AT NIGHT\tSMALLER\tELSEWHERE")
	instead := func(i *ledger.Instead) string {
		if i == nil {
			return "-"
		}
		return fmt.Sprintf("%.2f as %s", i.Saved, printable.Clean(i.What))
	}
	for i := range all {
		x := &all[i]
		fmt.Fprintf(w, "%s\t%s\t%s\t%.2f\t%.2f\t%s\t%s\n", printable.Clean(x.Deployment), printable.Clean(x.Resource), printable.Clean(x.Site), x.Cost, x.Stopping, instead(x.Smaller), instead(x.Elsewhere))
	}
	return w.Flush()
}

func (s *shared) accountExport() *cobra.Command {
	var w accountAsked
	cmd := &cobra.Command{
		Use:   "export FILE",
		Short: "Write the account with the columns of FOCUS " + ledger.FocusVersion + ", as CSV; - is standard output",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			q, err := w.query(time.Now())
			if err != nil {
				return err
			}
			q.By = "deployment"
			if args[0] == "-" {
				_, err := a.ExportAccount(ctx, q, s.out, time.Now())
				return err
			}
			var text bytes.Buffer
			rows, err := a.ExportAccount(ctx, q, &text, time.Now())
			if err != nil {
				return err
			}
			if err := durable.Write(args[0], text.Bytes()); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "written: %s with %s\n", args[0], printable.Count(rows, "row"))
			return nil
		}),
	}
	w.options(cmd)
	return cmd
}

func (s *shared) accountRates() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "rates",
		Short: "Say what the unit of the sites' prices is worth in a currency",
		Args:  cobra.NoArgs,
		RunE: s.with(func(_ context.Context, a *app.App, _ []string) error {
			r, err := a.Rates()
			if err != nil {
				return err
			}
			return s.printRates(r)
		}),
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with a file of rates",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			r, _, err := readFile(args[0], ledger.ReadRates)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s: nothing is wrong\n", printable.Count(len(r.Rates), "rate"))
			return nil
		},
	}, &cobra.Command{
		Use:   "set FILE",
		Short: "Keep what the unit is worth; accounts are in that currency from then on",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			_, text, err := readFile(args[0], ledger.ReadRates)
			if err != nil {
				return err
			}
			r, err := a.SetRates(ctx, text)
			if err != nil {
				return named(args[0], err)
			}
			fmt.Fprintf(s.out, "kept: %s; accounts are in %s\n", printable.Count(len(r.Rates), "rate"), r.Currency)
			return nil
		}),
	})
	return cmd
}

func (s *shared) printRates(r *ledger.Rates) error {
	switch {
	case s.json:
		return ratesValue.print(s, r)
	case r == nil:
		fmt.Fprintln(s.out, "there are none, and accounts are in the unit of the prices; docs/account.md says how they are written")
		return nil
	}
	for _, x := range r.Rates {
		fmt.Fprintf(s.out, "from %s one %s is %g %s\n", x.From, printable.Clean(r.Unit), x.Value, r.Currency)
	}
	return nil
}
