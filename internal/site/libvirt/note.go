package libvirt

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/core/kinds"
)

// note is what is known of a volume, of a snapshot or of a machine in the making, and that libvirt has no place for. It lies in a small
// volume of its own beside what it is about, is made before that and removed after it: whatever is broken off in between is found.
type note struct {
	Kind kinds.Kind        `json:"kind"`
	Name string            `json:"name"`
	Mark string            `json:"mark,omitempty"`
	Tags map[string]string `json:"tags,omitempty"`
	// Beat is when whoever makes it said last that it is at it; it is no more of use once the thing is made.
	Beat time.Time `json:"beat"`
	// Of is the disk that a snapshot is of, and Taken when it was whole.
	Of string `json:"of,omitempty"`
	// Memory says that it is of the memory of the machine Of.
	Memory bool      `json:"memory,omitempty"`
	Taken  time.Time `json:"taken,omitzero"`
	// IOPerSecond and IOMiBPerSecond bound a volume; 0 does not.
	IOPerSecond    int     `json:"io_per_second,omitempty"`
	IOMiBPerSecond float64 `json:"io_mib_per_second,omitempty"`
}

// noteSize is how large the volume of a note is, in bytes.
const noteSize = 16 << 10

// The names of volumes: what belongs to the thing of an id begins with ours and the id.
const (
	ours     = "andamio-"
	noteEnd  = ".note"
	diskEnd  = ".disk"
	seedEnd  = ".seed"
	logEnd   = ".console"
	dataEnd  = ".data"
	unmarked = "made by somebody else"
)

// parted is the id and the ending of the name of a volume of ours.
func parted(name string) (id, end string, own bool) {
	rest, own := strings.CutPrefix(name, ours)
	if !own {
		return "", "", false
	}
	i := strings.LastIndexByte(rest, '.')
	if i < 0 {
		return "", "", false
	}
	return rest[:i], rest[i:], true
}

// raw describes a volume of plain bytes.
func raw(name string, bytes uint64) string {
	return fmt.Sprintf("<volume><name>%s</name><allocation>0</allocation><capacity>%d</capacity><target><format type='raw'/><permissions><mode>0600</mode></permissions></target></volume>",
		escaped(name), bytes)
}

// keepNote writes a note, over another if there is one.
func (h *host) keepNote(ctx context.Context, l *libvirt.Libvirt, pool libvirt.StoragePool, id string, n note) error {
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if len(text) > noteSize {
		return fmt.Errorf("what is to be noted takes %d bytes; at most %d are kept: use fewer or shorter tags", len(text), noteSize)
	}
	vol, err := l.StorageVolCreateXML(pool, raw(ours+id+noteEnd, noteSize), 0)
	if is(err, libvirt.ErrStorageVolExist) {
		vol, err = l.StorageVolLookupByName(pool, ours+id+noteEnd)
	}
	if err != nil {
		return err
	}
	return h.upload(ctx, vol, 0, append(text, bytes.Repeat([]byte(" "), noteSize-len(text))...))
}

// Whoever makes something says every beat that it is at it; what nothing was heard of for as long as silence is half made.
const (
	beat    = 5 * time.Second
	silence = 30 * time.Second
)

// stale reports that whoever made it broke off.
func (n *note) stale() bool { return time.Since(n.Beat) > silence }

// make has something made that a note stands for meanwhile. What fails, and not because the host fell silent, leaves nothing.
func (h *host) make(ctx context.Context, l *libvirt.Libvirt, pool libvirt.StoragePool, id string, n note, do func() error) error {
	n.Beat = time.Now()
	if err := h.keepNote(ctx, l, pool, id, n); err != nil {
		return err
	}
	over, beating := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(beating)
		tick := time.NewTicker(beat)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
				n := n
				n.Beat = time.Now()
				_ = h.keepNote(ctx, l, pool, id, n) // the next may be heard
			}
		}
	}()
	err := do()
	close(over)
	<-beating
	if err != nil && ctx.Err() == nil {
		unmake(l, pool, id)
	}
	return err
}

// unmake takes away what was made for an id, as far as that goes.
func unmake(l *libvirt.Libvirt, pool libvirt.StoragePool, id string) {
	for _, end := range []string{copyEnd, dataEnd, diskEnd, seedEnd, noteEnd} {
		if vol, err := l.StorageVolLookupByName(pool, ours+id+end); err == nil {
			_ = l.StorageVolDelete(vol, 0)
		}
	}
}

// readNote reads one; one that was broken off says nothing, and is there.
func (h *host) readNote(ctx context.Context, vol libvirt.StorageVol) (note, error) {
	text, err := h.download(ctx, vol, 0, noteSize)
	if err != nil {
		return note{}, err
	}
	var n note
	_ = json.Unmarshal(bytes.TrimRight(text, "\x00 "), &n)
	return n, nil
}
