package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
)

// program is the tests of a package, built once over many changes.
type program struct {
	folder, file string
	tests        []test
}

// test is one of them: how long it takes by itself, and which changes it comes by.
type test struct {
	name  string
	took  time.Duration
	comes map[int]bool
}

// batch are changes that are held by the same programs, each by its number: the package's own tests first.
type batch struct {
	changes  map[int]*mutation
	programs []*program
}

// quick is how long the tests take that are tried before the others: most of what is noticed is noticed by them.
const quick = 2 * time.Second

// newBatch builds what holds changes, and returns those that it cannot hold.
func newBatch(ctx context.Context, dir, folder string, packages []string, changes []*mutation) (*batch, []*mutation, error) {
	b := &batch{changes: map[int]*mutation{}}
	for i, m := range changes {
		b.changes[i+1] = m
	}
	var not []*mutation
	for len(b.changes) > 0 {
		overlay, err := b.overlay(dir, folder)
		if err != nil {
			return nil, nil, err
		}
		wrong, err := b.mistakes(ctx, overlay, folder)
		if err != nil {
			return nil, nil, err
		}
		if len(wrong) == 0 {
			return b, not, b.build(ctx, dir, overlay, packages)
		}
		for _, n := range wrong {
			not = append(not, b.changes[n])
			delete(b.changes, n)
		}
	}
	return b, not, nil
}

// overlay writes the files with their changes, and what lays them over the tree.
func (b *batch) overlay(dir, folder string) (string, error) {
	whole, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	byFile := map[string]map[int]*mutation{}
	for n, m := range b.changes {
		if byFile[m.File] == nil {
			byFile[m.File] = map[int]*mutation{}
		}
		byFile[m.File][n] = m
	}
	replace := map[string]string{}
	lay := func(name string, text []byte) error {
		at := filepath.Join(dir, filepath.Base(name))
		replace[filepath.Join(whole, filepath.Base(name))] = at
		return os.WriteFile(at, text, 0o600)
	}
	var clause string
	for name, of := range byFile {
		src, err := os.ReadFile(name)
		if err != nil {
			return "", err
		}
		clause = string(packageClause.Find(src))
		if err := lay(name, holding(src, of)); err != nil {
			return "", err
		}
	}
	if err := lay("zz_mutants.go", []byte(clause+"\n"+helpers)); err != nil {
		return "", err
	}
	text, err := json.Marshal(map[string]map[string]string{"Replace": replace})
	if err != nil {
		return "", err
	}
	at := filepath.Join(dir, "overlay.json")
	return at, os.WriteFile(at, text, 0o600)
}

var (
	packageClause = regexp.MustCompile(`(?m)^package \w+`)
	mistakeAt     = regexp.MustCompile(`(?m)([\w.-]+\.go):(\d+):`)
)

// mistakes are the changes that make no program together with what was there: a number that is no int, for instance. All, if it is not known which.
func (b *batch) mistakes(ctx context.Context, overlay, folder string) ([]int, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, "go", "build", "-gcflags=-e", "-overlay="+overlay, "./"+filepath.Clean(folder)).CombinedOutput()
	if err == nil {
		return nil, nil
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("building %s took too long", folder)
	}
	var wrong, all []int
	for n, m := range b.changes {
		all = append(all, n)
		for _, at := range mistakeAt.FindAllStringSubmatch(string(out), -1) {
			line, _ := strconv.Atoi(at[2])
			if at[1] == filepath.Base(m.File) && m.Either.First <= line && line <= m.Either.End {
				wrong = append(wrong, n)
				break
			}
		}
	}
	if len(wrong) == 0 {
		return all, nil
	}
	return wrong, nil
}

// build makes the programs, and finds out which of their tests come by which change.
func (b *batch) build(ctx context.Context, dir, overlay string, packages []string) error {
	for i, folder := range packages {
		p := &program{folder: folder, file: filepath.Join(dir, fmt.Sprintf("tests-%d", i))}
		building, cancel := context.WithTimeout(ctx, 10*time.Minute)
		out, err := exec.CommandContext(building, "go", "test", "-c", "-vet=off", "-overlay="+overlay, "-o", p.file, "./"+filepath.Clean(folder)).CombinedOutput()
		cancel()
		if err != nil {
			return fmt.Errorf("building the tests of %s: %w\n%s", folder, err, out)
		}
		if _, err := os.Stat(p.file); errors.Is(err, os.ErrNotExist) {
			continue // it has no tests
		}
		if err := p.look(ctx, filepath.Join(dir, "note")); err != nil {
			return err
		}
		b.programs = append(b.programs, p)
	}
	return nil
}

// look runs each test by itself.
func (p *program) look(ctx context.Context, note string) error {
	list, err := p.run(ctx, time.Minute, nil, "-test.list=^(Test|Fuzz|Example)")
	if err != nil {
		return fmt.Errorf("the tests of %s cannot be listed: %w", p.folder, err)
	}
	for _, name := range strings.Fields(list) {
		_ = os.Remove(note)
		began := time.Now()
		if out, err := p.run(ctx, 10*time.Minute, []string{"MUTANTS_NOTE=" + note}, "-test.run=^"+name+"$"); err != nil {
			return fmt.Errorf("%s of %s is not green by itself, before anything is changed: %w\n%s", name, p.folder, err, out)
		}
		t := test{name: name, took: time.Since(began), comes: map[int]bool{}}
		text, _ := os.ReadFile(note) // none: it comes by no change
		for _, n := range strings.Fields(string(text)) {
			number, _ := strconv.Atoi(n)
			t.comes[number] = true
		}
		p.tests = append(p.tests, t)
	}
	slices.SortStableFunc(p.tests, func(a, b test) int { return cmp.Compare(a.took, b.took) })
	return nil
}

func (p *program) run(ctx context.Context, limit time.Duration, env []string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, limit+time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, p.file, append(args, "-test.failfast", "-test.timeout="+limit.String())...)
	c.Dir, c.Env, c.WaitDelay = p.folder, append(os.Environ(), env...), 10*time.Second
	if draws([]string{p.folder}) {
		c.Args = append(c.Args, "-rapid.nofailfile")
	}
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	err := c.Run()
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return out.String(), err
}

// askAll asks all changes, so many at once, and tells what became of each as it is known.
func (b *batch) askAll(ctx context.Context, atOnce int, tell func(*mutation, verdict)) {
	var telling sync.Mutex
	var all errgroup.Group
	all.SetLimit(max(atOnce, 1))
	for _, n := range slices.Sorted(maps.Keys(b.changes)) {
		all.Go(func() error {
			v := b.ask(ctx, n)
			telling.Lock()
			defer telling.Unlock()
			tell(b.changes[n], v)
			return nil
		})
	}
	_ = all.Wait()
}

// ask runs the tests that come by a change, the quick ones first.
func (b *batch) ask(ctx context.Context, n int) verdict {
	for _, p := range b.programs {
		if v := p.ask(ctx, n); v != survived {
			return v
		}
	}
	return survived
}

func (p *program) ask(ctx context.Context, n int) verdict {
	var first, rest []string
	var took, whole time.Duration
	for _, t := range p.tests {
		if !t.comes[n] {
			continue
		}
		whole += t.took
		if took += t.took; took <= quick || len(first) == 0 {
			first = append(first, t.name)
			continue
		}
		rest = append(rest, t.name)
	}
	for _, names := range [][]string{first, rest} {
		if len(names) == 0 {
			continue
		}
		out, err := p.run(ctx, max(20*time.Second, 4*whole), []string{"MUTANTS_CHOSEN=" + strconv.Itoa(n)}, "-test.run=^("+strings.Join(names, "|")+")$")
		switch {
		case err == nil:
		case errors.Is(err, context.DeadlineExceeded), strings.Contains(out, "test timed out"):
			return hung
		default:
			return noticed
		}
	}
	return survived
}
