package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
)

// chosen are the options that choose entries of the trail.
type chosen struct {
	who, way, act, on string
	from, until       time.Time
	limit             int
}

func (s *shared) log() *cobra.Command {
	var o chosen
	var verify bool
	var expect, from, until string
	cmd := &cobra.Command{
		Use:   "log",
		Short: "Say who did what, when, by which way, to what and with which plan",
		Long: `Lists what was done, the oldest first; with --json one entry a line (JSON Lines). Each entry holds the digest of the one before
it: --verify looks at all of them, and names those that were changed, left out or put in. Its last digest, kept elsewhere and
given with --expect, shows whether the whole was made anew since.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			if err := o.between(from, until, time.Now()); err != nil {
				return usageError{err}
			}
			if verify || expect != "" {
				return s.verifyLog(ctx, a, expect)
			}
			return s.printLog(ctx, a, o)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&o.who, "who", "", "only what this person did")
	oneOf(f, &o.way, "way", "", "only what was done by this way: screen, command, api, schedule, rule", "screen", "command", "api", "schedule", "rule")
	f.StringVar(&o.act, "act", "", "only acts of this name, such as begin-run")
	f.StringVar(&o.on, "on", "", "only what was done to something whose name has this in it")
	f.StringVar(&from, "from", "", "only since a moment: 03:00, 2026-11-30 03:00, an RFC 3339 time, or how long ago, such as 2h")
	f.StringVar(&until, "until", "", "only up to a moment")
	f.IntVar(&o.limit, "last", 0, "only so many, the last")
	f.BoolVar(&verify, "verify", false, "look whether any entry was changed, left out or put in")
	f.StringVar(&expect, "expect", "", "with --verify: the digest of an entry that must still be there")
	return cmd
}

// between has only what was done between two moments be chosen; "" is no bound.
func (o *chosen) between(from, until string, now time.Time) (err error) {
	if from != "" {
		if o.from, err = momentOf(from, now); err != nil {
			return err
		}
	}
	if until != "" {
		o.until, err = momentOf(until, now)
	}
	return err
}

// fits reports that an entry is chosen.
func (o *chosen) fits(e *app.Entry) bool {
	has := func(want, is string) bool { return want == "" || want == is }
	if e.At.Before(o.from) || !o.until.IsZero() && e.At.After(o.until) {
		return false
	}
	return has(o.who, e.Name) && has(o.way, string(e.Way)) && has(o.act, string(e.Act)) && strings.Contains(e.On+" "+e.Note, o.on)
}

func (s *shared) printLog(ctx context.Context, a *app.App, o chosen) error {
	var last []app.Entry // of those chosen, if only some are wanted
	show := s.printEntry
	if o.limit > 0 {
		show = func(e *app.Entry) error {
			if last = append(last, *e); len(last) > o.limit {
				last = last[1:]
			}
			return nil
		}
	}
	err := a.EachOfTrail(ctx, func(e *app.Entry) error {
		if !o.fits(e) {
			return nil
		}
		return show(e)
	})
	for i := range last {
		err = errors.Join(err, s.printEntry(&last[i]))
	}
	return err
}

func (s *shared) printEntry(e *app.Entry) error {
	if s.json {
		line, err := encodedLine(e)
		if err == nil {
			_, err = s.out.Write(printable.JSON(append(line, '\n')))
		}
		return err
	}
	_, err := fmt.Fprintf(s.out, "%5d  %s  %s  %s%s\n", e.Seq, e.At.Local().Format("2006-01-02 15:04:05"), printable.Clean(e.Actor.String()), printable.Clean(e.Words()), shortPlan(e))
	return err
}

func shortPlan(e *app.Entry) string {
	if e.Plan == "" {
		return ""
	}
	return " (plan " + e.Plan[:min(12, len(e.Plan))] + ")"
}

func (s *shared) verifyLog(ctx context.Context, a *app.App, expect string) error {
	v, err := a.VerifyTrail(ctx, expect)
	if err != nil {
		return err
	}
	if s.json {
		err = verifiedValue.print(s, v)
	} else {
		for _, w := range v.Wrong {
			fmt.Fprintln(s.out, w)
		}
		switch v.Entries {
		case 0:
			fmt.Fprintln(s.out, "there are no entries")
		case 1:
			fmt.Fprintf(s.out, "1 entry, with the digest %s\n", v.Digest)
		default:
			fmt.Fprintf(s.out, "%d entries, the last with the digest %s\n", v.Entries, v.Digest)
		}
	}
	if len(v.Wrong) > 0 {
		return errors.Join(err, fault.Conflictf("the log is not as it was written"))
	}
	return err
}
