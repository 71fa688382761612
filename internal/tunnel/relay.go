package tunnel

import (
	"context"
	"encoding/json"
	"net"
	"net/http"

	"andamio/internal/core/fault"
)

// refusal is why a process does not connect one through its worker, as it tells other processes.
type refusal struct {
	Detail string `json:"detail"`
	Kind   string `json:"kind,omitempty"`
}

// Tell writes why there is no connection, so that [Told] is the same error elsewhere.
func Tell(w http.ResponseWriter, status int, err error) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(refusal{err.Error(), kindOf(err)})
}

// Told is the error that [Tell] told.
func Told(text string) error {
	var r refusal
	if json.Unmarshal([]byte(text), &r) != nil || r.Detail == "" {
		return fault.Unavailablef("the process that the worker has connected to does not say why it cannot be gone through")
	}
	return failed(had{Failed: r.Detail, Kind: r.Kind})
}

// Join carries what either of two says to the other until both have said all, or the context ends.
func Join(ctx context.Context, a, b net.Conn) { join(ctx, a, b) }
