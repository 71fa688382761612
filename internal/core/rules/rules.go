// Package rules reads an administrator's rule file: the plain questions that people answer of a workload, and the rules that
// give the answers their meaning.
//
// In goes YAML or JSON (schemas/rules.schema.json) and a placement problem; out come the rules of the problem, each with the
// sites that satisfy it worked out. Conditions are expressions of the Common Expression Language over workload, site and
// requester.
package rules

import (
	_ "embed"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
)

// Version is the format that [Read] accepts.
const Version = "andamio.rules/1"

// File is a rule file.
type File struct {
	Version   string     `json:"version"`
	Questions []Question `json:"questions"`
	Rules     []Rule     `json:"rules"`

	programs map[string]cel.Program
}

// Question is a plain question that is answered with yes or no. Word is it in a word or two.
type Question struct {
	Name string `json:"name"`
	Word string `json:"word"`
	Asks string `json:"asks"`
}

// Rule is one rule: Must and Prefer are demanded of a site, Apart and Together over provider, site, zone or host. Exactly one
// of the four is given. Because is shown where the rule decides, Short in a cell of the matrix.
type Rule struct {
	Name     string  `json:"name"`
	When     string  `json:"when,omitempty"`
	Must     string  `json:"must,omitempty"`
	Prefer   string  `json:"prefer,omitempty"`
	Apart    string  `json:"apart,omitempty"`
	Together string  `json:"together,omitempty"`
	Most     int     `json:"most,omitempty"`
	Jointly  bool    `json:"jointly,omitempty"`
	Weight   float64 `json:"weight,omitempty"`
	Because  string  `json:"because"`
	Short    string  `json:"short,omitempty"`
}

// Asking names the rules whose condition asks a question, in the file's order.
func (f *File) Asking(question string) []string {
	word := regexp.MustCompile(`\b` + regexp.QuoteMeta(question) + `\b`)
	var out []string
	for _, r := range f.Rules {
		if word.MatchString(r.When) {
			out = append(out, r.Name)
		}
	}
	return out
}

//go:embed default.yaml
var shipped []byte

// Default is the file that ships.
var Default = sync.OnceValue(func() *File {
	f, err := Read(shipped)
	if err != nil {
		panic(err) // it is part of the program, and a test reads it
	}
	return f
})

// DefaultText is the text of the file that ships, to begin an own one with.
func DefaultText() []byte { return shipped }

// Read reads a rule file and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("this is no rule file: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	var errs []error
	for i, q := range f.Questions {
		if q.Name == "" || slices.ContainsFunc(f.Questions[:i], func(o Question) bool { return o.Name == q.Name }) {
			errs = append(errs, fmt.Errorf("questions[%d].name: %q is empty or used twice", i, q.Name))
		}
	}
	f.programs = map[string]cel.Program{}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	for i, r := range f.Rules {
		errs = append(errs, r.check(fmt.Sprintf("rules[%d]", i))...)
		for field, text := range map[string]string{"when": r.When, "must": r.Must, "prefer": r.Prefer} {
			if text == "" {
				continue
			}
			if f.programs[text], err = compile(env, text); err != nil {
				errs = append(errs, fmt.Errorf("rules[%d].%s (%s): %w", i, field, r.Name, err))
			}
		}
	}
	return &f, errors.Join(errs...)
}

func (r Rule) check(at string) []error {
	var errs []error
	if r.Name == "" || r.Because == "" {
		errs = append(errs, fmt.Errorf("%s: a rule has a name, and a sentence under because that is shown when it decides", at))
	}
	given := 0
	for _, text := range []string{r.Must, r.Prefer, r.Apart, r.Together} {
		if text != "" {
			given++
		}
	}
	if given != 1 {
		errs = append(errs, fmt.Errorf("%s (%s): exactly one of must, prefer, apart and together says what it demands", at, r.Name))
	}
	for field, scope := range map[string]string{"apart": r.Apart, "together": r.Together} {
		if scope != "" && !slices.Contains([]string{"provider", "site", "zone", "host"}, scope) {
			errs = append(errs, fmt.Errorf("%s.%s (%s): %q is not provider, site, zone or host", at, field, r.Name, scope))
		}
	}
	if r.Weight < 0 || r.Most < 0 || r.Prefer != "" && r.Weight == 0 || (r.Must != "" || r.Together != "") && r.Weight != 0 {
		errs = append(errs, fmt.Errorf("%s (%s): what is preferred has a weight above 0, what must be has none", at, r.Name))
	}
	return errs
}

// costLimit bounds what one expression may compute, so that none hangs.
const costLimit = 200_000

func environment() (*cel.Env, error) {
	object := cel.MapType(cel.StringType, cel.DynType)
	return cel.NewEnv(cel.Variable("workload", object), cel.Variable("site", object), cel.Variable("requester", object))
}

func compile(env *cel.Env, text string) (cel.Program, error) {
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		return nil, errors.New(strings.TrimSpace(err.Error()))
	}
	if t := ast.OutputType(); t != cel.BoolType && t != cel.DynType {
		return nil, fmt.Errorf("the expression gives %s, not yes or no", t)
	}
	return env.Program(ast, cel.CostLimit(costLimit))
}

// Apply appends to a problem the rules of the file, worked out for its workloads and sites. Rules over the same sites for
// several nodes become one. The error says which rule could not be worked out, on what.
func (f *File) Apply(p *placement.Problem, requester map[string]any) error {
	a := applying{f: f, requester: orEmpty(requester), known: map[string][]int{}}
	for _, s := range p.Estate.Sites {
		a.sites = append(a.sites, siteValues(s))
	}
	seen := map[string]bool{}
	for i := range p.Workloads {
		w := &p.Workloads[i]
		if seen[w.Node] {
			continue
		}
		seen[w.Node] = true
		if err := a.node(p, w); err != nil {
			return err
		}
	}
	for i, r := range f.Rules {
		for _, k := range a.sets {
			if k.rule == i {
				p.Rules = append(p.Rules, a.rule(p, r, k))
			}
		}
	}
	return nil
}

func orEmpty(m map[string]any) map[string]any {
	if m == nil {
		return map[string]any{}
	}
	return m
}

// applying works one file out for one problem.
type applying struct {
	f         *File
	requester map[string]any
	sites     []map[string]any
	// known are the sets that workloads of a likeness belong to.
	known map[string][]int
	sets  []set
	at    map[string]int
}

// set is the nodes that a rule covers for which the same sites satisfy it.
type set struct {
	rule  int
	nodes []string
	sites []string
}

// node finds the sets that a node belongs to.
func (a *applying) node(p *placement.Problem, w *placement.Workload) error {
	key := fmt.Sprint(w.Tier, "|", w.OS, "|", w.Need, "|", w.VolumesGiB, "|", w.Answers, "|", w.Tags)
	if strings.Contains(a.text(), "workload.node") {
		key += "|" + w.Node
	}
	sets, known := a.known[key]
	if !known {
		var err error
		if sets, err = a.work(p, w); err != nil {
			return err
		}
		a.known[key] = sets
	}
	for _, i := range sets {
		a.sets[i].nodes = append(a.sets[i].nodes, w.Node)
	}
	return nil
}

// text is all expressions, to see what they ask for.
func (a *applying) text() string {
	var b strings.Builder
	for _, r := range a.f.Rules {
		b.WriteString(r.When + r.Must + r.Prefer)
	}
	return b.String()
}

// work evaluates every rule for a workload and returns the sets it belongs to.
func (a *applying) work(p *placement.Problem, w *placement.Workload) ([]int, error) {
	vars := map[string]any{"workload": a.f.workloadValues(w), "requester": a.requester, "site": map[string]any{}}
	var out []int
	for i, r := range a.f.Rules {
		if r.When != "" {
			covers, err := a.f.eval(r.When, vars)
			if err != nil {
				return nil, fmt.Errorf("rule %s, when, for %s: %w", r.Name, w.Node, err)
			}
			if !covers {
				continue
			}
		}
		var good []string
		if text := r.Must + r.Prefer; text != "" {
			for k, s := range a.sites {
				vars["site"] = s
				ok, err := a.f.eval(text, vars)
				if err != nil {
					return nil, fmt.Errorf("rule %s for %s at %s: %w", r.Name, w.Node, p.Estate.Sites[k].Name, err)
				}
				if ok {
					good = append(good, p.Estate.Sites[k].Name)
				}
			}
		}
		out = append(out, a.set(i, good))
	}
	return out, nil
}

func (a *applying) set(rule int, sites []string) int {
	key := fmt.Sprintf("%d %q", rule, sites)
	if i, ok := a.at[key]; ok {
		return i
	}
	if a.at == nil {
		a.at = map[string]int{}
	}
	a.at[key] = len(a.sets)
	a.sets = append(a.sets, set{rule: rule, sites: sites})
	return len(a.sets) - 1
}

// rule is a rule of the problem.
func (a *applying) rule(p *placement.Problem, r Rule, k set) placement.Rule {
	return placement.Rule{Name: r.Name, Because: r.Because, Short: r.Short, Nodes: k.nodes, Sites: k.sites, Listed: r.Must+r.Prefer != "",
		Apart: r.Apart, Together: r.Together, Most: r.Most, Jointly: r.Jointly, Weight: r.Weight}
}

func (f *File) eval(text string, vars map[string]any) (bool, error) {
	out, _, err := f.programs[text].Eval(vars)
	if err != nil {
		return false, err
	}
	yes, ok := out.Value().(bool)
	if !ok {
		return false, fmt.Errorf("the expression gives %v, not yes or no", out.Value())
	}
	return yes, nil
}

// workloadValues are what expressions know of a workload. A question that was not answered is answered with no.
func (f *File) workloadValues(w *placement.Workload) map[string]any {
	answers := make(map[string]any, len(f.Questions))
	for _, q := range f.Questions {
		answers[q.Name] = w.Answers[q.Name]
	}
	tags := map[string]any{}
	for k, v := range w.Tags {
		tags[k] = v
	}
	return map[string]any{"node": w.Node, "tier": w.Tier, "os": w.OS, "cores": int64(w.Need.Cores), "memory_gib": w.Need.MemoryGiB,
		"disk_gib": w.Need.DiskGiB, "volumes_gib": w.VolumesGiB, "answers": answers, "tags": tags}
}

func siteValues(s *estate.Site) map[string]any {
	features := make([]string, len(s.Features))
	copy(features, s.Features)
	return map[string]any{"name": s.Name, "title": s.Title, "kind": string(s.Kind), "provider": s.Provider,
		"jurisdiction": s.Jurisdiction, "network": string(s.Network), "features": features}
}

// Question is the question of that name, or nil.
func (f *File) Question(name string) *Question {
	for i := range f.Questions {
		if f.Questions[i].Name == name {
			return &f.Questions[i]
		}
	}
	return nil
}
