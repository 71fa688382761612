package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/watch"
)

func (s *shared) threshold() *cobra.Command {
	cmd := &cobra.Command{Use: "threshold", Short: "List from where on what is measured is a warning, or critical", Args: cobra.NoArgs,
		Long: `Thresholds that ship have everything be watched at once. A file of your own (docs/watching.md) is laid over them: it may say others by class, tag, service or for one
thing, and is tried on what was measured before it is kept.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			f, err := a.Thresholds(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return thresholdsValue.print(s, f)
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "THRESHOLD\tMEASURE\tWARNING\tCRITICAL\tUNKNOWN\tWHEN\tFROM")
			for i := range f.Thresholds {
				t := &f.Thresholds[i]
				missing := "–"
				if t.Missing != "" {
					missing = "after " + t.Missing
				}
				from := fmt.Sprintf("thresholds.yaml:%d", t.Line)
				if t.Shipped {
					from = "shipped"
				}
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", printable.Clean(t.Name), printable.Clean(t.Measure), overWords(t, t.Warning), overWords(t, t.Critical), missing, printable.Clean(t.When), from)
			}
			return w.Flush()
		})}
	cmd.AddCommand(s.thresholdCheck(), s.thresholdPreview(), s.thresholdSet(), s.thresholdExample())
	return cmd
}

// overWords say when something is over.
func overWords(t *alarm.Threshold, o *alarm.Over) string {
	switch {
	case t.Off:
		return "not watched"
	case o == nil:
		return "–"
	}
	return o.Words()
}

func (s *shared) thresholdCheck() *cobra.Command {
	return checking(s, "thresholds", alarm.Read, func(f *alarm.File) string {
		return printable.Count(len(f.Thresholds), "threshold") + ": nothing is wrong"
	})
}

func (s *shared) thresholdPreview() *cobra.Command {
	var since string
	cmd := &cobra.Command{Use: "preview FILE", Short: "Say when a file of thresholds would have been over, by what was measured", Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			_, text, err := readFile(args[0], alarm.Read)
			if err != nil {
				return err
			}
			long, err := promise.ParseSpan(since)
			if err != nil || long <= 0 {
				return usageError{fmt.Errorf("--since: %q is no span of time, such as 30d", since)}
			}
			now := time.Now()
			all, err := a.Preview(ctx, text, now.Add(-long), now)
			if err != nil {
				return err
			}
			if s.json {
				return previewValue.print(s, all)
			}
			return s.printPreview(all, since)
		})}
	cmd.Flags().StringVar(&since, "since", "30d", "over what was measured since so long ago")
	return cmd
}

func (s *shared) printPreview(all []watch.Would, since string) error {
	if len(all) == 0 {
		fmt.Fprintf(s.out, "it would have been over at no time of the last %s\n", since)
		return nil
	}
	fmt.Fprintf(s.out, "it would have been over %s within the last %s:\n", strings.Replace(printable.Count(len(all), "time"), "1 time", "once", 1), since)
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, x := range all {
		until := "still"
		if !x.Until.IsZero() {
			until = "for " + x.Until.Sub(x.From).Round(time.Second).String()
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", x.From.Local().Format("2 Jan 15:04:05"), until, x.Severity, printable.Clean(x.Name), printable.Clean(x.Threshold), printable.Clean(x.Words))
	}
	return w.Flush()
}

func (s *shared) thresholdSet() *cobra.Command {
	return setting(s, "Keep thresholds of your own", alarm.Read, (*app.App).SetThresholds, func(f *alarm.File) string {
		return printable.Count(len(f.Thresholds), "threshold") + " kept, over those that ship"
	})
}

func (s *shared) thresholdExample() *cobra.Command {
	return &cobra.Command{Use: "shipped", Short: "Print the file of the thresholds that ship", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(s.out, alarm.DefaultText())
			return err
		}}
}
