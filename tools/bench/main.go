// Bench measures what Andamio promises about its speed, on the program as it is built, and prints for each figure its
// ratio to something measured in the same run and its target. A missed target is reported as missed; nothing fails.
//
// Figures on a shared machine vary; ratios vary less. With the argument place only placements are measured,
// with compile only compilations, with keys only keys, with run only runs, with inventory only reconciliations, with move only moves,
// with account only accounts, with request only requests, with measure only what keeping and judging measures takes, with front only answers for fronts, with follow only following runs.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"
)

const binary = "bin/andamio"

// result is one line of the output.
type result struct {
	name   string
	figure time.Duration
	// ratio is the figure against base, and base what it is compared with.
	ratio  float64
	base   string
	target time.Duration
	// most is the ratio that is the target instead, where the target is a ratio.
	most float64
}

func main() {
	if err := bench(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func bench() error {
	dir, err := os.MkdirTemp("", "andamio-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if len(os.Args) > 1 && os.Args[1] == "inventory" {
		reconciled, err := inventories(dir)
		table(reconciled)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "move" {
		went, err := moved(dir)
		table(went)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "request" {
		asked, err := requested(dir)
		table(asked)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "account" {
		accounted, err := accounts(dir)
		table(accounted)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "compile" {
		compiled, err := compilations()
		table(compiled)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "keys" {
		pressed, err := keys(filepath.Join(dir, "run"))
		table(pressed)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "measure" {
		kept, err := measures(dir)
		table(kept)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "front" {
		answered, err := answers(dir)
		table(answered)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "follow" {
		followed, err := follows(dir)
		table(followed)
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "store" {
		stored, err := stores(dir)
		table(stored)
		return err
	}
	ran, err := ofRuns(dir) // first: the peak of memory is the process's
	if err != nil {
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "run" {
		table(ran)
		return nil
	}
	placed, err := places()
	if err != nil {
		return err
	}
	if len(os.Args) > 1 && os.Args[1] == "place" {
		table(placed)
		return nil
	}
	compiled, err := compilations()
	if err != nil {
		return err
	}
	results, err := starts(dir)
	if err != nil {
		return err
	}
	keys, err := keys(filepath.Join(dir, "run"))
	if err != nil {
		return err
	}
	reconciled, err := inventories(dir)
	if err != nil {
		return err
	}
	accounted, err := accounts(dir)
	if err != nil {
		return err
	}
	asked, err := requested(dir)
	if err != nil {
		return err
	}
	kept, err := measures(dir)
	if err != nil {
		return err
	}
	answered, err := answers(dir)
	if err != nil {
		return err
	}
	followed, err := follows(dir)
	if err != nil {
		return err
	}
	stored, err := stores(dir)
	if err != nil {
		return err
	}
	results = slices.Concat(results, keys, compiled, placed, ran, reconciled, accounted, asked, kept, answered, followed, stored)
	table(results)
	return nil
}

// table prints the results.
func table(results []result) {
	fmt.Printf("%-46s %10s %10s  %-34s %8s\n", "name", "figure", "ratio", "against", "target")
	for _, r := range results {
		verdict := "met"
		target := show(r.target)
		if r.most > 0 {
			target = fmt.Sprintf("≤ %.2f", r.most)
		}
		if r.target > 0 && r.figure > r.target || r.most > 0 && r.ratio > r.most {
			verdict = "MISSED"
		}
		if target == "" {
			verdict = ""
		}
		fmt.Printf("%-46s %10s %10.2f  %-34s %8s  %s\n", r.name, show(r.figure), r.ratio, r.base, target, verdict)
	}
}

func show(d time.Duration) string {
	switch {
	case d == 0:
		return ""
	case d < time.Millisecond:
		return fmt.Sprintf("%.0f µs", float64(d.Nanoseconds())/1000)
	}
	return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
}

// rounds is how often a start is measured.
const rounds = 21

// starts measures how soon the program says its version and shows its first frame, against the start of a program that
// does nothing.
func starts(dir string) ([]result, error) {
	nothing, err := median(func() (time.Duration, error) { return timed(exec.Command("true")) })
	if err != nil {
		return nil, err
	}
	version, err := median(func() (time.Duration, error) { return timed(exec.Command(binary, "--version")) })
	if err != nil {
		return nil, err
	}
	frame, err := median(func() (time.Duration, error) { return firstFrame(filepath.Join(dir, "start")) })
	if err != nil {
		return nil, err
	}
	check, err := median(func() (time.Duration, error) { return timed(exec.Command(binary, "check", "examples/flood-watch")) })
	if err != nil {
		return nil, err
	}
	return []result{
		{name: "andamio check of the demo, whole process", figure: check, ratio: ratio(check, version), base: "andamio --version", target: 100 * time.Millisecond},
		{name: "andamio --version, whole process", figure: version, ratio: ratio(version, nothing), base: "a process that does nothing", target: 30 * time.Millisecond},
		{name: "start to first frame", figure: frame, ratio: ratio(frame, version), base: "andamio --version", target: 150 * time.Millisecond},
	}, nil
}

func ratio(a, b time.Duration) float64 { return float64(a) / float64(b) }

func timed(cmd *exec.Cmd) (time.Duration, error) {
	start := time.Now()
	err := cmd.Run()
	return time.Since(start), err
}

// median is that of several measurements, the first of which only warms up.
func median(measure func() (time.Duration, error)) (time.Duration, error) {
	var all []time.Duration
	for i := range rounds + 1 {
		d, err := measure()
		if err != nil {
			return 0, err
		}
		if i > 0 {
			all = append(all, d)
		}
	}
	return percentile(all, 50), nil
}

func percentile(all []time.Duration, p int) time.Duration {
	sorted := slices.Sorted(slices.Values(all))
	return sorted[min(len(sorted)*p/100, len(sorted)-1)]
}
