package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
)

func (s *shared) team() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "team",
		Short: "Say who there is, in which teams, and what each may do to what",
		Long: `Lists the people of the workspace's directory of teams. The directory is one file that the engineer edits (see docs/teams.md):
without it, whoever can open the workspace is its engineer.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(_ context.Context, a *app.App, _ []string) error { return s.printTeams(a) }),
	}
	cmd.AddCommand(s.teamCheck(), s.teamSet(), s.teamMay(), s.teamGive())
	return cmd
}

// directory is that of a workspace; one that is not there is an error that says how it comes to be.
func directory(a *app.App) (*guard.Directory, error) {
	d, err := a.Directory()
	if err == nil && d == nil {
		err = fault.NotFoundf("there is no directory of teams: whoever can open the workspace is its engineer. Write one (docs/teams.md), and keep it with andamio team set FILE")
	}
	return d, err
}

func (s *shared) printTeams(a *app.App) error {
	d, err := directory(a)
	if err != nil {
		return err
	}
	if s.json {
		return teamsValue.print(s, d)
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "PERSON\tIN TEAMS\tKNOWN BY\tMAY")
	for _, name := range slices.Sorted(maps.Keys(d.People)) {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", name, orDash(strings.Join(d.TeamsOf(name), ", ")), orDash(known(d.People[name])), orDash(strings.Join(d.RolesOf(name), "; ")))
	}
	return w.Flush()
}

// known says how a person is known.
func known(p guard.Person) string {
	var out []string
	if p.User != "" {
		out = append(out, "user "+p.User)
	}
	if n := len(p.Keys); n > 0 {
		out = append(out, printable.Count(n, "key"))
	}
	return strings.Join(out, ", ")
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func (s *shared) teamCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with a directory of teams",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			d, _, err := readFile(args[0], guard.ReadDirectory)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s in %s with %s: nothing is wrong; the workspace is kept by %s\n", people(len(d.People)), printable.Count(len(d.Teams), "team"),
				printable.Count(len(d.Grants), "grant"), strings.Join(d.Keepers(), ", "))
			return nil
		},
	}
}

func people(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

func (s *shared) teamSet() *cobra.Command {
	return &cobra.Command{
		Use:   "set FILE",
		Short: "Keep a directory of teams, if nothing is wrong with it and you could set it again",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			_, text, err := readFile(args[0], guard.ReadDirectory)
			if err != nil {
				return err
			}
			d, err := a.SetDirectory(ctx, text)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.out, "kept: %s in %s; it holds from the next act on\n", people(len(d.People)), printable.Count(len(d.Teams), "team"))
			return nil
		}),
	}
}

func (s *shared) teamMay() *cobra.Command {
	var on guard.Thing
	cmd := &cobra.Command{
		Use:   "may PERSON [RIGHT]",
		Short: "Say whether somebody may do something, and why",
		Long: `Without a right all of them are gone through. What it is to be done to is said by options; what is not said is not known, and
fits no bound. Rights: ` + rightsList() + `.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error { return s.printMay(ctx, a, args, on) }),
	}
	f := cmd.Flags()
	f.Int64Var(&on.Deployment, "deployment", 0, "whose it is and at which sites follows from this deployment")
	f.StringVar(&on.Team, "team", "", "the team that it is of")
	f.StringSliceVar(&on.Sites, "site", nil, "the sites that it is at")
	f.StringVar(&on.Service, "service", "", "the service that it is of")
	f.StringVar(&on.Stage, "stage", "", "its stage")
	return cmd
}

func rightsList() string {
	out := make([]string, len(guard.Rights))
	for i, r := range guard.Rights {
		out[i] = string(r)
	}
	return strings.Join(out, ", ")
}

func (s *shared) printMay(ctx context.Context, a *app.App, args []string, on guard.Thing) error {
	if _, err := directory(a); err != nil {
		return err
	}
	rights := guard.Rights
	if len(args) == 2 {
		if !slices.Contains(guard.Rights, guard.Right(args[1])) {
			return fault.Invalidf("%q is no right; there are %s", args[1], rightsList())
		}
		rights = []guard.Right{guard.Right(args[1])}
	}
	var out []mayLine
	for _, r := range rights {
		answer, err := a.May(ctx, args[0], r, on)
		if err != nil {
			return err
		}
		out = append(out, mayLine{r, answer})
	}
	if s.json {
		if err := mayValue.print(s, out); err != nil {
			return err
		}
	} else {
		w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
		for _, l := range out {
			fmt.Fprintf(w, "%s\t%s\t%s\n", l.Right, map[bool]string{true: "yes", false: "no"}[l.Yes], l.Why)
		}
		if err := w.Flush(); err != nil {
			return err
		}
	}
	if len(args) == 2 && !out[0].Yes {
		return errNo
	}
	return nil
}

func (s *shared) teamGive() *cobra.Command {
	var to guard.Owner
	cmd := &cobra.Command{
		Use:   "give DEPLOYMENT",
		Short: "Say whose a deployment is",
		Args:  cobra.ExactArgs(1),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
			if err := a.Give(ctx, d.ID, to); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "deployment %d is of %s\n", d.ID, whose(to))
			return nil
		}),
	}
	f := cmd.Flags()
	f.StringVar(&to.Team, "team", "", "the team")
	f.StringVar(&to.Person, "person", "", "the person")
	f.StringVar(&to.Service, "service", "", "the service that it is for")
	f.StringVar(&to.Stage, "stage", "", "its stage, such as trial or production")
	return cmd
}

// whose says whose something is.
func whose(o guard.Owner) string {
	var out []string
	for _, x := range [][2]string{{"team", o.Team}, {"person", o.Person}, {"service", o.Service}, {"stage", o.Stage}} {
		if x[1] != "" {
			out = append(out, x[0]+" "+x[1])
		}
	}
	if out == nil {
		return "nobody in particular"
	}
	return strings.Join(out, ", ")
}
