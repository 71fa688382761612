// Package hook is what changes set off: which service is called, and who is told, when something begins, ends or is asked for.
//
// In go a file of hooks (YAML or JSON, schemas/hooks.schema.json), whose conditions are of the Common Expression Language, and an [Event]; out
// comes which hooks it sets off, who is to be written to, and what the letter says.
package hook

import (
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"

	"andamio/internal/core/condition"
	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/printable"
)

// Version is the format that [Read] accepts.
const Version = "andamio.hooks/1"

// Type is what happened.
type Type string

// The types. A run that may begin is asked about before anything of it is done; all others have happened.
const (
	RunMayBegin Type = "run.may-begin"
	RunBegan    Type = "run.began"
	RunStands   Type = "run.stands"
	RunFailed   Type = "run.failed"
	RunStopped  Type = "run.stopped"

	RequestAsked     Type = "request.asked"
	RequestApproved  Type = "request.approved"
	RequestRefused   Type = "request.refused"
	RequestPriced    Type = "request.priced-again"
	RequestWithdrawn Type = "request.withdrawn"
	RequestServing   Type = "request.serving"

	AlertOpened Type = "alert.opened"
	AlertEnded  Type = "alert.ended"

	ReactionCalled Type = "reaction.called"

	// LogNoted is an entry of the log: whatever anybody does.
	LogNoted Type = "log.noted"
)

// Types are all of them.
var Types = []Type{RunMayBegin, RunBegan, RunStands, RunFailed, RunStopped, RequestAsked, RequestApproved, RequestRefused, RequestPriced, RequestWithdrawn, RequestServing, AlertOpened, AlertEnded, ReactionCalled, LogNoted}

// Event is something that happened, or is about to.
type Event struct {
	// ID is its own: the same event has the same one whoever tells it.
	ID   string    `json:"id"`
	Type Type      `json:"type"`
	At   time.Time `json:"at"`
	// Name is of the deployment or the request, Title what it is in words.
	Name  string `json:"name"`
	Title string `json:"title"`
	// By is who did it, and Text what they said or what came of it.
	By         string `json:"by,omitempty"`
	Text       string `json:"text,omitempty"`
	Purpose    string `json:"purpose,omitempty"`
	Run        int64  `json:"run,omitempty"`
	Request    int64  `json:"request,omitempty"`
	Deployment int64  `json:"deployment,omitempty"`
	// Alert is the number of an alert, Severity how bad it is.
	Alert    int64  `json:"alert,omitempty"`
	Severity string `json:"severity,omitempty"`
	// Act is what was done, of an entry of the log, and Entry its number.
	Act      string            `json:"act,omitempty"`
	Entry    int64             `json:"entry,omitempty"`
	Offer    string            `json:"offer,omitempty"`
	Team     string            `json:"team,omitempty"`
	Person   string            `json:"person,omitempty"`
	Service  string            `json:"service,omitempty"`
	Stage    string            `json:"stage,omitempty"`
	Tags     map[string]string `json:"tags,omitempty"`
	Sites    []string          `json:"sites,omitempty"`
	PerHour  money.Amount      `json:"per_hour,omitempty"`
	Currency string            `json:"currency,omitempty"`
}

// vars are what conditions are about.
func (e *Event) vars() map[string]any {
	tags := map[string]any{}
	for name, v := range e.Tags {
		tags[name] = v
	}
	return map[string]any{"event": map[string]any{"type": string(e.Type), "name": e.Name, "title": e.Title, "by": e.By, "text": e.Text, "purpose": e.Purpose,
		"run": e.Run, "request": e.Request, "deployment": e.Deployment, "alert": e.Alert, "severity": e.Severity, "act": e.Act, "entry": e.Entry, "offer": e.Offer, "team": e.Team, "person": e.Person, "service": e.Service,
		"stage": e.Stage, "tags": tags, "sites": append([]string{}, e.Sites...), "per_hour": e.PerHour.Units()}}
}

// File is the hooks of a workspace, and how letters are sent.
type File struct {
	Version string `json:"version"`
	Mail    *Mail  `json:"mail,omitempty"`
	Hooks   []Hook `json:"hooks"`
}

// Mail is the server that letters are given to.
type Mail struct {
	// Server is HOST:PORT. The conversation is encrypted unless Plain says that it is not.
	Server string `json:"server"`
	From   string `json:"from"`
	// User is who we are there; Secret is the name under which the password is kept.
	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"`
	Plain  bool   `json:"plain,omitempty"`
}

// Hook is set off by events of some types that its condition fits: it calls a service, or writes to people.
type Hook struct {
	Name string `json:"hook"`
	On   []Type `json:"on"`
	// When is an expression over event that is true or false; "" always fits.
	When string `json:"when,omitempty"`
	// Call is where the event is posted, as a CloudEvent, signed with the secret of that name.
	Call   string `json:"call,omitempty"`
	Secret string `json:"secret,omitempty"`
	// Mode is how the event is sent: structured, where nothing is said, binary, or batched with others that wait (CloudEvents 1.0, HTTP protocol binding, section 3).
	// Handshake has the service be asked first whether events may be sent to it (CloudEvents 1.0, HTTP webhook, section 4).
	Mode      string `json:"mode,omitempty"`
	Handshake bool   `json:"handshake,omitempty"`
	// Publish is where the event is published instead, on a bus.
	Publish *Bus `json:"publish,omitempty"`
	// Tell are who is written to: owner, people, team:NAME, or addresses. Say is what the letter says before the facts.
	Tell []string `json:"tell,omitempty"`
	Say  string   `json:"say,omitempty"`
	// Script is the text of one that is run on what the event is of: on the instances that At names, by patterns of their names, their tiers or
	// the nodes they were made of; none means all.
	Script string   `json:"script,omitempty"`
	At     []string `json:"at,omitempty"`

	condition condition.Condition
}

// Does says what the hook does, in a few words.
func (h *Hook) Does() string {
	switch {
	case h.Call != "":
		return "calls " + h.Call
	case h.Publish != nil:
		return "publishes under " + h.Publish.Subject + " at " + h.Publish.Server
	case len(h.Tell) > 0:
		return "tells " + strings.Join(h.Tell, ", ")
	case len(h.At) == 0:
		return "runs a script on every instance"
	}
	return "runs a script on " + strings.Join(h.At, ", ")
}

// The modes in which an event is sent.
const (
	Structured = "structured"
	Binary     = "binary"
	Batched    = "batched"
)

// Bus is a subject of a NATS server: events are published under it, in a stream there that says that it has kept them, or heard.
type Bus struct {
	// Server is nats://HOST:PORT, in clear and on this machine alone, or tls://HOST:PORT.
	Server string `json:"server"`
	// Subject is what they are published under, with the event's type after it: "ribera" has them be under ribera.run.stands.
	Subject string `json:"subject"`
	// User is who we are there, with the secret as the password; "" has the secret be a token.
	User string `json:"user,omitempty"`
	// Authority vouches for the server (PEM certificates, RFC 7468), where those that the machine trusts do not.
	Authority string `json:"authority,omitempty"`
}

// SubjectOf is what an event of a type is published under.
func (p *Bus) SubjectOf(t Type) string { return p.Subject + "." + string(t) }

// Wants reports that a hook is set off by events of a type.
func (f *File) Wants(t Type) bool {
	return slices.ContainsFunc(f.Hooks, func(h Hook) bool { return slices.Contains(h.On, t) })
}

// Owner is whoever an event's deployment or request is of.
const Owner = "owner"

// What is an address of somebody (RFC 5321, without quoted local parts), one with a name before it, and one of a service.
var (
	address = regexp.MustCompile(`^[^@\s<>,;"]+@[A-Za-z0-9.-]+$`)
	sender  = regexp.MustCompile(`^([^@<>"]+ <[^@\s<>,;"]+@[A-Za-z0-9.-]+>|[^@\s<>,;"]+@[A-Za-z0-9.-]+)$`)
	bus     = regexp.MustCompile(`^(nats|tls)://(\[[0-9a-fA-F:]+\]|[A-Za-z0-9.-]+)(:[0-9]+)?$`)
	subject = regexp.MustCompile(`^[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)*$`)
	called  = regexp.MustCompile(`^(https?)://(\[[0-9a-fA-F:]+\]|[A-Za-z0-9.-]+)(:[0-9]+)?(/[^\s#]*)?$`)
)

var name = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// Read reads a file of hooks and checks it: every mistake is in the error.
func Read(data []byte) (*File, error) {
	var f File
	if err := estate.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("these are no hooks: %w", err)
	}
	if f.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", f.Version, Version)
	}
	env, err := cel.NewEnv(cel.Variable("event", cel.MapType(cel.StringType, cel.DynType)))
	if err != nil {
		return nil, err
	}
	var errs []error
	f.Mail.check(func(format string, args ...any) { errs = append(errs, fmt.Errorf("mail: "+format, args...)) })
	seen := map[string]bool{}
	for i := range f.Hooks {
		h := &f.Hooks[i]
		wrong := func(format string, args ...any) {
			errs = append(errs, fmt.Errorf("hooks[%d]: %w", i, fmt.Errorf(format, args...)))
		}
		h.check(f.Mail != nil, wrong)
		if seen[h.Name] {
			wrong("another is called %s", h.Name)
		}
		seen[h.Name] = true
		if h.condition, err = condition.New(env, h.When); err != nil {
			wrong("when: %v", err)
		}
	}
	return &f, errors.Join(errs...)
}

func (m *Mail) check(wrong func(string, ...any)) {
	if m == nil {
		return
	}
	host, port, is := strings.Cut(m.Server, ":")
	if !is || host == "" || port == "" {
		wrong("server: %q is no HOST:PORT", m.Server)
	}
	if !sender.MatchString(m.From) {
		wrong("from: %q is no address", m.From)
	}
	if (m.User == "") != (m.Secret == "") {
		wrong("a user has a password, whose name is the secret: say both or neither")
	}
	if m.Plain && m.User != "" {
		wrong("plain: a password is not sent where everybody can read it")
	}
}

func (h *Hook) check(mailed bool, wrong func(string, ...any)) {
	if !name.MatchString(h.Name) {
		wrong("hook: %q is no name: it has small letters, digits and -", h.Name)
	}
	if len(h.On) == 0 {
		wrong("on: nothing sets it off")
	}
	for _, t := range h.On {
		if !slices.Contains(Types, t) {
			wrong("on: there is no %q; there are %v", t, Types)
		}
	}
	what := 0
	for _, said := range []bool{h.Call != "", h.Publish != nil, len(h.Tell) > 0, h.Script != ""} {
		if said {
			what++
		}
	}
	h.checkMode(wrong)
	if h.Call == "" && h.Publish == nil && slices.Contains(h.On, LogNoted) {
		wrong("on: %s is for services alone: people would have a letter for all that anybody does", LogNoted)
	}
	if h.Script == "" && len(h.At) > 0 {
		wrong("at: only a script is run somewhere")
	}
	switch {
	case what != 1:
		wrong("it calls a service, publishes, tells people or runs a script: say one of call, publish, tell and script")
	case h.Script != "":
		h.checkScript(wrong)
	case h.Publish != nil:
		h.checkPublish(wrong)
	case h.Call != "":
		switch u := called.FindStringSubmatch(h.Call); {
		case strings.Contains(h.Call, "@"):
			wrong("call: a password is not part of an address: it is kept as a secret")
		case u == nil || u[1] == "http" && !loopback(u[2]):
			wrong("call: %q is no https address; http is for this machine alone", h.Call)
		}
		if h.Secret == "" {
			wrong("secret: what is called is to know that it was us: say the name of a secret")
		}
		if h.Say != "" {
			wrong("say: only a letter says something")
		}
	default:
		h.checkTell(mailed, wrong)
	}
}

func (h *Hook) checkMode(wrong func(string, ...any)) {
	switch {
	case !slices.Contains([]string{"", Structured, Binary, Batched}, h.Mode):
		wrong("mode: there is no %q; there are %s, %s and %s", h.Mode, Structured, Binary, Batched)
	case h.Call == "" && (h.Publish == nil && h.Mode != "" || h.Handshake):
		wrong("mode and handshake: only a service is sent events")
	case h.Mode == Batched && h.Publish != nil:
		wrong("mode: events are published one by one")
	case h.Mode == Batched && slices.Contains(h.On, RunMayBegin):
		wrong("mode: what is asked is asked alone: %s is not sent %s", RunMayBegin, Batched)
	}
}

func (h *Hook) checkPublish(wrong func(string, ...any)) {
	if err := h.Publish.Check(h.Secret); err != nil {
		wrong("publish: %w", err)
	}
	if slices.Contains(h.On, RunMayBegin) {
		wrong("on: who listens to a bus answers nothing, so %s calls a service", RunMayBegin)
	}
	if h.Say != "" {
		wrong("say: only a letter says something")
	}
}

// mostSubject bounds a subject.
const mostSubject = 200

// Check says what is wrong with a bus whose password or token is kept under a name.
func (p *Bus) Check(secret string) error {
	u := bus.FindStringSubmatch(p.Server)
	switch {
	case u == nil || u[1] == "nats" && !loopback(u[2]):
		return fmt.Errorf("server: %q is no tls://HOST:PORT; nats:// is for this machine alone", p.Server)
	case !subject.MatchString(p.Subject) || len(p.Subject) > mostSubject:
		return fmt.Errorf("subject: %q is no subject: it has letters, digits, - and _, with full stops between them", p.Subject)
	case p.User != "" && secret == "":
		return errors.New("user: whoever has a name there has a password: say the name of a secret")
	case p.Authority != "" && u[1] == "nats":
		return errors.New("authority: nobody vouches for a server that is spoken to in clear: its server is tls://HOST:PORT")
	case p.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(p.Authority)):
		return errors.New("authority: there is no certificate in it (PEM, RFC 7468)")
	}
	return nil
}

// mostScript bounds the text of a script, which every plan that runs it carries.
const mostScript = 64 << 10

func (h *Hook) checkScript(wrong func(string, ...any)) {
	if h.Secret != "" || h.Say != "" {
		wrong("a script is signed by nobody and says nothing: leave secret and say out")
	}
	if len(h.Script) > mostScript || strings.ContainsRune(h.Script, 0) {
		wrong("script: it is longer than %d KiB, or no text", mostScript>>10)
	}
	for _, t := range h.On {
		if !ofWhatStands[t] {
			wrong("on: at %s nothing stands for sure that a script could be run on; it can be run on %s, %s and %s", t, RunStands, RunFailed, RequestServing)
		}
	}
	for _, pattern := range h.At {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			wrong("at: %q is no pattern", pattern)
		}
	}
}

// ofWhatStands are the events after which something may stand on which a script is run.
var ofWhatStands = map[Type]bool{RunStands: true, RunFailed: true, RequestServing: true}

// purposePrefix begins what the runs are for that hooks set off.
const purposePrefix = "hook "

// Purpose is what the run is for that a hook sets off: the same for the same event, so that there is one of it.
func (h *Hook) Purpose(e *Event) string { return purposePrefix + h.Name + ": " + e.ID }

// Meant reports that a script is to be run on an instance, by any of its names.
func (h *Hook) Meant(names ...string) bool {
	return len(h.At) == 0 || slices.ContainsFunc(h.At, func(pattern string) bool {
		return slices.ContainsFunc(names, func(name string) bool { ok, _ := path.Match(pattern, name); return ok && name != "" })
	})
}

// Inputs are the variables that a script is given of an event.
func (e *Event) Inputs() map[string]string {
	return map[string]string{"EVENT_ID": e.ID, "EVENT_TYPE": string(e.Type), "EVENT_NAME": e.Name, "EVENT_PURPOSE": e.Purpose, "EVENT_BY": e.By,
		"EVENT_TEAM": e.Team, "EVENT_PERSON": e.Person, "EVENT_SERVICE": e.Service, "EVENT_STAGE": e.Stage}
}

func loopback(host string) bool {
	return host == "localhost" || strings.HasPrefix(host, "127.") || host == "::1"
}

func (h *Hook) checkTell(mailed bool, wrong func(string, ...any)) {
	if h.Secret != "" {
		wrong("secret: only what is called has one")
	}
	if !mailed {
		wrong("tell: nobody said how letters are sent: say mail")
	}
	if slices.Contains(h.On, RunMayBegin) {
		wrong("on: a letter answers nothing, so %s calls a service", RunMayBegin)
	}
	for _, who := range h.Tell {
		if strings.Contains(who, "@") && !address.MatchString(who) {
			wrong("tell: %q is no address", who)
		}
	}
}

// CheckAgainst says who of those who are told there is not, or has no address.
func (f *File) CheckAgainst(d *guard.Directory) error {
	var errs []error
	for i := range f.Hooks {
		for _, who := range f.Hooks[i].Tell {
			if who == Owner || strings.Contains(who, "@") {
				continue
			}
			if !d.Knows(who) {
				errs = append(errs, fmt.Errorf("hooks[%d].tell: %q is neither owner, a person, team:NAME nor an address", i, who))
			}
		}
	}
	return errors.Join(errs...)
}

// Set are the hooks that an event sets off. A condition that cannot be worked out sets nothing off, and is in the error.
func (f *File) Set(e *Event) ([]*Hook, error) {
	var out []*Hook
	var errs []error
	vars := e.vars()
	for i := range f.Hooks {
		h := &f.Hooks[i]
		if !slices.Contains(h.On, e.Type) {
			continue
		}
		if h.Script != "" && (e.Deployment == 0 || strings.HasPrefix(e.Purpose, purposePrefix)) {
			continue // what a script set off sets off no script: it would never end
		}
		yes, err := h.condition.Holds(vars)
		if err != nil {
			errs = append(errs, fmt.Errorf("hook %s: when: %w", h.Name, err))
		}
		if yes {
			out = append(out, h)
		}
	}
	return out, errors.Join(errs...)
}

// Hook is one by its name; nil if there is none.
func (f *File) Hook(name string) *Hook {
	for i := range f.Hooks {
		if f.Hooks[i].Name == name {
			return &f.Hooks[i]
		}
	}
	return nil
}

// To are the addresses of who is told, each once. Who has no address is left out, and said.
func (h *Hook) To(e *Event, d *guard.Directory) (addresses, without []string) {
	seen := map[string]bool{}
	add := func(address string) {
		if !seen[address] {
			seen[address] = true
			addresses = append(addresses, address)
		}
	}
	person := func(id string) {
		if d != nil && d.People[id].Mail != "" {
			add(d.People[id].Mail)
			return
		}
		without = append(without, id)
	}
	for _, who := range h.Tell {
		team, isTeam := strings.CutPrefix(who, "team:")
		switch {
		case who == Owner && e.Person != "":
			person(e.Person)
		case who == Owner:
			team, isTeam = e.Team, e.Team != ""
		case strings.Contains(who, "@"):
			add(who)
		case !isTeam:
			person(who)
		}
		if isTeam && d != nil {
			for _, id := range d.Teams[team].Members {
				person(id)
			}
		}
	}
	return addresses, without
}

// subjects say what happened, before what it happened to.
var subjects = map[Type]string{RunBegan: "began", RunStands: "stands", RunFailed: "failed", RunStopped: "was stopped", RequestAsked: "was asked for",
	RequestApproved: "is approved", RequestRefused: "is refused", RequestPriced: "has another price", RequestWithdrawn: "is withdrawn", RequestServing: "serves",
	AlertOpened: "has a fault", AlertEnded: "is well again", ReactionCalled: "needs a person"}

// Letter is what is written of an event: one line, and the whole. No control sequence of anybody's gets into it.
func (h *Hook) Letter(e *Event) (subject, text string) {
	clean := printable.Clean
	subject = clean(strings.TrimSpace(e.Title + " " + subjects[e.Type]))
	var out strings.Builder
	if h.Say != "" {
		fmt.Fprintf(&out, "%s\n\n", h.Say)
	}
	fmt.Fprintf(&out, "%s\n", subject)
	if e.Text != "" {
		fmt.Fprintf(&out, "%s\n", clean(e.Text))
	}
	out.WriteByte('\n')
	for _, l := range [][2]string{{"name", e.Name}, {"purpose", e.Purpose}, {"by", e.By}, {"for", strings.TrimSpace(e.Person + " " + e.Team)}, {"stage", e.Stage},
		{"at", strings.Join(e.Sites, ", ")}, {"request", number(e.Request)}, {"run", number(e.Run)}, {"alert", number(e.Alert)}, {"severity", e.Severity}, {"when", e.At.UTC().Format(time.RFC1123)}} {
		if l[1] != "" {
			fmt.Fprintf(&out, "%-8s %s\n", l[0], clean(l[1]))
		}
	}
	for _, tag := range slices.Sorted(maps.Keys(e.Tags)) {
		fmt.Fprintf(&out, "%-8s %s\n", clean(tag), clean(e.Tags[tag]))
	}
	if e.PerHour != 0 {
		fmt.Fprintf(&out, "%-8s %.3f %s/h\n", "costs", e.PerHour, clean(e.Currency))
	}
	return subject, out.String()
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// Tries are how often what failed is tried again before it is given up.
const Tries = 8

// Again is for how long what failed so often is left alone.
func Again(tries int) time.Duration {
	return min(10*time.Second<<min(max(tries-1, 0), 8), 15*time.Minute)
}
