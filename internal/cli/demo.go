package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/scenario"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
)

// sandboxOptions say what stand-ins are like.
type sandboxOptions struct {
	pace       float64
	seed       uint64
	oneAddress bool
	idle       time.Duration
	faults     float64
	quiet      bool
	drift      time.Duration
}

func (o *sandboxOptions) flags(cmd *cobra.Command, pace float64) {
	cmd.Flags().Float64Var(&o.pace, "pace", pace, "how long everything takes, relative to nominal: 0.1 is ten times as fast")
	cmd.Flags().Uint64Var(&o.seed, "seed", 1, "seed of the stand-ins' latencies")
	cmd.Flags().Float64Var(&o.faults, "faults", 0, "how likely a call meets each of the faults that docs/reliability.md lists, such as 0.02")
	cmd.Flags().DurationVar(&o.drift, "drift", 0, "change something behind everybody's back this often, such as 3m; 0 is never")
	cmd.Flags().BoolVar(&o.oneAddress, "one-address", false, "use 127.0.0.1 only, with ports mapped")
}

// args are the options as arguments for a sandbox in another process.
func (o *sandboxOptions) args() []string {
	out := []string{fmt.Sprintf("--pace=%g", o.pace), fmt.Sprintf("--seed=%d", o.seed), "--idle=30m"}
	if o.faults > 0 {
		out = append(out, fmt.Sprintf("--faults=%g", o.faults))
	}
	if o.drift > 0 {
		out = append(out, "--drift="+o.drift.String())
	}
	if o.oneAddress {
		out = append(out, "--one-address")
	}
	return out
}

// What stand-ins have beside sites: the zone of their name server, how much the system of a machine takes on its disk, and
// how much a machine that is on writes there in a second.
const (
	standInZone   = "ribera.test"
	standInSystem = 160 << 20
	standInChurn  = 400 << 10
)

// start starts stand-ins for an estate file, or for the demo's estate if none is named. In a workspace they keep what they
// hold there; "" is none.
func (o *sandboxOptions) start(file, dir string) (*sandbox.Sandbox, error) {
	if o.pace <= 0 || o.pace > 100 {
		return nil, usageError{fmt.Errorf("--pace is above 0 and at most 100, not %g", o.pace)}
	}
	e, err := estateFor(file, dir)
	if err != nil {
		return nil, err
	}
	if o.faults < 0 || o.faults > 0.5 {
		return nil, usageError{fmt.Errorf("--faults is from 0 to 0.5, not %g", o.faults)}
	}
	cfg := sandbox.Config{Estate: e, Pace: o.pace, Seed: o.seed, OneAddress: o.oneAddress, Zone: standInZone, System: standInSystem, Churn: standInChurn}
	if dir != "" {
		cfg.Folder = workspace.StandInFolder(dir)
	}
	if o.faults > 0 {
		cfg.Faults = sandbox.Troubles(o.faults)
	}
	box, err := sandbox.Start(cfg)
	if err == nil && o.drift > 0 {
		box.Live(o.drift, o.seed)
	}
	return box, err
}

// estateFor is the estate of stand-ins: the one that those of the workspace have, else that of a file, or of the demo.
func estateFor(file, dir string) (*estate.Estate, error) {
	var kept *estate.Estate
	if dir != "" {
		var err error
		if kept, err = sites.KeptEstate(dir); err != nil {
			return nil, err
		}
	}
	if file == "" {
		if kept != nil {
			return kept, nil
		}
		return templates.DemoEstate()
	}
	e, err := readEstate(file)
	if err != nil || kept == nil {
		return e, err
	}
	same, err := equalEstates(e, kept)
	if err == nil && !same {
		err = fault.Conflictf("the stand-ins of %s are those of another estate than %s: name another --workspace, or leave --estate out", dir, file)
	}
	return kept, err
}

func equalEstates(a, b *estate.Estate) (bool, error) {
	x, errA := a.Write()
	y, errB := b.Write()
	return bytes.Equal(x, y), errors.Join(errA, errB)
}

// Paces of the demo: on screen a run takes one to two minutes, headless it is over soon.
const (
	screenPace   = 1.3
	headlessPace = 0.25
)

// demoDrift is how often something changes by hand at the demo's sites, once nothing is built there any more.
const demoDrift = 2 * time.Minute

func (s *shared) demo() *cobra.Command {
	var o sandboxOptions
	var headless, stop, anew, alone bool
	var preset string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Start the stand-in sites, load Ribera Flood Watch and open the screens",
		Long: `Starts stand-ins for five sites on loopback, loads the scenario Ribera Flood Watch and opens the screens. The demo has a
workspace of its own; its stand-ins go on for half an hour after they were last used, or until andamio demo --stop, and
come back as they were when the demo is started again, whatever ended them. --anew begins a new one: the one before is
given another name, and nothing of it is lost. Whoever starts it is its engineer; others of the scenario ask for services
meanwhile, unless --alone. With --headless the whole scenario runs without a screen and a report is printed.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if headless {
				if !cmd.Flags().Changed("pace") {
					o.pace = headlessPace
				}
				return s.headless(cmd.Context(), &o, preset)
			}
			if err := s.demoWorkspace(); err != nil {
				return err
			}
			if stop {
				return s.stopDemo(cmd.Context())
			}
			if anew {
				if err := s.setAside(cmd.Context()); err != nil {
					return err
				}
			}
			if !cmd.Flags().Changed("drift") {
				o.drift = demoDrift
			}
			if err := sites.StandIns(cmd.Context(), s.workspace, o.args()...); err != nil {
				return fmt.Errorf("%w. andamio demo --anew begins a new demo and keeps the one before", err)
			}
			options := screenOptions(cmd)
			options.demo, options.alone = true, alone
			if !alone {
				if err := s.prepare(cmd.Context()); err != nil {
					return err
				}
			}
			return s.screens(cmd.Context(), options)
		},
	}
	o.flags(cmd, screenPace)
	cmd.Flags().BoolVar(&headless, "headless", false, "run the scenario without a screen and print a report")
	cmd.Flags().BoolVar(&stop, "stop", false, "end the demo's stand-ins, which keep what they hold")
	cmd.Flags().BoolVar(&anew, "anew", false, "begin a new demo; the one before is given another name")
	cmd.Flags().BoolVar(&alone, "alone", false, "begin without the scenario's people, who ask for services")
	oneOf(cmd.Flags(), &preset, "preset", "drill", "preset of the scenario for --headless: drill or storm-season", "drill", "storm-season")
	addScreenFlags(cmd)
	return cmd
}

// prepare writes who is at the scenario, and who of them is at the keyboard.
func (s *shared) prepare(ctx context.Context) error {
	a, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer a.Close()
	_, err = scenario.Prepare(ctx, a)
	return err
}

// people has the scenario's people ask for what they need, beside the screens.
func (s *shared) people(ctx context.Context, a *app.App) {
	err := scenario.Offers(ctx, a, filepath.Join(s.workspace, "offers"))
	if err == nil {
		err = scenario.Requests(ctx, a)
	}
	if err != nil && ctx.Err() == nil {
		a.Log.Warn("the people of the demo have not asked for everything", "err", err)
	}
}

func (s *shared) demoWorkspace() (err error) {
	if s.workspace == "" {
		s.workspace, err = sites.DemoDir()
	}
	return err
}

func (s *shared) stopDemo(ctx context.Context) error {
	if err := app.StopServingAt(ctx, s.workspace); err != nil {
		return err
	}
	ran, err := sites.StopStandIns(ctx, s.workspace)
	if err == nil && !ran {
		fmt.Fprintln(s.out, "no stand-ins run in", s.workspace)
	}
	return err
}

// setAside ends the stand-ins of the demo before, and gives its workspace another name.
func (s *shared) setAside(ctx context.Context) error {
	if err := app.StopServingAt(ctx, s.workspace); err != nil {
		return err
	}
	if _, err := sites.StopStandIns(ctx, s.workspace); err != nil {
		return err
	}
	was, err := sites.SetAside(s.workspace)
	if err == nil && was != "" {
		fmt.Fprintln(s.err, "the demo before is in", was)
	}
	return err
}

// headless runs the scenario in a workspace that is thrown away, unless one is named.
func (s *shared) headless(ctx context.Context, o *sandboxOptions, preset string) error {
	kept := s.workspace
	if kept == "" {
		dir, err := os.MkdirTemp("", "andamio-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		s.workspace = dir
	}
	if err := workspace.MarkForStandIns(s.workspace); err != nil {
		return err
	}
	box, err := o.start("", kept)
	if err != nil {
		return err
	}
	defer box.Close()
	a, err := s.open(ctx, app.InProcess(ctx))
	if err != nil {
		return err
	}
	defer a.Close()
	if err := a.ConnectSandbox(box); err != nil {
		return err
	}
	d, err := s.draftDemo(ctx, a, preset)
	if err != nil {
		return err
	}
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan, Template: d.Template.Origin()})
	if err != nil {
		return err
	}
	if !s.json {
		fmt.Fprintf(s.out, "%s · %s: %s on %s at %s, expected %s, %.3f %s/h\n", d.Plan.Name, preset, printable.Count(len(d.Plan.Steps), "step"),
			printable.Count(len(d.Plan.Resources), "resource"), printable.Count(len(d.Plan.Sites), "site"), seconds(d.Plan.Seconds), d.Plan.CostPerHour, d.Plan.Currency)
	}
	return s.workAndReport(ctx, a, id, box)
}

func (s *shared) draftDemo(ctx context.Context, a *app.App, preset string) (*templates.Draft, error) {
	e, err := a.Estate(ctx)
	if err != nil {
		return nil, err
	}
	t, err := templates.DemoTemplate()
	if err != nil {
		return nil, err
	}
	d := templates.NewDraft(t, templates.DraftRequest{Preset: preset}, e)
	if d.Diagnostics.Errors() > 0 {
		s.printDiagnostics(t, d.Diagnostics)
		return nil, errNo
	}
	return d, d.Err
}

// workAndReport runs in this process, printing steps as they happen, then the report.
func (s *shared) workAndReport(ctx context.Context, a *app.App, id int64, box *sandbox.Sandbox) error {
	worked := make(chan error, 1)
	go func() { worked <- a.Work(ctx, id) }()
	watching, enough := context.WithCancel(context.WithoutCancel(ctx))
	defer enough()
	state, err := a.Replay(watching, id)
	if err != nil {
		return err
	}
	show := s.progress(id, state)
	for b := range a.Watch(watching, id, state.LastSeq) {
		for _, e := range b.Events {
			state.Apply(e)
			show.event(e)
		}
		show.line()
		if b.Silent {
			break // it has ended without saying so, or says more: it is in this process, and waited for
		}
	}
	show.end()
	workErr := <-worked
	if state, err = a.Replay(watching, id); err != nil {
		return errors.Join(workErr, err)
	}
	r := report(watching, id, state)
	r.Calls = box.Calls()
	if s.json {
		err = reportValue.print(s, r)
	} else {
		s.writeReport(r)
	}
	silent := func(e deployments.Endpoint) bool { return !e.Good }
	if workErr != nil || state.Status != run.Standing || anyOf(r.Endpoints, silent) {
		return errors.Join(workErr, err)
	}
	return err
}

func anyOf[T any](items []T, is func(T) bool) bool {
	for _, x := range items {
		if is(x) {
			return true
		}
	}
	return false
}

func (s *shared) sandbox() *cobra.Command {
	var o sandboxOptions
	var estateFile string
	cmd := &cobra.Command{
		Use:   "sandbox",
		Short: "Run the stand-in sites alone, until interrupted",
		Long: `Starts a stand-in for each site of an estate (that of the demo, if none is named) on loopback and connects the
workspace to them: real HTTP servers that speak OCCI 1.2, whose instances run scripts, take SSH and answer on real ports.
The workspace must be empty, or one that stand-ins made: what they hold is kept there, and they come back as they were,
whatever ended them.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return s.serveSandbox(cmd.Context(), &o, estateFile)
		},
	}
	o.flags(cmd, 1)
	cmd.Flags().StringVar(&estateFile, "estate", "", "JSON file that describes the sites to stand in for")
	cmd.Flags().DurationVar(&o.idle, "idle", 0, "end after this long without a request; 0 is never")
	cmd.Flags().BoolVar(&o.quiet, "quiet", false, "print nothing")
	cmd.AddCommand(s.drift(), s.load())
	return cmd
}

func (s *shared) serveSandbox(ctx context.Context, o *sandboxOptions, estateFile string) error {
	if s.workspace == "" {
		dir, err := workspace.DefaultDir()
		if err != nil {
			return err
		}
		s.workspace = dir
	}
	if err := workspace.MarkForStandIns(s.workspace); err != nil {
		return err
	}
	if sites.StandInsRun(s.workspace) {
		return fault.Conflictf("the stand-ins of the workspace %s run already: andamio demo --stop --workspace %s ends them; --workspace NEW is another", s.workspace, s.workspace)
	}
	box, err := o.start(estateFile, s.workspace)
	if err != nil {
		return err
	}
	defer box.Close()
	a, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer a.Close()
	if err := a.ConnectSandbox(box); err != nil {
		return err
	}
	if err := a.NotePID(); err != nil {
		return err
	}
	if s.json {
		if err := standInsValue.print(s, box.Endpoints); err != nil {
			return err
		}
	} else if !o.quiet {
		s.printSandbox(a, box)
	}
	o.wait(ctx, box)
	return nil
}

func (s *shared) printSandbox(a *app.App, box *sandbox.Sandbox) {
	for _, e := range box.Endpoints {
		fmt.Fprintf(s.out, "%-14s %s\n", e.Site, e.URL)
	}
	if box.OneAddress {
		fmt.Fprintln(s.out, "only 127.0.0.1 is used: every network is port-mapped")
	}
	fmt.Fprintf(s.out, "connected to the workspace %s; interrupt to end\n", a.Opened().Dir)
}

// wait returns when the context ends, or nobody has asked for anything for the idle time.
func (o *sandboxOptions) wait(ctx context.Context, box *sandbox.Sandbox) {
	if o.idle <= 0 {
		<-ctx.Done()
		return
	}
	for last := int64(-1); last != box.Calls(); {
		last = box.Calls()
		select {
		case <-ctx.Done():
			return
		case <-time.After(o.idle):
		}
	}
}
