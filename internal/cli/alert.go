package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/watch"
)

func (s *shared) alert() *cobra.Command {
	var since string
	cmd := &cobra.Command{Use: "alert", Short: "List what is wrong, each cause once", Args: cobra.NoArgs,
		Long: `An alert is one cause with all that fails because of it: a host that is lost is one, and what stands on it is silent below. It says since when, whom it hits and whether
somebody sees to it. Exit status 1 says that something critical goes on that nobody has silenced.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			all, err := a.Alerts(ctx)
			if since != "" {
				long, wrong := promise.ParseSpan(since)
				if wrong != nil {
					return usageError{wrong}
				}
				all, err = a.AlertsSince(ctx, time.Now().Add(-long), mostAlerts)
			}
			if err != nil {
				return err
			}
			return s.listAlerts(all, time.Now())
		})}
	cmd.Flags().StringVar(&since, "since", "", "also those that ended so long ago or later, such as 7d")
	cmd.AddCommand(s.alertShow(), s.alertAcknowledge(), s.alertSilence(), s.alertUnsilence())
	return cmd
}

// mostAlerts bounds how many are listed.
const mostAlerts = 1000

func (s *shared) listAlerts(all []alarm.Alert, now time.Time) error {
	bad := false
	for i := range all {
		bad = bad || all[i].Ended.IsZero() && all[i].Severity == alarm.Critical && !all[i].Quiet(now)
	}
	if s.json {
		if err := alertsValue.print(s, append([]alarm.Alert{}, all...)); err != nil || !bad {
			return err
		}
		return errNo
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "nothing is wrong")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "ALERT\tSEVERITY\tSINCE\tCAUSE\tSAYS\tHITS\tSTATE")
	for i := range all {
		x := &all[i]
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\t%s\n", x.ID, x.Severity, x.Since.Local().Format("2 Jan 15:04"), printable.Clean(x.Title()), printable.Clean(x.Words), printable.Clean(x.Hits()), alertState(x, now))
	}
	if err := w.Flush(); err != nil || !bad {
		return err
	}
	return errNo
}

// alertState says what was made of an alert.
func alertState(a *alarm.Alert, now time.Time) string {
	switch {
	case !a.Ended.IsZero() && a.Into != 0:
		return fmt.Sprintf("part of alert %d", a.Into)
	case !a.Ended.IsZero():
		return "over since " + a.Ended.Local().Format("2 Jan 15:04")
	case a.Waits:
		return "waits for the run that is under way"
	case a.Quiet(now):
		return "silenced until " + a.Muted.Until.Local().Format("2 Jan 15:04") + " by " + printable.Clean(a.Muted.By)
	case a.Known != nil:
		return printable.Clean(a.Known.By) + " sees to it"
	}
	return "nobody sees to it"
}

// onAlert is a command on an alert, which is shown as it is then, in some way.
func (s *shared) onAlert(use, short string, do func(ctx context.Context, a *app.App, id int64) (alarm.Alert, error), show func(*alarm.Alert) error) *cobra.Command {
	return &cobra.Command{Use: use + " ALERT", Short: short, Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id <= 0 {
				return usageError{fmt.Errorf("%q is no number of an alert", args[0])}
			}
			x, err := do(ctx, a, id)
			if err != nil {
				return err
			}
			return show(&x)
		})}
}

// alertStory is an alert with what had to do with it.
type alertStory struct {
	alarm.Alert
	Story watch.Story `json:"story"`
}

func (s *shared) alertShow() *cobra.Command {
	var story watch.Story
	cmd := s.onAlert("show", "Show an alert with all that fails because of it", func(ctx context.Context, a *app.App, id int64) (alarm.Alert, error) {
		x, err := a.Alert(ctx, id)
		if err == nil {
			story, err = a.Story(ctx, x)
		}
		return x, err
	}, func(x *alarm.Alert) error {
		if s.json {
			return alertStoryValue.print(s, alertStory{*x, story})
		}
		if err := s.showAlert(x); err != nil {
			return err
		}
		s.tellStory(&story)
		return nil
	})
	cmd.Long = "Shows an alert with all that fails because of it, what was done in the hour before it began and about it since, what was done the last time that the same was wrong, and what would help."
	return cmd
}

// tellStory prints what had to do with an alert.
func (s *shared) tellStory(story *watch.Story) {
	for _, part := range []struct {
		title string
		all   []watch.Happened
	}{{"in the hour before", story.Before}, {"done about it", story.Since}, {"done the last time", story.Helped}} {
		if len(part.all) == 0 {
			continue
		}
		fmt.Fprintf(s.out, "\n  %s\n", part.title)
		for _, h := range part.all {
			fmt.Fprintf(s.out, "    %s  %s\n", h.At.Local().Format("2 Jan 15:04:05"), printable.Clean(h.Says))
		}
	}
	if story.Helps != "" {
		fmt.Fprintf(s.out, "\n  what would help: %s (an act of it in Today and Operate)\n", printable.Clean(story.Helps))
	}
}

func (s *shared) showAlert(x *alarm.Alert) error {
	if s.json {
		return alertValue.print(s, *x)
	}
	now := time.Now()
	fmt.Fprintf(s.out, "alert %d  %s  %s\n", x.ID, x.Severity, printable.Clean(x.Title()))
	fmt.Fprintf(s.out, "  %s\n", printable.Clean(x.Words))
	fmt.Fprintf(s.out, "  since %s, %s\n", x.Since.Local().Format("2 Jan 15:04:05"), alertState(x, now))
	if hits := x.Hits(); hits != "" {
		fmt.Fprintf(s.out, "  %s\n", printable.Clean(hits))
	}
	if x.Inferred {
		fmt.Fprintln(s.out, "  nothing is measured of the cause itself: it is what all that fails has in common")
	}
	for _, said := range []*alarm.Said{x.Known, x.Muted} {
		if said != nil && said.Say != "" {
			fmt.Fprintf(s.out, "  %s said %s: %s\n", printable.Clean(said.By), said.At.Local().Format("2 Jan 15:04"), printable.Clean(said.Say))
		}
	}
	w := tabwriter.NewWriter(s.out, 2, 0, 2, ' ', 0)
	fmt.Fprintln(w, "\n  SEVERITY\tSINCE\tTHING\tSAYS\tTHRESHOLD")
	for i := range x.Alarms {
		al := &x.Alarms[i]
		from := "thresholds.yaml"
		if al.Shipped {
			from = "shipped"
		}
		fmt.Fprintf(w, "  %s\t%s\t%s %s\t%s\t%s, %s:%d\n", al.Severity, al.Since.Local().Format("15:04:05"), al.Kind, printable.Clean(al.Name), printable.Clean(al.Words), printable.Clean(al.Threshold), from, al.Line)
	}
	if more := x.Below - len(x.Alarms); more > 0 {
		fmt.Fprintf(w, "  and %s more\n", printable.Count(more, "alarm"))
	}
	return w.Flush()
}

func (s *shared) alertAcknowledge() *cobra.Command {
	var say string
	cmd := s.onAlert("acknowledge", "Say that you see to an alert", func(ctx context.Context, a *app.App, id int64) (alarm.Alert, error) {
		return a.Acknowledge(ctx, id, say, time.Now())
	}, s.showAlert)
	cmd.Flags().StringVar(&say, "note", "", "what you say of it")
	return cmd
}

func (s *shared) alertSilence() *cobra.Command {
	var say, until, long string
	cmd := s.onAlert("silence", "Have nobody be told of an alert until a time", func(ctx context.Context, a *app.App, id int64) (alarm.Alert, error) {
		now := time.Now()
		end, err := whenEnds(now, until, long)
		if err == nil && say == "" {
			err = errors.New("say why, with --note")
		}
		if err != nil {
			return alarm.Alert{}, usageError{err}
		}
		return a.Silence(ctx, id, say, end, now)
	}, s.showAlert)
	cmd.Flags().StringVar(&say, "note", "", "why")
	cmd.Flags().StringVar(&until, "until", "", "until when (RFC 3339, or a day)")
	cmd.Flags().StringVar(&long, "for", "", "or how long from now, such as 4h")
	return cmd
}

func (s *shared) alertUnsilence() *cobra.Command {
	return s.onAlert("unsilence", "Have people be told of an alert again", func(ctx context.Context, a *app.App, id int64) (alarm.Alert, error) {
		return a.Unsilence(ctx, id)
	}, s.showAlert)
}
