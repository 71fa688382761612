package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"andamio/internal/api"
	"andamio/internal/app"
	"andamio/internal/cli"
	"andamio/internal/core/run"
	"andamio/internal/service/tokens"
	"andamio/internal/session"
	"andamio/internal/store"
	"andamio/internal/upgrade"
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
	ctx, cancel := context.WithTimeout(context.Background(), 5*followFor)
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
	server := api.New(a, limits)
	server.Receives(cli.Receive)
	go func() { served <- server.Serve(ctx, l) }()
	at := fmt.Sprintf("http://%s/v1", l.Addr())
	took, err := followAll(ctx, fmt.Sprintf("%s/runs/%d/events", at, id), made.Secret, j)
	if err != nil {
		return nil, err
	}
	drawn, leave, err := watchers(ctx, at, made.Secret)
	if err != nil {
		return nil, err
	}
	last, err := a.Replay(ctx, id)
	if err != nil {
		return nil, err
	}
	beside, err := followAll(ctx, fmt.Sprintf("%s/runs/%d/events?after=%d", at, id, last.LastSeq), made.Secret, j)
	leave()
	cancel()
	if err := errors.Join(err, <-served); err != nil {
		return nil, err
	}
	if n := min(len(took), len(beside)); n < followers {
		return nil, fmt.Errorf("%d events were looked at, of %d followers", n, followers)
	}
	p99 := percentile(took, 99)
	with := percentile(beside, 99)
	return []result{{name: fmt.Sprintf("event to %d followers, %d a second, p99", followers, followEvents), figure: p99, ratio: ratio(p99, percentile(took, 50)), base: "the median", target: 250 * time.Millisecond},
		{name: fmt.Sprintf("  with %d screens beside, of that server", watching), figure: with, ratio: ratio(with, p99), base: "without", target: 250 * time.Millisecond},
		{name: "  what each of these was drawn, KiB a second", ratio: float64(drawn.Load()) / watching / followFor.Seconds() / 1024, base: "KiB"}}, nil
}

// watching is how many look at the screens of a server from elsewhere.
const watching = 50

// keyed are keys that are pressed once each, and nothing after them until the screens are left.
type keyed struct {
	keys string
	left <-chan struct{}
}

func (k *keyed) Read(b []byte) (int, error) {
	if k.keys == "" {
		<-k.left
		return 0, io.EOF
	}
	n := copy(b, k.keys[:1])
	k.keys = k.keys[n:]
	return n, nil
}

// weighed counts what is written.
type weighed struct{ n *atomic.Int64 }

func (c weighed) Write(b []byte) (int, error) {
	c.n.Add(int64(len(b)))
	return len(b), nil
}

// watchers open the screens of a server, at its runs, and leave them when they are told to.
func watchers(ctx context.Context, at, secret string) (drawn *atomic.Int64, leave func(), err error) {
	drawn = &atomic.Int64{}
	ctx, stop := context.WithCancel(ctx)
	left := make(chan struct{})
	var group sync.WaitGroup
	leave = func() {
		close(left)
		stop()
		group.Wait()
	}
	asked := session.Asked{Terminal: session.Terminal{In: true, Out: true, Size: session.Size{W: 160, H: 47}}, Environment: map[string]string{"TERM": "xterm-256color", "COLORTERM": "truecolor"}}
	for range watching {
		c, err := upgrade.Ask(ctx, session.Protocol, at+"/session", nil, secret, nil)
		if err != nil {
			leave()
			return nil, nil, err
		}
		group.Go(func() {
			_, _ = session.Ask(ctx, c, asked, session.Here{In: &keyed{"4", left}, Out: weighed{drawn}, Err: io.Discard})
		})
	}
	for end := time.Now().Add(followFor); drawn.Load() < watching*1000 && time.Now().Before(end); { // all have been drawn
		time.Sleep(10 * time.Millisecond)
	}
	drawn.Store(0)
	return drawn, leave, nil
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
