// Package design is the Design view: is this template right? The source with its diagnostics beside the elevation that
// it would build, and the inputs below.
package design

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/elevation"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/service/offers"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// pane is a part of the view that takes the keys.
type pane int

const (
	paneSource pane = iota
	paneInputs
	panePicture
	panes
)

// View is the Design view.
type View struct {
	ctx  context.Context
	app  *app.App
	open func() (*templates.Template, error)

	template *templates.Template
	problem  string
	// runs tells when what is free at the sites may have changed.
	runs    string
	preset  int
	changed tosca.Inputs
	// offer is the file of an offer that was made or checked last.
	offer *offers.File
	// name is what the deployment is to be called, "" as the template.
	name string
	// choices are those accepted in the Place view.
	choices templates.Choices
	// wanted is the preset to choose once the template is read again.
	wanted string
	draft  *templates.Draft
	state  *run.State
	// sketch is the rough picture of a template without a plan; wrongAt are the node templates with mistakes.
	sketch  *run.State
	wrongAt map[tosca.Pos]bool
	working bool

	focus  pane
	file   string
	line   int
	scroll int
	// input is the selected row of the inputs; more shows those that have defaults too.
	input int
	more  bool
	edit  *view.Field
	// outline shows the tiers in place of the source.
	outline bool
	// node is the one picked in the outline last.
	node string
	// changes counts what the last change of the inputs does.
	changes map[plan.Change]int
	pic     part.Elevation
	modify  time.Time
	spots   []rowSpot
	cut     cut
	areas   [panes]part.Rect
}

// rowSpot is where a source line or an input was drawn.
type rowSpot struct {
	y, line int
	pane    pane
}

// New makes the view; open is nil where there is no template.
func New(ctx context.Context, a *app.App, open func() (*templates.Template, error)) *View {
	v := &View{ctx: ctx, app: a, open: open, changed: tosca.Inputs{}}
	v.pic.By = elevation.ByService
	return v
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Design" }
func (v *View) Digit() string { return "2" }

// Badge counts the mistakes.
func (v *View) Badge(time.Time) string {
	if v.draft != nil && v.draft.Diagnostics.Errors() > 0 {
		return fmt.Sprint(v.draft.Diagnostics.Errors())
	}
	return ""
}

// loaded is a template that was read.
type loaded struct {
	template *templates.Template
	err      error
}

// drafted is a draft, with what kept a site from being asked.
type drafted struct {
	draft   *templates.Draft
	offline error
}

// tick asks whether the template's files have changed.
type tick struct{}

// lookEvery is how often a template on disk is looked at for changes.
const lookEvery = time.Second

// load reads the template.
func (v *View) load() tea.Cmd {
	if v.open == nil {
		return nil
	}
	return func() tea.Msg {
		t, err := v.open()
		return loaded{t, err}
	}
}

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case loaded:
		return v.take(msg)
	case drafted:
		v.working = false
		v.compare(msg.draft)
		v.draft, v.problem = msg.draft, ""
		if msg.offline != nil {
			v.problem = msg.offline.Error()
		}
		v.settle()
		return view.Cmd(view.Drafted{Draft: msg.draft})
	case saved:
		v.wanted, v.changed = msg.name, tosca.Inputs{}
		return tea.Batch(v.load(), view.Cmd(view.Notice{Text: msg.text}))
	case offered:
		return v.hearOffered(msg)
	case copied:
		return v.openCopy(msg.dir)
	case view.Accepted:
		v.choices = msg.Choices
		return v.redraft()
	case view.Show:
		v.show(msg.Thing)
	case view.SitesChanged:
		if v.template != nil && !v.working {
			return v.redraft()
		}
	case view.Runs:
		return v.hearRuns(msg)
	case tick:
		cmds := []tea.Cmd{v.watchFiles()}
		if m := v.modified(); m.After(v.modify) {
			v.modify = m
			cmds = append(cmds, v.load())
		}
		return tea.Batch(cmds...)
	}
	return v.begin()
}

// show goes to the lines of a node template.
func (v *View) show(t reconcile.Thing) {
	if t.Kind != reconcile.ATemplate || v.template == nil {
		return
	}
	v.focus, v.outline = paneSource, false
	for _, n := range v.template.Nodes {
		if n.Name == t.ID && v.template.Sources[n.Pos.File] != nil {
			v.file, v.line = n.Pos.File, n.Pos.Line-1
			v.selectLine()
		}
	}
}

// begin reads the template at the first message.
func (v *View) begin() tea.Cmd {
	if v.template != nil || v.problem != "" || v.working {
		return nil
	}
	v.working = true
	return tea.Batch(v.load(), v.watchFiles())
}

// hearRuns works the template out anew when a run has begun or ended: what is free at the sites has changed.
func (v *View) hearRuns(msg view.Runs) tea.Cmd {
	var now string
	for _, r := range msg.Runs {
		now += fmt.Sprint(r.ID, r.State, " ")
	}
	changed := now != v.runs
	v.runs = now
	if changed && v.template != nil && !v.working {
		return v.redraft()
	}
	return v.begin()
}

func (v *View) watchFiles() tea.Cmd {
	return tea.Tick(lookEvery, func(time.Time) tea.Msg { return tick{} })
}

// modified is when the template's files on disk were changed last; zero for one that is part of the program.
func (v *View) modified() time.Time {
	var last time.Time
	if v.template == nil || v.template.Folder == "" {
		return last
	}
	for name := range v.template.Sources {
		if info, err := os.Stat(filepath.Join(v.template.Folder, name)); err == nil && info.ModTime().After(last) {
			last = info.ModTime()
		}
	}
	return last
}

func (v *View) take(msg loaded) tea.Cmd {
	v.working = false
	if msg.err != nil {
		v.problem = msg.err.Error()
		return nil
	}
	first := v.template == nil
	v.template = msg.template
	if v.file == "" || v.template.Sources[v.file] == nil {
		v.file = v.template.Root
	}
	for i, p := range v.template.Presets {
		if p.Name == v.wanted {
			v.preset, v.wanted = i+1, ""
		}
	}
	if first {
		v.modify = v.modified()
		v.preset = min(1, len(v.template.Presets))
	}
	return v.redraft()
}

// presetName is the chosen preset's name; the first choice is the template's own defaults.
func (v *View) presetName() string {
	if v.preset == 0 || v.template == nil || v.preset > len(v.template.Presets) {
		return ""
	}
	return v.template.Presets[v.preset-1].Name
}

// redraft works the template out anew, for what is free at the sites now.
func (v *View) redraft() tea.Cmd {
	t, wish := v.template, v.wish()
	v.working = true
	return func() tea.Msg {
		rules, wrong := v.app.Rules()
		wish.Rules = rules
		draft, offline := v.app.Drafting(v.ctx, t, wish)
		if draft == nil {
			draft = templates.NewDraft(t, wish, nil)
		}
		return drafted{draft, errors.Join(offline, wrong)}
	}
}

// wish is what the template is worked out with: inputs, what was accepted of the placement, and the placement so far.
func (v *View) wish() templates.DraftRequest {
	w := templates.DraftRequest{Preset: v.presetName(), Inputs: v.changed, Choices: v.choices, Name: v.name}
	if v.draft != nil {
		w.Like = v.draft.Placement
	}
	return w
}

// settle takes a new draft in: the picture, and a selection that still exists.
func (v *View) settle() {
	v.state, v.sketch = nil, nil
	v.markWrong()
	if v.draft.Plan == nil {
		v.sketch = v.rough()
		return
	}
	v.state = run.New(v.draft.Plan)
	if v.state.Resource(v.pic.Selected) == nil {
		v.pic.Selected = ""
		v.selectLine()
	}
	if v.pic.Selected == "" {
		v.pic.Selected = part.First(v.state)
	}
}

func (v *View) move(dx, dy int) {
	switch v.focus {
	case paneSource:
		if v.outline {
			v.moveOutline(dy)
			return
		}
		v.line = min(max(v.line+dy, 0), max(len(v.lines())-1, 0))
		v.selectLine()
	case paneInputs:
		v.moveInput(dy)
	case panePicture:
		if v.state != nil {
			v.pic.Move(v.state, dx, max(min(dy, 1), -1))
			v.showSource()
		}
	}
}

// lines are the lines of the file shown, cut once for as long as it is the same.
func (v *View) lines() []string {
	if v.cut.template != v.template || v.cut.file != v.file {
		v.cut = cut{v.template, v.file, strings.Split(strings.TrimSuffix(string(v.template.Sources[v.file]), "\n"), "\n")}
	}
	return v.cut.lines
}

// cut is a file in lines.
type cut struct {
	template *templates.Template
	file     string
	lines    []string
}

// selectLine selects the plank of the node template that the cursor's line belongs to.
func (v *View) selectLine() {
	if v.state == nil || v.draft.Design == nil {
		return
	}
	line := 0
	var at string
	for _, n := range v.draft.Design.Nodes {
		if n.Pos.File == v.file && n.Pos.Line <= v.line+1 && n.Pos.Line > line {
			at, line = n.Name, n.Pos.Line
		}
	}
	for _, sub := range v.draft.Design.Substituted {
		if sub.Pos.File == v.file && sub.Pos.Line <= v.line+1 && sub.Pos.Line > line && len(sub.Parts) > 0 {
			at, line = sub.Parts[len(sub.Parts)-1], sub.Pos.Line
		}
	}
	v.selectNode(at)
}

// selectNode selects the plank of a node's first instance.
func (v *View) selectNode(name string) {
	if v.state == nil {
		return
	}
	for i := range v.state.Resources {
		if r := &v.state.Resources[i]; r.Node == name && r.Kind != "endpoint" {
			v.pic.Selected = v.state.Plan.Plank(r.ID)
			return
		}
	}
}

// showSource moves the cursor to the node template of the selected plank.
func (v *View) showSource() {
	r := v.state.Resource(v.pic.Selected)
	if r == nil {
		return
	}
	if v.draft.Design == nil {
		return
	}
	if n := v.draft.Design.Node(r.Node); n != nil && v.template.Sources[n.Pos.File] != nil {
		v.file, v.line = n.Pos.File, n.Pos.Line-1
	}
}

// compare remembers what a new draft of the same template changes, to light it.
func (v *View) compare(now *templates.Draft) {
	v.pic.Marks = nil
	if v.draft == nil || v.draft.Plan == nil || now.Plan == nil || v.draft.Plan.Name != now.Plan.Name {
		return
	}
	marks := map[string]string{}
	d := plan.Compare(v.draft.Plan, now.Plan)
	for id, c := range d {
		if c != plan.Keep && c != plan.Retire {
			marks[id] = string(c)
			if plank := now.Plan.Plank(id); plank != id && marks[plank] == "" {
				marks[plank] = string(plan.Amend)
			}
		}
	}
	v.pic.Marks, v.changes = marks, d.Count()
}

// changesLine says in words what the last change of inputs does to the plan.
func (v *View) changesLine() string {
	if len(v.pic.Marks) == 0 && v.changes[plan.Retire] == 0 {
		return ""
	}
	var words []string
	for _, c := range []plan.Change{plan.Build, plan.Amend, plan.Rebuild, plan.Retire, plan.Keep} {
		if n := v.changes[c]; n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n, c))
		}
	}
	return "the last change: " + strings.Join(words, ", ")
}

// nextMistake moves the cursor to the next diagnostic, round again after the last.
func (v *View) nextMistake() {
	if v.draft == nil || len(v.draft.Diagnostics) == 0 {
		return
	}
	v.focus = paneSource
	ds := v.draft.Diagnostics
	i := slices.IndexFunc(ds, func(d tosca.Diagnostic) bool { return d.File == v.file && d.Line > v.line+1 })
	d := ds[max(i, 0)]
	if v.template.Sources[d.File] != nil {
		v.file, v.line = d.File, d.Line-1
	}
}

func (v *View) nextPreset() tea.Cmd {
	v.preset = (v.preset + 1) % (len(v.template.Presets) + 1)
	v.changed = tosca.Inputs{}
	return v.redraft()
}

func (v *View) nextFile() {
	var names []string
	for name := range v.template.Sources {
		names = append(names, name)
	}
	slices.Sort(names)
	v.file = names[(slices.Index(names, v.file)+1)%len(names)]
	v.line, v.scroll = 0, 0
}

// toPlan shows the plan before anything is built.
func (v *View) toPlan() tea.Cmd {
	switch {
	case v.draft == nil || v.working:
		return view.Cmd(view.Notice{Text: "still working it out"})
	case v.draft.Plan == nil:
		return view.Cmd(view.Notice{Text: "there is no plan: " + v.noPlan()[0], Bad: true})
	}
	return tea.Batch(view.Cmd(view.OpenDraft{Draft: v.draft}), view.Cmd(view.Goto{Digit: "4"}))
}

// noPlan says why there is no plan.
func (v *View) noPlan() []string {
	switch {
	case v.draft == nil:
		return []string{"working it out"}
	case v.draft.Diagnostics.Errors() > 0:
		return []string{printable.Count(v.draft.Diagnostics.Errors(), "mistake") + " to settle first; f goes from one to the next"}
	case v.draft.Err != nil:
		return strings.Split(v.draft.Err.Error(), "\n")
	case v.problem != "":
		return []string{v.problem}
	}
	return []string{"this workspace is connected to no site; andamio sandbox starts stand-ins for it"}
}

// Click puts the focus and the cursor where the mouse is; Wheel scrolls.
func (v *View) Click(x, y int) tea.Cmd {
	if v.template == nil || v.edit != nil {
		return nil
	}
	for p := range v.areas {
		if v.areas[p].Inside(x, y) {
			v.focus = pane(p)
		}
	}
	if id := v.pic.At(x, y); id != "" && v.state != nil {
		v.pic.Selected = id
		v.showSource()
	}
	for _, s := range v.spots {
		if s.y != y || !v.areas[s.pane].Inside(x, y) {
			continue
		}
		if s.pane == paneSource && v.outline {
			v.pickOutline(s.line)
		} else if s.pane == paneSource {
			v.line = s.line
			v.selectLine()
		} else {
			v.input = s.line
			v.moveInput(0)
		}
	}
	return nil
}

// Wheel moves the cursor of the focused pane.
func (v *View) Wheel(dy int) {
	if v.template != nil {
		v.move(0, dy*3)
	}
}

// Find moves the cursor to the next line with the text.
func (v *View) Find(text string) bool {
	if v.template == nil {
		return false
	}
	if v.outline {
		return v.findNode(text)
	}
	lines := v.lines()
	for i := range lines {
		at := (v.line + i) % len(lines)
		if strings.Contains(strings.ToLower(lines[at]), strings.ToLower(text)) {
			v.line = at
			v.selectLine()
			return true
		}
	}
	return false
}

// saved is a preset that was written.
type saved struct{ name, text string }

// copied is a template that was copied to a folder.
type copied struct{ dir string }
