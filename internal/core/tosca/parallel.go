package tosca

import (
	"runtime"
	"sync"
)

// fewItems is up to how many items are not worth sharing out.
const fewItems = 512

// each does something for many items, on all cores where there are enough. Every worker is a reader of its own that
// shares what is only read; what they report is put together in the order of the items.
func (r *reader) each(n int, do func(w *reader, i int)) {
	workers := runtime.GOMAXPROCS(0)
	if n < fewItems || workers == 1 {
		for i := range n {
			do(r, i)
		}
		return
	}
	parts := make([]reader, workers)
	var group sync.WaitGroup
	for k := range parts {
		parts[k] = *r
		parts[k].diags = nil
		group.Go(func() {
			for i := n * k / workers; i < n*(k+1)/workers; i++ {
				do(&parts[k], i)
			}
		})
	}
	group.Wait()
	for k := range parts {
		r.diags = append(r.diags, parts[k].diags...)
	}
}
