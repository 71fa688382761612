package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// bent is a site that holds things, and of which each call can be bent by a test.
type bent struct {
	mu     sync.Mutex
	things map[string]*site.Resource
	// calls counts what was asked, by call and thing; bend answers a call in the site's place, nil lets it be.
	calls map[string]int
	bend  func(call, id string, n int) (handled bool, err error)
	asked []site.Request
}

func holding(all ...site.Resource) *bent {
	b := &bent{things: map[string]*site.Resource{}, calls: map[string]int{}}
	for i := range all {
		b.things[all[i].ID] = &all[i]
	}
	return b
}

var errGone = &site.Error{Site: "vega", Doing: "read", Class: site.NotFound}

func (b *bent) called(call, id string) (bool, error) {
	b.calls[call+" "+id]++
	if b.bend == nil {
		return false, nil
	}
	return b.bend(call, id, b.calls[call+" "+id])
}

func (b *bent) Name() string                                   { return "vega" }
func (b *bent) Describe(context.Context) (*estate.Site, error) { return nil, nil }
func (b *bent) Create(context.Context, site.Request) (site.Resource, error) {
	return site.Resource{}, errors.New("nothing is built here")
}

func (b *bent) List(_ context.Context, kind kinds.Kind) ([]site.Resource, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if handled, err := b.called("list", string(kind)); handled {
		return nil, err
	}
	var out []site.Resource
	for _, r := range b.things {
		if r.Kind == kind {
			out = append(out, *r)
		}
	}
	return out, nil
}

func (b *bent) Delete(_ context.Context, _ kinds.Kind, id string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if handled, err := b.called("delete", id); handled {
		return err
	}
	if b.things[id] == nil {
		return errGone
	}
	delete(b.things, id)
	return nil
}

func (b *bent) Read(_ context.Context, _ kinds.Kind, id string) (site.Resource, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if handled, err := b.called("read", id); handled {
		return site.Resource{}, err
	}
	if b.things[id] == nil {
		return site.Resource{}, errGone
	}
	return *b.things[id], nil
}

func (b *bent) Invoke(_ context.Context, _ kinds.Kind, id, action string) (site.Resource, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if handled, err := b.called(action, id); handled {
		return site.Resource{}, err
	}
	r := b.things[id]
	if r == nil {
		return site.Resource{}, errGone
	}
	r.State, r.Word = map[string]site.State{"start": site.Active, "stop": site.Stopped}[action], action+"ed"
	return *r, nil
}

func (b *bent) Change(_ context.Context, _ kinds.Kind, id string, req site.Request) (site.Resource, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.asked = append(b.asked, req)
	if handled, err := b.called("change", id); handled {
		return site.Resource{}, err
	}
	if req.Rename != "" {
		b.things[id].Name = req.Rename
	}
	return *b.things[id], nil
}

func classed(class site.Class, detail string) error {
	return &site.Error{Site: "vega", Doing: "do it", Class: class, Detail: detail}
}

// stepped is a plan of one step on one resource, of which the site's id is known.
func stepped(kind kinds.Kind, op op.Op, change func(*plan.Step, *plan.Resource)) *plan.Plan {
	r := plan.Resource{ID: "a", Kind: kind, Site: "vega", Level: 1, Change: plan.Amend}
	s := plan.Step{ID: "a/" + string(op), Resource: "a", Op: op, Site: "vega", Level: 1, Seconds: 0.01, Check: plan.Condition{Kind: plan.CheckSite}}
	if change != nil {
		change(&s, &r)
	}
	return plan.Reindexed(&plan.Plan{Version: plan.Version, Name: "one", Levels: 1, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{r}, Steps: []plan.Step{s},
		Known: map[string]map[string]string{"a": {"site.id": "t-1"}}})
}

// carried carries a plan out with little patience, and returns how it is then.
func carried(t *testing.T, p *plan.Plan, b *bent) (*run.State, error) {
	t.Helper()
	m := &memory{}
	e := &Engine{Run: "r9", Mark: "d1", Plan: p, Sites: map[string]site.Site{"vega": b}, Journal: m, Key: signer(t),
		Patience: Patience{Least: 300 * time.Millisecond, Times: 1, Wait: time.Millisecond, Most: 5 * time.Millisecond, Tries: 3}}
	err := e.Execute(ctx)
	return state(p, m), err
}

func thing(kind kinds.Kind, id, mark string, s site.State) site.Resource {
	return site.Resource{Kind: kind, ID: id, Name: id, Mark: mark, State: s, Word: string(s), Attributes: map[string]string{}}
}

func TestWhatIsTakenAwayIsGone(t *testing.T) {
	for name, c := range map[string]struct {
		bend func(call, id string, n int) (bool, error)
		says string // "" where it succeeds
		gone bool
	}{
		"at once":            {nil, "", true},
		"it was gone before": {func(call, _ string, _ int) (bool, error) { return call == "delete", errGone }, "", false},
		"done, and told as not": {func(call, _ string, n int) (bool, error) {
			return call == "delete" && n == 1, classed(site.Transient, "busy")
		}, "", true},
		"in the way for a while": {func(call, _ string, n int) (bool, error) {
			return call == "delete" && n < 4, classed(site.Conflict, "a link is on it")
		}, "", true},
		"told as done, and not done": {func(call, _ string, n int) (bool, error) { return call == "delete" && n < 3, nil }, "", true},
		"refused": {func(call, _ string, _ int) (bool, error) {
			return call == "delete", classed(site.Refused, "it is protected")
		}, "it is protected", false},
		"in the way for ever": {func(call, _ string, _ int) (bool, error) {
			return call == "delete", classed(site.Conflict, "a link is on it")
		}, "a link is on it", false},
		"told as done and never done":  {func(call, _ string, _ int) (bool, error) { return call == "delete", nil }, "not done after", false},
		"nobody can say whether it is": {func(call, _ string, _ int) (bool, error) { return call == "read", classed(site.Refused, "not for you") }, "not for you", true},
		"the look after it has to wait": {func(call, _ string, n int) (bool, error) {
			return call == "read" && n == 1, classed(site.Transient, "busy")
		}, "", true},
	} {
		t.Run(name, func(t *testing.T) {
			b := holding(thing(kinds.Volume, "t-1", "andamio d1 a/create #r1", site.Active))
			b.bend = c.bend
			s, err := carried(t, stepped(kinds.Volume, op.Remove, func(_ *plan.Step, r *plan.Resource) { r.Change = plan.Retire }), b)
			if c.says == "" {
				require.NoError(t, err)
				id, _ := s.Attribute("a", "site.id")
				assert.Empty(t, id, "what is gone has no id any more")
				assert.Equal(t, "gone", s.Resource("a").SiteSaid.Text)
			} else {
				require.ErrorIs(t, err, ErrUnfinished, "a failed look counts as nothing")
				assert.Contains(t, s.Step("a/remove").Error, c.says)
				id, _ := s.Attribute("a", "site.id")
				assert.Equal(t, "t-1", id, "it may still be there")
			}
			assert.Equal(t, c.gone, b.things["t-1"] == nil)
		})
	}
}

func TestWhatIsNotKnownIsLookedForByItsMark(t *testing.T) {
	b := holding(thing(kinds.Volume, "t-7", "andamio d1 a/create #r3", site.Active), thing(kinds.Volume, "t-8", "andamio d1 b/create #r3", site.Active),
		thing(kinds.Volume, "t-9", "andamio d2 a/create #r3", site.Active), thing(kinds.Network, "n-1", "andamio d1 a/create #r3", site.Active))
	p := stepped(kinds.Volume, op.Remove, func(s *plan.Step, r *plan.Resource) { r.Change, s.Drops = plan.Retire, []string{"a/create"} })
	p.Known = nil
	_, err := carried(t, p, b)
	require.NoError(t, err)
	assert.Nil(t, b.things["t-7"], "what the step built in a run that broke off")
	for _, id := range []string{"t-8", "t-9", "n-1"} {
		assert.NotNil(t, b.things[id], "%s is another's", id)
	}
	b.bend = func(call, _ string, _ int) (bool, error) { return call == "list", classed(site.Refused, "not for you") }
	s, err := carried(t, p, b)
	require.ErrorIs(t, err, ErrUnfinished, "who could not look does not know that nothing is left")
	assert.Contains(t, s.Step("a/remove").Error, "not for you")
	p.Steps[0].Drops = nil
	_, err = carried(t, p, b)
	require.NoError(t, err, "what was never built needs no looking for")
}

func TestASweepLeavesNothingOfTheDeployment(t *testing.T) {
	sweep := func() *plan.Plan {
		return stepped(kinds.Action, op.Sweep, func(_ *plan.Step, r *plan.Resource) { r.Change = plan.Retire })
	}
	b := holding(thing(kinds.Instance, "i-1", "andamio d1 x/create #r1", site.Active), thing(kinds.Interface, "f-1", "andamio d1 x/plug #r1", site.Active),
		thing(kinds.Instance, "i-2", "andamio d11 x/create #r1", site.Active), thing(kinds.Volume, "v-1", "", site.Active))
	s, err := carried(t, sweep(), b)
	require.NoError(t, err)
	assert.Nil(t, b.things["i-1"])
	assert.Nil(t, b.things["f-1"])
	assert.NotNil(t, b.things["i-2"], "d11 is not d1")
	assert.NotNil(t, b.things["v-1"], "what bears no mark is nobody's here")
	text := ""
	for _, l := range s.Step("a/sweep").Log {
		text += l.Text + "\n"
	}
	assert.Contains(t, text, "left over and removed: instance i-1 (i-1)")
	assert.Contains(t, text, "nothing of the deployment is left at vega")
	late := holding()
	late.bend = func(call, id string, n int) (bool, error) {
		if call == "list" && id == string(kinds.Instance) && n == 1 { // it shows up only after a look
			late.things["i-3"] = &site.Resource{Kind: kinds.Instance, ID: "i-3", Mark: "andamio d1 y/create #r1"}
		}
		return false, nil
	}
	_, err = carried(t, sweep(), late)
	require.NoError(t, err)
	assert.Empty(t, late.things)
	blind := holding()
	blind.bend = func(call, id string, _ int) (bool, error) {
		return call == "list" && id == string(kinds.Network), classed(site.Refused, "not for you")
	}
	_, err = carried(t, sweep(), blind)
	require.ErrorIs(t, err, ErrUnfinished, "a site that was not looked at whole is not clean")
}

func TestPowerIsWhatTheSiteSaysItIs(t *testing.T) {
	for name, c := range map[string]struct {
		op    op.Op
		from  site.State
		bend  func(b *bent) func(call, id string, n int) (bool, error)
		says  string
		acts  int
		state site.State
	}{
		"off":         {op.Halt, site.Active, nil, "", 1, site.Stopped},
		"on":          {op.Boot, site.Stopped, nil, "", 1, site.Active},
		"off already": {op.Halt, site.Stopped, nil, "", 1, site.Stopped},
		"refused": {op.Halt, site.Active, func(*bent) func(string, string, int) (bool, error) {
			return func(call, _ string, _ int) (bool, error) {
				return call == "stop", classed(site.Refused, "it is locked")
			}
		}, "it is locked", 1, site.Active},
		"so it is by now": {op.Halt, site.Stopped, func(*bent) func(string, string, int) (bool, error) {
			return func(call, _ string, _ int) (bool, error) { return call == "stop", classed(site.Conflict, "it is off") }
		}, "", 1, site.Stopped},
		"it takes a while": {op.Boot, site.Stopped, func(b *bent) func(string, string, int) (bool, error) {
			return func(call, id string, n int) (bool, error) {
				if call == "start" {
					b.things[id].State = site.Building
					return true, classed(site.Conflict, "on its way")
				}
				if call == "read" && n == 3 {
					b.things[id].State = site.Active
				}
				return false, nil
			}
		}, "", 1, site.Active},
		"it fell back": {op.Boot, site.Stopped, func(b *bent) func(string, string, int) (bool, error) {
			return func(call, _ string, n int) (bool, error) {
				return call == "start" && n == 1, classed(site.Conflict, "on its way down")
			}
		}, "", 2, site.Active},
		"it failed": {op.Boot, site.Stopped, func(b *bent) func(string, string, int) (bool, error) {
			return func(call, id string, _ int) (bool, error) {
				if call == "start" {
					b.things[id].State, b.things[id].Word = site.Failed, "disk broken"
					return true, classed(site.Conflict, "no")
				}
				return false, nil
			}
		}, "vega says it failed: disk broken", 1, site.Failed},
	} {
		t.Run(name, func(t *testing.T) {
			b := holding(thing(kinds.Instance, "t-1", "", c.from))
			if c.bend != nil {
				b.bend = c.bend(b)
			}
			s, err := carried(t, stepped(kinds.Instance, c.op, nil), b)
			if c.says == "" {
				require.NoError(t, err, s.Step("a/"+string(c.op)).Error)
			} else {
				require.ErrorIs(t, err, ErrUnfinished)
				assert.Contains(t, s.Step("a/"+string(c.op)).Error, c.says)
			}
			action := map[op.Op]string{op.Halt: "stop", op.Boot: "start"}[c.op]
			assert.Equal(t, c.acts, b.calls[action+" t-1"], "how often it was asked")
			assert.Equal(t, c.state, b.things["t-1"].State)
		})
	}
	unknown := stepped(kinds.Instance, op.Halt, nil)
	unknown.Known = nil
	s, err := carried(t, unknown, holding())
	require.ErrorIs(t, err, ErrUnfinished)
	assert.Contains(t, s.Step("a/halt").Error, "the site's id of a is not known")
}

func TestWhatIsSwitchedOnIsMetAnew(t *testing.T) {
	p := stepped(kinds.Instance, op.Boot, nil)
	p.Resources = append(p.Resources, plan.Resource{ID: "a.if", Kind: kinds.Interface, Site: "vega", Level: 1, Spec: plan.InterfaceSpec{Instance: "a"}}, plan.Resource{ID: "b", Kind: kinds.Instance, Site: "vega", Level: 1}, plan.Resource{ID: "b.if", Kind: kinds.Interface, Site: "vega", Level: 1, Spec: plan.InterfaceSpec{Instance: "b"}})
	p.Known["a.if"], p.Known["b.if"] = map[string]string{"site.id": "f-1"}, map[string]string{"site.id": "f-2"}
	p = plan.Reindexed(p)
	nic := thing(kinds.Interface, "f-1", "", site.Active)
	nic.Attributes = map[string]string{"ssh.hostkey": "ssh-ed25519 NEW"}
	b := holding(thing(kinds.Instance, "t-1", "", site.Stopped), nic)
	s, err := carried(t, p, b)
	require.NoError(t, err)
	key, _ := s.Attribute("a.if", "ssh.hostkey")
	assert.Equal(t, "ssh-ed25519 NEW", key, "a machine may tell its key only when it is on")
	assert.Zero(t, b.calls["read f-2"], "another's is left alone")
	b.bend = func(call, id string, _ int) (bool, error) {
		return call == "read" && id == "f-1", classed(site.Refused, "no")
	}
	b.things["t-1"].State = site.Stopped
	_, err = carried(t, p, b)
	require.ErrorIs(t, err, ErrUnfinished)
}

func TestWhatIsAlteredIsAskedForByItsNewMeasure(t *testing.T) {
	b := holding(thing(kinds.Volume, "t-1", "", site.Active))
	_, err := carried(t, stepped(kinds.Volume, op.Alter, func(_ *plan.Step, r *plan.Resource) { r.Spec = plan.VolumeSpec{DiskGiB: 30} }), b)
	require.NoError(t, err)
	require.Len(t, b.asked, 1)
	assert.Equal(t, site.Request{Kind: kinds.Volume, Name: "a", DiskGiB: 30}, b.asked[0])
	b.bend = func(call, _ string, _ int) (bool, error) {
		return call == "change", classed(site.Refused, "it only grows")
	}
	s, err := carried(t, stepped(kinds.Volume, op.Alter, nil), b)
	require.ErrorIs(t, err, ErrUnfinished)
	assert.Contains(t, s.Step("a/alter").Error, "it only grows")
}

func TestNamesTagsAndAddressesAreSet(t *testing.T) {
	mend := func(mends map[string]string) *plan.Plan {
		return stepped(kinds.Instance, op.Mend, func(s *plan.Step, _ *plan.Resource) { s.Mends = mends })
	}
	b := holding(thing(kinds.Instance, "t-1", "", site.Active))
	_, err := carried(t, mend(map[string]string{"name": "good", "tag.owner": "map", "tag.old": "", "inside_address": "10.0.0.9"}), b)
	require.NoError(t, err)
	assert.Equal(t, site.Request{Kind: kinds.Instance, Name: "a", Rename: "good", Address: "10.0.0.9", Tags: map[string]string{"owner": "map", "old": ""}}, b.asked[0])
	s, err := carried(t, mend(map[string]string{"cores": "4"}), b)
	require.ErrorIs(t, err, ErrUnfinished)
	assert.Contains(t, s.Step("a/mend").Error, "vega cannot be asked to set cores")
	assert.Len(t, b.asked, 1, "and was not")
	deaf := holding(thing(kinds.Instance, "t-1", "", site.Active))
	deaf.bend = func(call, _ string, _ int) (bool, error) { return call == "change", nil }
	s, err = carried(t, mend(map[string]string{"name": "good"}), deaf)
	require.ErrorIs(t, err, ErrUnfinished, "asked is not done")
	assert.Contains(t, s.Step("a/mend").Error, "was asked to call it good and calls it")
}

func TestWhatIsAcceptedOrLostIsLookedAtFirst(t *testing.T) {
	seen := thing(kinds.Instance, "t-1", "", site.Active)
	seen.Attributes["address"] = "127.0.0.9"
	s, err := carried(t, stepped(kinds.Instance, op.Accept, nil), holding(seen))
	require.NoError(t, err)
	address, _ := s.Attribute("a", "address")
	assert.Equal(t, "127.0.0.9", address)
	_, err = carried(t, stepped(kinds.Instance, op.Accept, nil), holding())
	require.ErrorIs(t, err, ErrUnfinished, "what is not there cannot be taken over")

	s, err = carried(t, stepped(kinds.Instance, op.Lose, nil), holding())
	require.NoError(t, err)
	id, _ := s.Attribute("a", "site.id")
	assert.Empty(t, id)
	s, err = carried(t, stepped(kinds.Instance, op.Lose, nil), holding(seen))
	require.ErrorIs(t, err, ErrUnfinished)
	assert.Contains(t, s.Step("a/lose").Error, "vega still has t-1: survey it again")
	silent := holding()
	silent.bend = func(string, string, int) (bool, error) { return true, classed(site.Refused, "not for you") }
	_, err = carried(t, stepped(kinds.Instance, op.Lose, nil), silent)
	require.ErrorIs(t, err, ErrUnfinished, "who cannot look does not know that it is gone")
	never := stepped(kinds.Instance, op.Lose, nil)
	never.Known["a"]["site.id"] = ""
	_, err = carried(t, never, silent)
	require.NoError(t, err, "what the site never had a name for is not looked for")
}

// TestVolumesAreMetWhenTheirMachineIs has a machine that is switched on find its volumes where its site says by now that they are, and nothing be learned of those that are as they were.
func TestVolumesAreMetWhenTheirMachineIs(t *testing.T) {
	p := stepped(kinds.Instance, op.Boot, nil)
	site1 := func(volume, device string) site.Resource {
		r := thing(kinds.Attachment, "at-"+volume, "", site.Active)
		r.Attributes = map[string]string{site.AttrDevice: device, site.AttrMount: "/srv/" + volume}
		return r
	}
	p.Known["a"]["mount.same"] = "/dev/vdc /srv/same"
	all := []site.Resource{thing(kinds.Instance, "t-1", "", site.Stopped)}
	for _, v := range []struct{ volume, device, id string }{{"never", "/dev/vdb", ""}, {"same", "/dev/vdc", "at-same"}, {"other", "/dev/vdd", "at-other"}, {"last", "/dev/vde", "at-last"}} {
		p.Resources = append(p.Resources, plan.Resource{ID: v.volume, Kind: kinds.Volume, Site: "vega", Level: 1, Spec: plan.VolumeSpec{DiskGiB: 1}})
		attach := plan.Step{ID: op.Attach.For("a", v.volume), Resource: "a", Op: op.Attach, Volume: v.volume, Site: "vega", Level: 1, Check: plan.Condition{Kind: plan.CheckSite}}
		p.Known["a"]["site.id."+v.volume] = v.id
		p.Steps = append(p.Steps, attach)
		all = append(all, site1(v.volume, v.device))
	}
	p = plan.Reindexed(p)
	b, m := holding(all...), &memory{}
	e := &Engine{Run: "r", Mark: "d", Plan: p, Sites: map[string]site.Site{"vega": b}, Journal: m, Key: signer(t)}
	require.NoError(t, e.ready())
	defer e.pool.close()
	require.NoError(t, e.meetVolumes(t.Context(), &p.Steps[0], p.Resource("a")))
	learned := map[string]string{}
	for _, x := range m.events {
		if x.Kind == run.Learned {
			maps.Copy(learned, x.Attributes)
		}
	}
	assert.Equal(t, map[string]string{"mount.other": "/dev/vdd /srv/other", "mount.last": "/dev/vde /srv/last"}, learned)
	b.bend = func(call, id string, _ int) (bool, error) {
		return call == "read" && id == "at-last", classed(site.Refused, "not for you")
	}
	require.ErrorContains(t, e.meetVolumes(t.Context(), &p.Steps[0], p.Resource("a")), "not for you")
}

func TestWhatNobodyKnowsIsNotDone(t *testing.T) {
	for _, unknown := range []op.Op{"levitate", ""} {
		m := &memory{}
		p := stepped(kinds.Instance, op.Halt, nil)
		p.Steps[0].Op = unknown
		e := &Engine{Run: "r", Mark: "d", Plan: p, Sites: map[string]site.Site{"vega": holding()}, Journal: m, Key: signer(t), Patience: Patience{Least: time.Second, Times: 1, Wait: time.Millisecond, Most: time.Millisecond, Tries: 1}}
		err := e.perform(ctx, &p.Steps[0])
		require.Error(t, err, fmt.Sprint(unknown))
		assert.Contains(t, err.Error(), "which nobody here can do")
		assert.Equal(t, site.Refused, site.ClassOf(err), "trying it again is useless")
	}
}

func TestADeadlineIsAsLongAsTheStepNeeds(t *testing.T) {
	kept := plan.Resource{ID: "kept", Kind: kinds.Snapshot}
	e := &Engine{Patience: Patience{Least: time.Minute, Times: 10}, Plan: &plan.Plan{Resources: []plan.Resource{kept}}}
	for name, c := range map[string]struct {
		step plan.Step
		want time.Duration
	}{
		"never less than the least":   {plan.Step{Seconds: 1}, time.Minute},
		"many times what it takes":    {plan.Step{Seconds: 30}, 5 * time.Minute},
		"as its script says":          {plan.Step{Seconds: 30, Script: &plan.Script{Timeout: 2.5}}, 2500 * time.Millisecond},
		"a script that says nothing":  {plan.Step{Seconds: 30, Script: &plan.Script{}}, 5 * time.Minute},
		"copying has one of its own":  {plan.Step{Seconds: 1, Copying: &plan.Copying{}}, copyingDeadline},
		"a snapshot may be a copy":    {plan.Step{Seconds: 1, Op: op.Create, Resource: "kept"}, copyingDeadline},
		"taking one away is none":     {plan.Step{Seconds: 1, Op: op.Remove, Resource: "kept"}, time.Minute},
		"and so has filling of disks": {plan.Step{Seconds: 1, Filling: &plan.Filling{}}, copyingDeadline},
	} {
		assert.Equal(t, c.want, e.deadline(&c.step), name)
	}
}
