package crash

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"andamio/internal/core/run"
)

// fall ends the stand-ins without a word, as a site's own crash does, and has them come back from what they kept.
func (l *life) fall() error {
	l.out.Falls++
	box, err := l.box.Restart(l.cfg)
	if err != nil {
		return fmt.Errorf("the stand-ins do not come back: %w", err)
	}
	l.box = box
	return nil
}

// mostCalls bounds after how many calls of a run its sites fall.
const mostCalls = 60

// falling has the sites fall in the middle of a run now and then; the function that it returns waits until they are back,
// and says whether they fell. Where they do not come back the run is ended.
func (l *life) falling(end context.CancelFunc) func() (bool, error) {
	if l.r.IntN(4) > 0 {
		return func() (bool, error) { return false, nil }
	}
	at := l.box.Calls() + 1 + l.r.Int64N(mostCalls)
	over := make(chan struct{})
	var group sync.WaitGroup
	var fell bool
	var err error
	group.Go(func() {
		look := time.NewTicker(time.Millisecond)
		defer look.Stop()
		for l.box.Calls() < at {
			select {
			case <-over:
				return
			case <-look.C:
			}
		}
		if fell, err = true, l.fall(); err != nil {
			end()
		}
	})
	return func() (bool, error) {
		close(over)
		group.Wait()
		if fell {
			l.done = append(l.done, "its sites fell")
		}
		return fell, err
	}
}

// work carries a run out in this process. One that met the fall of its sites and failed goes on afterwards.
func (l *life) work(ctx context.Context, id int64) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	back := l.falling(end)
	err := l.a.Work(ctx, id)
	fell, fallErr := back()
	if fallErr != nil {
		return fallErr
	}
	for try := 0; err != nil && fell && try < 3; try++ {
		if err = l.a.Resume(ctx, id); err == nil {
			l.out.Resumes++
			err = l.a.Work(ctx, id)
		}
	}
	if err == nil {
		return nil
	}
	s, replayErr := l.a.Replay(ctx, id)
	return errors.Join(err, replayErr, failures(s))
}

// toTheEnd has processes carry a run out, some of which are killed, while its sites may fall.
func (l *life) toTheEnd(ctx context.Context, id int64) error {
	falls, end := context.WithCancel(ctx)
	defer end()
	back := l.falling(end)
	err := l.t.toTheEnd(falls, l.a, l.r, id, &l.out)
	fell, fallErr := back()
	if err = errors.Join(err, fallErr); err != nil || !fell {
		return err
	}
	s, err := l.a.Replay(ctx, id)
	if err == nil && s.Status != run.Standing {
		err = fmt.Errorf("run %d is %s", id, s.Status)
	}
	return err
}
