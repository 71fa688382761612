// Package sites is the Sites view: what have I got, and what is left? Each site a strip with its rooms as capacity bars, split
// into what is used, what the plan would add and what is free; its pools, prices, features, and how old all that is.
package sites

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/naming"
	"andamio/internal/core/placement"
	"andamio/internal/core/usage"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Sites view.
type View struct {
	ctx   context.Context
	app   *app.App
	draft *templates.Draft
	loads []usage.Site
	at    int
	top   int
	spots []spot
	// path is the way to a new site, nil if none is gone.
	path *path
	// connections and surveys are what is connected, and the last survey of each.
	connections []workspace.Connection
	surveys     map[string]app.Survey
	coverage    map[string][]app.Covered
	pairs       []sites.Pair
	trying      bool // pairs are being tried
	// claims are what sleeps and what runs are about to build, wakes when deployments are switched on next.
	claims []usage.Claim
	wakes  map[string]time.Time
	// workers are those in closed networks that are there.
	workers []app.Worker
	drawn   time.Time
	// own is what the sites offer where no template is designed with, as they said it at asked.
	own   *estate.Estate
	asked time.Time
	// answers are how sites answered over the last while, as it was read at answersRead.
	answers     []watch.Overview
	answersRead time.Time
	// dim is what the bars show: cores, memory or disk.
	dim int
}

// spot is where a site was drawn.
type spot struct{ y, h, site int }

// New makes the view.
func New(ctx context.Context, a *app.App) *View { return &View{ctx: ctx, app: a} }

// Name, Digit and Badge describe the tab.
func (v *View) Name() string           { return "Sites" }
func (v *View) Digit() string          { return "1" }
func (v *View) Badge(time.Time) string { return "" }

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Drafted:
		v.draft = msg.Draft
		v.load()
	case view.Show:
		v.show(msg.Thing)
	case view.Runs: // each second
		if v.app != nil && (v.surveys == nil || time.Since(v.drawn) < 2*time.Second) {
			return tea.Batch(v.lookUp(), v.tryPairs(), v.askSites(), v.readAnswers())
		}
	case offered:
		v.own = msg.estate
		v.load()
	case answering:
		v.answers = msg.of
	case triedPairs:
		v.trying = false
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
	case lookedUp:
		v.connections, v.surveys, v.coverage, v.pairs = msg.connections, msg.surveys, msg.coverage, msg.pairs
		v.claims, v.wakes, v.workers = msg.claims, msg.wakes, msg.workers
		v.load()
	case triedPath:
		return v.tried(msg)
	case keptPath:
		return v.kept(msg)
	case surveyed:
		return v.surveyDone(msg)
	default:
		if v.path != nil { // what its form said to itself
			return v.path.hear(msg)
		}
	}
	return nil
}

// load works out how full the sites are.
func (v *View) load() {
	v.loads = nil
	if e := v.estate(); e != nil {
		placed, stands := v.placed()
		v.loads = usage.Of(e, placed, stands)
		usage.Claimed(v.loads, v.claims)
	}
	v.at = min(v.at, max(v.count()-1, 0))
}

// placed is where the draft's workloads go, and where those stand that it changes.
func (v *View) placed() (goes, stands *placement.Placement) {
	if v.draft == nil {
		return nil, nil
	}
	return v.draft.Placement, v.draft.Stands
}

func (v *View) estate() *estate.Estate {
	if v.draft == nil || v.draft.Problem == nil {
		return v.own
	}
	return v.draft.Problem.Estate
}

// show selects a site.
func (v *View) show(t reconcile.Thing) {
	for i := range v.loads {
		if t.Kind == reconcile.ASite && v.loads[i].Site.Name == t.ID {
			v.at = i
		}
	}
}

// dims are what the bars can show.
var dims = []struct {
	word string
	of   func(usage.Room) usage.Load
	sum  func(usage.Site) usage.Load
}{
	{"cores", func(r usage.Room) usage.Load { return r.Cores }, func(s usage.Site) usage.Load { return s.Cores }},
	{"GiB memory", func(r usage.Room) usage.Load { return r.Memory }, func(s usage.Site) usage.Load { return s.Memory }},
	{"GiB disk", func(r usage.Room) usage.Load { return r.Disk }, func(s usage.Site) usage.Load { return s.Disk }},
}

// Click selects a site.
func (v *View) Click(_, y int) tea.Cmd {
	for _, s := range v.spots {
		if y >= s.y && y < s.y+s.h {
			v.at = s.site
		}
	}
	return nil
}

// Wheel moves the selection.
func (v *View) Wheel(dy int) { v.at = min(max(v.at+dy, 0), max(v.count()-1, 0)) }

// Find selects the first site with the text in its name, provider or features.
func (v *View) Find(text string) bool {
	for i, l := range v.loads {
		s := l.Site
		if strings.Contains(strings.ToLower(strings.Join(append([]string{s.Name, s.Title, string(s.Kind), s.Provider, s.Jurisdiction}, s.Features...), " ")), strings.ToLower(text)) {
			v.at = i
			return true
		}
	}
	return false
}

// Why says what fills the selected site, and everything that it offers.
func (v *View) Why() view.Note {
	if v.at >= len(v.loads) {
		return view.Note{Title: "sites", Lines: []view.Line{view.Say("no site is known yet")}}
	}
	l := v.loads[v.at]
	note := view.Note{Title: l.Site.Name, Lines: []view.Line{view.Head("what this plan puts here")}}
	if placed, _ := v.placed(); placed != nil {
		for i := range placed.Choices {
			if c := &placed.Choices[i]; c.Site == l.Site.Name {
				note.Lines = append(note.Lines, view.Say(fmt.Sprintf("  %-20s %s%s", c.Workload, c.Takes, inRoom(c))))
			}
		}
	}
	if l.Instances == 0 {
		note.Lines = append(note.Lines, view.Say("  nothing"))
	}
	note.Lines = append(note.Lines, view.Say(""), view.Head("sizes and prices an hour"))
	for _, z := range l.Site.Sizes {
		text := fmt.Sprintf("  %-10s %2d cores %4g GiB  %.4f", z.Name, z.Cores, z.MemoryGiB, z.PricePerHour)
		for _, p := range estate.Payments[1:] {
			if x, ok := z.Price(p); ok {
				text += fmt.Sprintf("   %s %.4f", p, x)
			}
		}
		note.Lines = append(note.Lines, view.Say(text))
	}
	if p := l.Site.Prices; l.Site.FreeForm {
		note.Lines = append(note.Lines, view.Say(fmt.Sprintf("  any size: %.4f a core, %.4f a GiB of memory", p.Core, p.Memory)))
	}
	note.Lines = append(note.Lines, v.pairLines(l.Site.Name)...)
	return view.Note{Title: note.Title, Lines: append(note.Lines, v.offers(l.Site)...)}
}

func inRoom(c *placement.Choice) string {
	if c.Host != "" {
		return " · zone " + c.Zone + ", " + c.Host
	}
	return " · zone " + c.Zone
}

// offers are disks, images, egress and distances.
func (v *View) offers(s *estate.Site) []view.Line {
	lines := []view.Line{view.Say(fmt.Sprintf("  disk %.4f a GiB, address %.4f", s.Prices.Disk, s.Prices.Address))}
	for _, c := range s.Storage {
		lines = append(lines, view.Say(fmt.Sprintf("  storage class %s: %.4f a GiB", c.Name, c.PriceGiB)))
	}
	lines = append(lines, view.Say(""), view.Head("to other sites"))
	for _, o := range v.estate().Sites {
		if o.Name == s.Name {
			continue
		}
		far := "nobody measured how far"
		if ms, known := estate.Distance(s, o); known {
			far = fmt.Sprintf("%g ms", ms)
		}
		lines = append(lines, view.Say(fmt.Sprintf("  %-16s %-24s %.4f %s a GiB", o.Name, far, s.EgressTo(o), v.estate().Currency)))
	}
	var images []string
	for _, i := range s.Images {
		images = append(images, i.Name)
	}
	lines = append(lines, view.Say(""), view.Head("images"), view.Say("  "+strings.Join(images, ", ")))
	if s.Naming == nil {
		return lines
	}
	must := "must match "
	if s.Naming.Advisory {
		must = "should match "
	}
	return append(lines, view.Say(""), view.Head("names"), view.Say("  "+must+s.Naming.Pattern+"; one would be "+naming.Preview(s)))
}

// Export writes the chart of the capacity.
func (v *View) Export() tea.Cmd {
	if v.draft == nil || v.draft.Problem == nil {
		return nil
	}
	problem, placed, stands, name := v.draft.Problem, v.draft.Placement, v.draft.Stands, v.draft.Template.Name
	return func() tea.Msg {
		return view.Written(deployments.ExportCharts(name, problem, placed, stands, "."))
	}
}

// ageOf is how old what a site said is.
func ageOf(s *estate.Site, now time.Time) string {
	if s.Seen.IsZero() {
		return "from a file"
	}
	return "seen " + part.Age(s.Seen, now)
}
