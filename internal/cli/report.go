package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"text/tabwriter"
	"time"

	"andamio/internal/core/money"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

// Report is what a run came to.
type Report struct {
	Run     int64  `json:"run"`
	Name    string `json:"name"`
	Preset  string `json:"preset,omitempty"`
	Status  string `json:"status"`
	Text    string `json:"text"`
	Steps   int    `json:"steps"`
	Done    int    `json:"done"`
	Failed  int    `json:"failed"`
	Levels  int    `json:"levels"`
	Sites   int    `json:"sites"`
	Retries int    `json:"retries"`
	// Makespan is how long it took, CriticalPath how long the plan expected, both in seconds.
	Makespan     float64           `json:"makespan_seconds"`
	CriticalPath float64           `json:"critical_path_seconds"`
	CostPerHour  money.Amount      `json:"cost_per_hour"`
	Currency     string            `json:"currency"`
	Outputs      map[string]string `json:"outputs,omitempty"`
	Failures     []string          `json:"failures,omitempty"`
	// Next are the commands that go on from here, where something is left to do.
	Next      []string               `json:"next,omitempty"`
	Endpoints []deployments.Endpoint `json:"endpoints"`
	// Calls is the number of requests that the stand-ins were sent; 0 if they are not in this process.
	Calls int64 `json:"calls,omitempty"`
}

// report gathers what a run came to and asks its endpoints.
func report(ctx context.Context, id int64, s *run.State) Report {
	p := s.Plan
	r := Report{Run: id, Name: p.Name, Preset: p.Preset, Status: string(s.Status), Text: s.Text, Steps: len(s.Steps), Done: s.Done,
		Failed: s.Failures, Levels: p.Levels, Sites: len(p.Sites), CriticalPath: p.Seconds, CostPerHour: p.CostPerHour,
		Currency: p.Currency, Outputs: s.Outputs}
	if s.Over() {
		r.Makespan = s.Ended.Sub(s.Started).Round(time.Millisecond).Seconds()
	}
	for i := range s.Steps {
		r.Retries += s.Steps[i].Retries
		if s.Steps[i].Error != "" {
			r.Failures = append(r.Failures, s.Steps[i].ID+": "+s.Steps[i].Error)
		}
	}
	if s.Over() && s.Status != run.Standing {
		r.Next = []string{fmt.Sprintf("andamio resume %d", id), fmt.Sprintf("andamio rollback %d", id)}
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	r.Endpoints = deployments.Ask(ctx, s)
	return r
}

func (s *shared) printReport(ctx context.Context, id int64, state *run.State) {
	s.writeReport(report(ctx, id, state))
}

func (s *shared) writeReport(r Report) {
	fmt.Fprintf(s.out, "\n%s", r.Name)
	if r.Preset != "" {
		fmt.Fprintf(s.out, " · %s", r.Preset)
	}
	fmt.Fprintf(s.out, "  run %d: %s (%s)\n", r.Run, r.Status, printable.Clean(r.Text))
	fmt.Fprintf(s.out, "  steps         %d of %d done, %d failed, %d retries\n", r.Done, r.Steps, r.Failed, r.Retries)
	fmt.Fprintf(s.out, "  levels        %d, at %s\n", r.Levels, printable.Count(r.Sites, "site"))
	fmt.Fprintf(s.out, "  makespan      %.1f s, critical path %.1f s", r.Makespan, r.CriticalPath)
	if r.CriticalPath > 0 && r.Makespan > 0 {
		fmt.Fprintf(s.out, ", ratio %.2f", r.Makespan/r.CriticalPath)
	}
	fmt.Fprintf(s.out, "\n  cost          %.3f %s/h\n", r.CostPerHour, r.Currency)
	if r.Calls > 0 {
		fmt.Fprintf(s.out, "  calls         %d requests to the sites\n", r.Calls)
	}
	for _, f := range r.Failures {
		fmt.Fprintf(s.out, "  ✕ %s\n", printable.Clean(f))
	}
	if len(r.Next) == 2 {
		fmt.Fprintf(s.out, "  %s tries again what failed and goes on, %s takes back what was done\n", r.Next[0], r.Next[1])
	}
	fmt.Fprintln(s.out, "  endpoints")
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, e := range r.Endpoints {
		mark := "✕"
		if e.Good {
			mark = "■"
		}
		fmt.Fprintf(w, "    %s %s\t%s\t%s\n", mark, printable.Clean(e.Resource), e.Site, printable.Clean(e.Said))
	}
	w.Flush()
	for _, name := range slices.Sorted(maps.Keys(r.Outputs)) {
		fmt.Fprintf(s.out, "  %s  %s\n", name, printable.Clean(r.Outputs[name]))
	}
}
