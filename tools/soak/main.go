// Soak kills the workers of runs at random instants while the stand-ins misbehave, and checks that nothing is lost,
// doubled or left over: 500 times, or as often as its argument says. Then it lives whole lives of deployments. It exits
// with 1 at the first thing that is wrong.
package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"time"

	"andamio/internal/crash"
)

// Defaults, and how many kills a seed is used for.
const (
	kills     = 500
	killsEach = 50
	// Whole lives are lived beside: one for so many kills, of so many acts, with so many kills of their own.
	killsALife  = 25
	acts        = 10
	killsInLife = 5
)

func main() {
	if err := soak(); err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		os.Exit(1)
	}
}

func soak() error {
	most := kills
	if len(os.Args) > 1 {
		n, err := strconv.Atoi(os.Args[1])
		if err != nil {
			return fmt.Errorf("%q is no number of kills", os.Args[1])
		}
		most = n
	}
	dir, err := os.MkdirTemp("", "andamio-soak-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	first := uint64(time.Now().UnixNano() % 1e6)
	all := crash.Result{}
	for seed := first; all.Kills < most; seed++ {
		out, err := crash.Trial{Program: "bin/andamio", Dir: dir, Seed: seed, Kills: min(killsEach, most-all.Kills), Faults: 0.02, Pace: 0.02,
			Log: func(format string, args ...any) { fmt.Printf("  "+format+"\n", args...) }}.Run(context.Background())
		all.Runs, all.Kills, all.Resumes, all.Seconds = all.Runs+out.Runs, all.Kills+out.Kills, all.Resumes+out.Resumes, all.Seconds+out.Seconds
		if err != nil {
			return err
		}
		fmt.Printf("seed %d: %d runs survived %d kills and %d decisions, in %.0f s\n", seed, out.Runs, out.Kills, out.Resumes, out.Seconds)
	}
	fmt.Printf("%d runs survived %d kills and %d decisions in %.0f s: nothing lost, nothing doubled, nothing left over\n", all.Runs, all.Kills, all.Resumes, all.Seconds)
	return live(dir, first, max(most/killsALife, 4))
}

// live lives whole lives of deployments, with a few kills in each.
func live(dir string, first uint64, lives int) error {
	all := crash.Result{}
	for n := range lives {
		out, err := crash.Trial{Program: "bin/andamio", Dir: dir, Seed: first + uint64(n), Kills: killsInLife, Pace: 0.02,
			Log: func(format string, args ...any) { fmt.Printf("  "+format+"\n", args...) }}.Life(context.Background(), acts)
		all.Runs, all.Kills, all.Seconds = all.Runs+out.Runs, all.Kills+out.Kills, all.Seconds+out.Seconds
		if err != nil {
			return err
		}
	}
	fmt.Printf("%d lives of %d acts, %d runs and %d kills in %.0f s: what is declared is there, and nothing else\n", lives, acts, all.Runs, all.Kills, all.Seconds)
	return nil
}
