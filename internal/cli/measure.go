package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
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
	"andamio/internal/service/workspace"
)

// measuredCurve is a measure of a thing over time.
type measuredCurve struct {
	Thing   string          `json:"thing"`
	Measure string          `json:"measure"`
	Unit    string          `json:"unit,omitempty"`
	Step    string          `json:"step"`
	Points  []measuredPoint `json:"points"`
}

// measuredPoint is what is known of a span of time; one of which nothing is known is left out.
type measuredPoint struct {
	At   time.Time `json:"at"`
	Min  float64   `json:"min"`
	Mean float64   `json:"mean"`
	Max  float64   `json:"max"`
}

func (s *shared) measure() *cobra.Command {
	var since, step string
	cmd := &cobra.Command{Use: "measure [THING [MEASURE]]", Short: "Show what sites, machines and endpoints use and how they answer", Args: cobra.MaximumNArgs(2),
		Long: `Everything that is connected or deployed is measured every 15 seconds while the workspace is served (andamio serve, or the screens): what machines use
of what they have, whether and how fast endpoints and sites answer, and Andamio itself. Alone it lists the things; with one of them, by its name or key, the
figures measured last with a day behind them; with a measure too, its curve since a time.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			all, err := a.Measured(ctx, 0)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return s.listMeasured(ctx, a, all)
			}
			thing, err := watch.Find(all, args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return s.showMeasured(ctx, a, thing)
			}
			return s.showCurve(ctx, a, thing, args[1], since, step)
		})}
	cmd.AddCommand(s.measureDraw(), s.measureForward(), s.overview(), &cobra.Command{Use: "export", Short: "Print what was measured last, and what is wrong, as OpenMetrics text", Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			return a.WriteOpenMetrics(ctx, s.out, time.Now())
		})})
	cmd.Flags().StringVar(&since, "since", "24h", "how long ago a curve begins, such as 6h or 30d")
	cmd.Flags().StringVar(&step, "step", "", "how far apart its points are, such as 5m; chosen by itself")
	return cmd
}

// measureForward shows, or sets, where measures are sent on to.
func (s *shared) measureForward() *cobra.Command {
	var secret string
	var off bool
	cmd := &cobra.Command{Use: "forward [URL]", Short: "Send everything that is measured on to somewhere, by remote write", Args: atMostOne,
		Long: `Sends what is measured on to a URL that takes remote write (Remote-Write 1.0), as it is measured; with the labels of "measure export". What nobody takes waits,
about an hour of it, and is late or lost as the measures forward_late and forward_lost of Andamio itself say. Alone it shows where measures are sent.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 1 && off {
				return usageError{errors.New("name a URL, or --off, and not both")}
			}
			if len(args) == 1 || off {
				to := workspace.Forward{Secret: secret}
				if len(args) == 1 {
					to.URL = args[0]
				}
				if err := a.SetForwarding(ctx, to); err != nil {
					return err
				}
			}
			to, err := a.Forwarding(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return forwardValue.print(s, to)
			}
			if to.URL == "" {
				fmt.Fprintln(s.out, "measures are sent nowhere")
				return nil
			}
			with := ""
			if to.Secret != "" {
				with = ", with the secret " + printable.Clean(to.Secret)
			}
			fmt.Fprintf(s.out, "measures are sent on to %s%s\n", printable.Clean(to.URL), with)
			return nil
		})}
	cmd.Flags().StringVar(&secret, "secret", "", "name of the kept secret that goes along as a bearer token")
	cmd.Flags().BoolVar(&off, "off", false, "send measures nowhere any more")
	return cmd
}

func (s *shared) listMeasured(ctx context.Context, a *app.App, all []measure.Thing) error {
	now := time.Now()
	out := make([]measured, 0, len(all))
	figures, err := a.Figures(ctx, all, now)
	if err != nil {
		return err
	}
	for _, t := range all {
		if latest := figures[t.Key]; len(latest) > 0 {
			out = append(out, measured{Thing: t, Latest: latest})
		}
	}
	if s.json {
		return measuredValue.print(s, out)
	}
	if len(out) == 0 {
		fmt.Fprintln(s.out, "nothing was measured within five minutes: andamio serve, or the screens, measure every 15 seconds")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "KIND\tNAME\tSITE\tOF\tNOW")
	for i := range out {
		x := &out[i]
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", x.Kind, printable.Clean(x.Name), printable.Clean(x.Site), printable.Clean(x.Of), figuresOf(x.Latest))
	}
	return w.Flush()
}

// figuresOf are the figures that say the most: those with a limit, and how it answers.
func figuresOf(all []watch.Figure) string {
	var out []string
	for _, l := range all {
		m := measure.Of(l.Name)
		switch {
		case m.Name == measure.ServicesDown && l.Value == 0: // it is worth a word where there are some
		case m.Limit != "" && l.Limit > 0:
			out = append(out, fmt.Sprintf("%s %.0f %%", strings.TrimPrefix(l.Name, "whole_"), 100*l.Value/l.Limit))
		case m.Unit == measure.State && l.Value < 1:
			out = append(out, "does not: "+m.Words)
		case m.Name == measure.AnswerTime || m.Name == measure.SiteTime || m.Unit == measure.Number:
			out = append(out, m.Words+" "+alarm.Figure(&m, l.Value, 0))
		}
	}
	return strings.Join(out, " · ")
}

// sparkWidth is how many points stand behind a figure.
const sparkWidth = 48

func (s *shared) showMeasured(ctx context.Context, a *app.App, t measure.Thing) error {
	now := time.Now()
	figures, err := a.Figures(ctx, []measure.Thing{t}, now)
	if err != nil {
		return err
	}
	latest := figures[t.Key]
	if s.json {
		return measuredValue.print(s, []measured{{Thing: t, Latest: latest}})
	}
	fmt.Fprintf(s.out, "%s %s%s\n", t.Kind, printable.Clean(t.Name), atSite(t))
	if len(latest) == 0 {
		fmt.Fprintln(s.out, "nothing was measured of it within five minutes")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "MEASURE\tNOW\tTHE LAST DAY")
	for _, l := range latest {
		m := measure.Of(l.Name)
		points, err := a.Curve(ctx, t, l.Name, now.Add(-24*time.Hour), now, 24*time.Hour/sparkWidth)
		if err != nil {
			return err
		}
		fmt.Fprintf(w, "%s\t%s\t%s\n", l.Words, alarm.Figure(&m, l.Value, l.Limit), sparkOf(points))
	}
	return w.Flush()
}

func atSite(t measure.Thing) string {
	if t.Site == "" || t.Kind == measure.OfSite {
		return ""
	}
	return " at " + printable.Clean(t.Site)
}

// sparkOf draws points as bars of eighths, with blanks where nothing is known.
func sparkOf(points []measure.Point) string {
	most := 0.0
	for i := range points {
		most = max(most, points[i].Max)
	}
	var b strings.Builder
	for i := range points {
		switch p := &points[i]; {
		case p.N == 0:
			b.WriteRune(' ')
		case most == 0:
			b.WriteRune('▁')
		default:
			b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(int(math.Round(7*p.Mean/most)), 7)])
		}
	}
	return b.String()
}

// mostPoints bounds how many points a curve has, usualPoints is how many it has by itself.
const (
	mostPoints  = 20_000
	usualPoints = 120
)

func (s *shared) showCurve(ctx context.Context, a *app.App, t measure.Thing, name, since, step string) error {
	long, err := promise.ParseSpan(since)
	if err != nil || long <= 0 {
		return usageError{fmt.Errorf("--since: %q is no span of time, such as 6h or 30d", since)}
	}
	apart := max(long/usualPoints, measure.Raw.Step())
	if step != "" {
		if apart, err = promise.ParseSpan(step); err != nil || apart < time.Second {
			return usageError{fmt.Errorf("--step: %q is no span of time, such as 5m", step)}
		}
	}
	if long/apart > mostPoints {
		return usageError{errors.New("--step: that would be more than 20,000 points")}
	}
	now := time.Now()
	points, err := a.Curve(ctx, t, name, now.Add(-long), now, apart)
	if err != nil {
		return err
	}
	m := measure.Of(name)
	out := measuredCurve{Thing: t.Key, Measure: name, Unit: string(m.Unit), Step: apart.String(), Points: []measuredPoint{}}
	for _, p := range points {
		if p.N > 0 {
			out.Points = append(out.Points, measuredPoint{p.At.UTC(), p.Min, p.Mean, p.Max})
		}
	}
	if s.json {
		return measuredCurveValue.print(s, out)
	}
	if len(out.Points) == 0 {
		fmt.Fprintf(s.out, "nothing is known of %s of %s in that time\n", printable.Clean(name), printable.Clean(t.Name))
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "AT\tLEAST\tMEAN\tMOST\t")
	for _, p := range out.Points {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t\n", p.At.Local().Format("2006-01-02 15:04:05"), alarm.Figure(&m, p.Min, 0), alarm.Figure(&m, p.Mean, 0), alarm.Figure(&m, p.Max, 0))
	}
	return w.Flush()
}

// measureDraw draws what was measured of a deployment.
func (s *shared) measureDraw() *cobra.Command {
	var since, output string
	cmd := &cobra.Command{Use: "draw DEPLOYMENT", Short: "Draw what was measured of a deployment, as SVG and PDF", Args: cobra.ExactArgs(1),
		Long: "Draws curves of all its machines and endpoints, with their limits, what is usual at that hour behind them, and marks for its runs and what went wrong.",
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			long, err := promise.ParseSpan(since)
			if err != nil || long <= 0 {
				return usageError{fmt.Errorf("--since: %q is no span of time, such as 24h", since)}
			}
			d, err := a.FindDeployment(ctx, args[0])
			if err != nil {
				return err
			}
			files, err := a.DrawMeasures(ctx, d.ID, long, output, time.Now())
			for _, f := range files {
				fmt.Fprintln(s.out, f)
			}
			return err
		})}
	cmd.Flags().StringVar(&since, "since", "24h", "of the last so long")
	cmd.Flags().StringVarP(&output, "output", "o", ".", "into this folder")
	return cmd
}
