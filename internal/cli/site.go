package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
)

func (s *shared) site() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "site",
		Short: "Connect, test, list and remove sites, and change their credentials",
		Long: `Sites are where workloads run: private clouds, edge sites, regions of public clouds. A site is tried before it is kept;
its credential is encrypted at rest and never shown again.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(s.siteAdd(), s.siteTest(), s.siteList(), s.siteRemove(), s.siteRotate(), s.siteThrough())
	return cmd
}

// connecting are the options that describe a connection.
type connecting struct {
	c        workspace.Connection
	kind     string
	told     settings
	only     []string
	noSurvey bool
}

func (s *shared) siteAdd() *cobra.Command {
	var o connecting
	cmd := &cobra.Command{
		Use:   "add NAME --kind KIND --url ADDRESS",
		Short: "Try a site and connect it, then survey it",
		Long: `The name is the one that the site gives itself. The address is HOST, HOST:PORT or a URL; where none is given the scheme is
https and the port 8443. The credential comes from the file that --token-file names, from the environment as ANDAMIO_TOKEN,
or is asked for; it is never an argument, which other users of the machine could read. A credential for first use is
changed at once. The site is surveyed when it is connected.`,
		Args: exactly(1, "name the site"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.c.Site, o.c.Kind = args[0], estate.Kind(o.kind)
			return s.add(cmd.Context(), &o)
		},
	}
	f := cmd.Flags()
	oneOf(f, &o.kind, "kind", "", "edge, private or public", string(estate.Edge), string(estate.Private), string(estate.Public))
	o.told.add(f)
	f.StringVar(&o.c.TimeZone, "time-zone", "UTC", "the site's time zone, such as Europe/Lisbon")
	f.StringSliceVar(&o.c.Regions, "region", nil, "survey this region alone; may be repeated")
	f.StringSliceVar(&o.only, "only", nil, "survey only such kinds and tags: instance, volume, network, NAME or NAME=VALUE; may be repeated")
	f.StringVar(&o.c.Schedule, "schedule", "FREQ=HOURLY", `when to survey, as a recurrence rule (RFC 5545); "" for by hand alone`)
	f.StringVar(&o.c.Through, "through", "", "pool of workers through which it is reached, and labels after it: POOL LABEL=VALUE (andamio work --join; default: from here)")
	f.BoolVar(&o.noSurvey, "no-survey", false, "do not survey the site yet")
	return cmd
}

// exactly demands a number of arguments, and says what is missing.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != n {
			return usageError{errors.New(what)}
		}
		return nil
	}
}

func (s *shared) add(ctx context.Context, o *connecting) error {
	o.c.Filter = workspace.FilterOf(o.only)
	d, err := workspace.DriverNamed(o.told.driver)
	if err != nil {
		return usageError{err}
	}
	if missing := o.told.missing(d); len(missing) > 0 || o.kind == "" {
		return usageError{fmt.Errorf("say the site's --kind and %s", strings.Join(needed(d), ", "))}
	}
	a, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer a.Close()
	if err := a.CheckSiteName(o.c.Site); err != nil {
		return fmt.Errorf("%q cannot be a site's name: %w", o.c.Site, err)
	}
	if err := o.tell(d); err != nil {
		return usageError{err}
	}
	secrets, err := s.secrets(d, &o.told)
	if err != nil {
		return err
	}
	if err := o.c.Tell(secrets); err != nil {
		return err
	}
	tested, err := a.Connect(ctx, o.c)
	if err != nil {
		return err
	}
	if !s.json {
		s.printTested(o.c.Site, tested)
		fmt.Fprintf(s.out, "%s is connected\n", o.c.Site)
	}
	if o.noSurvey {
		if s.json {
			return siteTestedValue.print(s, tested)
		}
		return nil
	}
	return s.surveyed(ctx, a, []string{o.c.Site}, false, nil)
}

// tell tells the connection what the options say, and checks that before a credential is asked for.
func (o *connecting) tell(d *workspace.Driver) error {
	v, err := o.told.values(d)
	if err != nil {
		return err
	}
	if d != workspace.Drivers()[0] {
		o.c.Driver = d.Name
	}
	if err := o.c.Tell(v); err != nil {
		return err
	}
	return o.c.CheckSettings()
}

func (s *shared) printTested(name string, t *sites.Tested) {
	line := func(words ...string) {
		words = slices.DeleteFunc(words, func(w string) bool { return w == "" })
		fmt.Fprintln(s.out, printable.Clean(strings.Join(words, " · ")))
	}
	line(fmt.Sprintf("%s answers in %d ms", name, t.Took.Milliseconds()), t.Title)
	line(said("credential of ", t.Access.Account), cmp.Or(said("may ", t.Access.May...), "what its credential may do is not told"), said("may not ", t.Access.MayNot...))
	if regions := said("regions ", t.Access.Regions...); regions != "" {
		line(regions)
	}
	for _, w := range t.Warns {
		fmt.Fprintln(s.out, "note:", printable.Clean(w))
	}
}

// said is what is told after a word, "" where nothing is.
func said(word string, told ...string) string {
	if text := strings.Join(told, ", "); text != "" {
		return word + text
	}
	return ""
}

func (s *shared) siteTest() *cobra.Command {
	return &cobra.Command{
		Use:   "test [NAME]",
		Short: "Try the connection to a site, or to all, and say what the credentials may do",
		Long: `Asks each site whether it knows the credential and what that may and may not do, and reads what the site offers. Nothing
is changed.`,
		Args: atMostOne,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			all, err := some(a, args)
			if err != nil {
				return err
			}
			return s.test(ctx, a, all)
		}),
	}
}

// some are the connections that are named, or all.
func some(a *app.App, names []string) ([]workspace.Connection, error) {
	if len(names) == 0 {
		all, err := a.Connections()
		if err == nil && len(all) == 0 {
			err = fault.NotFoundf("no site is connected; andamio site add connects one")
		}
		return all, err
	}
	var out []workspace.Connection
	for _, n := range names {
		c, err := a.Connection(n)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func (s *shared) test(ctx context.Context, a *app.App, all []workspace.Connection) error {
	results := map[string]siteTried{}
	failed := false
	for _, c := range all {
		t, err := a.Test(ctx, c)
		switch {
		case err != nil:
			failed = true
			results[c.Site] = siteTried{Error: err.Error()}
			if !s.json {
				s.complain(err)
			}
		default:
			results[c.Site] = siteTried{Tested: t}
			if !s.json {
				s.printTested(c.Site, t)
			}
		}
	}
	var err error
	if s.json {
		err = sitesTestedValue.print(s, results)
	}
	if failed {
		return errors.Join(errNo, err)
	}
	return err
}

func (s *shared) siteList() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the connected sites, with when they were surveyed and will be",
		Long:  `Lists every connected site: its kind, address, whose credential it is, and the state of its last survey.`,
		Args:  cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			out, err := a.ConnectedSites(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return sitesValue.print(s, out)
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for _, l := range out {
				when := "never surveyed"
				if !l.Surveyed.IsZero() {
					when = fmt.Sprintf("surveyed %s, %s", l.Surveyed.Format("2006-01-02 15:04"), l.State)
				}
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", printable.Clean(l.Site), l.Kind, printable.Clean(l.Address()), printable.Clean(l.Account), when, printable.Clean(l.Says()+throughWords(l.Through)))
			}
			return w.Flush()
		}),
	}
}

func (s *shared) siteRemove() *cobra.Command {
	var confirm string
	cmd := &cobra.Command{
		Use:   "remove NAME --confirm NAME",
		Short: "Remove a site, its credential and what was observed there",
		Long: `Records of what is there stay, with their history. A site at which something of a deployment stands is not removed: it
could never be retired.`,
		Args: exactly(1, "name the site"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if confirm != args[0] {
				return unconfirmed("nothing was done; --confirm %s removes it", args[0])
			}
			if err := a.Disconnect(ctx, args[0]); err != nil {
				return err
			}
			if s.json {
				return siteRemovedValue.print(s, siteRemoved{args[0]})
			}
			fmt.Fprintf(s.out, "%s is removed\n", args[0])
			return nil
		}),
	}
	cmd.Flags().StringVar(&confirm, "confirm", "", "the site's name again")
	return cmd
}

func (s *shared) siteRotate() *cobra.Command {
	var file string
	var given bool
	cmd := &cobra.Command{
		Use:   "rotate NAME",
		Short: "Change the credential of a site",
		Long: `Has the site make a new credential in place of the one that is kept, or, with --token-file or --given, tries another one
and keeps that. The old one is forgotten.`,
		Args: exactly(1, "name the site"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			token, err := "", error(nil)
			if file != "" || given {
				if token, err = s.credential(a, args[0], file); err != nil {
					return err
				}
			}
			if err := a.Rotate(ctx, args[0], token); err != nil {
				return err
			}
			if s.json {
				return siteRotatedValue.print(s, siteRotated{args[0]})
			}
			fmt.Fprintf(s.out, "%s has a new credential\n", args[0])
			return nil
		}),
	}
	cmd.Flags().StringVar(&file, "token-file", "", "file that holds the new credential")
	cmd.Flags().BoolVar(&given, "given", false, "take the new credential from ANDAMIO_TOKEN or the keyboard")
	return cmd
}

// credential reads the credential of a connected site.
func (s *shared) credential(a *app.App, name, file string) (string, error) {
	c, err := a.Connection(name)
	if err != nil {
		return "", err
	}
	d, err := workspace.DriverNamed(c.Driver)
	if err != nil {
		return "", err
	}
	if d.Credential == "" {
		return "", nil // the service says so
	}
	return s.fieldSecret(d.Field(d.Credential), file)
}
