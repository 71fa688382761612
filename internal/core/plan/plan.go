// Package plan compiles a design and its placement into a plan: every operation that building it takes, on which
// resource, at which site, after which others, for how long and at what cost.
//
// In go a [topology.Design] and a [placement.Placement] over an estate; out comes a [Plan], which is plain data: it is
// written as JSON (schemas/plan.schema.json), shown on screen and run by the engine. Equal input gives the same bytes.
package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan/op"
)

// Version is the format that [Read] accepts and [Plan.Write] writes.
const Version = "andamio.plan/1"

// Plan is everything that raising a design takes.
type Plan struct {
	Version string `json:"version"`
	Name    string `json:"name"`
	Preset  string `json:"preset,omitempty"`
	// Template is where the template was opened that the plan was compiled from, Revision the commit it was read at.
	Template string `json:"template,omitempty"`
	Revision string `json:"revision,omitempty"`
	// Source is the digest of the template's files.
	Source   string         `json:"source,omitempty"`
	Currency string         `json:"currency"`
	Inputs   map[string]any `json:"inputs"`
	Secrets  []string       `json:"secrets,omitempty"`
	// Zone is the zone that the names of the plan's services are kept in; "" keeps none.
	Zone     string    `json:"zone,omitempty"`
	Services []Service `json:"services"`
	Sites    []Site    `json:"sites"`
	// CostPerHour is that of everything standing.
	CostPerHour money.Amount `json:"cost_per_hour"`
	// Seconds is the expected duration: that of the critical path.
	Seconds float64 `json:"seconds"`
	// Levels and StepLevels are the heights of the resources' and the steps' graphs.
	Levels       int        `json:"levels"`
	StepLevels   int        `json:"step_levels"`
	CriticalPath []string   `json:"critical_path"`
	Resources    []Resource `json:"resources"`
	Steps        []Step     `json:"steps"`
	Outputs      []Output   `json:"outputs,omitempty"`
	// Purpose says what the plan is for; "" raises a design from nothing.
	Purpose string `json:"purpose,omitempty"`
	// Known are attributes of resources that stood before the plan, by resource.
	Known map[string]map[string]string `json:"known,omitempty"`
	// Renames are resources that go by another id from this plan on: what is kept at the place that a workload was moved
	// from, or what is where it was moved to when that is given up. Origins are the ids under which their makers knew them.
	Renames map[string]string `json:"renames,omitempty"`
	Origins map[string]string `json:"origins,omitempty"`
	// Lifted are the names of placement rules that do not hold for a workload, because a person said so.
	Lifted map[string][]string `json:"lifted,omitempty"`
	// Order says of steps that stand, and come after others in what is wanted now than they did, after which.
	Order map[string][]string `json:"order,omitempty"`
	// Workflow is the imperative workflow that the plan follows; "" is the one woven from the lifecycle.
	Workflow string `json:"workflow,omitempty"`
	// Triggers are what policies do when something happens later.
	Triggers []Trigger `json:"triggers,omitempty"`
	// Notes say what of the template the plan does not build, and why.
	Notes []string `json:"notes,omitempty"`
	// Scripts are the texts of the operations, by path, so that a plan runs without its template.
	Scripts map[string]string `json:"scripts,omitempty"`
	// Files are other files that operations need on an instance, by path.
	Files map[string][]byte `json:"files,omitempty"`
	// Promised is what is promised of the deployment from the plan's run on; nil changes nothing of that.
	Promised *Promised `json:"promised,omitempty"`

	resources map[string]*Resource
	steps     map[string]*Step
}

// Trigger is what a policy does when something happens.
type Trigger struct {
	Policy    string   `json:"policy"`
	Name      string   `json:"name"`
	Event     string   `json:"event"`
	Targets   []string `json:"targets,omitempty"`
	Condition string   `json:"condition,omitempty"`
	Actions   []string `json:"actions,omitempty"`
}

// Service is a named group of resources.
type Service struct {
	Name  string `json:"name"`
	Title string `json:"title"`
}

// Site is what the plan says of a site it uses.
type Site struct {
	Name        string       `json:"name"`
	Kind        string       `json:"kind"`
	Title       string       `json:"title,omitempty"`
	CostPerHour money.Amount `json:"cost_per_hour"`
}

// Resource is one thing that will stand at one site.
type Resource struct {
	ID    string     `json:"id"`
	Node  string     `json:"node"`
	Title string     `json:"title"`
	Kind  kinds.Kind `json:"kind"`
	// Description is the template's.
	Description string `json:"description,omitempty"`
	Service     string `json:"service,omitempty"`
	Site        string `json:"site"`
	Zone        string `json:"zone,omitempty"`
	Host        string `json:"host,omitempty"`
	// Level counts from 1 at the ground; a resource stands only on levels below its own.
	Level int `json:"level"`
	// PartOf is the resource on whose plank this one is drawn, such as an interface's instance.
	PartOf string `json:"part_of,omitempty"`
	// On is the instance that software runs on.
	On string `json:"on,omitempty"`
	// StandsOn are the resources it needs, sorted.
	StandsOn []string `json:"stands_on,omitempty"`
	// Detail is its measure in a few words: "20 GiB", "2 cores 4 GiB".
	Detail string `json:"detail,omitempty"`
	// CostPerHour is what it costs while it runs, CostOff what an instance costs while it is switched off: its own disk
	// and its address.
	CostPerHour money.Amount `json:"cost_per_hour,omitempty"`
	CostOff     money.Amount `json:"cost_off_per_hour,omitempty"`

	Spec Spec `json:"spec"`
	// Need is what the template asks for of an instance or a volume, which its site may have given more than.
	Need *Need `json:"need,omitempty"`
	// Change is what becomes of it, and Reasons why; "" in a plan that raises from nothing.
	Change  Change   `json:"change,omitempty"`
	Reasons []string `json:"reasons,omitempty"`
	// Off instances are switched off.
	Off bool `json:"off,omitempty"`
	// Suspended instances are off and go on where they were.
	Suspended bool `json:"suspended,omitempty"`
	// Why says why it is at this site; Elsewhere judges every other one.
	Why       []string            `json:"why,omitempty"`
	Elsewhere []placement.Verdict `json:"elsewhere,omitempty"`
}

// Costs is what the resource costs an hour as it is: running, or switched off.
func (r *Resource) Costs() money.Amount {
	if r.Off {
		return r.CostOff
	}
	return r.CostPerHour
}

// Kept reports a snapshot or a copy that is neither made nor dropped: what a deployment once held is no part of how it stands.
func (r *Resource) Kept() bool {
	return (r.Kind == kinds.Snapshot || r.IsCopy()) && r.Change != Build && r.Change != Retire
}

// IsCopy reports a volume that is a copy of a disk at another site.
func (r *Resource) IsCopy() bool { return r.AsVolume().CopyOf != "" }

// Need is how much a template asks for.
type Need struct {
	Cores     int     `json:"cores,omitempty"`
	MemoryGiB float64 `json:"memory_gib,omitempty"`
	DiskGiB   float64 `json:"disk_gib,omitempty"`
}

// Step is one operation on one resource.
type Step struct {
	ID       string `json:"id"`
	Resource string `json:"resource"`
	Op       op.Op  `json:"op"`
	Title    string `json:"title"`
	Site     string `json:"site"`
	// Level counts from 1; every step in After has a lower one.
	Level int      `json:"level"`
	After []string `json:"after,omitempty"`
	// Seconds is the expected duration, Start when it can begin at the earliest, Slack how much later it may end
	// without delaying the whole.
	Seconds  float64 `json:"seconds"`
	Start    float64 `json:"start"`
	Slack    float64 `json:"slack"`
	Critical bool    `json:"critical,omitempty"`
	// Script is run on the instance Resource.On for create, configure, start and connect of software.
	Script *Script `json:"script,omitempty"`
	// Volume and Location are what attach attaches, and where.
	Volume   string `json:"volume,omitempty"`
	Location string `json:"location,omitempty"`
	// Check says when the step is done.
	Check Condition `json:"check"`
	// When must hold, or the step is passed over.
	When *Clause `json:"when,omitempty"`
	// AfterFailure are steps of which one must have failed; if none has, the step is passed over.
	AfterFailure []string `json:"after_failure,omitempty"`
	// Sets are attributes of the resource that the step leaves behind.
	Sets map[string]string `json:"sets,omitempty"`
	// Finds is the site's id of what is there already: the step takes note of it as it is, where it would build it else.
	Finds string `json:"finds,omitempty"`
	// Mends are attributes that a step of kind mend sets at the site; "" takes a tag away.
	Mends map[string]string `json:"mends,omitempty"`
	// Undo is the script that takes back what the step's script did.
	Undo *Script `json:"undo,omitempty"`
	// Quiesce is the script that has what the step left running keep still while a snapshot is taken of it, Resume the one that lets it go on.
	Quiesce *Script `json:"quiesce,omitempty"`
	Resume  *Script `json:"resume,omitempty"`
	// Drops are steps of earlier plans whose work is gone when this one is done.
	Drops []string `json:"drops,omitempty"`
	// Whole are the steps it comes after in the whole of what is wanted, where After has only those of this plan.
	Whole []string `json:"whole,omitempty"`
	// Action is what a step of kind act does.
	Action *Action `json:"action,omitempty"`
	// On is the instance on which the script runs, if not that of the resource.
	On string `json:"on,omitempty"`
	// Copying is what a step that copies copies, and how.
	Copying *Copying `json:"copying,omitempty"`
	// Lead is the interface to which connections are led that come to a released one.
	Lead string `json:"lead,omitempty"`
	// Naming is what a step of kind name publishes.
	Naming *Naming `json:"naming,omitempty"`
	// Balancing is what a load balancer of the site's own is told to do, Member one that it is told of, or of no more.
	Balancing *Balancing `json:"balancing,omitempty"`
	Member    *Member    `json:"member,omitempty"`
	// Filling is what a step of kind fill writes.
	Filling *Filling `json:"filling,omitempty"`
	// Restoring is what a step of kind restore has its disk hold.
	Restoring *Restoring `json:"restoring,omitempty"`
}

// AttrFilled is the attribute of a disk that says from which package it was written, by the digest.
const AttrFilled = "filled"

// AttrFound is what a thing is called at its site that was found there, and not built: an attribute that is known of its resource.
const AttrFound = "found.name"

// Restoring is a snapshot that a disk is to hold.
type Restoring struct {
	// Snapshot is the resource; of one that belongs to another deployment, Provider is the site's id of it.
	Snapshot string `json:"snapshot"`
	Provider string `json:"provider,omitempty"`
	// Set names those that were taken together with it.
	Set string `json:"set"`
}

// Filling is a package whose disks are written, in its order, to those of some resources; or one that is lifted to a
// site's object storage.
type Filling struct {
	// File is the package's path where the run is worked on, SHA256 the digest of the whole, Bytes its size.
	File   string `json:"file"`
	SHA256 string `json:"sha256"`
	Bytes  int64  `json:"bytes,omitempty"`
	// Object is the resource that the package was lifted to, from which the site writes the disks itself; "" has them
	// written from the file.
	Object string   `json:"object,omitempty"`
	Disks  []string `json:"disks,omitempty"`
	// Keep are those of the disks that were written from it before, and have held since then what is not in it: they are let be (see [AttrFilled]).
	Keep []string `json:"keep,omitempty"`
}

// Copying says how the disks of a workload are copied.
type Copying struct {
	Disks []DiskCopy `json:"disks"`
	// From is the site that they are copied from.
	From string `json:"from"`
	// Await says that rounds go on until somebody says to cut over.
	Await bool `json:"await,omitempty"`
	// Pause is for how many seconds the workload may stand still; what is left is to be less than can be copied in that.
	// 0 sets no bound: the rounds end when they copy no less than the ones before.
	Pause float64 `json:"pause,omitempty"`
	// Limit bounds the bytes per second on the wire, of all disks that the run copies together; 0 does not.
	Limit int64 `json:"limit,omitempty"`
	// Compress is "on", "off", or "" for when it pays.
	Compress string `json:"compress,omitempty"`
	// Back says that the disks were alike when what is copied from was last copied to: only what was written since then is
	// copied.
	Back bool `json:"back,omitempty"`
	// Grant has the site that is copied from let the other read, where the other may not start moves.
	Grant bool `json:"grant,omitempty"`
	// Consolidate makes each round one with what the disk had before the next one begins: that takes time now, where
	// otherwise rounds are kept apart and reading takes longer until they are made one.
	Consolidate bool `json:"consolidate,omitempty"`
	// Windows are the times in which may be copied; none is always.
	Windows []Window `json:"windows,omitempty"`
}

// Window is from when to when something may be done.
type Window struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// DiskCopy is one disk: the resource whose disk is copied, and the one it is copied to.
type DiskCopy struct {
	From  string  `json:"from"`
	To    string  `json:"to"`
	Title string  `json:"title"`
	GiB   float64 `json:"gib"`
}

// Naming is a name within the zone that the plan's names are kept in, and what it stands for: the address of an
// interface, and for each service the port there of one of the instance's ports.
type Naming struct {
	Name      string         `json:"name"`
	Interface string         `json:"interface"`
	Ports     map[string]int `json:"ports,omitempty"`
	// Ask is the service that is asked by the name once everybody knows it, and Path the page; "" only waits.
	Ask  string `json:"ask,omitempty"`
	Path string `json:"path,omitempty"`
}

// Action calls a web service or sends a message. The request carries an Idempotency-Key, so that a service may tell a
// repeat after a crash from a second request.
type Action struct {
	// Kind is "call" for a web service, "message" for a CloudEvent of type example.andamio.message.
	Kind   string `json:"kind"`
	Method string `json:"method,omitempty"`
	URL    Expr   `json:"url"`
	Body   *Expr  `json:"body,omitempty"`
	// Expect is the status that counts as success; 0 means any of 200 to 299.
	Expect int `json:"expect,omitempty"`
}

// Clause is a condition over attributes of the step's resource: a test, or further clauses joined by and, or, not.
type Clause struct {
	Op      string   `json:"op,omitempty"`
	Clauses []Clause `json:"clauses,omitempty"`
	// Attribute is tested by Test (a constraint operator of TOSCA 1.3, section 3.6.3) against Values.
	Attribute string `json:"attribute,omitempty"`
	Test      string `json:"test,omitempty"`
	Values    []any  `json:"values,omitempty"`
}

// Script is a script with its inputs, given to it as environment variables.
type Script struct {
	Path    string  `json:"path"`
	Inputs  []Input `json:"inputs,omitempty"`
	Timeout float64 `json:"timeout,omitempty"`
	// Files are put on the instance before the script runs.
	Files []File `json:"files,omitempty"`
	// Outputs are variables that the script leaves set, and where their values go.
	Outputs []ScriptOutput `json:"outputs,omitempty"`
}

// File is one of the plan's files, and the path it is put at.
type File struct {
	File string `json:"file"`
	Path string `json:"path"`
}

// ScriptOutput puts a variable into an attribute of a resource.
type ScriptOutput struct {
	Name      string `json:"name"`
	Resource  string `json:"resource"`
	Attribute string `json:"attribute"`
}

// Input is a named value; see [Expr].
type Input struct {
	Name  string `json:"name"`
	Value Expr   `json:"value"`
}

// Condition is what must be so for a step to be done: the site says active, the script exits with 0, a TCP port
// accepts a connection, or a page is served with status 200.
type Condition struct {
	Kind string `json:"kind"`
	// Address and Port say where, for tcp and http; Path what page.
	Address *Expr  `json:"address,omitempty"`
	Port    *Expr  `json:"port,omitempty"`
	Path    string `json:"path,omitempty"`
	// Status and Contains say what page: 0 is status 200, "" any content.
	Status   int    `json:"status,omitempty"`
	Contains string `json:"contains,omitempty"`
	// Metrics says that the page tells figures, as OpenMetrics text, which are watched.
	Metrics bool `json:"metrics,omitempty"`
}

// The kinds of condition.
const (
	CheckSite = "site"
	CheckExit = "exit"
	CheckTCP  = "tcp"
	CheckHTTP = "http"
	CheckNone = "none"
	// CheckName is that everybody who is asked knows what the name stands for.
	CheckName = "name"
)

// Output is a value that the deployment exposes.
type Output struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Value       Expr   `json:"value"`
}

// variable is what a script can be given or put out.
var variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Resource returns the resource of that id, or nil.
func (p *Plan) Resource(id string) *Resource {
	p.index()
	return p.resources[id]
}

// Step returns the step of that id, or nil.
func (p *Plan) Step(id string) *Step {
	p.index()
	return p.steps[id]
}

// index builds the look-ups once; [Read] and [Compile] call it so that plans may be shared between goroutines.
func (p *Plan) index() {
	if p.steps != nil {
		return
	}
	p.resources = make(map[string]*Resource, len(p.Resources))
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Spec == nil {
			r.Spec = unspecified(r.Kind)
		}
		p.resources[r.ID] = r
	}
	p.steps = make(map[string]*Step, len(p.Steps))
	for i := range p.Steps {
		p.steps[p.Steps[i].ID] = &p.Steps[i]
	}
}

// Plank is the id of the resource on whose plank a resource is drawn: itself, unless it is part of another.
func (p *Plan) Plank(id string) string {
	if r := p.Resource(id); r != nil && r.PartOf != "" {
		return r.PartOf
	}
	return id
}

// Write renders the plan as JSON.
func (p *Plan) Write() ([]byte, error) {
	p.index()
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return nil, err
	}
	return append(data, '\n'), nil
}

// Read reads a plan and checks that it can be run: known version, steps on known resources, no circle.
func Read(data []byte) (*Plan, error) {
	w := written{bare: &bare{}}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&w); err != nil {
		return nil, fmt.Errorf("this is no plan: %w", err)
	}
	p, err := w.plan()
	if err != nil {
		return nil, fmt.Errorf("this is no plan: %w", err)
	}
	if p.Version != Version {
		return nil, fmt.Errorf("this is no plan that Andamio reads: its version is %q, not %q", p.Version, Version)
	}
	p.index()
	return p, p.Check()
}

// Check says what keeps a plan from being run, or nil.
func (p *Plan) Check() error {
	p.index()
	if len(p.steps) != len(p.Steps) || len(p.resources) != len(p.Resources) {
		return fmt.Errorf("the plan %s names a step or resource twice", p.Name)
	}
	if p.Levels < 0 || p.Levels > len(p.Resources) {
		return fmt.Errorf("the plan %s has %d levels for %d resources", p.Name, p.Levels, len(p.Resources))
	}
	for i := range p.Resources {
		r := &p.Resources[i]
		if !p.lists(r.Site) {
			return fmt.Errorf("resource %s is at the site %q, which the plan does not list", r.ID, r.Site)
		}
		if r.Level < 1 || r.Level > p.Levels {
			return fmt.Errorf("resource %s is at level %d of %d", r.ID, r.Level, p.Levels)
		}
		for _, list := range [2][]string{append([]string{r.PartOf, r.On}, refersTo(r.Spec)...), r.StandsOn} {
			for _, other := range list {
				if other != "" && p.resources[other] == nil {
					return fmt.Errorf("resource %s refers to %q, which the plan does not have", r.ID, other)
				}
			}
		}
	}
	for i := range p.Steps {
		if err := p.checkStep(&p.Steps[i]); err != nil {
			return err
		}
	}
	for _, id := range p.CriticalPath {
		if p.steps[id] == nil {
			return fmt.Errorf("the critical path leads over %q, which the plan does not have", id)
		}
	}
	return nil
}

// SiteNames are the names of the sites that the plan uses.
func (p *Plan) SiteNames() []string {
	var out []string
	for _, s := range p.Sites {
		out = append(out, s.Name)
	}
	return out
}

// lists reports whether a site is among those the plan uses.
func (p *Plan) lists(site string) bool {
	return slices.ContainsFunc(p.Sites, func(x Site) bool { return x.Name == site })
}

func (p *Plan) checkStep(s *Step) error {
	if p.resources[s.Resource] == nil {
		return fmt.Errorf("step %s is on %q, which the plan does not have", s.ID, s.Resource)
	}
	if !s.Op.Known() {
		return fmt.Errorf("step %s is to %q, which is no operation", s.ID, s.Op)
	}
	if !p.lists(s.Site) {
		return fmt.Errorf("step %s is at the site %q, which the plan does not list", s.ID, s.Site)
	}
	if asks := s.Check.Kind == CheckTCP || s.Check.Kind == CheckHTTP; asks && (s.Check.Address == nil || s.Check.Port == nil) {
		return fmt.Errorf("step %s asks an endpoint without address or port", s.ID)
	}
	if s.Volume != "" && p.resources[s.Volume] == nil {
		return fmt.Errorf("step %s attaches %q, which the plan does not have", s.ID, s.Volume)
	}
	if s.On != "" && p.resources[s.On] == nil {
		return fmt.Errorf("step %s runs on %q, which the plan does not have", s.ID, s.On)
	}
	if s.Lead != "" && p.resources[s.Lead] == nil {
		return fmt.Errorf("step %s leads to %q, which the plan does not have", s.ID, s.Lead)
	}
	if err := p.checkPayload(s); err != nil {
		return err
	}
	for _, script := range [4]*Script{s.Script, s.Undo, s.Quiesce, s.Resume} {
		if err := p.checkScript(s.ID, script); err != nil {
			return err
		}
	}
	for _, list := range [2][]string{s.After, s.AfterFailure} {
		for _, a := range list {
			before := p.steps[a]
			if before == nil {
				return fmt.Errorf("step %s comes after %q, which the plan does not have", s.ID, a)
			}
			if before.Level >= s.Level {
				return fmt.Errorf("step %s at level %d comes after %s at level %d", s.ID, s.Level, a, before.Level)
			}
		}
	}
	return nil
}

func (p *Plan) checkScript(step string, s *Script) error {
	if s == nil {
		return nil
	}
	if _, ok := p.Scripts[s.Path]; !ok {
		return fmt.Errorf("step %s runs %q, which the plan does not carry", step, s.Path)
	}
	for _, f := range s.Files {
		if _, ok := p.Files[f.File]; !ok {
			return fmt.Errorf("step %s needs the file %q, which the plan does not carry", step, f.File)
		}
	}
	for _, o := range s.Outputs {
		if p.resources[o.Resource] == nil || !variable.MatchString(o.Name) {
			return fmt.Errorf("step %s puts %q out to %q, which cannot be", step, o.Name, o.Resource)
		}
	}
	return nil
}

// Reindexed is the plan with its look-ups made anew, after its lists were replaced.
func Reindexed(p *Plan) *Plan {
	p.steps, p.resources = nil, nil
	p.index()
	return p
}
