package guard

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
)

// Version is the format of directories that [ReadDirectory] accepts.
const Version = "andamio.teams/1"

// Directory is who there is, in which teams, and what each may do to what: a file that the engineer edits (schemas/teams.schema.json).
type Directory struct {
	Version string            `json:"version"`
	People  map[string]Person `json:"people"`
	Teams   map[string]Team   `json:"teams,omitempty"`
	// Roles are rights under a name, beside those of [Roles] and before them.
	Roles    map[string][]Right `json:"roles,omitempty"`
	Grants   []Grant            `json:"grants"`
	Deputies []Deputy           `json:"deputies,omitempty"`
	// Identity says who people are who come over the network; nil if nobody does.
	Identity *Identity `json:"identity,omitempty"`

	at time.Time
}

// Person is somebody, and how they are known.
type Person struct {
	// Title is what they are called.
	Title string `json:"title,omitempty"`
	// User is that of the operating system, Keys are public keys of SSH, each as a line of an authorized_keys file.
	User string   `json:"user,omitempty"`
	Keys []string `json:"keys,omitempty"`
	Mail string   `json:"mail,omitempty"`
	// Identity is what the provider of identities calls them.
	Identity string `json:"identity,omitempty"`
}

// Team is people who share what they have, within another team or in none.
type Team struct {
	Title   string   `json:"title,omitempty"`
	Within  string   `json:"within,omitempty"`
	Members []string `json:"members,omitempty"`
}

// Grant gives a person, the members of a team or everybody who is known the rights of a role, within a scope.
type Grant struct {
	// To is a person, team:NAME, or everybody.
	To   string `json:"to"`
	Role string `json:"role"`
	Scope
}

// Scope bounds what a grant is for; what is not said bounds nothing. Names are patterns with * and ?.
type Scope struct {
	// Teams are whose things they are; "own" are those of the teams that one is in, and of teams within these.
	Teams    []string          `json:"teams,omitempty"`
	Sites    []string          `json:"sites,omitempty"`
	Services []string          `json:"services,omitempty"`
	Stages   []string          `json:"stages,omitempty"`
	Tags     map[string]string `json:"tags,omitempty"`
	// Deployments are those of some names.
	Deployments []string `json:"deployments,omitempty"`
}

// Own stands for the teams that one is in.
const Own = "own"

// everybody is whom a grant is for that is for everybody who is known.
const everybody = "everybody"

// teamPrefix begins whom a grant is for that is for a team.
const teamPrefix = "team:"

// Roles are the roles that need not be written down.
var Roles = map[string][]Right{
	"engineer":  Rights,
	"operator":  {Read, Ask, Operate, Move, Settle},
	"approver":  {Ask, Approve, Account},
	"requester": {Ask},
	"auditor":   {Read, Account},
}

// Thing is what something is done to, as far as a scope asks. What is not known fits no bound.
type Thing struct {
	// Name names it where it is spoken of.
	Name string
	// Run, Move and Deployment say where the rest follows from, if it is not known yet.
	Run, Move, Deployment, Proposal int64

	// Called is the name of the deployment that it is, or is of.
	Called  string
	Team    string
	Person  string
	Service string
	Stage   string
	Sites   []string
	Tags    map[string]string
}

// Owner is whose something is that was raised for somebody.
type Owner struct {
	Team    string            `json:"team,omitempty"`
	Person  string            `json:"person,omitempty"`
	Service string            `json:"service,omitempty"`
	Stage   string            `json:"stage,omitempty"`
	Tags    map[string]string `json:"tags,omitempty"`
}

// Nobody reports that nothing is said of whose it is.
func (o Owner) Nobody() bool {
	return o.Team == "" && o.Person == "" && o.Service == "" && o.Stage == "" && len(o.Tags) == 0
}

// Named is a thing of which no more than its name is known.
func Named(name string) Thing { return Thing{Name: name} }

// At is a site as a thing.
func At(sites ...string) Thing { return Thing{Name: strings.Join(sites, " and "), Sites: sites} }

// id is what people, teams and roles are called in a directory.
var id = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,61}[a-z0-9])?$`)

// ReadDirectory reads a directory and checks it: every mistake is in the error.
func ReadDirectory(data []byte) (*Directory, error) {
	var d Directory
	if err := estate.Decode(data, &d); err != nil {
		return nil, fmt.Errorf("this is no directory of teams: %w", err)
	}
	if d.Version != Version {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", d.Version, Version)
	}
	for i := range d.Deputies {
		x := &d.Deputies[i]
		x.From, x.Until = estate.Day(x.From), estate.Day(x.Until)
	}
	return &d, d.Check()
}

// Check says what is wrong with a directory, all of it; nil if nothing is.
func (d *Directory) Check() error {
	var errs []error
	wrong := func(at, format string, args ...any) {
		errs = append(errs, fmt.Errorf("%s: %s", at, fmt.Sprintf(format, args...)))
	}
	d.checkPeople(wrong)
	d.checkIdentity(wrong)
	d.checkTeams(wrong)
	for _, name := range slices.Sorted(maps.Keys(d.Roles)) {
		checkID(wrong, "roles", name)
		for _, r := range d.Roles[name] {
			if !slices.Contains(Rights, r) {
				wrong("roles."+name, "%q is no right; there are %v", r, Rights)
			}
		}
	}
	for i := range d.Grants {
		d.checkGrant(wrong, i)
	}
	for i := range d.Deputies {
		d.checkDeputy(wrong, i)
	}
	if errs == nil && d.Keepers() == nil {
		wrong("grants", "nobody may keep the workspace: somebody needs the right %q, such as the role engineer, without bounds", Keep)
	}
	return errors.Join(errs...)
}

type wronged func(at, format string, args ...any)

func checkID(wrong wronged, what, name string) {
	if !id.MatchString(name) {
		wrong(what, "%q is no name: it is made of small letters, digits, dots, hyphens and underscores", name)
	}
}

func (d *Directory) checkPeople(wrong wronged) {
	users, keys := map[string]string{}, map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(d.People)) {
		p, at := d.People[name], "people."+name
		checkID(wrong, "people", name)
		if name == everybody {
			wrong(at, "nobody can be called so")
		}
		if other := users[p.User]; p.User != "" && other != "" {
			wrong(at+".user", "%s is %s already", p.User, other)
		}
		users[p.User] = name
		for i, line := range p.Keys {
			key, err := publicKey(line)
			if err != nil {
				wrong(fmt.Sprintf("%s.keys[%d]", at, i), "%v", err)
				continue
			}
			if other := keys[key]; other != "" {
				wrong(fmt.Sprintf("%s.keys[%d]", at, i), "it is the key of %s already", other)
			}
			keys[key] = name
		}
	}
}

func (d *Directory) checkTeams(wrong wronged) {
	for _, name := range slices.Sorted(maps.Keys(d.Teams)) {
		t, at := d.Teams[name], "teams."+name
		checkID(wrong, "teams", name)
		if name == Own {
			wrong(at, "no team can be called so: it stands for those that one is in")
		}
		if _, known := d.Teams[t.Within]; t.Within != "" && !known {
			wrong(at+".within", "there is no team %q", t.Within)
		}
		if slices.Contains(d.Around(t.Within), name) {
			wrong(at+".within", "it would be within itself")
		}
		for _, m := range t.Members {
			if _, known := d.People[m]; !known {
				wrong(at+".members", "there is nobody called %q", m)
			}
		}
	}
}

func (d *Directory) checkGrant(wrong wronged, i int) {
	g, at := &d.Grants[i], fmt.Sprintf("grants[%d]", i)
	if !d.Knows(g.To) {
		wrong(at+".to", "%q is neither a person, team:NAME of a team that there is, nor everybody", g.To)
	}
	if d.rightsOf(g.Role) == nil {
		wrong(at+".role", "there is no role %q; there are %s", g.Role, strings.Join(d.roleNames(), ", "))
	}
	for _, name := range g.Teams {
		if _, known := d.Teams[name]; !known && name != Own && !strings.ContainsAny(name, "*?[") {
			wrong(at+".teams", "there is no team %q", name)
		}
	}
	for _, list := range [][]string{g.Teams, g.Sites, g.Services, g.Stages, g.Deployments} {
		for _, pattern := range list {
			if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
				wrong(at, "%q is no pattern", pattern)
			}
		}
	}
}

func (d *Directory) rightsOf(role string) []Right {
	if r, own := d.Roles[role]; own {
		return r
	}
	return Roles[role]
}

func (d *Directory) roleNames() []string {
	all := map[string]bool{}
	for name := range d.Roles {
		all[name] = true
	}
	for name := range Roles {
		all[name] = true
	}
	return slices.Sorted(maps.Keys(all))
}

// publicKey is a public key of SSH without its comment, from a line of an authorized_keys file (OpenSSH, sshd(8)): its kind and its
// bytes in base64, which begin with the kind (RFC 4253, section 6.6).
func publicKey(line string) (string, error) {
	words := strings.Fields(line)
	if len(words) < 2 {
		return "", errors.New("it is no public key: a kind and a key in base64 were expected, as ssh-keygen writes them")
	}
	data, err := base64.StdEncoding.DecodeString(words[1])
	if err != nil || len(data) < 4 {
		return "", errors.New("it is no public key: what comes after its kind is not base64")
	}
	n := binary.BigEndian.Uint32(data)
	if uint64(n) > uint64(len(data)-4) || string(data[4:4+n]) != words[0] {
		return "", fmt.Errorf("it is no public key of the kind %s", words[0])
	}
	return words[0] + " " + words[1], nil
}

// ByUser is the person with a user of the operating system; "" if there is none.
func (d *Directory) ByUser(user string) string {
	for name, p := range d.People {
		if user != "" && p.User == user {
			return name
		}
	}
	return ""
}

// ByKey is the person with a public key of SSH, as a line of an authorized_keys file; "" if there is none.
func (d *Directory) ByKey(line string) string {
	want, err := publicKey(line)
	if err != nil {
		return ""
	}
	for name, p := range d.People {
		for _, k := range p.Keys {
			if got, err := publicKey(k); err == nil && got == want {
				return name
			}
		}
	}
	return ""
}

// Around are a team and those that it is within, the innermost first.
func (d *Directory) Around(team string) []string {
	var out []string
	for team != "" && !slices.Contains(out, team) {
		out = append(out, team)
		team = d.Teams[team].Within
	}
	return out
}

// TeamsOf are the teams that somebody is a member of, sorted.
func (d *Directory) TeamsOf(person string) []string {
	var out []string
	for name, t := range d.Teams {
		if slices.Contains(t.Members, person) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Is reports that somebody is meant by a word: them, everybody, or team:NAME of a team that theirs is or is within.
func (d *Directory) Is(person, who string) bool {
	if team, is := strings.CutPrefix(who, teamPrefix); is {
		return slices.ContainsFunc(d.TeamsOf(person), func(t string) bool { return slices.Contains(d.Around(t), team) })
	}
	return who == everybody || who == person
}

// Knows reports that there is whom a word means: a person, a team as team:NAME, or everybody.
func (d *Directory) Knows(who string) bool {
	team, isTeam := strings.CutPrefix(who, teamPrefix)
	_, person := d.People[who]
	_, known := d.Teams[team]
	return person || who == everybody || isTeam && known
}

// Keepers are those who may keep the workspace, sorted.
func (d *Directory) Keepers() []string {
	var out []string
	for name := range d.People {
		if d.Unbounded(name, Keep) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
