package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/calendar"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/promises"
)

// promises lists what is promised of deployments, with how it was kept.
func (s *shared) promises() *cobra.Command {
	cmd := &cobra.Command{
		Use: "promises [DEPLOYMENT]", Short: "List what is promised of deployments, and how it was kept", Args: cobra.MaximumNArgs(1),
		Long: `Lists what is kept up for deployments: that they are saved (andamio snapshot every), that restoring them is tried (andamio snapshot
drill), that nothing takes their service away by itself at hours (andamio calendar guard), that they are off at hours (andamio hours), that they end
(andamio lease); or all that a service level consists of (andamio level). For each how often it was kept, was late or was broken, when it was kept last, which is the proof, and when
what is due next.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 0 {
				all, err := a.Promises(ctx, time.Now())
				return s.printPromises(all, err)
			}
			id, err := deploymentID(ctx, a, args[0])
			if err != nil {
				return err
			}
			all, err := a.PromisesOf(ctx, id, time.Now())
			return s.printPromises(all, err)
		}),
	}
	cmd.AddCommand(s.promiseReport())
	return cmd
}

// promiseReport says how promises were kept within a period.
func (s *shared) promiseReport() *cobra.Command {
	var from, to, out string
	cmd := &cobra.Command{
		Use: "report", Short: "Say how promises were kept within a period; write it as pictures and as a table", Args: cobra.NoArgs,
		Long: `Says of everything that is promised how often it was kept, was late or was broken from one day until before another. With --output it is
written into a folder: promises.svg and promises.pdf with every time where it was, promises.csv with a row for each.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			begin, end, err := period(time.Now(), from, to)
			if err != nil {
				return usageError{err}
			}
			r, err := a.Report(ctx, begin, end)
			if err != nil {
				return err
			}
			if out != "" {
				files, err := a.WriteReport(ctx, begin, end, out)
				if err != nil {
					return err
				}
				if s.json {
					return keptFilesValue.print(s, keptFiles{r, files})
				}
				fmt.Fprintln(s.out, "written:", strings.Join(files, ", "))
			}
			return s.printKept(r)
		}),
	}
	cmd.Flags().StringVar(&from, "from", "", "first day (default: 30 days before --to)")
	cmd.Flags().StringVar(&to, "to", "", "the day after the last (default: tomorrow)")
	cmd.Flags().StringVarP(&out, "output", "o", "", "folder that it is written into")
	return cmd
}

// period is from the beginning of one day to that of another, here.
func period(now time.Time, from, to string) (begin, end time.Time, err error) {
	end = calendar.Midnight(now, time.Local).AddDate(0, 0, 1)
	if to != "" {
		if end, err = time.ParseInLocation(time.DateOnly, to, time.Local); err != nil {
			return begin, end, fmt.Errorf("%q is no day, such as 2027-03-01", to)
		}
	}
	begin = end.AddDate(0, 0, -30)
	if from != "" {
		if begin, err = time.ParseInLocation(time.DateOnly, from, time.Local); err != nil {
			return begin, end, fmt.Errorf("%q is no day, such as 2027-03-01", from)
		}
	}
	return begin, end, nil
}

func (s *shared) printKept(r *promise.Report) error {
	if s.json {
		return keptValue.print(s, r)
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "DEPLOYMENT\tPROMISED\tLEVEL\tKEPT\tLATE\tBROKEN\t")
	for i := range r.Lines {
		l := &r.Lines[i]
		word := ""
		if l.Unproven {
			word = "unproven"
		}
		fmt.Fprintf(w, "%d %s\t%s\t%s\t%d\t%d\t%d\t%s\n", l.Deployment, printable.Clean(l.Name), printable.Clean(l.Words), orDash(printable.Clean(l.Level)), l.Kept, l.Late, l.Broken, word)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	due, kept, late, broken := r.Sum()
	_, err := fmt.Fprintf(s.out, "%s to %s: %s due, %d kept, %d late, %d broken\n", r.From.Format(time.DateOnly), r.To.Format(time.DateOnly), printable.Count(due, "time"), kept, late, broken)
	return err
}

func (s *shared) printPromises(all []promises.Kept, err error) error {
	switch {
	case err != nil:
		return err
	case s.json:
		return promisesValue.print(s, all)
	case len(all) == 0:
		fmt.Fprintln(s.out, "nothing is promised; andamio level give, andamio snapshot every, andamio hours and andamio lease promise something")
		return nil
	}
	now := time.Now()
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "DEPLOYMENT\tPROMISED\tKEPT\tLATE\tBROKEN\tLAST PROOF\tNEXT\t")
	for i := range all {
		k := &all[i]
		fmt.Fprintf(w, "%d %s\t%s\t%d\t%d\t%d\t%s\t%s\t%s\n", k.Deployment, printable.Clean(k.Name), printable.Clean(k.Words), k.Proof.Kept, k.Proof.Late, k.Proof.Broken,
			lastProof(k), nextOf(k), staleness(k, now))
	}
	return w.Flush()
}

// lastProof says when a promise was kept last. That of a lease needs no proof.
func lastProof(k *promises.Kept) string {
	switch {
	case !k.Proof.Unproven():
		return k.Proof.Last.Local().Format("2006-01-02 15:04")
	case k.Kind == promise.Lease:
		return "–"
	}
	return k.Unproven()
}

// staleness says of which moment copies are, and that they are too old.
func staleness(k *promises.Kept, now time.Time) string {
	if k.Stale {
		return cmp.Or(k.Age(now), "nothing was copied yet") + ": more would be lost than may be"
	}
	return k.Age(now)
}

func nextOf(k *promises.Kept) string {
	switch {
	case k.Next.IsZero() && k.Kind.Conditional():
		return "–"
	case k.Next.IsZero():
		return "nothing is due any more"
	}
	return k.Next.Local().Format("2006-01-02 15:04") + " " + k.Does
}

// promising makes a command that has something be promised of a deployment.
func (s *shared) promising(use, short, long string, terms func(now time.Time, p *promise.Promise) error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Long: long, Args: cobra.ExactArgs(1),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
			now := time.Now()
			p := promise.Promise{Deployment: d.ID}
			if err := terms(now, &p); err != nil {
				return usageError{err}
			}
			p, err := a.SetPromise(ctx, p, now)
			if err != nil {
				return err
			}
			return s.promisedNow(ctx, a, p)
		})}
}

// promisedNow says what is promised, and when it is due.
func (s *shared) promisedNow(ctx context.Context, a *app.App, p promise.Promise) error {
	all, err := a.PromisesOf(ctx, p.Deployment, time.Now())
	if err != nil {
		return err
	}
	for i := range all {
		if all[i].Kind != p.Kind {
			continue
		}
		if s.json {
			return promiseValue.print(s, all[i])
		}
		next := "; next " + nextOf(&all[i])
		if p.Kind.Conditional() && all[i].Next.IsZero() {
			next = ""
		}
		fmt.Fprintf(s.out, "%s: %s%s\n", printable.Clean(all[i].Name), all[i].Words, next)
	}
	if by, err := a.ServedBy(ctx); err == nil && by.Name == "" && !s.json {
		fmt.Fprintln(s.out, "nobody serves the workspace now: what is due is seen to by andamio serve, which the screens start")
	}
	return nil
}

// dropping makes a command that has nothing be promised any more.
func (s *shared) dropping(use, short string, kind promise.Kind) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
			if err := a.DropPromise(ctx, d.ID, kind); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s: nothing of that kind is promised any more\n", printable.Clean(d.Name))
			return nil
		})}
}

// recurring is what a command is told of when something is due again and again.
type recurring struct{ rule, at, zone string }

// flags adds the flags, with what is usual.
func (r *recurring) flags(cmd *cobra.Command, rule, at string) {
	cmd.Flags().StringVar(&r.rule, "rule", rule, "recurrence rule (RFC 5545), counted from today at --at")
	cmd.Flags().StringVar(&r.at, "at", at, "time of day")
	cmd.Flags().StringVar(&r.zone, "zone", "UTC", "time zone, by its IANA name")
}

func (r *recurring) when(now time.Time) (promise.When, error) {
	return promise.Daily(now, r.rule, r.at, r.zone)
}

// onDays is the recurrence of some days of the week.
func onDays(days []string) string {
	if len(days) == 0 {
		return "FREQ=DAILY"
	}
	return "FREQ=WEEKLY;BYDAY=" + strings.ToUpper(strings.Join(days, ","))
}

func (s *shared) snapshotEvery() *cobra.Command {
	var terms promise.SavedTerms
	var often recurring
	cmd := s.promising("every DEPLOYMENT", "Have snapshots be taken by a rule, and so many be kept",
		`Promises that snapshots of the deployment are taken again and again, and that the newest are kept; those that people took are not
counted and not dropped. Whoever promises it is whose right it is done by.`,
		func(now time.Time, p *promise.Promise) (err error) {
			p.Kind, p.Saved = promise.Saved, &terms
			terms.When, err = often.when(now)
			return err
		})
	often.flags(cmd, "FREQ=DAILY", "02:00")
	cmd.Flags().IntVar(&terms.Keep, "keep", 7, "how many are kept")
	cmd.Flags().StringSliceVar(&terms.Of, "of", nil, "tier, instance or volume; may be given again (default: all)")
	cmd.Flags().BoolVar(&terms.Barrier, "barrier", false, "have all machines stand still until the last is taken")
	cmd.AddCommand(s.dropping("drop DEPLOYMENT", "Have it be saved by rule no more; what was taken stays", promise.Saved))
	return cmd
}

// snapshotDrill has restoring be tried again and again.
func (s *shared) snapshotDrill() *cobra.Command {
	var terms promise.DrilledTerms
	var often recurring
	cmd := s.promising("drill DEPLOYMENT", "Have be tried by a rule whether the newest snapshot can be restored",
		`Promises that the newest snapshot is raised beside again and again, with networks and addresses of its own, until all of it serves, and is
taken away then. A snapshot counts as proven when this was done; until then andamio promises says unproven.`,
		func(now time.Time, p *promise.Promise) (err error) {
			p.Kind, p.Drilled = promise.Drilled, &terms
			terms.When, err = often.when(now)
			return err
		})
	often.flags(cmd, "FREQ=MONTHLY", "04:00")
	cmd.AddCommand(s.dropping("drop DEPLOYMENT", "Have it be tried no more", promise.Drilled))
	return cmd
}

// recovery has machines that fell be raised again by themselves.
func (s *shared) recovery() *cobra.Command {
	var after string
	var tries int
	var rebuild bool
	cmd := s.promising("recovery DEPLOYMENT", "Have machines that fall be raised again by themselves",
		`Promises that machines of the deployment which are down for as long as --after says are raised again by themselves: switched on where their site has
them off and nobody asked for that, started again where they run and answer at nothing they are asked at, and with --rebuild built again where they are gone. A
site that does not answer says nothing of its machines, and nothing is done about them. What answers nobody because of others waits for these. After --tries
within a day that did not help Today calls a person. While a run or a move works on the deployment it is left to whoever sees to that.`,
		func(_ time.Time, p *promise.Promise) (err error) {
			p.Kind = promise.Recovered
			p.Recovered, err = promise.Recovering(after, tries, rebuild)
			return err
		})
	cmd.Flags().StringVar(&after, "after", "2m", "for how long a machine has to be down, such as 2m")
	cmd.Flags().IntVar(&tries, "tries", 3, "how often a day machines are raised again")
	cmd.Flags().BoolVar(&rebuild, "rebuild", false, "build again what is gone, with nothing of what only its own disk held")
	cmd.AddCommand(s.dropping("drop DEPLOYMENT", "Have it be raised again no more by itself", promise.Recovered))
	return cmd
}

// hours has a deployment be off at hours.
func (s *shared) hours() *cobra.Command {
	var off, on, zone, holidays string
	var days, stayOff, stayOn []string
	var local bool
	cmd := s.promising("hours DEPLOYMENT", "Have a deployment be off at hours",
		`Promises that the deployment goes off at a time and serves again at another: it is started before that by as long as starting took
so far. On days that are not named it stays as it is. What is off costs its disks and addresses alone. On the days of --holidays, an
iCalendar file, and of --stay-off it is not started; on those of --stay-on it does not go off. With --local the machines at each site go by the
clock on the wall there (the time zone of its connection): what stands around the world follows the sun.`,
		func(now time.Time, p *promise.Promise) (err error) {
			p.Kind, p.Hours = promise.Hours, &promise.HoursTerms{Local: local}
			if p.Hours.Off, err = promise.Daily(now, onDays(days), off, zone); err != nil {
				return err
			}
			if p.Hours.On, err = promise.Daily(now, onDays(days), on, zone); err != nil {
				return err
			}
			free, err := holidaysIn(holidays, now)
			if err != nil {
				return err
			}
			return errors.Join(excepted(&p.Hours.On, stayOff, free), excepted(&p.Hours.Off, stayOn, nil))
		})
	cmd.Flags().StringVar(&off, "off", "19:00", "time of day at which it goes off")
	cmd.Flags().StringVar(&on, "on", "07:00", "time of day at which it serves again")
	cmd.Flags().StringVar(&zone, "zone", "UTC", "time zone, by its IANA name")
	cmd.Flags().BoolVar(&local, "local", false, "by the clock of the site where each machine is; --zone is that of sites which have none")
	cmd.Flags().StringSliceVar(&days, "days", nil, "days of the week, as MO,TU,WE,TH,FR,SA,SU (default: every day)")
	cmd.Flags().StringVar(&holidays, "holidays", "", "iCalendar file (RFC 5545) with days on which it stays off, of the next two years")
	cmd.Flags().StringSliceVar(&stayOff, "stay-off", nil, "day on which it stays off, as 2026-12-24; may be given again")
	cmd.Flags().StringSliceVar(&stayOn, "stay-on", nil, "day on which it does not go off; may be given again")
	cmd.AddCommand(s.dropping("drop DEPLOYMENT", "Have it go off no more", promise.Hours))
	return cmd
}

// holidaysIn are the days of an iCalendar file, of the next two years; none of no file.
func holidaysIn(file string, now time.Time) ([]time.Time, error) {
	if file == "" {
		return nil, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	all, err := calendar.Days(f, now, now.AddDate(2, 0, 0))
	if err != nil {
		return nil, named(file, err)
	}
	var out []time.Time
	for _, d := range all {
		out = append(out, d.Date)
	}
	return out, nil
}

// excepted leaves days out of a recurrence: some by hand, and others.
func excepted(w *promise.When, byHand []string, others []time.Time) error {
	for _, text := range byHand {
		day, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return fault.Invalidf("%q is no day, such as 2026-12-24", text)
		}
		others = append(others, day)
	}
	return w.But(others)
}

// lease has a deployment end.
func (s *shared) lease() *cobra.Command {
	var until, long, grace, by string
	var notice []string
	var times int
	cmd := s.promising("lease DEPLOYMENT", "Have a deployment end",
		`Promises that the deployment ends: it is switched off then, kept for a grace with all that is on it, and taken away after. Whoever it is
of may have it end later (andamio lease extend) as often as is said here. The notices before the end are in the log of what was due, and
Today has what ends within a week.`,
		func(now time.Time, p *promise.Promise) error {
			p.Kind, p.Lease = promise.Lease, &promise.LeaseTerms{Times: times}
			return leaseTerms(now, p.Lease, until, long, grace, by, notice)
		})
	cmd.Flags().StringVar(&until, "until", "", "when it ends (RFC 3339, or a day)")
	cmd.Flags().StringVar(&long, "for", "", "or how long from now, such as 30d")
	cmd.Flags().StringVar(&grace, "grace", "7d", "how long after that it is kept, switched off")
	cmd.Flags().StringSliceVar(&notice, "notice", []string{"7d", "1d"}, "how long before the end it is said; may be given again")
	cmd.Flags().StringVar(&by, "extend-by", "", "by how much whoever it is of may have it end later")
	cmd.Flags().IntVar(&times, "extend-times", 0, "how often they may")
	cmd.AddCommand(s.leaseExtend(), s.dropping("drop DEPLOYMENT", "Have it end no more", promise.Lease), s.leaseAddress())
	return cmd
}

func leaseTerms(now time.Time, t *promise.LeaseTerms, until, long, grace, by string, notice []string) (err error) {
	if t.Until, err = whenEnds(now, until, long); err != nil {
		return err
	}
	if t.Grace, err = promise.ParseSpan(grace); err != nil {
		return err
	}
	if by != "" {
		if t.By, err = promise.ParseSpan(by); err != nil {
			return err
		}
	}
	t.Notice, err = notices(now, t.Until, notice)
	return err
}

// whenEnds is when something ends: at a time, or so long from now.
func whenEnds(now time.Time, until, long string) (time.Time, error) {
	if (until == "") == (long == "") {
		return time.Time{}, errors.New("say when it ends, with --until or with --for")
	}
	if long != "" {
		d, err := promise.ParseSpan(long)
		if err != nil {
			return time.Time{}, err
		}
		return now.Add(d).UTC().Truncate(time.Second), nil
	}
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if at, err := time.Parse(form, until); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time, such as 2027-03-01 or 2027-03-01T18:00:00+01:00", until)
}

func (s *shared) leaseExtend() *cobra.Command {
	return &cobra.Command{Use: "extend DEPLOYMENT", Short: "Have it end later, as its lease allows", Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := deploymentID(ctx, a, args[0])
			if err != nil {
				return err
			}
			p, err := a.ExtendLease(ctx, id, time.Now())
			if err != nil {
				return err
			}
			if s.json {
				return leaseValue.print(s, p)
			}
			fmt.Fprintf(s.out, "%s; it was extended %s of %d\n", p.Words(), printable.Count(p.Lease.Extended, "time"), p.Lease.Times)
			return nil
		})}
}

// deploymentID is the number of a deployment that is named, or numbered: who may not see it may number it.
func deploymentID(ctx context.Context, a *app.App, name string) (int64, error) {
	if id, err := strconv.ParseInt(name, 10, 64); err == nil {
		return id, nil
	}
	d, err := a.FindDeployment(ctx, name)
	if err != nil {
		return 0, err
	}
	return d.ID, nil
}
