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
	"andamio/internal/core/measure"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/watch"
)

// overview lists, shows and keeps overviews of one's own.
func (s *shared) overview() *cobra.Command {
	var since, output string
	var drawn bool
	cmd := &cobra.Command{Use: "overview [NAME]", Short: "Show curves that somebody wants to see beside each other", Args: atMostOne,
		Long: `Lists the overviews that are kept; with a name, what each of its curves is now and how it was. In Operate, space marks a curve on the page of measures, v shows
those that are marked beside each other, and they are kept from the acts.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 0 {
				return s.listOverviews(ctx, a)
			}
			k, err := a.KeptOverview(ctx, args[0])
			if err != nil {
				return err
			}
			if since != "" {
				long, err := promise.ParseSpan(since)
				if err != nil || long <= 0 {
					return usageError{fmt.Errorf("--since: %q is no span of time, such as 6h or 30d", since)}
				}
				k.Over = int64(long.Seconds())
			}
			if drawn {
				files, err := a.DrawOverview(ctx, k, output, time.Now())
				for _, f := range files {
					fmt.Fprintln(s.out, f)
				}
				return err
			}
			return s.showOverview(ctx, a, k)
		})}
	cmd.Flags().StringVar(&since, "since", "", "curves of the last so long, such as 6h; what was kept with it where nothing is said")
	cmd.Flags().BoolVar(&drawn, "draw", false, "draw it as SVG and PDF")
	cmd.Flags().StringVarP(&output, "output", "o", ".", "with --draw: into this folder")
	cmd.AddCommand(s.overviewKeep(), &cobra.Command{Use: "drop NAME", Short: "Keep an overview no longer", Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error { return a.DropOverview(ctx, args[0]) })})
	return cmd
}

func (s *shared) overviewKeep() *cobra.Command {
	var over string
	cmd := &cobra.Command{Use: "keep NAME THING:MEASURE...", Short: "Keep curves under a name, in the place of those that it had", Args: cobra.MinimumNArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			long, err := promise.ParseSpan(over)
			if err != nil || long <= 0 {
				return usageError{fmt.Errorf("--over: %q is no span of time, such as 6h or 30d", over)}
			}
			all, err := a.Measured(ctx, 0)
			if err != nil {
				return err
			}
			k := watch.Kept{Name: args[0], Over: int64(long.Seconds())}
			for _, text := range args[1:] {
				p, err := pickOf(all, text)
				if err != nil {
					return err
				}
				k.Picks = append(k.Picks, p)
			}
			return a.KeepOverview(ctx, k)
		})}
	cmd.Flags().StringVar(&over, "over", "6h", "curves of the last so long")
	return cmd
}

// pickOf is the curve that words mean: a thing, and behind the last colon a measure of it. A colon within the labels of a measure is part of them.
func pickOf(all []measure.Thing, text string) (watch.Pick, error) {
	head, labels, _ := strings.Cut(text, "{")
	at := strings.LastIndexByte(head, ':')
	if at < 1 || at == len(head)-1 {
		return watch.Pick{}, usageError{fmt.Errorf("%q names no curve: write THING:MEASURE, such as %q", text, "map-host 1:cores")}
	}
	t, err := watch.Find(all, head[:at])
	if err != nil {
		return watch.Pick{}, err
	}
	return watch.Pick{Thing: t.Key, Measure: text[at+1:]}, labelsClosed(text, labels)
}

// labelsClosed refuses labels that are not whole: a shell may have taken their quotes.
func labelsClosed(text, labels string) error {
	if labels != "" && !strings.HasSuffix(labels, "\"}") {
		return usageError{fmt.Errorf("%q has labels that are not whole: put it between single quotes", text)}
	}
	return nil
}

func (s *shared) listOverviews(ctx context.Context, a *app.App) error {
	names, err := a.Overviews(ctx)
	if err != nil {
		return err
	}
	out := make([]watch.Kept, 0, len(names))
	for _, name := range names {
		k, err := a.KeptOverview(ctx, name)
		if err != nil {
			return err
		}
		out = append(out, k)
	}
	if s.json {
		return overviewsValue.print(s, out)
	}
	if len(out) == 0 {
		fmt.Fprintln(s.out, "no overview is kept; andamio measure overview keep NAME THING:MEASURE... keeps one")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "NAME\tCURVES\tOF THE LAST")
	for _, k := range out {
		fmt.Fprintf(w, "%s\t%d\t%s\n", k.Name, len(k.Picks), time.Duration(k.Over)*time.Second)
	}
	return w.Flush()
}

func (s *shared) showOverview(ctx context.Context, a *app.App, k watch.Kept) error {
	over := time.Duration(k.Over) * time.Second
	all, err := a.Picked(ctx, k.Picks, over, sparkWidth, time.Now())
	if err != nil {
		return err
	}
	if s.json {
		return overviewValue.print(s, all)
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(w, "THING\tSITE\tMEASURE\tNOW\tTHE LAST %s\n", strings.ToUpper(over.String()))
	for i := range all {
		o := &all[i]
		name := o.Name
		if name == "" {
			name = o.Key + ", which is not known any more"
		}
		m := measure.Of(k.Picks[i].Measure)
		if len(o.Lines) == 0 {
			fmt.Fprintf(w, "%s\t%s\t%s\tnot measured\t\n", printable.Clean(name), printable.Clean(o.Site), printable.Clean(m.Words))
			continue
		}
		l := &o.Lines[0]
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", printable.Clean(name), printable.Clean(o.Site), printable.Clean(m.Words), alarm.Figure(&m, l.Now, l.Limit), sparkOf(l.Points))
	}
	return w.Flush()
}
