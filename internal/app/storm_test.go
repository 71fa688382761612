package app

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/measure"
	"andamio/internal/core/plan"
	"andamio/internal/sandbox"
	"andamio/internal/service/sites"
)

// weather is a storm over what stands: what can go wrong at stand-ins, done to the scenario for real, and mended again.
type weather struct {
	*watching
	box        *sandbox.Sandbox
	deployment int64
	rand       *rand.Rand
	// things are what is measured of the deployment, plan is what stands of it.
	things []measure.Thing
	plan   *plan.Plan
}

// gust is one thing that goes wrong: what it is, and which causes are right.
type gust struct {
	what  string
	right []string
	// patience is after how many rounds it is an alert, calm after how many it is none any more once it is mended.
	patience, calm int
	blow, mend     func()
	// drags says that each round of it takes seconds, so that it is not looked at for long.
	drags bool
	// each is what is done before each round, with its number, where something comes and goes.
	each func(round int)
}

// one is a thing of a kind.
func (w *weather) one(kind measure.Kind) measure.Thing {
	all := slices.DeleteFunc(slices.Clone(w.things), func(t measure.Thing) bool { return t.Kind != kind })
	return all[w.rand.IntN(len(all))]
}

// fall is a gust in which machines fall, and with them what is on them.
func (w *weather) fall(what string, o sandbox.Outage, right ...string) gust {
	var rise func() error
	return gust{what: what, right: right, patience: 3, calm: 3,
		blow: func() { rise = w.box.Fall(o) },
		mend: func() { require.NoError(w.t, rise(), what) }}
}

// machine falls alone, seen by its site or not.
func (w *weather) machine(unseen bool) gust {
	m := w.one(measure.OfInstance)
	right := []string{m.Key}
	what := "machine " + m.Name
	if unseen { // that it is the machine itself can be told only where more than one thing is on it
		what = "network of " + m.Name
		for _, t := range w.things {
			if t.Kind == measure.OfEndpoint && w.machineOf(t.Resource) == m.Resource {
				right = append(right, t.Key, fmt.Sprintf("part d%d/%s", w.deployment, t.Resource))
			}
		}
	}
	_, id, _ := strings.Cut(m.Key, "/")
	return w.fall(what, sandbox.Outage{Site: m.Site, ID: id, Unseen: unseen}, right...)
}

// machineOf is the machine that an endpoint, or the software that is asked, is on.
func (w *weather) machineOf(resource string) string {
	r := w.plan.Resource(resource)
	if of := w.plan.Resource(r.AsEndpoint().EndpointOf); of != nil {
		r = of
	}
	return cmp.Or(r.On, r.ID)
}

// together is a host or a zone that falls on which there are two machines or more, so that it can be told from what it carries.
func (w *weather) together(host bool) gust {
	for {
		m := w.one(measure.OfInstance)
		o, node := sandbox.Outage{Site: m.Site, Zone: m.Zone}, "zone "+m.Site+"/"+m.Zone
		if host {
			o.Host, node = m.Host, "host "+m.Site+"/"+m.Zone+"/"+m.Host
		}
		n := 0
		for _, t := range w.things {
			if t.Kind == measure.OfInstance && t.Site == m.Site && t.Zone == m.Zone && (!host || t.Host == m.Host) {
				n++
			}
		}
		if n > 1 && (m.Host != "") == host {
			return w.fall(node, o, node)
		}
	}
}

// site falls: it says nothing any more, and with all its machines or without.
func (w *weather) site(whole bool) gust {
	s := w.one(measure.OfInstance).Site
	g := gust{what: "control of " + s, blow: func() {}, mend: func() {}}
	if whole {
		g = w.fall("site "+s, sandbox.Outage{Site: s})
	}
	g.right, g.patience, g.calm = []string{measure.SiteKey(s)}, 3, 3
	blow, mend := g.blow, g.mend
	g.blow = func() { blow(); w.box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: s}) }
	g.mend = func() { w.box.Misbehave(); mend() }
	return g
}

// full is a disk that is full.
func (w *weather) full() gust {
	m := w.one(measure.OfInstance)
	load := func(until time.Time) {
		require.NoError(w.t, w.Load(ctx, sites.LoadRequest{Site: m.Site, Name: m.Resource, Shares: map[string]float64{measure.DiskUsed: 0.99}, Until: until}))
	}
	return gust{what: "disk of " + m.Name, right: []string{m.Key}, patience: 3, calm: 6,
		blow: func() { load(time.Now().Add(time.Hour)) },
		mend: func() { load(time.Now()) }}
}

// service is one that failed on a machine and answers nobody from outside: only who looks inside can tell.
func (w *weather) service() gust {
	m := w.one(measure.OfInstance)
	return gust{what: "service on " + m.Name, right: []string{m.Key}, patience: 20, calm: 20,
		blow: func() { w.on(m.Resource, "mkdir -p /run; echo levels.service > /run/failed") },
		mend: func() { w.on(m.Resource, "rm /run/failed") }}
}

// page is one that the scenario has: on which machine, at which port, from which folder, and which endpoint asks for what is on it.
type page struct{ machine, port, folder, endpoint, listens string }

// pages are those of the map, and of the warnings.
func (w *weather) page() page {
	n := strconv.Itoa(1 + w.rand.IntN(2))
	return []page{
		{"map-host-" + n, "8080", "/srv/www", "river-map-" + n + ".app_endpoint", "map-server-" + n},
		{"dispatch-host-" + n, "8443", "/srv/dispatch", "alert-dispatch-" + n + ".warn", "alert-dispatch-" + n},
	}[w.rand.IntN(2)]
}

func (p page) stop() string  { return "fuser -k " + p.port + "/tcp" }
func (p page) start() string { return "httpd -p " + p.port + " -h " + p.folder }

// instead has a program answer in the place of a page.
func (w *weather) instead(what, program string, patience int) gust {
	p := w.page()
	return gust{what: what + " of " + p.endpoint, right: []string{measure.EndpointKey(w.deployment, p.endpoint)}, patience: patience, calm: 8,
		blow: func() {
			w.on(p.machine, "echo '"+program+"' > /tmp/instead; "+p.stop()+"; nc -lk -p "+p.port+" -e /tmp/instead")
		},
		mend: func() { w.on(p.machine, p.stop()+"; "+p.start()) }}
}

// wrong is a page that answers with an error, slow one that takes its time.
func (w *weather) wrong() gust {
	return w.instead("wrong answer", `read line; printf "HTTP/1.0 503 Service Unavailable\r\nContent-Length: 0\r\n\r\n"`, 3)
}

func (w *weather) slow() gust {
	g := w.instead("slow answer", `read line; sleep 140; printf "HTTP/1.0 200 OK\r\nContent-Length: 0\r\n\r\n"`, 3)
	g.drags = true
	return g
}

// flapping is a page that comes and goes.
func (w *weather) flapping() gust {
	p := w.page()
	up := true
	turn := func(to bool) {
		if up != to {
			w.on(p.machine, map[bool]string{true: p.start(), false: p.stop()}[to])
			up = to
		}
	}
	right := []string{measure.EndpointKey(w.deployment, p.listens), measure.EndpointKey(w.deployment, p.endpoint)}
	for _, t := range w.things { // nothing else runs on its machine
		if t.Resource == p.machine {
			right = append(right, t.Key)
		}
	}
	right = append(right, fmt.Sprintf("part d%d/%s", w.deployment, p.listens))
	return gust{what: "flapping " + p.listens, right: right, patience: 16, calm: 45,
		blow: func() {}, each: func(round int) { turn(round%3 != 0) }, mend: func() { turn(true) }}
}

// on runs a command on a machine of the deployment.
func (w *weather) on(resource, command string) {
	w.t.Helper()
	onMachine(w.t, w.App, resource, command)
}

// sorts are all that can go wrong.
var sorts = []func(*weather) gust{
	func(w *weather) gust { return w.machine(false) },
	func(w *weather) gust { return w.machine(true) },
	func(w *weather) gust { return w.together(true) },
	func(w *weather) gust { return w.together(false) },
	func(w *weather) gust { return w.site(true) },
	func(w *weather) gust { return w.site(false) },
	(*weather).full, (*weather).service, (*weather).wrong, (*weather).flapping, (*weather).slow,
}

// opened are all alerts that ever were.
func (w *weather) opened() int {
	all, err := w.AlertsSince(ctx, w.now.Add(-1000*time.Hour), 10_000)
	require.NoError(w.t, err)
	return len(all)
}

// blows has something go wrong, and be mended, and holds that it is one alert of the right cause and no other, from two probes after it until it is mended.
func (w *weather) blows(g *gust) {
	before := w.opened()
	g.blow()
	stays := 6
	if g.drags {
		stays = 1
	}
	for round := range g.patience + stays {
		if g.each != nil {
			g.each(round)
		}
		open := w.measures(1)
		if round+1 < g.patience {
			continue
		}
		require.Len(w.t, open, 1, "%s, round %d", g.what, round)
		require.Contains(w.t, g.right, open[0].Cause, g.what)
		assert.NotEmpty(w.t, open[0].Words, g.what)
	}
	g.mend()
	require.Empty(w.t, w.measures(g.calm), g.what+" is mended")
	require.Empty(w.t, w.measures(3), g.what+" stays mended")
	require.Equal(w.t, before+1, w.opened(), g.what+": as many were ever opened")
}

// ofWholes are thresholds of what belongs together, which must not be told beside what they come from.
const ofWholes = `version: andamio.thresholds/1
thresholds:
- { name: something does not answer, measure: whole_answers, critical: { below: 100%, for: 15s } }
- { name: something is slow, measure: whole_slowest, critical: { above: 2500ms, for: 15s, until: 1s } }
`

// TestAStormOnStandInsIsOneAlertAFault does to what really stands what the storm of the model does: one of every sort, or as many as ANDAMIO_STORM says.
func TestAStormOnStandInsIsOneAlertAFault(t *testing.T) {
	t.Parallel()
	a, box, d, id := raised(t)
	w := &weather{watching: watchOver(t, a), box: box, deployment: id, plan: d.Plan, rand: rand.New(rand.NewPCG(seedOfStorm(), 3))}
	_, err := a.SetThresholds(ctx, []byte(ofWholes))
	require.NoError(t, err)
	require.Empty(t, w.measures(4), "all is well")
	w.things, err = a.Measured(ctx, id)
	require.NoError(t, err)
	many, _ := strconv.Atoi(os.Getenv("ANDAMIO_STORM"))
	order := w.rand.Perm(len(sorts))
	for i := range max(many, len(sorts)) {
		at := order[i%len(order)]
		g := sorts[at](w)
		t.Logf("%d: %s", i, g.what)
		w.blows(&g)
	}
}

// seedOfStorm is what the storm is drawn from: ANDAMIO_SEED, or always the same.
func seedOfStorm() uint64 {
	seed, err := strconv.ParseUint(os.Getenv("ANDAMIO_SEED"), 10, 64)
	if err != nil {
		return 1
	}
	return seed
}
