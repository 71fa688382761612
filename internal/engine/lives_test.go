package engine_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/service/templates"
)

// lived is a deployment over stand-ins to which things are done as they come.
type lived struct {
	*stage
	rng    *rand.Rand
	wanted *plan.Plan
	pages  map[string]string
	// n counts sets of snapshots, acts is what was done.
	n    int
	acts []string
}

// some is one of several.
func some[T any](l *lived, all []T) T { return all[l.rng.IntN(len(all))] }

// did notes an act, after which there is what there was before: the pages say the same, nothing was asked for in vain, and nothing is left to be done.
func (l *lived) did(act string, args ...any) {
	l.Helper()
	l.acts = append(l.acts, fmt.Sprintf(act, args...))
	require.Empty(l, l.refused(), "%q: all was asked for when it could be done", l.acts)
	require.Equal(l, l.pages, l.stage.pages(), "%q", l.acts)
	again, err := change.Compile(l.stand, l.wanted, "again")
	require.NoError(l, err, "%q", l.acts)
	var left []string
	for i := range again.Steps {
		left = append(left, again.Steps[i].ID)
	}
	require.Empty(l, left, "%q: nothing is left to be done", l.acts)
	require.Empty(l, plantest.Unfounded(l.stand.Plan), "%q", l.acts)
}

// instances are those that stand, of the deployment itself.
func (l *lived) instances() (out []string) {
	for i := range l.wanted.Resources {
		if r := &l.wanted.Resources[i]; r.Kind == kinds.Instance {
			out = append(out, r.ID)
		}
	}
	return out
}

// moved moves a workload, and commits or goes back.
func (l *lived) moved() {
	e, err := templates.DemoEstate()
	require.NoError(l, err)
	instance, site := some(l, l.instances()), some(l, []string{"vega", "alisio-sur", "alisio-norte", "tramonta", "presa"})
	to, err := migrate.Relocate(some(l, []*plan.Plan{l.wanted, l.stand.Plan}), e, []migrate.Choice{{Instance: instance, Site: site}}, l.stand.Plan.Known)
	if err != nil {
		return // it cannot be there
	}
	m := change.Moving{Instances: []string{instance}, Mode: some(l, []change.Mode{change.Cold, change.Warm, change.Live})}
	move, whole, err := change.Move(l.stand, to, m, "move")
	if err != nil {
		return // it is there
	}
	before := l.stand
	l.does(move)
	l.acts = append(l.acts, fmt.Sprintf("move %s from %s to %s %s", instance, before.Plan.Resource(instance).Site, site, m.Mode))
	require.Empty(l, l.refused(), "%q", l.acts)
	require.Equal(l, l.pages, l.stage.pages(), "%q", l.acts)
	if l.rng.IntN(2) == 0 {
		back, err := change.Back(l.stand, some(l, []*plan.Plan{l.wanted, before.Plan}), move, m, "back")
		require.NoError(l, err, "%q", l.acts)
		l.does(back)
		l.did("go back")
		return
	}
	l.wanted = migrate.WithoutKept(whole, move.Renames)
	l.to(l.wanted, "commit")
	l.did("commit")
}

// powered switches some off and on again.
func (l *lived) powered() {
	off := map[string]bool{}
	for _, id := range l.instances() {
		off[id] = l.rng.IntN(3) == 0
	}
	l.to(change.Rest(some(l, []*plan.Plan{l.wanted, l.stand.Plan}), func(r *plan.Resource) bool { return off[r.ID] }), "stop")
	l.acts = append(l.acts, fmt.Sprint("off ", off))
	l.to(l.wanted, "start")
	l.did("on")
}

// kept takes a snapshot, has it restored or not, and drops it.
func (l *lived) kept() {
	s := change.Snapping{Set: fmt.Sprintf("s%d", l.n), Barrier: l.rng.IntN(2) == 0}
	l.n++
	for i := range l.wanted.Resources {
		if r := &l.wanted.Resources[i]; (r.Kind == kinds.Instance || r.Kind == kinds.Volume) && l.rng.IntN(4) == 0 {
			s.Disks = append(s.Disks, r.ID)
		}
	}
	if s.Disks == nil {
		return
	}
	p, err := change.Snapshot(l.stand, s, "snapshot")
	require.NoError(l, err, "%q", l.acts)
	l.does(p)
	l.did("snapshot %v", s.Disks)
	if l.rng.IntN(2) == 0 {
		r := change.Restoring{Set: s.Set}
		if l.rng.IntN(2) == 0 {
			r.Before = &change.Snapping{Set: fmt.Sprintf("s%d", l.n)}
			l.n++
		}
		p, err := change.Restored(l.stand, some(l, []*plan.Plan{l.wanted, l.stand.Plan}), r, "restore")
		require.NoError(l, err, "%q", l.acts)
		l.does(p)
		l.did("restore")
	}
	p, err = change.Dropped(l.stand, s.Set, "drop")
	require.NoError(l, err, "%q", l.acts)
	l.does(p)
	l.did("drop")
}

// lost has a machine vanish from its site, which is built again.
func (l *lived) lost() {
	id := some(l, l.instances())
	r := l.stand.Plan.Resource(id)
	require.NoError(l, l.sites[r.Site].Delete(l.Context(), kinds.Instance, l.stand.Plan.Known[id]["site.id"]))
	p, err := change.Settle(l.stand, []change.Deviation{{Resource: id, Verb: change.Rebuild}}, "rebuild")
	require.NoError(l, err, "%q", l.acts)
	l.does(p)
	l.did("lose %s", id)
}

// restarted switches a machine off and on that hangs.
func (l *lived) restarted() {
	id := some(l, l.instances())
	p, err := change.Settle(l.stand, []change.Deviation{{Resource: id, Verb: change.Restart}}, "restart")
	require.NoError(l, err, "%q", l.acts)
	l.does(p)
	l.did("restart %s", id)
}

// copied keeps copies elsewhere, renews them, goes on there or not, and drops them.
func (l *lived) copied() {
	id := some(l, l.instances())
	from := l.stand.Plan.Resource(id).Site
	to := map[bool]string{true: "vega", false: "alisio-sur"}[from != "vega"]
	disks := []string{id}
	for i := range l.stand.Plan.Steps {
		if s := &l.stand.Plan.Steps[i]; s.Resource == id && s.Volume != "" {
			disks = append(disks, s.Volume)
		}
	}
	for range 1 + l.rng.IntN(2) {
		p, err := change.Replicate(l.stand, change.Replicating{At: fmt.Sprintf("t%d", l.n), Site: to, Disks: disks, Barrier: l.rng.IntN(2) == 0}, "replicate")
		require.NoError(l, err, "%q", l.acts)
		l.n++
		l.does(p)
		l.did("replicate %v to %s", disks, to)
	}
	if l.rng.IntN(2) == 0 {
		l.failedOver(id, to)
	}
	p, err := change.Unreplicated(l.stand, to, "drop copies")
	require.NoError(l, err, "%q", l.acts)
	l.does(p)
	l.did("drop copies")
}

func (l *lived) failedOver(id, to string) {
	e, err := templates.DemoEstate()
	require.NoError(l, err)
	there, err := migrate.Relocate(l.wanted, e, []migrate.Choice{{Instance: id, Site: to}}, l.stand.Plan.Known)
	if err != nil {
		return
	}
	m := change.Moving{Instances: []string{id}, Mode: change.FromCopy, Set: change.NewestCopy(l.stand, to)}
	move, _, err := change.Move(l.stand, there, m, "fail over")
	require.NoError(l, err, "%q", l.acts)
	l.does(move)
	l.acts = append(l.acts, "fail over to "+to)
	require.Empty(l, l.refused(), "%q", l.acts)
	require.Equal(l, l.pages, l.stage.pages(), "%q", l.acts)
	back, err := change.Back(l.stand, l.wanted, move, m, "back")
	require.NoError(l, err, "%q", l.acts)
	l.does(back)
	l.did("go back")
}

// wantedOtherwise leads to what another preset wants, and back again.
func (l *lived) wantedOtherwise() {
	was, before := l.wanted, l.pages
	for _, to := range []*plan.Plan{plantest.Plan(l, "storm-season"), was} {
		l.wanted = to
		l.to(to, "change")
		l.pages = l.stage.pages()
		if to == was {
			l.pages = before
		}
		l.did("to preset %q", to.Preset)
	}
}

// givenUp has a part vanish which is not built again, and is wanted no more.
func (l *lived) givenUp() {
	id := some(l, []string{"map-host-2", "dispatch-host-2", "forecast-host-3"})
	r := l.stand.Plan.Resource(id)
	if r == nil {
		return
	}
	require.NoError(l, l.sites[r.Site].Delete(l.Context(), kinds.Instance, l.stand.Plan.Known[id]["site.id"]))
	d := []change.Deviation{{Resource: id, Verb: change.GiveUp}}
	p, err := change.Settle(l.stand, d, "give up")
	require.NoError(l, err, "%q", l.acts)
	declared, err := change.Declared(l.wanted, d)
	require.NoError(l, err, "%q", l.acts)
	was := l.wanted
	l.does(p)
	l.wanted = declared
	l.acts = append(l.acts, "give up "+id)
	require.Empty(l, l.refused(), "%q", l.acts)
	l.wanted = was
	l.to(was, "and have it again")
	l.did("have %s again", id)
}

// lives is how many are lived in a test; more are with ANDAMIO_LIVES.
const lives = 4

// TestDeploymentsLiveAndNothingIsAskedForInVain does things to a deployment as they come, over sites that do as they are asked: each time there is what there is to be, and no site refuses anything, since all is asked for when it can
// be done.
func TestDeploymentsLiveAndNothingIsAskedForInVain(t *testing.T) {
	n := lives
	if text := os.Getenv("ANDAMIO_LIVES"); text != "" {
		var err error
		n, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	for seed := range n {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			l := &lived{stage: newStage(t), rng: rand.New(rand.NewPCG(uint64(seed), 20)), wanted: plantest.Plan(t, "drill")}
			all := slices.Sorted(maps.Keys(l.sites))
			for i, a := range all {
				for _, b := range all[:i] {
					l.stage.pairs(a, b, true)
				}
			}
			l.stand = change.Nothing(l.wanted)
			l.does(l.wanted)
			l.pages = l.stage.pages()
			l.did("raise")
			acts := []func(){l.moved, l.moved, l.moved, l.powered, l.kept, l.lost, l.restarted, l.copied, l.wantedOtherwise, l.givenUp}
			for range 6 {
				some(l, acts)()
			}
			l.to(change.Nothing(l.stand.Plan).Plan, "retire")
			assert.Empty(t, l.box.Holds(), "%q", l.acts)
			assert.Empty(t, l.refused(), "%q", l.acts)
		})
	}
}
