package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
)

func (s *shared) move() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "move",
		Short: "Move workloads from site to site, with a way back",
		Long: `A workload is copied while it runs, round after round of what changed, until it is told to cut over: then it stops, what
is left is copied and verified, it starts where it goes, and its names follow. Where it was it is kept, switched off, until
the move is committed; until then andamio move back has it serve there again.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(s.movePlan(), s.moveStart(), s.moveCutover(), s.moveBack(), s.moveCommit(), s.moveStatus(), s.moveSteer("pause", run.Pause, "Let copying rest"),
		s.moveSteer("resume", run.GoOn, "Let copying go on"), s.moveLimit())
	return cmd
}

// moveOptions say what is moved where and how.
type moveOptions struct {
	w       moves.Request
	mode    string
	limit   float64
	each    []string
	groups  []string
	keepMAC bool
	secrets []string
	// take are machines that are taken over first.
	take reconcile.TakeOverRequest
	wave int
	file string
}

func (o *moveOptions) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&o.w.What, "what", nil, "instance, node or service that is moved; may be given again")
	f.StringVar(&o.w.To, "to", "", "site that it goes to; without it placement chooses for each")
	oneOf(f, &o.mode, "mode", string(change.Warm), "cold stops it first, warm copies while it runs and stops it for the last round, live lets it answer throughout",
		string(change.Cold), string(change.Warm), string(change.Live))
	f.Float64Var(&o.w.Pause, "pause", 0, "seconds for which it may stand still while the last is copied; 0 is as long as it takes, for live ones 0.3")
	f.Float64Var(&o.limit, "limit", 0, "most megabytes a second to copy, of all disks together; 0 is no limit")
	oneOf(f, &o.w.Compress, "compress", "", "on or off; without it when it pays", "on", "off")
	f.StringVar(&o.w.Window, "window", "", "when copying may begin, a recurrence rule (RFC 5545) such as FREQ=WEEKLY;BYDAY=SA;BYHOUR=22;BYMINUTE=0;BYSECOND=0")
	f.Float64Var(&o.w.Hours, "hours", 0, "for how many hours a window is open")
	f.StringVar(&o.w.TimeZone, "time-zone", "UTC", "time zone of the window, by its name in the IANA database")
	f.BoolVar(&o.w.AtOnce, "at-once", false, "cut over as soon as it can be, without being told")
	f.StringSliceVar(&o.w.Lift, "lift", nil, "rule that the move may break, by its name; may be given again")
	f.BoolVar(&o.w.KeepLayers, "keep-layers", false, "keep the rounds apart at the target until the move is committed: less to do before the cutover, slower reading until then")
	f.StringVar(&o.w.Side, "side", "", "site from whose side the move is started; without it one that may")
	f.BoolVar(&o.w.Waves, "waves", false, "move what does not fit one window in several waves")
	f.StringSliceVar(&o.groups, "together", nil, "workloads that are never torn apart, joined by +; may be given again")
	f.StringVar(&o.w.Like.Zone, "zone", "", "zone there")
	f.StringVar(&o.w.Like.Size, "size", "", "size there; without it the cheapest that is no less")
	f.StringVar(&o.w.Like.Address, "address", "", "address inside its network: keep, or the address; without it one of the pool")
	f.BoolVar(&o.keepMAC, "keep-mac", false, "keep the hardware address")
	f.StringVar(&o.w.Like.Hostname, "hostname", "", "another host name there")
	f.StringVar(&o.w.Like.Class, "storage-class", "", "class of storage there")
	f.StringVar(&o.w.Like.Network, "network", "", "network of the design there; without it the one it is in, built there if need be")
	f.StringVar(&o.w.Like.MAC, "mac", "", "hardware address that its interface is to have there")
	f.StringArrayVar(&o.each, "put", nil, "INSTANCE=SITE[,KEY=VALUE...] for one that goes elsewhere or is otherwise there than the others; keys are zone, host, size, address, mac, hostname, storage-class and network; may be given again")
}

func (o *moveOptions) wish() (moves.Request, error) {
	w := o.w
	w.Mode, w.Limit, w.Like.KeepMAC = change.Mode(o.mode), int64(o.limit*1e6), o.keepMAC
	w.Each = map[string]migrate.Choice{}
	for _, text := range o.each {
		id, c, err := putting(text, w.Like)
		if err != nil {
			return w, usageError{err}
		}
		w.Each[id] = c
	}
	for _, g := range o.groups {
		w.Groups = append(w.Groups, strings.Split(g, "+"))
	}
	return w, nil
}

// putting reads where one workload goes and what it is like there, beginning with what holds for all.
func putting(text string, c migrate.Choice) (id string, _ migrate.Choice, err error) {
	first, rest, _ := strings.Cut(text, ",")
	id, to, ok := strings.Cut(first, "=")
	if !ok || id == "" {
		return "", c, fault.Invalidf("--put takes INSTANCE=SITE[,KEY=VALUE...], not %q", text)
	}
	c.Site = to
	into := map[string]*string{"zone": &c.Zone, "host": &c.Host, "size": &c.Size, "address": &c.Address, "mac": &c.MAC, "hostname": &c.Hostname, "storage-class": &c.Class, "network": &c.Network}
	for part := range strings.SplitSeq(rest, ",") {
		if part == "" {
			continue
		}
		key, value, _ := strings.Cut(part, "=")
		field, known := into[key]
		if !known {
			return "", c, fault.Invalidf("--put knows no %q; there are %s", key, strings.Join(slices.Sorted(maps.Keys(into)), ", "))
		}
		*field = value
	}
	return id, c, nil
}

func (s *shared) movePlan() *cobra.Command {
	var o moveOptions
	cmd := &cobra.Command{
		Use:   "plan DEPLOYMENT | plan --record MACHINE",
		Short: "Show what a move would do: what differs there, how long it takes, in which waves, every step",
		Long: `Works a move out and does nothing. With --record, machines are meant that a survey has seen and nobody deployed here, as SITE/ID or
by name: what would be taken over of them is shown too.`,
		Args: cobra.MaximumNArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			draft, err := s.draftOf(ctx, a, args, 0, &o)
			if err != nil {
				return err
			}
			if o.file != "" {
				data, err := draft.Order.Plan.Write()
				if err != nil {
					return err
				}
				if err := os.WriteFile(o.file, data, 0o644); err != nil {
					return err
				}
			}
			return s.printDraft(draft)
		}),
	}
	o.flags(cmd)
	o.taken(cmd)
	cmd.Flags().StringVarP(&o.file, "output", "o", "", "file to write the plan of the first wave to")
	return cmd
}

func (s *shared) moveStart() *cobra.Command {
	var o moveOptions
	var detach bool
	cmd := &cobra.Command{
		Use:   "start DEPLOYMENT | start --record MACHINE | start --move NUMBER --wave N",
		Short: "Begin a move: the first copy, then rounds until it is told to cut over",
		Long: `Begins a move as andamio move plan shows it, or a further wave of one. Secrets do not travel: those that the workloads
need are given again, with --secret NAME which asks for each, or in the environment. The move goes on in a process of its
own; andamio move status shows it. With --record, machines that nobody deployed here are taken over first, as andamio manage does:
they arrive as a deployment.`,
		Args: cobra.MaximumNArgs(1),
	}
	var moveID int64
	var propose bool
	var holds time.Duration
	o.flags(cmd)
	o.taken(cmd)
	cmd.Flags().StringSliceVar(&o.secrets, "secret", nil, "secret that is asked for; may be given again")
	cmd.Flags().Int64Var(&moveID, "move", 0, "move of which another wave is begun")
	cmd.Flags().IntVar(&o.wave, "wave", 0, "which wave, from 1")
	cmd.Flags().BoolVar(&detach, "detach", false, "return at once")
	cmd.Flags().BoolVar(&propose, "propose", false, "begin nothing: keep the move for somebody to confirm")
	cmd.Flags().DurationVar(&holds, "holds", runs.ProposalHolds, "with --propose: for how long it can be confirmed")
	cmd.RunE = s.with(func(ctx context.Context, a *app.App, args []string) error {
		if len(o.take.Records) > 0 && (propose || moveID > 0) {
			return usageError{errors.New("--record takes machines over at once, and begins a move of its own: with --propose or --move, have andamio manage take them over before, and name the deployment")}
		}
		args, err := s.takeFirst(ctx, a, args, &o)
		if err != nil {
			return err
		}
		draft, err := s.draftOf(ctx, a, args, moveID, &o)
		if err != nil {
			return err
		}
		if propose {
			return s.proposed(a.ProposeMove(ctx, draft, holds))
		}
		given := map[string]string{}
		for _, name := range o.secrets {
			v, err := s.secret(name + ": ")
			if err != nil {
				return err
			}
			given[name] = v
		}
		id, runID, err := a.StartMove(ctx, draft, given)
		if err != nil {
			return err
		}
		if s.json {
			return moveBegunValue.print(s, moveBegun{id, runID})
		}
		fmt.Fprintf(s.out, "move %d has begun, as run %d; andamio move status %d shows it", id, runID, id)
		if !draft.Move.Request.AtOnce && draft.Move.Request.Mode != change.Cold {
			fmt.Fprintf(s.out, ", andamio move cutover %d cuts over", id)
		}
		fmt.Fprintln(s.out)
		if detach || !o.w.AtOnce && draft.Move.Request.Mode != change.Cold {
			return nil
		}
		return s.follow(ctx, a, runID, false)
	})
	return cmd
}

func (s *shared) draftOf(ctx context.Context, a *app.App, args []string, moveID int64, o *moveOptions) (*moves.Draft, error) {
	if moveID > 0 {
		draft, err := a.DraftWave(ctx, moveID, o.wave-1)
		if err != nil {
			return nil, err
		}
		return draft, nil
	}
	if len(o.take.Records) > 0 {
		return s.draftTaken(ctx, a, args, o)
	}
	if len(args) != 1 {
		return nil, usageError{errors.New("name a deployment, machines with --record, or a move with --move and a wave with --wave")}
	}
	d, err := a.FindDeployment(ctx, args[0])
	if err != nil {
		return nil, err
	}
	w, err := o.wish()
	if err != nil {
		return nil, err
	}
	draft, err := a.DraftMove(ctx, d.ID, w)
	if err != nil {
		return nil, err
	}
	return draft, nil
}

// moveCommand makes a command that does something with one move.
func (s *shared) moveCommand(use, short, long string, act func(ctx context.Context, a *app.App, m *moves.Move) error) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Long: long, Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			m, err := findMove(ctx, a, args[0])
			if err != nil {
				return err
			}
			return act(ctx, a, m)
		})}
}

func findMove(ctx context.Context, a *app.App, text string) (*moves.Move, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return nil, usageError{fmt.Errorf("%q is no number of a move, as andamio move status shows them", text)}
	}
	m, err := a.Move(ctx, id)
	if err != nil {
		return nil, err
	}
	return m, nil
}

func (s *shared) moveCutover() *cobra.Command {
	return s.moveCommand("cutover MOVE", "Cut over as soon as what is left is little enough", `Tells the rounds to end. The workload stops, or is held up if it is moved live, what is left is copied and verified, it
starts where it goes, and its names follow.`,
		func(ctx context.Context, a *app.App, m *moves.Move) error {
			if err := a.CutOver(ctx, m.ID); err != nil {
				return err
			}
			id, _ := m.Run(m.Current())
			if s.json {
				return moveBegunValue.print(s, moveBegun{m.ID, id})
			}
			return s.follow(ctx, a, id, false)
		})
}

func (s *shared) moveSteer(use, verb, short string) *cobra.Command {
	return s.moveCommand(use+" MOVE", short, short+".", func(ctx context.Context, a *app.App, m *moves.Move) error {
		return s.steered(ctx, a, m, verb)
	})
}

func (s *shared) steered(ctx context.Context, a *app.App, m *moves.Move, verb string) error {
	if err := a.Steer(ctx, m.ID, verb); err != nil {
		return err
	}
	if s.json {
		return moveSaidValue.print(s, moveSaid{m.ID, verb})
	}
	fmt.Fprintf(s.out, "move %d: %s\n", m.ID, verb)
	return nil
}

func (s *shared) moveLimit() *cobra.Command {
	return &cobra.Command{Use: "limit MOVE MEGABYTES", Short: "Bound how many megabytes a second are copied; 0 is no limit", Args: cobra.ExactArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			m, err := findMove(ctx, a, args[0])
			if err != nil {
				return err
			}
			mb, err := strconv.ParseFloat(args[1], 64)
			if err != nil || mb < 0 {
				return usageError{fmt.Errorf("%q is no number of megabytes a second", args[1])}
			}
			return s.steered(ctx, a, m, fmt.Sprintf("%s%d", run.LimitTo, int64(mb*1e6)))
		})}
}

func (s *shared) moveBack() *cobra.Command {
	var confirm string
	var wave int
	cmd := s.moveCommand("back MOVE", "Go back from a move that is not committed", `Stops the move wherever it is, takes away what stands where the workload went, and has it serve again where it was, under
its address and its names. What was written there since is copied back before. It is shown first, and done when the
deployment's name is typed, or given with --confirm.`, func(ctx context.Context, a *app.App, m *moves.Move) error {
		order, err := a.DraftBack(ctx, m.ID, waveOf(m, wave))
		if err != nil {
			return err
		}
		return s.ending(ctx, a, m, waveOf(m, wave), confirm, order, a.GoBack)
	})
	cmd.Flags().StringVar(&confirm, "confirm", "", "the deployment's name")
	cmd.Flags().IntVar(&wave, "wave", 0, "which wave, from 1; without it the one under way")
	return cmd
}

func (s *shared) moveCommit() *cobra.Command {
	var confirm string
	var wave int
	cmd := s.moveCommand("commit MOVE", "Take away what was kept where the workload was", `Ends the move: what was kept is removed, and there is no going back any more. It is shown first, and done when the
deployment's name is typed, or given with --confirm.`, func(ctx context.Context, a *app.App, m *moves.Move) error {
		order, err := a.DraftCommit(ctx, m.ID, waveOf(m, wave))
		if err != nil {
			return err
		}
		return s.ending(ctx, a, m, waveOf(m, wave), confirm, order, a.Commit)
	})
	cmd.Flags().StringVar(&confirm, "confirm", "", "the deployment's name")
	cmd.Flags().IntVar(&wave, "wave", 0, "which wave, from 1; without it the one under way")
	return cmd
}

func waveOf(m *moves.Move, wave int) int {
	if wave > 0 {
		return wave - 1
	}
	return m.Current()
}

// ending shows what ends a move, and does it once the deployment's name is confirmed.
func (s *shared) ending(ctx context.Context, a *app.App, m *moves.Move, wave int, confirm string, order deployments.Order,
	act func(ctx context.Context, id int64, wave int) (int64, error)) error {
	d, err := a.Deployment(ctx, m.Deployment)
	if err != nil {
		return err
	}
	if s.json && confirm == "" {
		return errors.Join(errNo, changeValue.print(s, reply.ChangeOf(order)))
	}
	if !s.json {
		s.printChange(ctx, a, d, order)
	}
	if confirm != d.Name {
		return unconfirmed("nothing was done; --confirm %s does it", d.Name)
	}
	id, err := act(ctx, m.ID, wave)
	if err != nil {
		return err
	}
	return s.follow(ctx, a, id, false)
}

func (s *shared) moveStatus() *cobra.Command {
	return &cobra.Command{Use: "status [MOVE]", Short: "Show how moves are: phases, rounds, what is left, what could be done", Args: cobra.MaximumNArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 1 {
				m, err := findMove(ctx, a, args[0])
				if err != nil {
					return err
				}
				return s.printMove(ctx, a, m)
			}
			all, err := a.Moves(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return movesValue.print(s, moveRows(all))
			}
			if len(all) == 0 {
				fmt.Fprintln(s.out, "nothing was moved yet; andamio move plan DEPLOYMENT --what INSTANCE --to SITE shows what a move would do")
			}
			for _, r := range moveRows(all) {
				fmt.Fprintf(s.out, "%4d  %-40s %s\n", r.Move, printable.Clean(r.Name), strings.Join(r.States, ", "))
			}
			return nil
		})}
}

type moveRow struct {
	Move   int64    `json:"move"`
	Name   string   `json:"name"`
	States []string `json:"waves"`
}

func moveRows(all []*moves.Move) []moveRow {
	out := []moveRow{}
	for _, m := range all {
		r := moveRow{m.ID, m.Name, nil}
		for _, st := range m.States {
			r.States = append(r.States, string(st))
		}
		out = append(out, r)
	}
	return out
}

// workloadRow is how one workload of a move is.
type workloadRow struct {
	Instance string        `json:"instance"`
	Wave     int           `json:"wave"`
	From     string        `json:"from"`
	To       string        `json:"to"`
	Phase    migrate.Phase `json:"phase"`
	Disks    []diskRow     `json:"disks,omitempty"`
	// Pause is for how many seconds it would stand still now.
	Pause float64 `json:"pause_seconds,omitempty"`
	// Ready is in how many seconds it can be cut over, Down for how many it does not serve then; both are left out while
	// that is not known.
	Ready *float64 `json:"ready_in_seconds,omitempty"`
	Down  *float64 `json:"down_seconds,omitempty"`
}

type diskRow struct {
	Disk  string  `json:"disk"`
	Round int     `json:"round"`
	Done  int64   `json:"done_bytes"`
	Total int64   `json:"total_bytes"`
	Wire  int64   `json:"wire_bytes"`
	Rate  float64 `json:"bytes_per_second"`
}

func (s *shared) printMove(ctx context.Context, a *app.App, m *moves.Move) error {
	var rows []workloadRow
	for wave, w := range m.Waves {
		var state *run.State
		if id := m.There(wave); id > 0 {
			var err error
			if state, err = a.Replay(ctx, id); err != nil {
				return err
			}
		}
		for _, id := range w.Instances {
			rows = append(rows, workloadOf(m, wave, id, state))
		}
	}
	if s.json {
		return moveValue.print(s, moveStatus{m.ID, m.Name, moveRows([]*moves.Move{m})[0].States, rows})
	}
	fmt.Fprintf(s.out, "move %d  %s  %s\n", m.ID, printable.Clean(m.Name), m.Request.Mode)
	for i, st := range m.States {
		fmt.Fprintf(s.out, "\nwave %d  %s\n", i+1, st)
		for _, r := range rows {
			if r.Wave != i+1 {
				continue
			}
			fmt.Fprintf(s.out, "  %-24s %s → %s  %s", r.Instance, r.From, r.To, r.Phase)
			if r.Pause > 0 {
				fmt.Fprintf(s.out, ", would stand still for %.2f s now", r.Pause)
			}
			if r.Ready != nil && *r.Ready > 0 {
				fmt.Fprintf(s.out, ", ready in %.1f s, then %.1f s to cut over", *r.Ready, *r.Down)
			}
			fmt.Fprintln(s.out)
			for _, d := range r.Disks {
				fmt.Fprintf(s.out, "    %-22s round %d  %s of %s  %s/s\n", d.Disk, d.Round, migrate.Bytes(float64(d.Done)), migrate.Bytes(float64(d.Total)), migrate.Bytes(d.Rate))
			}
		}
	}
	return nil
}

func workloadOf(m *moves.Move, wave int, id string, state *run.State) workloadRow {
	r := workloadRow{Instance: id, Wave: wave + 1, From: m.From[id], Phase: migrate.Waiting}
	for _, c := range m.Choices {
		if c.Instance == id {
			r.To = c.Site
		}
	}
	if state == nil {
		return r
	}
	r.Phase = migrate.PhaseOf(state, id)
	if rest, known := migrate.RestOf(state, id, m.Loads[id], time.Now()); known && m.States[wave] == moves.WaveMoving {
		ready, down := rest.Copy.Seconds(), rest.Down.Seconds()
		r.Ready, r.Down = &ready, &down
	}
	if j := state.Judged[id]; len(j) > 0 {
		r.Pause = j[len(j)-1].Pause
	}
	for _, disk := range slices.Sorted(maps.Keys(state.Disks)) {
		d := state.Disks[disk]
		if res := state.Plan.Resource(disk); res != nil && (disk == id || state.Plan.Step(op.Attach.For(id, disk)) != nil) {
			r.Disks = append(r.Disks, diskRow{disk, d.Round, d.Done, d.Total, d.Wire, d.Rate()})
		}
	}
	return r
}

// printDraft shows what a move would do.
func (s *shared) printDraft(d *moves.Draft) error {
	if s.json {
		return movePlanValue.print(s, movePlan{d.Move.Name, d.Move.Waves, d.Differences, d.Forecasts, d.Seconds, d.Down, d.Secrets,
			len(d.Order.Plan.Steps), len(d.Windows) == 0 || !d.Fit.End.IsZero()})
	}
	fmt.Fprintf(s.out, "%s, %s\n", printable.Clean(d.Move.Name), d.Move.Request.Mode)
	if len(d.Move.Waves) > 1 {
		for i, w := range d.Move.Waves {
			late := ""
			if w.TooLong {
				late = ", longer than a window"
			}
			fmt.Fprintf(s.out, "wave %d  %s  about %s%s\n", i+1, strings.Join(w.Instances, ", "), seconds(w.Seconds), late)
		}
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	last := ""
	for _, x := range d.Differences {
		if x.Instance != last {
			last = x.Instance
			fmt.Fprintf(w, "\n%s\tHERE\tTHERE\t\n", strings.ToUpper(last))
		}
		fmt.Fprintf(w, "  %s\t%s\t%s\t%s\n", x.What, printable.Clean(x.Here), printable.Clean(x.There), strings.TrimSpace(x.Weight+" "+map[bool]string{true: "· " + x.Why}[x.Why != ""]))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	fmt.Fprintln(s.out)
	for _, id := range slices.Sorted(maps.Keys(d.Forecasts)) {
		f, l := d.Forecasts[id], d.Loads[id]
		fmt.Fprintf(s.out, "%s: %s to copy, %s/s change, %s/s get through: %d rounds in %.1f s", id, migrate.Bytes(float64(l.Used)), migrate.Bytes(l.Rate),
			migrate.Bytes(l.Bandwidth), len(f.Rounds), f.Copy)
		if !f.Converges {
			fmt.Fprint(s.out, "; it does not converge")
		}
		fmt.Fprintln(s.out)
	}
	fmt.Fprintf(s.out, "%s, about %s in all (rehearsed: nine in ten within %s), not serving for about %s\n", printable.Count(len(d.Order.Plan.Steps), "step"), seconds(d.Seconds),
		seconds(d.Rehearsed.P90.Seconds()), seconds(d.Down))
	merging, layers := 0.0, 0
	for _, f := range d.Forecasts {
		merging, layers = merging+f.Merging, max(layers, f.Layers)
	}
	if layers > 1 {
		fmt.Fprintf(s.out, "rounds are kept apart until the commit, in up to %d layers of a disk; reading looks through them until then\n", layers)
	} else if merging > 0 {
		fmt.Fprintf(s.out, "making each round one with its disk takes %.1f s of that; --keep-layers leaves it to the commit\n", merging)
	}
	if len(d.Windows) > 0 {
		if d.Fit.End.IsZero() {
			fmt.Fprintln(s.out, "it does not fit the windows ahead")
		} else {
			fmt.Fprintf(s.out, "begins %s and ends %s, %.0f %% of that window\n", d.Fit.Begin.Format(time.DateTime), d.Fit.End.Format(time.DateTime), 100*d.Fit.Share)
		}
	}
	if len(d.Secrets) > 0 {
		fmt.Fprintf(s.out, "secrets do not travel; asked for again: %s\n", strings.Join(d.Secrets, ", "))
	}
	return nil
}
