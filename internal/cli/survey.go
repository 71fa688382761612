package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/hook"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
)

func (s *shared) survey() *cobra.Command {
	var deep bool
	var regions []string
	cmd := &cobra.Command{
		Use:   "survey [SITE...]",
		Short: "List everything that there is at sites, region by region",
		Long: `Lists all that the credentials can see and keeps it as what is observed. A region that cannot be listed whole is named,
and what was seen there before stays: nothing counts as gone because a site did not answer. A survey that was interrupted
goes on where it was. With --deep it also goes into the instances of deployments by SSH: system, packages, what listens,
what runs, who talks to whom.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			return s.surveyed(ctx, a, args, deep, regions)
		}),
	}
	cmd.Flags().BoolVar(&deep, "deep", false, "go into instances too")
	cmd.Flags().StringSliceVar(&regions, "region", nil, "survey this region alone; may be repeated")
	return cmd
}

// surveyed surveys sites, all if none is named, and prints how it went.
func (s *shared) surveyed(ctx context.Context, a *app.App, names []string, deep bool, regions []string) error {
	all, err := some(a, names)
	if err != nil {
		return err
	}
	surveys, errs := make([]app.Survey, len(all)), make([]error, len(all))
	progress := s.surveyProgress()
	var group sync.WaitGroup
	for i, c := range all {
		group.Go(func() {
			surveys[i], errs[i] = a.Survey(ctx, reconcile.SurveyRequest{Site: c.Site, Regions: regions, Deep: deep, Progress: progress})
			surveys[i].Site = c.Site
		})
	}
	group.Wait()
	if progress != nil {
		fmt.Fprint(s.err, "\r\x1b[K")
	}
	whole := true
	for i, v := range surveys {
		whole = whole && errs[i] == nil && v.State == app.SurveyDone
		if !s.json {
			s.printSurvey(v, errs[i])
		}
	}
	ruled, err := a.SettleByRules(context.WithoutCancel(ctx))
	if err != nil {
		return err
	}
	if !s.json {
		s.printRules(ruled)
	}
	inv, err := a.Reconcile(context.WithoutCancel(ctx))
	if err != nil {
		return err
	}
	if s.json {
		err = surveysValue.print(s, surveyed{surveys, len(inv.RecordedRecords), len(inv.Findings)})
	} else {
		fmt.Fprintf(s.out, "%s, %s; andamio reconcile shows them\n", printable.Count(len(inv.RecordedRecords), "record"), printable.Count(len(inv.Findings), "finding"))
	}
	if !whole {
		return errors.Join(errNo, err)
	}
	return err
}

// surveyProgress shows on a terminal how far surveys are; nil elsewhere.
func (s *shared) surveyProgress() func(app.Survey) {
	if s.json || !isTerminal(s.err) {
		return nil
	}
	var mu sync.Mutex
	found := map[string]int{}
	return func(v app.Survey) {
		mu.Lock()
		defer mu.Unlock()
		found[v.Site] = v.Found()
		sum := 0
		for _, n := range found {
			sum += n
		}
		fmt.Fprintf(s.err, "\r\x1b[K%s · %s seen", printable.Count(len(found), "site"), printable.Count(sum, "thing"))
	}
}

func (s *shared) printSurvey(v app.Survey, err error) {
	state := v.State
	if state == "" {
		state = app.SurveyFailed
	}
	fmt.Fprintf(s.out, "%-14s %-8s %5d things", printable.Clean(v.Site), state, v.Found())
	var regions []string
	for _, p := range v.Parts {
		regions = append(regions, fmt.Sprintf("%s %d", p.Region, p.Found))
	}
	if len(regions) > 0 {
		fmt.Fprintf(s.out, " · %s", printable.Clean(strings.Join(regions, ", ")))
	}
	fmt.Fprintln(s.out)
	for _, p := range v.Parts {
		if p.Error != "" {
			fmt.Fprintf(s.out, "  region %s could not be listed whole, and what was seen there before stays: %s\n", printable.Clean(p.Region), printable.Clean(p.Error))
		}
	}
	if err != nil && len(v.Parts) == 0 {
		fmt.Fprintf(s.out, "  %s\n", printable.Clean(err.Error()))
	}
}

// portNotices is the port at which notices are heard, where no other is named.
const portNotices = "8788"

func (s *shared) notices() *cobra.Command {
	h := workspace.Hearing{Bus: &hook.Bus{}}
	var sender string
	cmd := &cobra.Command{
		Use:   "notices",
		Short: "Say where sites on other machines send their notices",
		Long: `Notices are heard on this machine alone, unless sites are on others: then --listen is the address of this machine at which
they are heard, and --tell the name or address by which sites reach it, where that is another. It counts for serve and for
runs, from the next on. Runs hear them in clear: signed, so that nobody makes them up, but anybody on the way reads them.
Without options says how it is.

--bus SERVER has notices be heard on a NATS server, too: those that are published under --subject and the name of the site that they are about (ribera.notices.vega), with the
header fields that they have over HTTP, signed alike. Of several that serve the workspace one hears each. --bus "" has it be over.

--secret SITE makes the secret with which a program of yours signs notices about a site that sends none itself (see
docs/inventory.md). It is shown once; the one before it counts no longer.`,
		Args: cobra.NoArgs,
	}
	f := cmd.Flags()
	f.StringVar(&sender, "secret", "", "make the secret with which notices about this SITE are signed, and show it once")
	f.StringVar(&h.Listen, "listen", "", `address of this machine, 0.0.0.0 and :: for all; "" for 127.0.0.1`)
	f.StringVar(&h.Tell, "tell", "", `name or address that sites are told; "" for the same`)
	f.StringVar(&h.Bus.Server, "bus", "", "NATS server on which notices are heard, too: tls://HOST:PORT, or nats://HOST:PORT on this machine")
	f.StringVar(&h.Bus.Subject, "subject", "", "what they are published under there, before a full stop and the name of the site")
	f.StringVar(&h.Bus.User, "bus-user", "", "who we are there")
	f.StringVar(&h.Secret, "bus-secret", "", "name of the secret (andamio credentials secret) that is the password there, or without --bus-user the token")
	cmd.RunE = s.with(func(ctx context.Context, a *app.App, _ []string) error {
		if f.Changed("secret") {
			return s.printSenderSecret(ctx, a, sender)
		}
		now, err := a.Hearing()
		if err != nil {
			return err
		}
		if f.Changed("listen") {
			now.Listen = h.Listen
		}
		if f.Changed("tell") {
			now.Tell = h.Tell
		}
		changed := f.Changed("listen") || f.Changed("tell")
		if f.Changed("bus") {
			changed = true
			now.Bus, now.Secret = h.Bus, h.Secret
			if h.Bus.Server == "" {
				now.Bus, now.Secret = nil, ""
			}
		} else if f.Changed("subject") || f.Changed("bus-user") || f.Changed("bus-secret") {
			return usageError{errors.New("say of which --bus")}
		}
		if changed {
			if err := a.SetHearing(ctx, now); err != nil {
				return usageError{err}
			}
		}
		if s.json {
			return hearingValue.print(s, now)
		}
		fmt.Fprintf(s.out, "notices are heard at %s; sites are told %s\n", now.At(portNotices), now.Advertised(now.At(portNotices)))
		if now.Bus != nil {
			fmt.Fprintf(s.out, "and at %s, under %s and the name of the site\n", now.Bus.Server, now.Bus.Subject)
		}
		return nil
	})
	return cmd
}

// printSenderSecret makes the secret of whoever sends notices about a site, and shows it.
func (s *shared) printSenderSecret(ctx context.Context, a *app.App, site string) error {
	secret, err := a.MakeSenderSecret(ctx, site)
	if err != nil {
		return err
	}
	if s.json {
		return senderValue.print(s, senderSecret{site, secret})
	}
	fmt.Fprintf(s.err, "notices about %s that are signed with this are heard; it is not shown again:\n", printable.Clean(site))
	fmt.Fprintln(s.out, secret)
	return nil
}

// load has a machine of a stand-in be busy.
func (s *shared) load() *cobra.Command {
	var long string
	cmd := &cobra.Command{Use: "load SITE MACHINE MEASURE=SHARE...", Short: "Have a machine of a stand-in be busy for a while", Args: cobra.MinimumNArgs(3),
		Long: "Has a machine of a stand-in use a share of its cores, memory or disk for a while, as in cores=97%. Only stand-ins take this; no real site does.",
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			want := sites.LoadRequest{Site: args[0], Name: args[1], Shares: map[string]float64{}}
			for _, arg := range args[2:] {
				name, text, _ := strings.Cut(arg, "=")
				share, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
				if err != nil {
					return usageError{fmt.Errorf("%q is no share of a measure, as cores=97%%", arg)}
				}
				want.Shares[name] = share / 100
			}
			d, err := promise.ParseSpan(long)
			if err != nil {
				return usageError{err}
			}
			want.Until = time.Now().Add(d)
			if err := a.Load(ctx, want); err != nil {
				return err
			}
			if s.json {
				return loadedValue.print(s, want)
			}
			fmt.Fprintf(s.out, "%s at %s is busy for %s\n", printable.Clean(want.Name), printable.Clean(want.Site), long)
			return nil
		})}
	cmd.Flags().StringVar(&long, "for", "10m", "for how long")
	return cmd
}

func (s *shared) drift() *cobra.Command {
	var want sites.DriftRequest
	cmd := &cobra.Command{
		Use:   "drift",
		Short: "Have the stand-ins change behind everybody's back",
		Long: `Changes things at the workspace's stand-in sites as people do by hand: resizes, deletes, renames, creates, tags, gives other
addresses. Equal seeds change equal stand-ins alike. Only stand-ins take this; no real site does.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			done, err := a.Drift(ctx, want)
			if err != nil {
				return err
			}
			if s.json {
				return driftedValue.print(s, done)
			}
			for _, d := range done {
				fmt.Fprintf(s.out, "%-14s %-10s %-16s %s %s\n", d.Site, d.Change, d.Term, printable.Clean(d.Title), printable.Clean(d.Detail))
			}
			return nil
		}),
	}
	cmd.Flags().Uint64Var(&want.Seed, "seed", 1, "seed of the changes")
	cmd.Flags().IntVar(&want.Count, "count", 8, "how many changes")
	cmd.Flags().StringVar(&want.Site, "site", "", "change things at this site alone")
	cmd.Flags().StringSliceVar(&want.Sorts, "only", nil, "only such changes: resized, deleted, renamed, created, addressed, tagged")
	return cmd
}
