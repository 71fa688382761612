package sandbox

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"

	"andamio/internal/core/ovf"
	"andamio/internal/sandbox/disk"
	"andamio/internal/site/occi/wire"
)

// mostObject bounds the bytes of an object.
const mostObject = 1 << 40

var sha256Hex = regexp.MustCompile(`^[0-9a-f]{64}$`)

// expect makes room for an object, of which nothing is there yet. The lock is held.
func (c *Cloud) expect(t *thing) *refusal {
	size := int64(number(t.Attributes[wire.ObjectBytes]))
	if size < 1 || size > mostObject || !sha256Hex.MatchString(word(t.Attributes[wire.ObjectDigest])) {
		return no(http.StatusBadRequest, "an object needs its size in bytes, and its SHA-256 digest")
	}
	if err := c.diskFor(t, size); err != nil {
		return no(http.StatusInsufficientStorage, "no object can be made: %v", err)
	}
	t.Attributes[wire.ObjectReceived] = "0"
	return nil
}

// upload takes the next bytes of an object.
func (c *Cloud) upload(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	t := c.things[r.PathValue("id")]
	if t == nil || t.term != "object" {
		c.mu.Unlock()
		refuse(w, http.StatusNotFound, "there is no object %q", r.PathValue("id"))
		return
	}
	c.mu.Unlock()
	t.filling.Lock()
	defer t.filling.Unlock()
	if why := c.append(t, r); why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	respond(w, http.StatusOK, told(r, t))
}

// append writes what a request brings behind what is there. What is there already and is sent again does no harm.
func (c *Cloud) append(t *thing, r *http.Request) *refusal {
	var from, to, total int64
	_, err := fmt.Sscanf(r.Header.Get("Content-Range"), "bytes %d-%d/%d", &from, &to, &total)
	if err != nil || to < from || to-from >= maxPiece || total != t.disk.Size() || to >= total {
		return no(http.StatusBadRequest, "an object is written by ranges within its %d bytes, of at most %d", t.disk.Size(), maxPiece)
	}
	c.mu.Lock()
	have, _ := strconv.ParseInt(word(t.Attributes[wire.ObjectReceived]), 10, 63)
	c.mu.Unlock()
	if from != have {
		return nil // the answer says where it goes on
	}
	data := make([]byte, to-from+1)
	if _, err := io.ReadFull(r.Body, data); err != nil {
		return no(http.StatusBadRequest, "the content ends before its range does")
	}
	if want := r.Header.Get(wire.HeaderDigest); want != "" && want != wire.RangeDigest(data) {
		return no(http.StatusBadRequest, "the content does not have the digest that was told")
	}
	if _, err := t.disk.WriteAt(data, from); err != nil {
		return no(http.StatusConflict, "%v", err)
	}
	state, text := "inactive", "receiving"
	if to+1 == total {
		state, text = t.judge()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	t.Attributes[wire.ObjectReceived] = strconv.FormatInt(to+1, 10)
	t.Attributes[wire.ObjectState], t.Attributes[wire.ObjectWord] = state, text
	c.changed(t)
	return nil
}

// judge says whether all of an object is what it was said to be.
func (t *thing) judge() (state, text string) {
	sum := sha256.New()
	if _, err := io.Copy(sum, io.NewSectionReader(t.disk, 0, t.disk.Size())); err != nil {
		return "error", "it cannot be read back"
	}
	if hex.EncodeToString(sum.Sum(nil)) != word(t.Attributes[wire.ObjectDigest]) {
		return "error", "it does not have the digest that was told"
	}
	return "active", "active"
}

// unpack writes a disk from an image of a package among the objects, which is checked against its manifest before.
func (c *Cloud) unpack(w http.ResponseWriter, r *http.Request) {
	var want wire.Unpack
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body says of no object: %v", err)
		return
	}
	d := c.diskOf(w, r, true)
	if d == nil {
		return
	}
	c.mu.Lock()
	t := c.things[want.Object]
	whole := t != nil && t.term == "object" && word(t.Attributes[wire.ObjectState]) == "active"
	c.mu.Unlock()
	if !whole {
		refuse(w, http.StatusConflict, "there is no whole object %q", want.Object)
		return
	}
	n, err := unpackTo(d, t.disk, want.Image)
	if err != nil {
		refuse(w, http.StatusConflict, "%s: %v", t.Title, err)
		return
	}
	respond(w, http.StatusOK, wire.Unpacked{Bytes: n})
}

func unpackTo(to, from *disk.Disk, image int) (int64, error) {
	a, err := ovf.Open(from, from.Size())
	if err != nil {
		return 0, err
	}
	if image < 0 || image >= len(a.Disks) {
		return 0, fmt.Errorf("it has %d disks", len(a.Disks))
	}
	img, buf, n := a.Image(image), make([]byte, maxPiece), int64(0)
	for _, x := range img.Held() {
		for off := x.Offset; off < x.Offset+x.Length; off += maxPiece {
			part := buf[:min(maxPiece, x.Offset+x.Length-off)]
			if _, err := img.ReadAt(part, off); err != nil {
				return n, err
			}
			if _, err := put(to, part, off); err != nil {
				return n, err
			}
			n += int64(len(part))
		}
	}
	return n, nil
}
