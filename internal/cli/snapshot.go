package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/snapshots"
)

// snapshot lists the snapshots of a deployment, takes and drops them.
func (s *shared) snapshot() *cobra.Command {
	cmd := &cobra.Command{
		Use: "snapshot DEPLOYMENT", Short: "List what is kept of a deployment's disks; take, restore and drop snapshots", Args: cobra.ExactArgs(1),
		Long: `Lists the snapshots of a deployment: what was taken together, when, what it came of, how much it holds, and what keeping it
costs. The one that the disks were taken at or restored to last is marked with *.`,
		RunE: s.withDeployment(s.listSnapshots),
	}
	cmd.AddCommand(s.snapshotTake(), s.snapshotEvery(), s.snapshotDrill(), s.snapshotRestore(), s.snapshotBeside(), s.snapshotDrop(), s.snapshotUntil())
	return cmd
}

func (s *shared) listSnapshots(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
	all, err := a.Snapshots(ctx, d.ID)
	if err != nil {
		return err
	}
	if s.json {
		return snapshotsValue.print(s, snapshotsOf{d.ID, all})
	}
	if len(all) == 0 {
		fmt.Fprintf(s.out, "there is no snapshot of %s; andamio snapshot take %s takes one\n", printable.Clean(d.Name), printable.Clean(d.Name))
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	ends, err := endsOf(ctx, a, d.ID)
	if err != nil {
		return err
	}
	fmt.Fprintln(w, "SNAPSHOT\tTAKEN\tCAME OF\tDISKS\tHOLDS\tCOSTS\tUNTIL\t")
	for i := range all {
		x := &all[i]
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s %s/h\t%s\t%s\n", x.Name+map[bool]string{true: " *"}[x.Head], takenAt(x), orDash(x.Parent), disksOf(x),
			printable.Bytes(x.Held), x.PerHour, printable.Clean(d.Stand.Plan.Currency), untilOf(ends, x), whole(x))
	}
	return w.Flush()
}

// endsOf is until when snapshots of a deployment are kept.
func endsOf(ctx context.Context, a *app.App, deployment int64) (promise.EndsTerms, error) {
	all, err := a.PromisesOf(ctx, deployment, time.Now())
	for i := range all {
		if all[i].Ends != nil {
			return *all[i].Ends, err
		}
	}
	return promise.EndsTerms{}, err
}

// untilOf says until when a set is kept; those that are taken by rule go in their time.
func untilOf(ends promise.EndsTerms, x *snapshots.Set) string {
	switch until := ends.Until(x.Name); {
	case !until.IsZero():
		return until.Local().Format("2006-01-02 15:04")
	case x.ByRule():
		return "its rule"
	}
	return "-"
}

// snapshotUntil has a snapshot be dropped at a time.
func (s *shared) snapshotUntil() *cobra.Command {
	var until, long string
	var forEver bool
	cmd := &cobra.Command{Use: "until DEPLOYMENT SNAPSHOT", Short: "Have a snapshot be dropped at a time", Args: cobra.ExactArgs(2),
		Long: `Keeps a snapshot until a time, when it is dropped by itself; what it keeps is gone then. Those that are taken by rule are dropped by it, in their
time. With --for-ever it is kept for as long as nobody drops it, as it was before.`,
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			now := time.Now()
			if forEver == (until != "" || long != "") {
				return usageError{errors.New("say until when, with --until, with --for, or with --for-ever")}
			}
			var end time.Time
			if !forEver {
				var err error
				if end, err = whenEnds(now, until, long); err != nil {
					return usageError{err}
				}
			}
			terms, err := a.EndSnapshot(ctx, d.ID, rest[0], end, now)
			if err != nil {
				return err
			}
			if s.json {
				return snapshotEndsValue.print(s, terms)
			}
			text := "for as long as nobody drops it"
			if !end.IsZero() {
				text = "until " + end.Local().Format("2006-01-02 15:04")
			}
			fmt.Fprintf(s.out, "%s of %s is kept %s\n", printable.Clean(rest[0]), printable.Clean(d.Name), text)
			return nil
		})}
	cmd.Flags().StringVar(&until, "until", "", "when it is dropped (RFC 3339, or a day)")
	cmd.Flags().StringVar(&long, "for", "", "or how long from now, such as 30d")
	cmd.Flags().BoolVar(&forEver, "for-ever", false, "keep it for as long as nobody drops it")
	return cmd
}

func takenAt(x *snapshots.Set) string {
	if x.Taken.IsZero() {
		return "-"
	}
	return x.Taken.Local().Format("2006-01-02 15:04:05")
}

// mostNamed is how many disks are named where there are no more.
const mostNamed = 3

func disksOf(x *snapshots.Set) string {
	var out []string
	for _, d := range x.Disks {
		name := d.Of
		if d.Gone {
			name += " (gone)"
		}
		out = append(out, name)
	}
	return disksNamed(out)
}

// disksNamed names disks, or says how many there are.
func disksNamed(names []string) string {
	if len(names) > mostNamed {
		return printable.Count(len(names), "disk")
	}
	return strings.Join(names, ", ")
}

// whole says what is to be known of how a set was taken.
func whole(x *snapshots.Set) string {
	switch {
	case !x.Whole:
		return "not all of it was taken: the next change takes it away"
	case x.Memory:
		return "at one moment, with memory"
	case x.Barrier:
		return "at one moment"
	}
	return ""
}

func (s *shared) snapshotTake() *cobra.Command {
	var w snapshots.TakeRequest
	cmd := s.ordering("take DEPLOYMENT", "Keep what the disks of a deployment hold now",
		`Takes snapshots of all disks of a deployment, or of those of some tiers, instances or volumes. The machines run on, and what stands
on something else is taken before it, so that nothing is kept that what it depends on does not have. With --barrier all machines
stand still meanwhile, so that all is of one moment. With --memory what is in their memory is kept too, where their sites can: restored, they go
on from there, and nothing is started anew.`, cobra.ExactArgs(1),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) (deployments.Order, error) {
			return a.Taking(ctx, d.ID, w, time.Now())
		})
	cmd.Flags().StringVar(&w.Name, "name", "", "what it is called (default: the time)")
	cmd.Flags().StringSliceVar(&w.Of, "of", nil, "tier, instance or volume; may be given again (default: all)")
	cmd.Flags().BoolVar(&w.Barrier, "barrier", false, "have all machines stand still until the last is taken")
	cmd.Flags().BoolVar(&w.Memory, "memory", false, "keep what is in the memory of machines too; they stand still meanwhile")
	return cmd
}

func (s *shared) snapshotDrop() *cobra.Command {
	return s.ordering("drop DEPLOYMENT SNAPSHOT", "Take a snapshot away", `What it keeps is gone then.`, cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			return a.DroppingSnapshot(ctx, d.ID, rest[0])
		})
}

// snapshotRestore has disks hold again what they held.
func (s *shared) snapshotRestore() *cobra.Command {
	var w snapshots.RestoreRequest
	cmd := s.ordering("restore DEPLOYMENT SNAPSHOT", "Have disks hold again what a snapshot keeps",
		`What runs on the machines of these disks is stopped before, from the top down, and started after. What they hold now is kept as a
snapshot first, to which andamio rollback leads back, unless it is to be discarded. Where memory is kept too nothing is stopped or started: machines
stand still, and go on from where they were then.`, cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			w.Set = rest[0]
			return a.Restoring(ctx, d.ID, w, time.Now())
		})
	cmd.Flags().StringSliceVar(&w.Of, "of", nil, "tier, instance or volume; may be given again (default: all that it keeps)")
	cmd.Flags().BoolVar(&w.Discard, "discard", false, "keep nothing of what the disks hold now")
	cmd.Flags().BoolVar(&w.DisksOnly, "disks-only", false, "start anew from the disks, though memory is kept too")
	return cmd
}

// snapshotBeside raises another deployment with what a snapshot keeps.
func (s *shared) snapshotBeside() *cobra.Command {
	return s.raising("beside DEPLOYMENT SNAPSHOT NAME", "Raise another deployment like one, whose volumes hold what a snapshot keeps",
		`Nothing of the deployment is touched: another is raised under a name, with networks and addresses of its own, whose volumes hold what
the snapshot keeps. Its machines begin from their images, and their scripts are run.`, cobra.ExactArgs(3),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			return a.Beside(ctx, d.ID, rest[0], rest[1])
		})
}
