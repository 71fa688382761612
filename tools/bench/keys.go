package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/run"
	"andamio/internal/service/sites"
)

// wide is a template whose run has about 2,000 steps: %d instances, six steps each.
const wide = `tosca_definitions_version: tosca_simple_yaml_1_3
metadata: { template_name: wide }
topology_template:
  node_templates:
    lan: { type: tosca.nodes.network.Network, properties: { network_name: lan, cidr: 10.0.0.0/16 } }
    worker:
      type: tosca.nodes.Compute
      capabilities:
        host: { properties: { num_cpus: 1, mem_size: 1 GiB, disk_size: 8 GiB } }
        scalable: { properties: { min_instances: 1, max_instances: 1000, default_instances: %d } }
    port: { type: tosca.nodes.network.Port, requirements: [ binding: worker, link: lan ] }
    part:
      type: tosca.nodes.WebServer
      capabilities: { data_endpoint: { properties: { protocol: http, port: 8080 } } }
      requirements: [ host: worker ]
      interfaces: { Standard: { create: part.sh, configure: part.sh, start: start.sh } }
`

const (
	instances = 333
	// pace makes the run last longer than the measurement.
	pace   = "0.5"
	sample = 400
)

var wideFiles = map[string]string{
	"template.yaml": fmt.Sprintf(wide, instances),
	"part.sh":       "for i in 1 2 3 4 5; do echo part $i; sleep 1; done\n",
	"start.sh":      "sleep 1\nhttpd -p 8080 -h /srv\n",
	"estate.json": `{"version": "andamio.estate/1", "currency": "cr", "sites": [{"name": "big", "kind": "private", "network": "address", "pace": 1,
 "zones": [{"name": "a", "free": {"cores": 2000, "memory_gib": 4000, "disk_gib": 90000}}], "free_form": true,
 "images": [{"name": "debian-12", "os": "linux"}], "prices": {"core": 0.03, "memory_gib": 0.01, "disk_gib": 0.001, "address": 0},
 "timings": {"network": 2, "volume": 4, "instance": 2, "interface": 0.5, "attachment": 1}}]}`,
}

// keys measures from a key to its frame, first with nothing under way, then while a run of 2,000 steps is watched.
func keys(dir string) ([]result, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	for name, text := range wideFiles {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	ws := filepath.Join(dir, "workspace")
	standIns := exec.Command(binary, "sandbox", "--workspace", ws, "--estate", filepath.Join(dir, "estate.json"), "--pace", pace, "--quiet")
	if err := standIns.Start(); err != nil {
		return nil, err
	}
	defer func() { _ = standIns.Process.Kill(); _ = standIns.Wait() }()
	for i := 0; !sites.StandInsRun(ws); i++ {
		if i > 200 {
			return nil, fmt.Errorf("the stand-ins did not start")
		}
		time.Sleep(25 * time.Millisecond)
	}
	idle, err := watched(ws, "")
	if err != nil {
		return nil, err
	}
	busy, err := watched(ws, dir)
	if err != nil {
		return nil, err
	}
	quiet := percentile(idle, 99)
	return []result{
		{name: "key to frame, nothing under way, p99", figure: quiet, ratio: 1, base: "itself", target: 16 * time.Millisecond},
		{name: "key to frame, run of 2,000 steps, median", figure: percentile(busy, 50), ratio: ratio(percentile(busy, 50), percentile(idle, 50)), base: "the same with nothing under way"},
		{name: "key to frame, run of 2,000 steps, p99", figure: percentile(busy, 99), ratio: ratio(percentile(busy, 99), quiet), base: "the same with nothing under way", target: 16 * time.Millisecond},
	}, nil
}

// watched measures on the Deploy view; with a template's folder, while a run of it goes on, which is checked.
func watched(ws, template string) ([]time.Duration, error) {
	if template != "" {
		file := filepath.Join(template, "plan.json")
		if out, err := exec.Command(binary, "plan", template, "-o", file).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("plan: %w: %s", err, out)
		}
		if out, err := exec.Command(binary, "run", file, "--detach", "--workspace", ws).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("run: %w: %s", err, out)
		}
		time.Sleep(8 * time.Second)
	}
	s, err := open("--workspace", ws)
	if err != nil {
		return nil, err
	}
	defer s.close()
	if _, err := s.wait("Deploy", time.Now()); err != nil {
		return nil, err
	}
	if err := s.press("4"); err != nil {
		return nil, err
	}
	time.Sleep(time.Second)
	all, err := s.latencies(sample)
	if err != nil || template == "" {
		return all, err
	}
	return all, stillUnderWay(ws)
}

// stillUnderWay makes sure that the run was going on during the whole measurement, and says how large it is.
func stillUnderWay(ws string) error {
	a, err := app.Open(context.Background(), ws)
	if err != nil {
		return err
	}
	defer a.Close()
	r, err := a.Run(context.Background(), 1)
	if err != nil {
		return err
	}
	if r.State != run.UnderWay {
		return fmt.Errorf("the run was %s before the measurement ended: it must last longer", r.State)
	}
	s, err := a.Replay(context.Background(), 1)
	if err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "while measured: %d of %d steps done, %d events\n", s.Done, r.Steps, s.LastSeq)
	return a.Cancel(context.Background(), 1)
}
