package sandbox

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"andamio/internal/sandbox/disk"
	"andamio/internal/site/occi/wire"
	"andamio/internal/web"
)

// diskAct does something with a disk: it is copied to from a paired site, unpacked to from an object, or its layers are
// made one.
func (c *Cloud) diskAct(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Query().Get("action") {
	case wire.ActionConsolidate:
		c.consolidate(w, r)
	case wire.ActionUnpack:
		c.unpack(w, r)
	default:
		c.pull(w, r)
	}
}

// pull copies parts of a disk from a paired site to one of this site's, and verifies what was written.
func (c *Cloud) pull(w http.ResponseWriter, r *http.Request) {
	var want wire.Pull
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body is no order to copy: %v", err)
		return
	}
	d := c.diskOf(w, r, true)
	if d == nil {
		return
	}
	p, why := c.peer(want.Peer)
	if why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	if want.Round > 0 {
		if err := d.Apart(want.Round); err != nil {
			refuse(w, http.StatusInternalServerError, "no layer can be begun: %v", err)
			return
		}
	}
	job := &pulling{c: c, d: d, peer: p, want: want, link: c.link(want.Peer), own: &throttle{}}
	job.own.set(want.Limit)
	start := time.Now()
	if err := job.run(r.Context()); err != nil {
		refuse(w, http.StatusBadGateway, "%s: %v", want.Peer, err)
		return
	}
	respond(w, http.StatusOK, wire.Pulled{Bytes: job.bytes.Load(), Wire: job.wire.Load(), Holes: job.holes.Load(),
		Verified: job.verified.Load(), Seconds: time.Since(start).Seconds()})
}

// consolidate makes the layers of a disk one, also of one that is in use.
func (c *Cloud) consolidate(w http.ResponseWriter, r *http.Request) {
	d := c.diskOf(w, r, false)
	if d == nil {
		return
	}
	n, err := d.Consolidate()
	if err != nil {
		refuse(w, http.StatusInternalServerError, "%v", err)
		return
	}
	respond(w, http.StatusOK, wire.Consolidated{Bytes: n})
}

// pulling is one order to copy.
type pulling struct {
	c         *Cloud
	d         *disk.Disk
	peer      *pair
	want      wire.Pull
	link, own *throttle

	bytes, wire, holes, verified atomic.Int64
}

// pullers is how many pieces are copied side by side: one is verified while the next is on its way.
const pullers = 3

// gather bounds the extents that are asked for with one request, so that many small ones cost little more than their
// bytes: pieceBytes for one that is as long, manyBytes for several.
const (
	pieceBytes = 4 << 20
	manyBytes  = 1 << 20
	manyRanges = 256
)

func (p *pulling) run(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	for _, x := range p.want.Zero {
		if err := p.d.Zero(x[0], x[1]); err != nil {
			return err
		}
	}
	pieces := make(chan []wire.Extent)
	var group sync.WaitGroup
	for range pullers {
		group.Go(func() {
			for piece := range pieces {
				if err := p.piece(ctx, piece); err != nil {
					cancel(err)
					return
				}
			}
		})
	}
	eachPiece(p.want.Written, func(piece []wire.Extent) bool {
		select {
		case pieces <- piece:
			return true
		case <-ctx.Done():
			return false
		}
	})
	close(pieces)
	group.Wait()
	return context.Cause(ctx)
}

// eachPiece cuts extents into pieces of which each is one request.
func eachPiece(all []wire.Extent, use func([]wire.Extent) bool) {
	var many []wire.Extent
	size := int64(0)
	flush := func() bool {
		if len(many) == 0 {
			return true
		}
		ok := use(many)
		many, size = nil, 0
		return ok
	}
	for _, x := range all {
		for x[1] > pieceBytes/4 {
			n := min(x[1], pieceBytes)
			if !use([]wire.Extent{{x[0], n}}) {
				return
			}
			x = wire.Extent{x[0] + n, x[1] - n}
		}
		if x[1] == 0 {
			continue
		}
		if (size+x[1] > manyBytes || len(many) == manyRanges) && !flush() {
			return
		}
		many, size = append(many, x), size+x[1]
	}
	flush()
}

// piece copies one piece and verifies it.
func (p *pulling) piece(ctx context.Context, ranges []wire.Extent) error {
	resp, err := p.ask(ctx, ranges)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	count := &counting{r: resp.Body, ctx: ctx, limits: []*throttle{p.link, p.own}}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	at, err := p.take(resp, count, ranges, *buf)
	if err != nil {
		return err
	}
	// What counts is what stands on the disk now, not what came in: it is read back.
	told, err := p.readBack(ranges, (*buf)[:at])
	if err != nil {
		return err
	}
	if told != resp.Header.Get(wire.HeaderDigest) {
		return fmt.Errorf("bytes %d to %d are not what the other site has: they were damaged on the way", ranges[0][0], ranges[len(ranges)-1][0]+ranges[len(ranges)-1][1])
	}
	p.bytes.Add(at)
	p.verified.Add(at)
	p.wire.Add(count.n)
	return nil
}

// chunk is how much is read and written at a time: so much that it is still near the processor when it is written.
const chunk = 256 << 10

// take writes what a response brings, and returns how many bytes that was. One range that is not coded is written as it
// comes in.
func (p *pulling) take(resp *http.Response, body io.Reader, ranges []wire.Extent, buf []byte) (n int64, err error) {
	if len(ranges) > 1 || resp.Header.Get("Content-Encoding") != "" {
		data, err := content(resp, body, ranges, buf)
		if err != nil {
			return 0, err
		}
		for _, x := range ranges {
			if err := p.put(data[n:n+x[1]], x[0]); err != nil {
				return n, err
			}
			n += x[1]
		}
		return n, nil
	}
	for x := ranges[0]; n < x[1]; {
		part := buf[:min(chunk, x[1]-n)]
		if _, err := io.ReadFull(body, part); err != nil {
			return n, err
		}
		if err := p.put(part, x[0]+n); err != nil {
			return n, err
		}
		n += int64(len(part))
	}
	return n, nil
}

func (p *pulling) put(data []byte, at int64) error {
	holes, err := put(p.d, data, at)
	p.holes.Add(holes)
	return err
}

// readBack is the digest of what stands on the disk.
func (p *pulling) readBack(ranges []wire.Extent, buf []byte) (told string, err error) {
	if len(ranges) == 1 {
		err = p.d.View(ranges[0][0], ranges[0][1], func(data []byte) error { told = wire.RangeDigest(data); return nil })
		return told, err
	}
	at := int64(0)
	for _, x := range ranges {
		if _, err := p.d.ReadAt(buf[at:at+x[1]], x[0]); err != nil {
			return "", err
		}
		at += x[1]
	}
	return wire.RangeDigest(buf), nil
}

func (p *pulling) ask(ctx context.Context, ranges []wire.Extent) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, p.peer.URL+wire.PathDisk+url.PathEscape(p.want.Disk), nil)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	for i, x := range ranges {
		b.WriteString([]string{"bytes=", ","}[min(i, 1)])
		fmt.Fprintf(&b, "%d-%d", x[0], x[0]+x[1]-1)
	}
	req.Header.Set("Range", b.String())
	req.Header.Set("Accept-Encoding", "identity")
	if p.want.Compress {
		req.Header.Set("Accept-Encoding", "zstd")
	}
	p.c.sign(req)
	resp, err := peerClient.Do(req)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusPartialContent {
		defer resp.Body.Close()
		var why wire.Problem
		_ = json.NewDecoder(io.LimitReader(resp.Body, 1<<16)).Decode(&why)
		return nil, fmt.Errorf("%s: %s", resp.Status, why.Message)
	}
	return resp, nil
}

// peerClient asks other sites.
var peerClient = web.Client(2*time.Minute, &http.Transport{MaxIdleConnsPerHost: 16, DisableCompression: true,
	WriteBufferSize: 64 << 10, ReadBufferSize: 256 << 10})

// content is what the ranges hold, one after another, in a buffer.
func content(resp *http.Response, body io.Reader, ranges []wire.Extent, buf []byte) (data []byte, err error) {
	total := int64(0)
	for _, x := range ranges {
		total += x[1]
	}
	if resp.Header.Get("Content-Encoding") == "zstd" {
		coded, err := io.ReadAll(io.LimitReader(body, 2*maxPiece))
		if err != nil {
			return nil, err
		}
		plain, err := decoder.DecodeAll(coded, nil)
		if err != nil {
			return nil, err
		}
		body = strings.NewReader(string(plain))
	}
	data = buf[:total]
	if len(ranges) == 1 {
		_, err = io.ReadFull(body, data)
		return data, err
	}
	_, params, err := mime.ParseMediaType(resp.Header.Get("Content-Type"))
	if err != nil {
		return nil, err
	}
	m := multipart.NewReader(body, params["boundary"])
	at := int64(0)
	for _, x := range ranges {
		part, err := m.NextRawPart()
		if err != nil {
			return nil, err
		}
		if _, err := io.ReadFull(part, data[at:at+x[1]]); err != nil {
			return nil, err
		}
		at += x[1]
	}
	_, err = io.Copy(io.Discard, body) // so that the connection is used again
	return data, err
}

// counting counts and slows down what is read.
type counting struct {
	r      io.Reader
	ctx    context.Context
	limits []*throttle
	n      int64
}

func (c *counting) Read(p []byte) (int, error) {
	if len(p) > 256<<10 {
		p = p[:256<<10]
	}
	n, err := c.r.Read(p)
	c.n += int64(n)
	for _, l := range c.limits {
		if waited := l.take(c.ctx, int64(n)); waited != nil {
			return n, waited
		}
	}
	return n, err
}

// throttle bounds a rate; several share it.
type throttle struct {
	mu   sync.Mutex
	rate float64 // bytes per second; 0 is without bound
	next time.Time
}

func (t *throttle) set(rate int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.rate = float64(rate)
}

// take waits until so many bytes may have passed.
func (t *throttle) take(ctx context.Context, n int64) error {
	t.mu.Lock()
	if t.rate <= 0 {
		t.mu.Unlock()
		return nil
	}
	now := time.Now()
	if t.next.Before(now) {
		t.next = now
	}
	t.next = t.next.Add(time.Duration(float64(n) / t.rate * float64(time.Second)))
	wait := time.Until(t.next)
	t.mu.Unlock()
	if wait < 5*time.Millisecond {
		return nil
	}
	select {
	case <-time.After(wait):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
