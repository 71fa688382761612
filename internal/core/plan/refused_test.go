package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// sound is a plan of one step of each payload, which may be run.
func sound() *plan.Plan {
	text := func(s string) *plan.Expr { return &plan.Expr{Literal: s} }
	script := func() *plan.Script {
		return &plan.Script{Path: "a.sh", Files: []plan.File{{File: "a.conf", Path: "/etc/a.conf"}}, Outputs: []plan.ScriptOutput{{Name: "port_of", Resource: "part", Attribute: "port"}}}
	}
	at := func(id, resource string, does op.Op, level int, after ...string) plan.Step {
		return plan.Step{ID: id, Resource: resource, Op: does, Site: "vega", Level: level, After: after, Check: plan.Condition{Kind: plan.CheckSite}}
	}
	p := &plan.Plan{Version: plan.Version, Name: "sound", Levels: 4, Sites: []plan.Site{{Name: "vega"}, {Name: "presa"}},
		Scripts: map[string]string{"a.sh": "true"}, Files: map[string][]byte{"a.conf": []byte("x\n")},
		Resources: []plan.Resource{
			{ID: "lan", Kind: kinds.Network, Site: "vega", Level: 1},
			{ID: "host", Kind: kinds.Instance, Site: "vega", Level: 2},
			{ID: "port", Kind: kinds.Interface, Site: "vega", Level: 3, On: "host", PartOf: "host", Spec: plan.InterfaceSpec{Network: "lan", Instance: "host"}},
			{ID: "vol", Kind: kinds.Volume, Site: "vega", Level: 1},
			{ID: "vol-then", Kind: kinds.Snapshot, Site: "vega", Level: 1, Spec: plan.SnapshotSpec{Of: "vol", Set: "then"}},
			{ID: "far-then", Kind: kinds.Snapshot, Site: "presa", Level: 1, Spec: plan.SnapshotSpec{Of: "vol", Set: "far"}},
			{ID: "part", Kind: kinds.Software, Site: "vega", Level: 4, On: "host", StandsOn: []string{"host"}},
			{ID: "page", Kind: kinds.Endpoint, Site: "vega", Level: 4, Spec: plan.EndpointSpec{Interface: "port"}},
			{ID: "box", Kind: kinds.Object, Site: "vega", Level: 1},
		}}
	lift := at("box/create", "box", op.Create, 1)
	lift.Filling = &plan.Filling{File: "a.ova"}
	attach := at("host/attach", "host", op.Attach, 2, "vol/create")
	attach.Volume = "vol"
	configure := at("part/configure", "part", op.Configure, 3, "host/create")
	configure.Script, configure.Undo, configure.On = script(), script(), "host"
	start := at("part/start", "part", op.Start, 4, "part/configure")
	start.Quiesce, start.Resume = script(), script()
	check := at("part/check", "part", op.Check, 5, "part/start")
	check.Check = plan.Condition{Kind: plan.CheckTCP, Address: text("127.0.0.1"), Port: text("80")}
	require := at("part/require", "part", op.Require, 6, "part/check")
	require.When = &plan.Clause{Attribute: "port"}
	call := at("part/call", "part", op.Act, 7, "part/require")
	call.Action = &plan.Action{Kind: "call"}
	sorry := at("part/sorry", "part", op.Configure, 8, "part/call")
	sorry.AfterFailure = []string{"part/call"}
	replicate := at("vol/replicate", "vol", op.Replicate, 2, "vol/create")
	replicate.Copying = &plan.Copying{From: "presa", Disks: []plan.DiskCopy{{From: "vol", To: "vol"}}}
	hold := at("vol/hold", "vol", op.Hold, 3, "vol/replicate")
	hold.Copying = &plan.Copying{}
	fill := at("vol/fill", "vol", op.Fill, 2, "vol/create")
	fill.Filling = &plan.Filling{File: "a.ova", Object: "box"}
	restore := at("vol/restore", "vol", op.Restore, 2, "vol/create")
	restore.Restoring = &plan.Restoring{Snapshot: "vol-then", Set: "then"}
	release := at("port/release", "port", op.Release, 4, "host/create")
	release.Lead = "port"
	name := at("page/name", "page", op.Name, 5, "port/release")
	name.Naming = &plan.Naming{Name: "page"}
	p.Steps = []plan.Step{lift, at("vol/create", "vol", op.Create, 1), at("host/create", "host", op.Create, 2), attach, configure, start, check, require, call, sorry, replicate, hold, fill,
		restore, release, name}
	p.CriticalPath = []string{"host/create", "part/configure"}
	return p
}

// TestEveryPlanThatCannotRunIsRefused breaks a sound plan in each way: the error names what is wrong, and where.
func TestEveryPlanThatCannotRunIsRefused(t *testing.T) {
	require.NoError(t, sound().Check())
	step := func(id string, change func(*plan.Step)) func(*plan.Plan) {
		return func(p *plan.Plan) { change(p.Step(id)) }
	}
	resource := func(id string, change func(*plan.Resource)) func(*plan.Plan) {
		return func(p *plan.Plan) { change(p.Resource(id)) }
	}
	for says, break1 := range map[string]func(*plan.Plan){
		"names a step or resource twice":                                   func(p *plan.Plan) { p.Steps = append(p.Steps, p.Steps[0]) },
		"sound names a step or resource twice":                             func(p *plan.Plan) { p.Resources = append(p.Resources, p.Resources[0]) },
		"sound has -1 levels":                                              func(p *plan.Plan) { p.Levels = -1 },
		"sound has 10 levels for 9 resources":                              func(p *plan.Plan) { p.Levels = 10 },
		`resource lan is at the site "moon"`:                               resource("lan", func(r *plan.Resource) { r.Site = "moon" }),
		"resource lan is at level 0 of 4":                                  resource("lan", func(r *plan.Resource) { r.Level = 0 }),
		"resource page is at level 5 of 4":                                 resource("page", func(r *plan.Resource) { r.Level = 5 }),
		`resource port refers to "whole"`:                                  resource("port", func(r *plan.Resource) { r.PartOf = "whole" }),
		`resource part refers to "ghost"`:                                  resource("part", func(r *plan.Resource) { r.On = "ghost" }),
		`resource part refers to "ground"`:                                 resource("part", func(r *plan.Resource) { r.StandsOn = append(r.StandsOn, "ground") }),
		`resource port refers to "net"`:                                    resource("port", func(r *plan.Resource) { r.Spec = plan.InterfaceSpec{Network: "net"} }),
		`resource port refers to "other"`:                                  resource("port", func(r *plan.Resource) { r.Spec = plan.InterfaceSpec{Instance: "other"} }),
		`resource page refers to "plug"`:                                   resource("page", func(r *plan.Resource) { r.Spec = plan.EndpointSpec{Interface: "plug"} }),
		`the critical path leads over "there"`:                             func(p *plan.Plan) { p.CriticalPath = append(p.CriticalPath, "there") },
		`step vol/create is on "heap"`:                                     step("vol/create", func(s *plan.Step) { s.Resource = "heap" }),
		`step vol/create is to "dance"`:                                    step("vol/create", func(s *plan.Step) { s.Op = "dance" }),
		`step vol/create is at the site "mars"`:                            step("vol/create", func(s *plan.Step) { s.Site = "mars" }),
		"step part/check asks an endpoint without":                         step("part/check", func(s *plan.Step) { s.Check.Address = nil }),
		"asks an endpoint without address or port":                         step("part/check", func(s *plan.Step) { s.Check.Port = nil }),
		"part/check asks an endpoint without address":                      step("part/check", func(s *plan.Step) { s.Check = plan.Condition{Kind: plan.CheckHTTP} }),
		`step host/attach attaches "tape"`:                                 step("host/attach", func(s *plan.Step) { s.Volume = "tape" }),
		`step part/configure runs on "nobody"`:                             step("part/configure", func(s *plan.Step) { s.On = "nobody" }),
		`step port/release leads to "nowhere"`:                             step("port/release", func(s *plan.Step) { s.Lead = "nowhere" }),
		`step part/start comes after "never"`:                              step("part/start", func(s *plan.Step) { s.After = []string{"never"} }),
		`step part/sorry comes after "success"`:                            step("part/sorry", func(s *plan.Step) { s.AfterFailure = []string{"success"} }),
		"step part/start at level 3 comes after part/configure at level 3": step("part/start", func(s *plan.Step) { s.Level = 3 }),
		"step part/sorry at level 7 comes after part/call at level 7":      step("part/sorry", func(s *plan.Step) { s.After, s.Level = nil, 7 }),

		`step part/configure runs "b.sh"`:               step("part/configure", func(s *plan.Step) { s.Script.Path = "b.sh" }),
		`step part/configure runs "undo.sh"`:            step("part/configure", func(s *plan.Step) { s.Undo.Path = "undo.sh" }),
		`step part/start runs "hush.sh"`:                step("part/start", func(s *plan.Step) { s.Quiesce.Path = "hush.sh" }),
		`step part/start runs "on.sh"`:                  step("part/start", func(s *plan.Step) { s.Resume.Path = "on.sh" }),
		`step part/configure needs the file "b.conf"`:   step("part/configure", func(s *plan.Step) { s.Script.Files[0].File = "b.conf" }),
		`step part/configure puts "port_of" out to "x"`: step("part/configure", func(s *plan.Step) { s.Script.Outputs[0].Resource = "x" }),
		`step part/configure puts "a-b" out to "part"`:  step("part/configure", func(s *plan.Step) { s.Script.Outputs[0].Name = "a-b" }),

		"step box/create lifts nothing":  step("box/create", func(s *plan.Step) { s.Filling = nil }),
		"box/create lifts nothing":       step("box/create", func(s *plan.Step) { s.Filling.File = "" }),
		"is quiesced and never resumed":  step("part/start", func(s *plan.Step) { s.Resume = nil }),
		"never resumed, or the other":    step("part/start", func(s *plan.Step) { s.Quiesce = nil }),
		"step vol/fill is to be taken":   step("vol/fill", func(s *plan.Step) { s.Undo = &plan.Script{Path: "a.sh"} }),
		"step part/require requires":     step("part/require", func(s *plan.Step) { s.When = nil }),
		"step part/call is an action":    step("part/call", func(s *plan.Step) { s.Action = nil }),
		"step vol/hold waits for":        step("vol/hold", func(s *plan.Step) { s.Copying = nil }),
		"step vol/replicate copies":      step("vol/replicate", func(s *plan.Step) { s.Copying = nil }),
		"vol/replicate copies nothing":   step("vol/replicate", func(s *plan.Step) { s.Copying.Disks = nil }),
		`copies from the site "atlas"`:   step("vol/replicate", func(s *plan.Step) { s.Copying.From = "atlas" }),
		`copies from "a" to "vol"`:       step("vol/replicate", func(s *plan.Step) { s.Copying.Disks[0].From = "a" }),
		`copies from "vol" to "b"`:       step("vol/replicate", func(s *plan.Step) { s.Copying.Disks[0].To = "b" }),
		"step page/name names nothing":   step("page/name", func(s *plan.Step) { s.Naming = nil }),
		"page/name names nothing":        step("page/name", func(s *plan.Step) { s.Naming.Name = "" }),
		"step vol/restore restores noth": step("vol/restore", func(s *plan.Step) { s.Restoring = nil }),
		"vol/restore restores nothing":   step("vol/restore", func(s *plan.Step) { s.Restoring.Snapshot = "" }),
		`restores "vol", which is no`:    step("vol/restore", func(s *plan.Step) { s.Restoring.Snapshot = "vol" }),
		`restores "gone", which is no`:   step("vol/restore", func(s *plan.Step) { s.Restoring.Snapshot = "gone" }),
		"restores a snapshot at presa":   step("vol/restore", func(s *plan.Step) { s.Restoring.Snapshot = "far-then" }),
		"step vol/fill is filled from":   step("vol/fill", func(s *plan.Step) { s.Filling = nil }),
		"vol/fill is filled from noth":   step("vol/fill", func(s *plan.Step) { s.Filling.File = "" }),
		`filled from the object "crate"`: step("vol/fill", func(s *plan.Step) { s.Filling.Object = "crate" }),
	} {
		p := sound()
		break1(p)
		err := plan.Reindexed(p).Check()
		if assert.Error(t, err, says) {
			assert.Contains(t, err.Error(), says)
		}
	}
	p := sound()
	p.Step("vol/restore").Restoring = &plan.Restoring{Snapshot: "of-another", Provider: "snap-7"}
	assert.NoError(t, p.Check(), "the site's own id says which")
	p.Levels = 9
	assert.NoError(t, p.Check(), "as many levels as resources")
}

// TestWhatIsWrittenOfAPlanIsReadBack reads a plan of each payload back as it was.
func TestWhatIsWrittenOfAPlanIsReadBack(t *testing.T) {
	data, err := sound().Write()
	require.NoError(t, err)
	again, err := plan.Read(data)
	require.NoError(t, err)
	twice, err := again.Write()
	require.NoError(t, err)
	assert.Equal(t, string(data), string(twice))
	for _, s := range sound().Steps {
		got := again.Step(s.ID)
		assert.Equal(t, s.Copying, got.Copying, s.ID)
		assert.Equal(t, s.Filling, got.Filling, s.ID)
		assert.Equal(t, s.Restoring, got.Restoring, s.ID)
		assert.Equal(t, s.Naming, got.Naming, s.ID)
		assert.Equal(t, s.When, got.When, s.ID)
	}
}

// TestEveryTemplateThatCannotBeBuiltIsRefused compiles templates that are sound by themselves and cannot be built: the error says what, and where.
func TestEveryTemplateThatCannotBeBuiltIsRefused(t *testing.T) {
	const lan = "    lan: { type: tosca.nodes.network.Network }\n    h: { type: Compute }\n    p: { type: tosca.nodes.network.Port, requirements: [ binding: h, link: lan ] }\n"
	const part = "    a: { type: own.Part, requirements: [ host: h ] }\n"
	flow := func(steps string) string {
		return "  node_templates:\n" + lan + part + "  workflows: { deploy: { steps: { " + steps + " } } }\n"
	}
	const built = "net: { target: lan, activities: [ delegate: deploy ], on_success: [ host ] }, host: { target: h, activities: [ delegate: deploy ], on_success: [ port ] }, port: { target: p, activities: [ delegate: deploy ] }"
	for says, text := range map[string]string{
		`segmentation_id "many" is no VLAN number`:  "  node_templates:\n    lan: { type: tosca.nodes.network.Network, properties: { network_type: vlan, segmentation_id: many } }\n    h: { type: Compute }\n    p: { type: tosca.nodes.network.Port, requirements: [ binding: h, link: lan ] }\n",
		"v has no place: it is attached to nothing": "  node_templates:\n    v: { type: tosca.nodes.Storage.BlockStorage, properties: { size: 1 GiB } }\n    h: { type: Compute }\n",
		"is done twice": flow(built + ", again: { target: lan, activities: [ delegate: deploy ] }"),
	} {
		_, err := tryCompile(t, text)
		assert.ErrorContains(t, err, says)
	}
}
