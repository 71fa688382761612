package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"andamio/internal/api"
	"andamio/internal/app"
	"andamio/internal/core/run"
	"andamio/internal/service/tokens"
	"andamio/internal/store"
)

// How many follow one run over the interface for programs, how many events a second there are, and for how long.
const (
	followers    = 500
	followEvents = 1000
	followFor    = 12 * time.Second
	// followEach is every which event a follower looks at, in order not to measure itself.
	followEach = 50
)

// follows measures how long it takes from an event of a run until each of many followers has it, over one server; the followers are in the same process.
func follows(dir string) ([]result, error) {
	s, j, id, err := journalled(dir, "follow", flat(10))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := j.Append(run.Event{At: time.Now(), Kind: run.RunStarted}); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*followFor)
	defer cancel()
	a, err := app.Open(ctx, filepath.Join(dir, "follow"), app.Idle())
	if err != nil {
		return nil, err
	}
	defer a.Close()
	made, err := a.MakeToken(ctx, tokens.Wish{Name: "bench"}, time.Now())
	if err != nil {
		return nil, err
	}
	limits := api.Usual
	limits.PerSecond, limits.Burst = 10*followers, 10*followers
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	served := make(chan error, 1)
	go func() { served <- api.New(a, limits).Serve(ctx, l) }()
	took, err := followAll(ctx, fmt.Sprintf("http://%s/v1/runs/%d/events", l.Addr(), id), made.Secret, j)
	cancel()
	if err := errors.Join(err, <-served); err != nil {
		return nil, err
	}
	if len(took) < followers {
		return nil, fmt.Errorf("%d events were looked at, of %d followers", len(took), followers)
	}
	p99 := percentile(took, 99)
	return []result{{name: fmt.Sprintf("event to %d followers, %d a second, p99", followers, followEvents), figure: p99, ratio: ratio(p99, percentile(took, 50)), base: "the median", target: 250 * time.Millisecond}}, nil
}

// followAll has all follow while events are written, and returns how long it took to each, of those that were looked at.
func followAll(ctx context.Context, at, secret string, j store.Journal) ([]time.Duration, error) {
	var mu sync.Mutex
	var took []time.Duration
	var failed error
	var group sync.WaitGroup
	ctx, stop := context.WithCancel(ctx)
	ready := make(chan bool, followers)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: followers}}
	for range followers {
		group.Go(func() {
			mine, err := followOne(ctx, client, at, secret, ready)
			mu.Lock()
			defer mu.Unlock()
			took = append(took, mine...)
			if err != nil && ctx.Err() == nil {
				failed = err
			}
		})
	}
	for range followers {
		<-ready
	}
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	end := time.Now().Add(followFor)
	for now := range tick.C {
		if now.After(end) {
			break
		}
		events := make([]run.Event, followEvents/100)
		for i := range events {
			events[i] = run.Event{At: time.Now(), Kind: run.Logged, Step: "n00001/create", Text: "the level of the river is measured"}
		}
		if err := j.Append(events...); err != nil {
			stop()
			group.Wait()
			return nil, err
		}
	}
	time.Sleep(time.Second) // what is on its way arrives
	stop()
	group.Wait()
	return took, failed
}

// followOne follows until the context ends, and looks at some events.
func followOne(ctx context.Context, client *http.Client, at, secret string, ready chan<- bool) ([]time.Duration, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		ready <- false
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+secret)
	resp, err := client.Do(req)
	ready <- err == nil
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("a follower was answered %s", resp.Status)
	}
	var out []time.Duration
	n := 0
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for lines.Scan() {
		data, is := strings.CutPrefix(lines.Text(), "data: ")
		if !is {
			continue
		}
		if n++; n%followEach != 0 {
			continue
		}
		var e run.Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return nil, err
		}
		if e.Kind == run.Logged {
			out = append(out, time.Since(e.At))
		}
	}
	return out, nil
}
