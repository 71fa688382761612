package engine

import "sync"

// Wakes passes on that something at a site has changed to the step that waits for it. A wake says only that it is worth
// looking: what is so is read from the site, so that one that is repeated, late or out of order does no harm.
type Wakes struct {
	mu      sync.Mutex
	pushes  map[string]bool
	waiting map[string]chan struct{}
	// early are wakes for what nobody waited for yet, the oldest first.
	early []string
}

// maxEarly bounds how many wakes are kept for those who come late.
const maxEarly = 4096

// NewWakes makes a Wakes that no site sends to yet.
func NewWakes() *Wakes { return &Wakes{pushes: map[string]bool{}, waiting: map[string]chan struct{}{}} }

// Pushes says that a site sends notices, so that asking it may be put off.
func (w *Wakes) Pushes(site string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pushes[site] = true
}

func (w *Wakes) pushed(site string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.pushes[site]
}

// Wake says that the thing of that id at a site has changed.
func (w *Wakes) Wake(site, id string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	key := site + " " + id
	if c := w.waiting[key]; c != nil {
		select {
		case c <- struct{}{}:
		default:
		}
		return
	}
	if len(w.early) >= maxEarly {
		w.early = append(w.early[:0], w.early[maxEarly/2:]...)
	}
	w.early = append(w.early, key)
}

// wait returns a channel that is written to when the thing changes, or did shortly before; stop ends the waiting.
func (w *Wakes) wait(site, id string) (c <-chan struct{}, stop func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	key := site + " " + id
	out := make(chan struct{}, 1)
	for _, e := range w.early {
		if e == key {
			out <- struct{}{}
			break
		}
	}
	w.waiting[key] = out
	return out, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.waiting, key)
	}
}
