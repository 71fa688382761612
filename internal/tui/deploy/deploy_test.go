package deploy

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/run"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
)

const wide = `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: wide }
topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network }
    worker:
      type: Compute
      capabilities: { scalable: { properties: { max_instances: 9999, default_instances: %d } } }
    port: { type: tosca.nodes.network.Port, requirements: [ binding: worker, link: lan ] }
    part:
      type: tosca.nodes.WebServer
      capabilities: { data_endpoint: { properties: { protocol: http, port: 8080 } } }
      requirements: [ host: worker ]
      interfaces: { Standard: { create: x.sh, configure: x.sh, start: x.sh } }
`

// wideState is a plan of n instances, six steps each, of which about half are done.
func wideState(t testing.TB, n int) *run.State {
	t.Helper()
	files := fstest.MapFS{"template.yaml": {Data: []byte(fmt.Sprintf(wide, n))}, "x.sh": {Data: []byte("true\n")}}
	tmpl, err := templates.ReadTemplate(files, ".", "template.yaml")
	require.NoError(t, err)
	free := estate.Capacity{Cores: 100000, MemoryGiB: 1e6, DiskGiB: 1e7}
	e := &estate.Estate{Currency: "cr"}
	for _, name := range []string{"one", "two", "three"} {
		e.Sites = append(e.Sites, &estate.Site{Name: name, Kind: estate.Private, Network: estate.Address, Pace: 1, FreeForm: true,
			Zones: []estate.Zone{{Name: "a", Free: free}}, Images: []estate.Image{{Name: "debian", OS: "linux"}}})
	}
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	require.Empty(t, d.Diagnostics.Error())
	require.NoError(t, d.Err)
	s := run.New(d.Plan)
	start := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	s.Apply(run.Event{Seq: 1, At: start, Kind: run.RunStarted})
	for i := range len(s.Steps) / 2 {
		at := start.Add(time.Duration(i) * time.Millisecond)
		id, res := s.Steps[i].ID, s.Steps[i].Resource
		s.Apply(run.Event{Seq: int64(2*i + 2), At: at, Kind: run.StepStarted, Step: id, Resource: res})
		s.Apply(run.Event{Seq: int64(2*i + 3), At: at.Add(time.Second), Kind: run.StepDone, Step: id, Resource: res})
	}
	return s
}

func draw(v *View, w, h int, now time.Time) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, now)
	return c.String()
}

func shown(s *run.State) *View {
	v := New(context.Background(), nil) // drawing needs no services
	v.state, v.runID = s, 7
	v.elevation.Selected = part.First(s)
	return v
}

func TestLargePlansAreReadable(t *testing.T) {
	for _, n := range []int{40, 340, 1700} {
		s := wideState(t, n)
		for _, size := range [][2]int{{160, 43}, {80, 20}} {
			text := draw(shown(s), size[0], size[1], s.Started.Add(10*time.Second))
			assert.Contains(t, text, fmt.Sprintf("%d of %d steps", s.Done, len(s.Steps)))
			assert.Len(t, strings.Split(text, "\n"), size[1])
		}
	}
}

func BenchmarkDraw2000Steps(b *testing.B) {
	s := wideState(b, 333)
	v := shown(s)
	now := s.Started.Add(10 * time.Second)
	for b.Loop() {
		draw(v, 160, 43, now)
	}
}

// BenchmarkDrawWhileEventsArrive draws a run of 2,000 steps of which something has changed each time.
func BenchmarkDrawWhileEventsArrive(b *testing.B) {
	s := wideState(b, 333)
	v := shown(s)
	now := s.Started.Add(10 * time.Second)
	for i := 0; b.Loop(); i++ {
		s.Apply(run.Event{Seq: s.LastSeq + 1, At: now, Kind: run.SiteSays, Resource: s.Resources[i%len(s.Resources)].ID, Text: "active"})
		draw(v, 160, 43, now)
	}
}
