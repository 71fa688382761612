package sandbox

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"andamio/internal/sandbox/disk"
	"andamio/internal/site/occi/wire"
)

// maxPiece bounds what one request reads or writes of a disk.
const maxPiece = 8 << 20

// maxRanges bounds the ranges of one request.
const maxRanges = 512

// buffers are reused from one piece to the next.
var buffers = sync.Pool{New: func() any { b := make([]byte, maxPiece); return &b }}

// newDisk makes the disk of a volume or an instance.
func (c *Cloud) newDisk(t *thing, gib float64) *refusal {
	if err := c.diskFor(t, max(int64(gib*(1<<30)), 64<<20)); err != nil {
		return no(http.StatusInsufficientStorage, "no disk can be made: %v", err)
	}
	return nil
}

// fill puts on a disk what its machine holds, when somebody looks at it for the first time: the files, and on a machine's
// own disk also what its system takes.
func (c *Cloud) fill(t *thing) {
	machine := t
	if t.term == "storage" {
		machine = c.machineOf(t.ID)
	}
	if machine == nil || machine.host == nil {
		return
	}
	machine.host.Sync(t.disk)
	if t.term == "compute" && !t.copied {
		writeSystem(t.disk, c.system)
	}
}

// machineOf is the instance that a volume is attached to, or nil.
func (c *Cloud) machineOf(volume string) *thing {
	for _, x := range c.things {
		if x.term == "storagelink" && x.target == volume {
			return c.things[x.source]
		}
	}
	return nil
}

// systemAt is where on a disk the bytes of its system begin: past what files ever reach.
func systemAt(d *disk.Disk) int64 { return d.Size() / 2 / disk.Page * disk.Page }

// writeSystem puts as many bytes on a disk as a system would: half of them tell something, half repeat.
func writeSystem(d *disk.Disk, n int64) {
	rng := rand.NewChaCha8([32]byte{7})
	block := make([]byte, 64<<10)
	for off := int64(0); off+int64(len(block)) <= n; off += int64(len(block)) {
		_, _ = rng.Read(block[:len(block)/2])
		for i := len(block) / 2; i < len(block); i++ {
			block[i] = byte(off >> 16)
		}
		if _, err := d.WriteAt(block, systemAt(d)+off); err != nil {
			return
		}
	}
}

// diskOf finds the disk that a request is about, and answers itself if there is none or it may not be had.
func (c *Cloud) diskOf(w http.ResponseWriter, r *http.Request, write bool) *disk.Disk {
	c.mu.Lock()
	t := c.things[r.PathValue("id")]
	var d *disk.Disk
	if t != nil && t.term != "object" && !(write && t.term == "snapshot") {
		d = t.disk
	}
	if d == nil {
		c.mu.Unlock()
		refuse(w, http.StatusNotFound, "there is no disk %q", r.PathValue("id"))
		return nil
	}
	if write && c.inUse(t) {
		c.mu.Unlock()
		refuse(w, http.StatusConflict, "%s is in use: only a disk whose machine is off is written to from outside", t.Title)
		return nil
	}
	if !write {
		d.Open()
	}
	if write {
		t.copied, t.stale = true, true
	}
	c.mu.Unlock()
	return d
}

// inUse reports that the machine of a disk is on. The lock is held.
func (c *Cloud) inUse(t *thing) bool {
	machine := t
	if t.term == "storage" {
		machine = c.machineOf(t.ID)
	}
	return machine != nil && machine.Attributes[wire.ComputeState] == "active"
}

// writesTo reports that somebody may be writing to a disk: what is read of it is to be taken aside before it is digested,
// or the digest is not that of what is sent.
func (c *Cloud) writesTo(id string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	t := c.things[id]
	return t != nil && c.inUse(t)
}

// readDisk answers with ranges of a disk's bytes (RFC 9110, section 14), with what was written since a generation, or
// with the digests of blocks.
func (c *Cloud) readDisk(w http.ResponseWriter, r *http.Request) {
	d := c.diskOf(w, r, false)
	if d == nil {
		return
	}
	switch r.URL.Query().Get(wire.ParamView) {
	case wire.ViewChanges:
		c.diskChanges(w, r, d)
	case wire.ViewHashes:
		c.diskHashes(w, r, d)
	default:
		c.diskRanges(w, r, d)
	}
}

func (c *Cloud) diskChanges(w http.ResponseWriter, r *http.Request, d *disk.Disk) {
	since, err := strconv.ParseUint(r.URL.Query().Get(wire.ParamSince), 10, 31)
	epoch := r.URL.Query().Get(wire.ParamEpoch)
	if err != nil {
		refuse(w, http.StatusBadRequest, "since is no generation")
		return
	}
	out := wire.Changes{Size: d.Size(), Page: disk.Page, Epoch: d.Epoch, Whole: since == 0}
	if since > 0 && epoch != d.Epoch {
		since, out.Whole = 0, true
	}
	written, zero, upTo := d.Changes(uint32(since))
	out.UpTo, out.Written, out.Zero, out.Layers = upTo, onWire(written), onWire(zero), d.Layers()
	respond(w, http.StatusOK, out)
}

func onWire(list []disk.Extent) []wire.Extent {
	out := make([]wire.Extent, len(list))
	for i, x := range list {
		out[i] = wire.Extent{x.Offset, x.Length}
	}
	return out
}

func (c *Cloud) diskHashes(w http.ResponseWriter, r *http.Request, d *disk.Disk) {
	num := func(name string) int64 { n, _ := strconv.ParseInt(r.URL.Query().Get(name), 10, 63); return n }
	from, n, block := num(wire.ParamFrom), num(wire.ParamLength), num(wire.ParamBlock)
	if block < disk.Page || block > maxPiece || from < 0 || n < 0 || from > d.Size()-n || n/block > 1<<20 {
		refuse(w, http.StatusBadRequest, "these blocks cannot be digested")
		return
	}
	sums, err := d.Hashes(from, n, int(block))
	if err != nil {
		refuse(w, http.StatusInternalServerError, "%v", err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = w.Write(sums)
}

// parseRanges reads a Range header of byte ranges that lie within a size.
func parseRanges(text string, size int64) ([]wire.Extent, error) {
	list, ok := strings.CutPrefix(text, "bytes=")
	if !ok {
		return nil, fmt.Errorf("a disk is read by ranges of bytes")
	}
	parts := strings.Split(list, ",")
	if len(parts) > maxRanges {
		return nil, fmt.Errorf("more than %d ranges", maxRanges)
	}
	total := int64(0)
	var out []wire.Extent
	for _, p := range parts {
		a, b, _ := strings.Cut(strings.TrimSpace(p), "-")
		from, errA := strconv.ParseInt(a, 10, 63)
		to, errB := strconv.ParseInt(b, 10, 63)
		if errA != nil || errB != nil || from > to || to >= size {
			return nil, fmt.Errorf("the range %q is not within %d bytes", p, size)
		}
		out = append(out, wire.Extent{from, to - from + 1})
		if total += to - from + 1; total > maxPiece {
			return nil, fmt.Errorf("more than %d bytes at once", maxPiece)
		}
	}
	return out, nil
}

func (c *Cloud) diskRanges(w http.ResponseWriter, r *http.Request, d *disk.Disk) {
	ranges, err := parseRanges(r.Header.Get("Range"), d.Size())
	if err != nil {
		w.Header().Set("Content-Range", fmt.Sprintf("bytes */%d", d.Size()))
		refuse(w, http.StatusRequestedRangeNotSatisfiable, "%v", err)
		return
	}
	if x := ranges[0]; len(ranges) == 1 && !c.writesTo(r.PathValue("id")) {
		err := d.View(x[0], x[1], func(data []byte) error { answerRange(w, r, d, x, data); return nil })
		if err != nil {
			refuse(w, http.StatusInternalServerError, "%v", err)
		}
		return
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	data := (*buf)[:0]
	for _, x := range ranges {
		at := int64(len(data))
		data = data[:at+x[1]]
		if _, err := d.ReadAt(data[at:], x[0]); err != nil {
			refuse(w, http.StatusInternalServerError, "%v", err)
			return
		}
	}
	answerRanges(w, r, d, ranges, data)
}

// answerRange answers with the bytes of one range, which nobody changes meanwhile: where nothing codes them the file is sent
// itself, which spares a copy.
func answerRange(w http.ResponseWriter, r *http.Request, d *disk.Disk, x wire.Extent, data []byte) {
	own := d.Reader(x[0])
	if own == nil || strings.Contains(r.Header.Get("Accept-Encoding"), "zstd") {
		answerRanges(w, r, d, []wire.Extent{x}, data)
		return
	}
	defer own.Close()
	w.Header().Set(wire.HeaderDigest, wire.RangeDigest(data))
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", x[0], x[0]+x[1]-1, d.Size()))
	w.Header().Set("Content-Length", strconv.FormatInt(x[1], 10))
	w.WriteHeader(http.StatusPartialContent)
	_, _ = io.CopyN(w, own, x[1]) // one that is shorter does not have the digest
}

// answerRanges answers with the bytes of ranges, in the form and the coding that fit.
func answerRanges(w http.ResponseWriter, r *http.Request, d *disk.Disk, ranges []wire.Extent, data []byte) {
	w.Header().Set(wire.HeaderDigest, wire.RangeDigest(data))
	body := data
	if len(ranges) == 1 {
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", ranges[0][0], ranges[0][0]+ranges[0][1]-1, d.Size()))
	} else {
		body = inParts(w, ranges, data, d.Size())
	}
	if strings.Contains(r.Header.Get("Accept-Encoding"), "zstd") {
		w.Header().Set("Content-Encoding", "zstd")
		body = encoder.EncodeAll(body, nil)
	}
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(http.StatusPartialContent)
	_, _ = w.Write(body)
}

// inParts renders several ranges as multipart/byteranges (RFC 9110, section 14.6).
func inParts(w http.ResponseWriter, ranges []wire.Extent, data []byte, size int64) []byte {
	var b bytes.Buffer
	m := multipart.NewWriter(&b)
	_ = m.SetBoundary("r")
	for _, x := range ranges {
		part, _ := m.CreatePart(textproto.MIMEHeader{"Content-Range": {fmt.Sprintf("bytes %d-%d/%d", x[0], x[0]+x[1]-1, size)}})
		_, _ = part.Write(data[:x[1]])
		data = data[x[1]:]
	}
	_ = m.Close()
	w.Header().Set("Content-Type", "multipart/byteranges; boundary=r")
	return b.Bytes()
}

var encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2))
var decoder, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(2*maxPiece))

// writeDisk writes one range of bytes (RFC 9110, section 14.5).
func (c *Cloud) writeDisk(w http.ResponseWriter, r *http.Request) {
	d := c.diskOf(w, r, true)
	if d == nil {
		return
	}
	var from, to int64
	if _, err := fmt.Sscanf(r.Header.Get("Content-Range"), "bytes %d-%d/", &from, &to); err != nil || to < from || to-from >= maxPiece {
		refuse(w, http.StatusBadRequest, "a disk is written by ranges of at most %d bytes", maxPiece)
		return
	}
	data := make([]byte, to-from+1)
	if _, err := io.ReadFull(r.Body, data); err != nil {
		refuse(w, http.StatusBadRequest, "the content ends before its range does")
		return
	}
	if want := r.Header.Get(wire.HeaderDigest); want != "" && want != wire.RangeDigest(data) {
		refuse(w, http.StatusBadRequest, "the content does not have the digest that was told")
		return
	}
	if _, err := put(d, data, from); err != nil {
		refuse(w, http.StatusBadRequest, "%v", err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// put writes bytes, leaving out pages that hold nothing, and returns how many those were.
func put(d *disk.Disk, data []byte, at int64) (holes int64, err error) {
	for off := int64(0); off < int64(len(data)); {
		end := off
		zero := disk.AllZero(page(data, off, at))
		for end < int64(len(data)) && disk.AllZero(page(data, end, at)) == zero {
			end += int64(len(page(data, end, at)))
		}
		switch {
		case !zero:
			_, err = d.WriteAt(data[off:end], at+off)
		case (at+off)%disk.Page == 0 && (end-off)%disk.Page == 0:
			holes += end - off
			err = d.Zero(at+off, end-off)
		default:
			_, err = d.WriteAt(data[off:end], at+off)
		}
		if err != nil {
			return holes, err
		}
		off = end
	}
	return holes, nil
}

// page is the part of the data up to the end of a disk's page.
func page(data []byte, off, at int64) []byte {
	return data[off:min(off+disk.Page-(at+off)%disk.Page, int64(len(data)))]
}

// Digests are what was on the disks of machines that were built asleep when they were switched on, by the site's ids, if
// that is recorded.
func (s *Sandbox) Digests() map[string]string {
	out := map[string]string{}
	for _, c := range s.clouds() {
		c.mu.Lock()
		maps.Copy(out, c.digests)
		c.mu.Unlock()
	}
	return out
}

// DiskDigest is the SHA-256 of all bytes of a disk, whether or not it was looked at before.
func (s *Sandbox) DiskDigest(site, id string) (string, error) {
	for _, c := range s.clouds() {
		if c.site.Name != site {
			continue
		}
		c.mu.Lock()
		t := c.things[id]
		if t == nil || t.disk == nil {
			c.mu.Unlock()
			return "", fmt.Errorf("%s has no disk %s", site, id)
		}
		t.disk.Open()
		c.mu.Unlock()
		return wholeDigest(t.disk)
	}
	return "", fmt.Errorf("there is no stand-in %s", site)
}

func wholeDigest(d *disk.Disk) (string, error) {
	h := sha256.New()
	written, _, _ := d.Changes(0)
	buf := make([]byte, disk.Page)
	for _, x := range written {
		for off := x.Offset; off < x.Offset+x.Length; off += disk.Page {
			n := min(disk.Page, x.Offset+x.Length-off)
			if _, err := d.ReadAt(buf[:n], off); err != nil {
				return "", err
			}
			if disk.AllZero(buf[:n]) {
				continue // a page of zeros and one that was never written are the same
			}
			fmt.Fprintf(h, "%d ", off)
			h.Write(buf[:n])
		}
	}
	return fmt.Sprintf("%x", h.Sum(nil)), nil
}
