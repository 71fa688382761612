package reconcile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/service/deployments"
	"andamio/internal/service/shells"
	"andamio/internal/site"
	"andamio/internal/store"
)

// RegionInside is the part of a survey that goes into instances.
const RegionInside = "in instances"

// inspect is what is run in an instance: only what reads.
const inspect = `echo '== system'; cat /etc/os-release; echo "KERNEL=$(uname -r)"
echo '== packages'; dpkg-query -W 2>/dev/null || rpm -qa --qf '%{NAME}\t%{VERSION}\n' 2>/dev/null || true
echo '== listening'; netstat -ltnp 2>/dev/null || ss -Hltnp 2>/dev/null || true
echo '== connections'; netstat -tn 2>/dev/null || ss -Htn 2>/dev/null || true
echo '== processes'; ps -eo pid,comm 2>/dev/null || ps
`

// Bounds of going into instances: how many at once, for how long each, and how much is read of one.
const (
	insideAtOnce  = 8
	insidePatient = 20 * time.Second
	insideMost    = 2 << 20
)

// inside goes into the instances of deployments at the site by SSH, and keeps what is seen there. Instances that are off
// or of others are left out; if one cannot be entered what was seen before stays.
func (s *surveying) inside(ctx context.Context) error {
	all, err := s.svc.deployments.Deployments(ctx)
	if err != nil {
		return err
	}
	where := addresses(all)
	var hosts []shells.Host
	ids := map[string]string{}
	for i := range all {
		for _, h := range shells.HostsOf(&all[i]) {
			if h.Site == s.c.Site && !h.Off {
				hosts = append(hosts, h)
				ids[fmt.Sprint(h.Deployment, "/", h.ID)] = all[i].Stand.Plan.Known[h.ID]["site.id"]
			}
		}
	}
	seen := make([][]mapping.Observation, len(hosts))
	errs := make([]error, len(hosts))
	tokens := make(chan struct{}, insideAtOnce)
	var group sync.WaitGroup
	for i, h := range hosts {
		group.Go(func() {
			tokens <- struct{}{}
			defer func() { <-tokens }()
			seen[i], errs[i] = s.enter(ctx, h, ids[fmt.Sprint(h.Deployment, "/", h.ID)], where)
		})
	}
	group.Wait()
	p := store.SurveyPart{Region: RegionInside}
	for i := range seen {
		if err := s.svc.store.Stage(ctx, s.survey.ID, p, seen[i]); err != nil {
			return err
		}
	}
	return errors.Join(errs...)
}

// addresses leads from the address and port at which an instance is reached to SITE/ID.
func addresses(all []deployments.Deployment) map[string]string {
	out := map[string]string{}
	for i := range all {
		p := all[i].Stand.Plan
		for k := range p.Resources {
			r := &p.Resources[k]
			if r.Kind != kinds.Interface {
				continue
			}
			id := r.Site + "/" + p.Known[r.AsInterface().Instance]["site.id"]
			for name, v := range p.Known[r.ID] {
				if strings.HasPrefix(name, site.AttrPort) {
					out[net.JoinHostPort(p.Known[r.ID][site.AttrAddress], v)] = id
				}
			}
		}
	}
	return out
}

// enter looks around in one instance.
func (s *surveying) enter(ctx context.Context, h shells.Host, id string, where map[string]string) ([]mapping.Observation, error) {
	ctx, cancel := context.WithTimeout(ctx, insidePatient)
	defer cancel()
	var out bytes.Buffer
	_, err := s.svc.shells.Inside(ctx, h, "sh -s", strings.NewReader(inspect), shells.AtMost(&out, insideMost), io.Discard)
	if err != nil {
		return nil, fmt.Errorf("%s could not be entered: %w", h.ID, err)
	}
	return Inspected(s.c.Site, id, s.account, out.String(), where), nil
}

// Inspected reads what an instance printed about itself. Lines that are not understood are left out; where leads from
// addresses to instances.
func Inspected(at, id, account, text string, where map[string]string) []mapping.Observation {
	r := &inspector{at: at, id: id, account: account, where: where, system: map[string]string{}, seen: map[string]bool{}}
	section := ""
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if name, head := strings.CutPrefix(line, "== "); head {
			section = name
			continue
		}
		if line != "" {
			r.line(section, line)
		}
	}
	r.add("system", "system", r.system, "")
	return r.out
}

type inspector struct {
	at, id, account string
	where           map[string]string
	system          map[string]string
	seen            map[string]bool
	out             []mapping.Observation
}

func (r *inspector) add(kind, name string, raw map[string]string, target string) {
	id := r.id + "/" + kind + "/" + name
	if r.seen[id] || name == "" {
		return
	}
	r.seen[id] = true
	r.out = append(r.out, mapping.Observation{Site: r.at, Region: RegionInside, Account: r.account, Type: kind, ID: id, Name: name,
		State: "active", Source: r.id, Target: target, Raw: raw})
}

func (r *inspector) line(section, line string) {
	fields := strings.Fields(line)
	switch section {
	case "system":
		name, v, ok := strings.Cut(line, "=")
		if ok {
			r.system[strings.ToLower(name)] = strings.Trim(v, `"'`)
		}
	case "packages":
		if len(fields) == 2 {
			r.add("package", fields[0], map[string]string{"version": fields[1]}, "")
		}
	case "listening":
		r.listening(fields)
	case "connections":
		for _, f := range fields[min(len(fields), 4):] {
			if to := r.where[f]; to != "" && to != r.at+"/"+r.id {
				r.add("talk", f, map[string]string{"peer": f}, to)
			}
		}
	case "processes":
		if len(fields) > 1 && fields[0] != "PID" {
			name, _, _ := strings.Cut(fields[1], "/")
			r.system["processes"] = strings.TrimPrefix(r.system["processes"]+" "+name, " ")
		}
	}
}

// listening reads a line of netstat -ltnp or ss -ltnp: the fourth field is where something listens, the last who.
func (r *inspector) listening(fields []string) {
	if len(fields) < 4 {
		return
	}
	_, port, err := net.SplitHostPort(fields[3])
	if err != nil {
		return
	}
	program := ""
	if last := fields[len(fields)-1]; strings.Contains(last, "/") {
		_, program, _ = strings.Cut(last, "/")
	}
	r.add("listener", port, map[string]string{"port": port, "program": program}, "")
}
