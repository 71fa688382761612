package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"time"

	"andamio/internal/core/placement"
	problems "andamio/internal/core/placement/sample"
)

// Shapes of the problems that are measured, and how many of the smaller sort.
var (
	fewOnes  = problems.Shape{Workloads: 60, Sites: 12, Sizes: 5}
	manyOnes = problems.Shape{Workloads: 5000, Sites: 40, Sizes: 8, Hosts: 400}
	mostOnes = problems.Shape{Workloads: 20_000, Sites: 40, Sizes: 8, Hosts: 400}
)

const (
	compared  = 20
	solverFor = 20 * time.Second
)

// places measures the search for placements: how long, how far from its own bound, how much memory, and against a solver of
// mixed integer programs where one is installed.
func places() ([]result, error) {
	out, err := smallPlaces()
	if err != nil {
		return nil, err
	}
	for _, m := range []struct {
		shape  problems.Shape
		target time.Duration
	}{{manyOnes, 2 * time.Second}, {mostOnes, 12 * time.Second}} {
		rows, err := largePlace(m.shape, m.target)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	more, err := againstSolver()
	return append(out, more...), err
}

// smallPlaces times problems of the size that people change by hand, on one core.
func smallPlaces() ([]result, error) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	var times []time.Duration
	for seed := range uint64(compared) {
		p := problems.Problem(seed, fewOnes)
		begun := time.Now()
		if _, err := placement.Solve(p, placement.Options{}); err != nil {
			return nil, fmt.Errorf("problem %d: %w", seed, err)
		}
		times = append(times, time.Since(begun))
	}
	worst := percentile(times, 100)
	return []result{
		{name: "place 60 workloads, 12 sites, 5 sizes, 1 core", figure: percentile(times, 50), ratio: 1, base: "itself", target: 200 * time.Millisecond},
		{name: "the slowest of 20 such", figure: worst, ratio: ratio(worst, percentile(times, 50)), base: "the median", target: 200 * time.Millisecond},
	}, nil
}

func largePlace(shape problems.Shape, target time.Duration) ([]result, error) {
	p := problems.Problem(0, shape)
	var got *placement.Placement
	var took time.Duration
	peak, err := peakOf(func() (err error) {
		begun := time.Now()
		got, err = placement.Solve(p, placement.Options{Brief: true})
		took = time.Since(begun)
		return err
	})
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("place %d workloads, 40 sites, 400 hosts", shape.Workloads)
	return []result{
		{name: name, figure: took, ratio: took.Seconds() / target.Seconds(), base: "its target", target: target},
		{name: fmt.Sprintf("  how far from its own bound, %.2f %%", 100*got.Gap()), ratio: 100 * got.Gap(), base: "percent of the objective", most: 3},
		{name: fmt.Sprintf("  peak memory, %.0f MB", float64(peak)/1e6), ratio: float64(peak) / 1e6, base: "MB", most: 500},
	}, nil
}

var objective = regexp.MustCompile(`Objective value:\s+([-0-9.]+)`)

// againstSolver compares with what Debian's coinor-cbc finds for the exact model of the same problems.
func againstSolver() ([]result, error) {
	solver, err := exec.LookPath("cbc")
	if err != nil {
		fmt.Println("cbc is not installed (Debian: coinor-cbc), so placements are not compared with a solver's")
		return nil, nil
	}
	dir, err := os.MkdirTemp("", "andamio-lp-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	worst, lost, untrue := 0.0, 0, 0
	for seed := range uint64(compared) {
		shape := fewOnes
		if seed%2 == 0 { // such that the solver can finish
			shape = problems.Shape{Workloads: 12, Sites: 5, Sizes: 5, Fill: float64(seed%3) + 1}
		}
		p := problems.Problem(seed, shape)
		theirs, feasible, err := solved(solver, filepath.Join(dir, "model.lp"), p)
		if err != nil {
			return nil, err
		}
		ours, err := placement.Solve(p, placement.Options{Brief: true})
		switch {
		case !feasible:
		case err != nil:
			lost++
		default:
			over := ours.Objective/theirs - 1
			worst = max(worst, over)
			if ours.Proven && over > 1e-5 {
				untrue++
			}
		}
	}
	return []result{
		{name: fmt.Sprintf("worst of %d against a solver, %+.2f %%", compared, 100*worst), ratio: 1 + worst, base: fmt.Sprintf("cbc in %.0f s each", solverFor.Seconds()), most: 1.01},
		{name: fmt.Sprintf("  not placed where the solver finds one: %d", lost), ratio: float64(lost), base: "none", most: 1e-9},
		{name: fmt.Sprintf("  called proven and yet not the best: %d", untrue), ratio: float64(untrue), base: "none", most: 1e-9},
	}, nil
}

// solved is the best objective that the solver finds in its time; false if it proves that there is none.
func solved(solver, file string, p placement.Problem) (float64, bool, error) {
	var b bytes.Buffer
	if err := placement.WriteLP(&b, p); err != nil {
		return 0, false, err
	}
	if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
		return 0, false, err
	}
	out, err := exec.Command(solver, file, "sec", fmt.Sprint(int(solverFor.Seconds())), "solve").CombinedOutput()
	if err != nil {
		return 0, false, errors.Join(err, errors.New(string(out)))
	}
	found := objective.FindSubmatch(out)
	if found == nil || bytes.Contains(out, []byte("No feasible solution")) || bytes.Contains(out, []byte("problem is infeasible")) {
		return 0, false, nil
	}
	x, err := strconv.ParseFloat(string(found[1]), 64)
	return x, true, err
}
