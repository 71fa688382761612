package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/front"
	"andamio/internal/core/printable"
	"andamio/internal/service/fronts"
)

func (s *shared) front() *cobra.Command {
	cmd := &cobra.Command{Use: "front", Short: "List names in front of many places, and who answers there", Args: cobra.NoArgs,
		Long: `A front is one name for a service at several places (docs/fronts.md): who asks is told of those that are well, the nearest first. Listed is what whoever answers for them knew
last. Exit status 1 says that nothing is up behind one.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			all, err := a.FrontStates(ctx)
			if err != nil {
				return err
			}
			return s.listFronts(all, time.Now())
		})}
	cmd.AddCommand(s.frontCheck(), s.frontSet(), s.frontAnswer())
	return cmd
}

func (s *shared) listFronts(all []fronts.Status, now time.Time) error {
	lost := false
	for _, f := range all {
		up := false
		for i := range f.Members {
			up = up || f.Members[i].Up
		}
		lost = lost || !up
	}
	switch {
	case s.json:
		if err := frontsValue.print(s, append([]fronts.Status{}, all...)); err != nil {
			return err
		}
	case len(all) == 0:
		fmt.Fprintln(s.out, "there are no fronts")
	default:
		w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "FRONT\tMEMBER\tSITE\tADDRESS\tSTATE\tSAYS")
		for _, f := range all {
			if len(f.Members) == 0 {
				fmt.Fprintf(w, "%s\t–\t–\t–\tnobody serves it\t\n", f.Name)
			}
			for i := range f.Members {
				m := &f.Members[i]
				fmt.Fprintf(w, "%s\t%s\t%s\t%s:%d\t%s\t%s\n", f.Name, printable.Clean(m.Name), m.Site, m.Address, m.Port, memberState(m, now), printable.Clean(m.Says))
			}
			if f.Plain != "" {
				fmt.Fprintf(w, "%s\tall that is up, in the zone of the connected name server\t\t\t\t\n", f.Plain)
			}
		}
		if err := w.Flush(); err != nil {
			return err
		}
	}
	if lost {
		return errNo
	}
	return nil
}

// memberState says whether a member is up, and how full its machine is.
func memberState(m *front.Member, now time.Time) string {
	word := "down"
	if m.Up {
		word = "up"
	}
	if !m.Since.IsZero() {
		word += " for " + now.Sub(m.Since).Round(time.Second).String()
	}
	if m.Load > 0 {
		word += fmt.Sprintf(", %.0f %% used", 100*m.Load)
	}
	return word
}

func (s *shared) frontCheck() *cobra.Command {
	return checking(s, "fronts", front.Read, func(f *front.File) string {
		return fmt.Sprintf("%s in %s: nothing is wrong", printable.Count(len(f.Fronts), "front"), f.Zone)
	})
}

func (s *shared) frontSet() *cobra.Command {
	return setting(s, "Keep fronts, for whose zone the process that serves the workspace answers", front.Read, (*app.App).SetFronts, func(f *front.File) string {
		return fmt.Sprintf("%s in %s kept", printable.Count(len(f.Fronts), "front"), f.Zone)
	})
}

func (s *shared) frontAnswer() *cobra.Command {
	var listen []string
	var from string
	cmd := &cobra.Command{Use: "answer", Short: "Answer for the zone of the fronts until interrupted, beside who serves the workspace", Args: cobra.NoArgs,
		Long: `Answers for the zone as the process that serves the workspace does, and asks all members by itself: a zone has two or more name servers. With --from it needs no workspace, only the file of
what was known last (fronts.json of the workspace, or a copy of it), which is read anew when it changes.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(listen) == 0 {
				return usageError{fmt.Errorf("--listen: say at which address and port, such as 192.0.2.53:53")}
			}
			told := func(at []string) { fmt.Fprintf(s.out, "answering at %s\n", strings.Join(at, ", ")) }
			if from != "" {
				return fronts.AnswerFrom(cmd.Context(), from, listen, told)
			}
			return s.with(func(ctx context.Context, a *app.App, _ []string) error {
				return a.AnswerFronts(ctx, listen, false, told)
			})(cmd, args)
		}}
	cmd.Flags().StringSliceVar(&listen, "listen", nil, "address and port, again for more")
	cmd.Flags().StringVar(&from, "from", "", "answer from this file of what was known last, without a workspace")
	return cmd
}
