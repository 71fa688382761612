// Mutants says how much of the code its tests hold: it makes one small change to the code after another, runs the tests of its package, and lists the changes that no
// test noticed. Each is a question: is this behaviour tested anywhere, or is the change without effect?
//
//	go run ./tools/mutants [--since REF] [--count N] [--seed S] [--at-once N] [--also PACKAGE]... [PACKAGE...]
//
// Without packages it asks what was changed since a commit, line by line; with them, a sample of all of each. Nothing is written to the tree: go builds with the change
// laid over it, many at once where a program can hold both what was and what it is changed into (either.go). It exits with 1 if something is not green before anything is changed.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

type options struct {
	since string
	count int
	seed  uint64
	also  []string
	// atOnce is how many changes are asked at once.
	atOnce int
}

func main() {
	var o options
	flag.StringVar(&o.since, "since", "HEAD", "commit since which what was changed is asked, where no package is named")
	flag.IntVar(&o.count, "count", 40, "how many changes are made in a package at most; 0 is all")
	flag.Uint64Var(&o.seed, "seed", uint64(time.Now().Unix()), "which of them: equal seeds make equal changes")
	flag.IntVar(&o.atOnce, "at-once", runtime.NumCPU(), "how many changes are asked at once, where a program holds many")
	flag.Func("also", "package whose tests are run for what the package's own do not notice; may be repeated", func(p string) error {
		o.also = append(o.also, p)
		return nil
	})
	flag.Parse()
	if err := measure(context.Background(), o, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

// measure asks the packages that are named, or what was changed.
func measure(ctx context.Context, o options, packages []string) error {
	var only map[string][]span
	if len(packages) == 0 {
		diff, err := diffSince(ctx, o.since)
		if err != nil {
			return err
		}
		only = changed(diff)
		packages = foldersOf(only)
		if len(packages) == 0 {
			fmt.Printf("nothing was changed since %s that could be asked\n", o.since)
			return nil
		}
	}
	made, held := 0, 0
	for _, p := range packages {
		n, k, err := of(ctx, o, path.Clean(p), only)
		if err != nil {
			return err
		}
		made, held = made+n, held+k
	}
	fmt.Printf("in all: %d changes, %d noticed, %d %%\n", made, held, 100*held/max(made, 1))
	return nil
}

// diffSince is what was changed since a commit, without the lines around it.
func diffSince(ctx context.Context, ref string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, "git", "diff", "--unified=0", ref, "--", "*.go").Output()
	if err != nil {
		return "", fmt.Errorf("git diff %s: %w", ref, err)
	}
	return string(out), nil
}

// of makes changes in one package, and returns how many, and how many were noticed.
func of(ctx context.Context, o options, folder string, only map[string][]span) (made, held int, err error) {
	all, err := mutations(folder)
	if err != nil {
		return 0, 0, err
	}
	if only != nil {
		all = slices.DeleteFunc(all, func(m mutation) bool {
			return !slices.ContainsFunc(only[m.File], func(s span) bool { return s.from <= m.Line && m.Line <= s.to })
		})
	}
	some := sample(all, o.count, o.seed)
	if len(some) == 0 {
		return 0, 0, nil
	}
	began := time.Now()
	if verdict := run(ctx, nil, 10*time.Minute, folder); verdict != survived {
		return 0, 0, fmt.Errorf("%s is not green before anything is changed: %s", folder, verdict)
	}
	limit := max(20*time.Second, 4*time.Since(began))
	tell := func(m *mutation, v verdict) {
		switch v {
		case broken:
			return // it is no program
		case survived:
			fmt.Printf("%s:%d %s: %s\n", m.File, m.Line, m.Func, m.words())
		default:
			held++
		}
		made++
	}
	alone, err := many(ctx, o, folder, some, tell)
	if err != nil {
		return 0, 0, err
	}
	for _, m := range alone {
		v := run(ctx, m, limit, folder)
		if v == survived && len(o.also) > 0 {
			v = run(ctx, m, 10*time.Minute, o.also...)
		}
		tell(m, v)
	}
	fmt.Printf("%s: %d changes, %d noticed, %d %%\n", folder, made, held, 100*held/max(made, 1))
	return made, held, nil
}

// many asks changes that programs can hold many of, and returns the others.
func many(ctx context.Context, o options, folder string, some []mutation, tell func(*mutation, verdict)) (alone []*mutation, err error) {
	var all []*mutation
	for i := range some {
		all = append(all, &some[i])
		if some[i].Either.Text == "" {
			alone = append(alone, &some[i])
		}
	}
	for _, changes := range together(all) {
		dir, err := os.MkdirTemp("", "mutants-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
		b, not, err := newBatch(ctx, dir, folder, append([]string{folder}, o.also...), changes)
		if err != nil {
			return nil, err
		}
		alone = append(alone, not...)
		b.askAll(ctx, o.atOnce, tell)
	}
	return alone, nil
}

// verdict is what became of a change.
type verdict string

const (
	survived verdict = "nobody noticed"
	noticed  verdict = "noticed"
	hung     verdict = "it went on and on"
	broken   verdict = "it is no program"
)

// draws reports that the tests of all packages draw what they are given (rapid): those that do keep what they fail by beside them.
func draws(packages []string) bool {
	for _, p := range packages {
		files, _ := filepath.Glob(filepath.Join(p, "*_test.go"))
		if !slices.ContainsFunc(files, func(name string) bool {
			text, err := os.ReadFile(name)
			return err == nil && bytes.Contains(text, []byte(`"pgregory.net/rapid"`))
		}) {
			return false
		}
	}
	return true
}

// run runs the tests of packages with a change laid over them; nil is none.
func run(ctx context.Context, m *mutation, limit time.Duration, packages ...string) verdict {
	ctx, cancel := context.WithTimeout(ctx, limit+2*time.Minute)
	defer cancel()
	args := []string{"test", "-vet=off", "-failfast", "-count=1", "-timeout=" + limit.String()}
	if m != nil {
		overlay, err := m.overlay()
		if err != nil {
			return broken
		}
		defer os.RemoveAll(path.Dir(overlay))
		args = append(args, "-overlay="+overlay)
	}
	for _, p := range packages {
		args = append(args, "./"+path.Clean(p))
	}
	if draws(packages) {
		args = append(args, "-rapid.nofailfile") // what a change fails by is of no interest afterwards
	}
	out, err := exec.CommandContext(ctx, "go", args...).CombinedOutput()
	text := string(out)
	switch {
	case err == nil:
		return survived
	case strings.Contains(text, "[build failed]"), strings.Contains(text, "[setup failed]"):
		return broken
	case ctx.Err() != nil, strings.Contains(text, "test timed out"):
		return hung
	}
	return noticed
}

// span are lines of a file, from one to another.
type span struct{ from, to int }

// changed are the lines of files that a difference without context adds or changes.
func changed(diff string) map[string][]span {
	out := map[string][]span{}
	file := ""
	for line := range strings.Lines(diff) {
		line = strings.TrimRight(line, "\n")
		if name, is := strings.CutPrefix(line, "+++ b/"); is {
			file = name
			continue
		}
		hunk, is := strings.CutPrefix(line, "@@ ")
		if !is || strings.HasSuffix(file, "_test.go") {
			continue
		}
		for _, field := range strings.Fields(hunk) {
			after, is := strings.CutPrefix(field, "+")
			if !is {
				continue
			}
			first, count, many := strings.Cut(after, ",")
			from, _ := strconv.Atoi(first)
			n := 1
			if many {
				n, _ = strconv.Atoi(count)
			}
			if n > 0 {
				out[file] = append(out[file], span{from, from + n - 1})
			}
		}
	}
	return out
}

// foldersOf are the folders of files, each once.
func foldersOf(files map[string][]span) []string {
	var out []string
	for f := range files {
		if strings.HasPrefix(f, "internal/") {
			out = append(out, path.Dir(f))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
