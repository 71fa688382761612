package change_test

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/golden"
)

// written is a plan for people to read: what is changed and why, and each step with what it comes after and all that it carries.
func written(p *plan.Plan) string {
	var out strings.Builder
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Change == "" || r.Change == plan.Keep {
			continue
		}
		fmt.Fprintf(&out, "   %s %s at %s %s %+v: %s\n", r.Change, r.ID, r.Site, map[bool]string{true: "off", false: ""}[r.Off], r.Spec, strings.Join(r.Reasons, "; "))
	}
	for i := range p.Steps {
		out.WriteString(writtenStep(&p.Steps[i]))
	}
	return out.String()
}

func writtenStep(s *plan.Step) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%2d %s · %s @%s %.3g s after %s", s.Level, s.ID, s.Title, s.Site, s.Seconds, strings.Join(s.After, " "))
	list := func(name string, all []string) {
		if len(all) > 0 {
			fmt.Fprintf(&out, " · %s %s", name, strings.Join(all, " "))
		}
	}
	list("whole", s.Whole)
	list("drops", s.Drops)
	list("after failure of", s.AfterFailure)
	if s.Filling != nil {
		list("fills", s.Filling.Disks)
		list("and lets be", s.Filling.Keep)
	}
	text := func(name, v string) {
		if v != "" {
			fmt.Fprintf(&out, " · %s %s", name, v)
		}
	}
	text("on", s.On)
	text("volume", s.Volume)
	text("location", s.Location)
	text("finds", s.Finds)
	text("lead", s.Lead)
	script := func(name string, x *plan.Script) {
		if x != nil {
			fmt.Fprintf(&out, " · %s %s %v", name, x.Path, x.Inputs)
		}
	}
	script("script", s.Script)
	script("undo", s.Undo)
	script("quiesce", s.Quiesce)
	script("resume", s.Resume)
	for _, name := range slices.Sorted(maps.Keys(s.Mends)) {
		text("mends "+name, s.Mends[name])
	}
	if s.Copying != nil {
		fmt.Fprintf(&out, " · copies %+v", *s.Copying)
	}
	if s.Restoring != nil {
		fmt.Fprintf(&out, " · restores %+v", *s.Restoring)
	}
	if s.Naming != nil {
		fmt.Fprintf(&out, " · names %+v", *s.Naming)
	}
	if s.Member != nil {
		fmt.Fprintf(&out, " · member %+v", *s.Member)
	}
	out.WriteByte('\n')
	return out.String()
}

// stands is what stands, with all that is known of it.
func stands(s change.Standing) string {
	var out strings.Builder
	p := s.Plan
	for i := range p.Resources {
		r := &p.Resources[i]
		fmt.Fprintf(&out, "   %s at %s/%s/%s on %q part of %q %v %+v %v known %v from %s, held last %s\n", r.ID, r.Site, r.Zone, r.Host, r.On, r.PartOf, r.Off, r.Spec, r.StandsOn, p.Known[r.ID], p.Origins[r.ID], change.Head(s, r.ID))
	}
	for i := range p.Steps {
		x := &p.Steps[i]
		fmt.Fprintf(&out, "   %s after %v whole %v order %v\n", x.ID, x.After, x.Whole, s.Order[x.ID])
	}
	fmt.Fprintf(&out, "   unsure %v since %v secrets %v sites %v outputs %v\n", s.Unsure, s.Since, p.Secrets, p.Sites, p.Outputs)
	return out.String()
}

// livesWritten is how many lives are written down, and livesSummed of how many more the sums are.
const livesWritten, livesSummed = 8, 150

// lifeWritten is a life with all its plans, and with what stands after each if that is asked for.
func lifeWritten(andStands bool) *rapid.Generator[string] {
	return rapid.Custom(func(t *rapid.T) string {
		var out strings.Builder
		lived(t, func(l *life) []func() {
			if l.w.told == nil {
				l.w.told, l.w.stands = &out, andStands
				fmt.Fprintf(&out, "== raise\n%s", written(l.wanted))
			}
			if !l.whole {
				return []func(){l.changed, l.broken}
			}
			return []func(){l.changed, l.broken, l.moved, l.lost, l.byHand, l.rolledBack, l.powered, l.scaled, l.ranScript, l.snapped, l.restored, l.replicated, l.failedOver}
		})
		return out.String()
	})
}

// TestLivesAreAsTheyWere writes down all plans of some lives, which are always the same: what changes in any of them is seen.
func TestLivesAreAsTheyWere(t *testing.T) {
	for n := range livesWritten {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			golden.Is(t, fmt.Sprintf("testdata/life-%d.txt", n), lifeWritten(false).Example(n))
		})
	}
}

// TestMoreLivesAreAsTheyWere holds more of them by a sum of each plan and of what stands after it. Where one is another, SHOW_LIFE=N writes the whole of it, to be compared with that of the code before.
func TestMoreLivesAreAsTheyWere(t *testing.T) {
	if n, err := strconv.Atoi(os.Getenv("SHOW_LIFE")); err == nil {
		t.Log(lifeWritten(true).Example(n))
	}
	var sums strings.Builder
	life := lifeWritten(true)
	for n := livesWritten; n < livesWritten+livesSummed; n++ {
		fmt.Fprintf(&sums, "life %d\n", n)
		for text := range strings.SplitSeq(strings.TrimPrefix(life.Example(n), "== "), "\n== ") {
			act, plan, _ := strings.Cut(text, "\n")
			fmt.Fprintf(&sums, "  %s: %d lines, %s\n", act, strings.Count(plan, "\n"), golden.Sum(plan))
		}
	}
	golden.Is(t, "testdata/lives.txt", sums.String())
}

// scenarioEstate are the scenario's sites.
func scenarioEstate(t *testing.T) *estate.Estate {
	t.Helper()
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	return e
}

// TestScenarioChangesAreAsTheyWere writes down what is done to the scenario: each kind of change once.
func TestScenarioChangesAreAsTheyWere(t *testing.T) {
	stand := raised(t)
	e := scenarioEstate(t)
	contacts := []string{"contacts-host-1"}
	to, err := migrate.Relocate(stand.Plan, e, []migrate.Choice{{Instance: contacts[0], Site: "alisio-sur"}}, nil)
	require.NoError(t, err)
	off := change.Rest(stand.Plan, func(r *plan.Resource) bool { return strings.HasPrefix(r.ID, "contacts") })
	one := func(p *plan.Plan, err error) *plan.Plan {
		t.Helper()
		require.NoError(t, err)
		return p
	}
	after := func(p *plan.Plan) change.Standing {
		t.Helper()
		s, err := change.Done(stand, p)
		require.NoError(t, err)
		return s
	}
	write := func(name string, p *plan.Plan) {
		t.Helper()
		golden.Is(t, "testdata/scenario-"+name+".txt", written(p))
	}
	for _, m := range []change.Moving{{Mode: change.Cold}, {Mode: change.Warm, Copying: plan.Copying{Await: true, Pause: 2}}, {Mode: change.Live, Secrets: []string{"register_key"}}} {
		m.Instances = contacts
		move, whole, err := change.Move(stand, to, m, "move")
		require.NoError(t, err)
		write("move-"+string(m.Mode), move)
		there := after(move)
		write("commit-"+string(m.Mode), one(change.Compile(there, migrate.WithoutKept(whole, move.Renames), "commit")))
		write("back-"+string(m.Mode), one(change.Back(there, stand.Plan, move, m, "back")))
	}
	write("off", one(change.Compile(stand, off, "switch off")))
	write("on", one(change.Compile(after(one(change.Compile(stand, off, "switch off"))), plantest.Plan(t, "drill"), "switch on")))
	write("retire", one(change.Compile(stand, change.Nothing(stand.Plan).Plan, "retire")))
	for name, s := range map[string]change.Snapping{"snapshot": {Set: "s1", Disks: []string{"contacts-vol-1", "contacts-host-1"}, Barrier: true}, "snapshot-memory": {Set: "s1", Disks: []string{"contacts-vol-1", "contacts-host-1"}, Memory: true}} {
		p := one(change.Snapshot(stand, s, "snapshot"))
		write(name, p)
		kept := after(p)
		write(name+"-restored", one(change.Restored(kept, stand.Plan, change.Restoring{Set: "s1", Before: &change.Snapping{Set: "s2"}}, "restore")))
		write(name+"-dropped", one(change.Dropped(kept, "s1", "drop")))
		if s.Memory {
			write(name+"-recalled", one(change.Recalled(kept, change.Restoring{Set: "s1"}, "recall")))
		}
	}
	copies := one(change.Replicate(stand, change.Replicating{At: "t1", Site: "alisio-sur", Disks: []string{"contacts-vol-1", "contacts-host-1"}, Barrier: true}, "replicate"))
	write("replicate", copies)
	copied := after(copies)
	write("replicate-again", one(change.Replicate(copied, change.Replicating{At: "t2", Site: "alisio-sur", Disks: []string{"contacts-vol-1", "contacts-host-1"}}, "replicate")))
	write("unreplicated", one(change.Unreplicated(copied, "alisio-sur", "drop")))
	for name, gone := range map[string][]string{"failover": nil, "failover-gone": {"vega"}} {
		m := change.Moving{Instances: contacts, Mode: change.FromCopy, Set: change.NewestCopy(copied, "alisio-sur"), Gone: gone}
		p, _, err := change.Move(copied, to, m, "fail over")
		require.NoError(t, err)
		write(name, p)
		there, err := change.Done(copied, p)
		require.NoError(t, err)
		write(name+"-back", one(change.Back(there, stand.Plan, p, m, "back")))
		if gone != nil {
			write("fence", one(change.Fence(there, "vega", "fence")))
		}
	}
	for name, d := range map[string]change.Deviation{"settle-rebuild": {Resource: contacts[0], Verb: change.Rebuild}, "settle-restart": {Resource: contacts[0], Verb: change.Restart},
		"settle-correct": {Resource: contacts[0], Verb: change.Correct, Seen: map[string]string{"cores": "1"}}, "settle-accept": {Resource: contacts[0], Verb: change.Accept, Seen: map[string]string{"cores": "1"}},
		"settle-volume": {Resource: "contacts-vol-1", Verb: change.Rebuild}} {
		write(name, one(change.Settle(stand, []change.Deviation{d}, "settle")))
	}
	write("letgo", one(change.LetGo(stand, "let go")))
}
