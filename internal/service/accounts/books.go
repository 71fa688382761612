package accounts

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/change"
	"andamio/internal/core/ledger"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// kept is a book with the runs that it is of.
type kept struct {
	runs string
	book *ledger.Book
}

// settled are the first of some runs, as far as they have ended: their journals do not change any more unless the key does.
func settled(runs []store.Run) (ended []store.Run, key string) {
	var out strings.Builder
	for i, r := range runs {
		if r.State == run.UnderWay || r.State == run.Planned || r.Ended.IsZero() {
			return runs[:i], out.String()
		}
		fmt.Fprintf(&out, "%d %d %t %d,", r.ID, r.Epoch, r.Void, r.Ended.UnixNano())
	}
	return runs, out.String()
}

// books are what was written down of each deployment until now. What has ended since is written down and kept; what goes on is read anew
// each time.
func (svc *Service) books(ctx context.Context) (map[int64]*ledger.Book, error) {
	all, err := svc.store.Runs(ctx)
	if err != nil {
		return nil, err
	}
	of := map[int64][]store.Run{}
	for _, r := range slices.Backward(all) { // the oldest first
		of[r.Deployment] = append(of[r.Deployment], r)
	}
	if err := svc.open(ctx); err != nil {
		return nil, err
	}
	out := map[int64]*ledger.Book{}
	for id, runs := range of {
		if out[id], err = svc.book(ctx, id, runs); err != nil {
			return nil, fmt.Errorf("what deployment %d cost: %w", id, err)
		}
	}
	return out, nil
}

// open reads the books that were kept, once.
func (svc *Service) open(ctx context.Context) error {
	c := svc.cache
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.books != nil {
		return nil
	}
	all, err := svc.store.Books(ctx)
	if err != nil {
		return err
	}
	c.books = map[int64]kept{}
	for id, b := range all {
		book := &ledger.Book{}
		if err := json.Unmarshal(b.Body, book); err != nil {
			continue // it is written anew from the journals, which are the truth
		}
		c.books[id] = kept{b.Runs, book.Of(id)}
	}
	return nil
}

// book is what was written down of a deployment until now.
func (svc *Service) book(ctx context.Context, id int64, runs []store.Run) (*ledger.Book, error) {
	ended, key := settled(runs)
	svc.cache.mu.Lock()
	k, have := svc.cache.books[id]
	svc.cache.mu.Unlock()
	var err error
	if !have || k.runs != key {
		if k, err = svc.write(ctx, id, ended, key, k); err != nil {
			return nil, err
		}
	}
	if len(ended) == len(runs) {
		return k.book, nil
	}
	book := k.book.Clone()
	stand, err := svc.deployments.Fold(ctx, ended)
	for _, r := range runs[len(ended):] {
		if err == nil {
			stand, err = svc.read(ctx, book, r, stand)
		}
	}
	return book, err
}

// write writes down the runs that have ended and keeps the book: those that came since the last book, or all, where one of those is not as it
// was.
func (svc *Service) write(ctx context.Context, id int64, ended []store.Run, key string, before kept) (kept, error) {
	book, rest := ledger.NewBook(id), ended
	var stand change.Standing
	if known := strings.Count(before.runs, ","); known > 0 && strings.HasPrefix(key, before.runs) {
		var err error
		if stand, err = svc.deployments.Fold(ctx, ended[:known]); err != nil {
			return kept{}, err
		}
		book, rest = before.book.Clone(), ended[known:]
	}
	var err error
	for _, r := range rest {
		if stand, err = svc.read(ctx, book, r, stand); err != nil {
			return kept{}, err
		}
	}
	body, err := json.Marshal(book)
	if err != nil {
		return kept{}, err
	}
	if err := svc.store.KeepBook(ctx, id, store.Book{Runs: key, Body: body}); err != nil {
		return kept{}, err
	}
	out := kept{key, book}
	svc.cache.mu.Lock()
	defer svc.cache.mu.Unlock()
	svc.cache.books[id] = out
	return out, nil
}

// mostEvents bounds how many events are read at once.
const mostEvents = 4000

// read writes the journal of one run into a book, and returns what stands after it. A run that was taken back counts for nothing.
func (svc *Service) read(ctx context.Context, book *ledger.Book, r store.Run, stand change.Standing) (change.Standing, error) {
	if r.Void {
		return stand, nil
	}
	p, err := svc.store.Plan(ctx, r.Plan)
	if err != nil {
		return stand, err
	}
	if stand.Plan == nil {
		stand = change.Nothing(p)
	}
	reader := book.Read(stand, p, r.Created)
	for {
		events, err := svc.store.Events(ctx, r.ID, reader.State().LastSeq, mostEvents)
		if err != nil {
			return stand, err
		}
		for _, e := range events {
			if err := reader.Apply(e); err != nil {
				return stand, fmt.Errorf("run %d: %w", r.ID, err)
			}
		}
		if len(events) < mostEvents {
			return change.After(stand, reader.State())
		}
	}
}
