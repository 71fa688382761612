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
	// Begun is when it was asked for.
	Begun time.Time `json:"begun"`
	// Of is the disk that a snapshot is of, and Taken when it was whole.
	Of    string    `json:"of,omitempty"`
	Taken time.Time `json:"taken,omitzero"`
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
