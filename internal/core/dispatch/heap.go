package dispatch

// Heap is a priority queue. The standard library's takes every item through an interface, which for numbers costs more
// than the ordering.
type Heap[T any] struct {
	Items  []T
	Before func(a, b T) bool
}

// Len is how many items there are.
func (h *Heap[T]) Len() int { return len(h.Items) }

// Push adds an item.
func (h *Heap[T]) Push(x T) {
	h.Items = append(h.Items, x)
	i := len(h.Items) - 1
	for i > 0 {
		up := (i - 1) / 2
		if !h.Before(h.Items[i], h.Items[up]) {
			return
		}
		h.Items[i], h.Items[up] = h.Items[up], h.Items[i]
		i = up
	}
}

// Pop takes the first item; there must be one.
func (h *Heap[T]) Pop() T {
	first, last := h.Items[0], len(h.Items)-1
	h.Items[0] = h.Items[last]
	h.Items = h.Items[:last]
	for i := 0; ; {
		down := 2*i + 1
		if down >= last {
			return first
		}
		if down+1 < last && h.Before(h.Items[down+1], h.Items[down]) {
			down++
		}
		if !h.Before(h.Items[down], h.Items[i]) {
			return first
		}
		h.Items[i], h.Items[down] = h.Items[down], h.Items[i]
		i = down
	}
}
