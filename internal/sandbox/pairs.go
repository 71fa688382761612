package sandbox

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"andamio/internal/sandbox/disk"
	"andamio/internal/site/occi/wire"
)

// pair is a site that this one is paired with.
type pair struct {
	wire.Pair
	key ed25519.PublicKey
}

// peer is a paired site.
func (c *Cloud) peer(name string) (*pair, *refusal) {
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.pairs[name]
	if p == nil {
		return nil, no(http.StatusConflict, "%s is not paired with %q", c.site.Name, name)
	}
	return p, nil
}

func (c *Cloud) sign(r *http.Request) { wire.Sign(r, c.site.Name, c.private, time.Now()) }

// admitPeer lets a paired site read the disks that it may read.
func (c *Cloud) admitPeer(r *http.Request) *refusal {
	site, err := wire.Verify(r, func(site string) ed25519.PublicKey {
		c.mu.Lock()
		defer c.mu.Unlock()
		if p := c.pairs[site]; p != nil {
			return p.key
		}
		return nil
	}, time.Now())
	if err != nil {
		return no(http.StatusUnauthorized, "%v", err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.pairs[site]
	switch id, isDisk := strings.CutPrefix(r.URL.Path, wire.PathDisk); {
	case r.Method != http.MethodGet:
		return no(http.StatusForbidden, "%s may only read here", site)
	case r.URL.Path == wire.PathTrial:
		return nil
	case !isDisk:
		return no(http.StatusForbidden, "%s may read disks here and nothing else", site)
	case !p.MayStart && !slices.Contains(p.Granted, id):
		return no(http.StatusForbidden, "%s may not start moves from here, and this side has not granted it the disk %s", site, id)
	}
	return nil
}

// self answers with this site's own key.
func (c *Cloud) self(w http.ResponseWriter, _ *http.Request) {
	public := c.private.Public().(ed25519.PublicKey)
	respond(w, http.StatusOK, wire.Pair{Site: c.site.Name, Key: base64.StdEncoding.EncodeToString(public)})
}

// pairKey is the key of a pair; nil if it has none.
func pairKey(p wire.Pair) ed25519.PublicKey {
	key, err := base64.StdEncoding.DecodeString(p.Key)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return nil
	}
	return key
}

// setPair pairs with another site, or changes what it may do.
func (c *Cloud) setPair(w http.ResponseWriter, r *http.Request) {
	var p wire.Pair
	if err := json.NewDecoder(r.Body).Decode(&p); err != nil {
		refuse(w, http.StatusBadRequest, "the body is no pair: %v", err)
		return
	}
	key := pairKey(p)
	if key == nil || p.Site != r.PathValue("site") || p.Site == c.site.Name {
		refuse(w, http.StatusBadRequest, "a pair needs the other site's name and its key")
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.pairs[p.Site] = &pair{p, key}
	w.WriteHeader(http.StatusNoContent)
}

func (c *Cloud) dropPair(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.pairs[r.PathValue("site")] == nil {
		refuse(w, http.StatusNotFound, "%s is not paired with %q", c.site.Name, r.PathValue("site"))
		return
	}
	delete(c.pairs, r.PathValue("site"))
	w.WriteHeader(http.StatusNoContent)
}

// grant lets a paired site read one disk more.
func (c *Cloud) grant(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.pairs[r.PathValue("site")]
	if p == nil {
		refuse(w, http.StatusNotFound, "%s is not paired with %q", c.site.Name, r.PathValue("site"))
		return
	}
	if id := r.PathValue("id"); !slices.Contains(p.Granted, id) {
		p.Granted = append(p.Granted, id)
	}
	w.WriteHeader(http.StatusNoContent)
}

// trialBytes is how much is read to measure a link, at most for trialTime.
const (
	trialBytes = 8 << 20
	trialTime  = 400 * time.Millisecond
)

// trial answers a paired site that measures the link with the time and some bytes.
func (c *Cloud) trial(w http.ResponseWriter, r *http.Request) {
	n, _ := strconv.ParseInt(r.URL.Query().Get(wire.ParamLength), 10, 63)
	w.Header().Set("Date", time.Now().UTC().Format(http.TimeFormat))
	w.Header().Set(headerClock, strconv.FormatInt(time.Now().UnixNano(), 10))
	_, _ = io.CopyN(w, zeros{}, min(n, trialBytes))
}

// headerClock tells the time finer than Date does.
const headerClock = "Andamio-Clock"

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// probePair asks a paired site and answers with what came of it.
func (c *Cloud) probePair(w http.ResponseWriter, r *http.Request) {
	p, why := c.peer(r.PathValue("site"))
	if why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), 5*time.Second)
	defer cancel()
	respond(w, http.StatusOK, c.tryLink(ctx, p))
}

func (c *Cloud) tryLink(ctx context.Context, p *pair) wire.Trial {
	start := time.Now()
	resp, err := c.askTrial(ctx, p, 0)
	if err != nil {
		return wire.Trial{Why: err.Error()}
	}
	resp.Body.Close()
	round := time.Since(start)
	if resp.StatusCode != http.StatusOK {
		return wire.Trial{Why: resp.Status}
	}
	theirs, _ := strconv.ParseInt(resp.Header.Get(headerClock), 10, 64)
	out := wire.Trial{Reachable: true, Milliseconds: float64(round.Microseconds()) / 1000}
	out.ClockSeconds = float64(time.Unix(0, theirs).Sub(start.Add(round/2)).Milliseconds()) / 1000
	resp, err = c.askTrial(ctx, p, trialBytes)
	if err != nil {
		return out
	}
	defer resp.Body.Close()
	start = time.Now()
	count := &counting{r: resp.Body, ctx: ctx, limits: []*throttle{c.link(p.Site)}}
	for time.Since(start) < trialTime {
		if _, err := io.CopyN(io.Discard, count, 64<<10); err != nil {
			break
		}
	}
	out.BytesPerSecond = float64(count.n) / time.Since(start).Seconds()
	out.DiskBytesPerSecond = diskSpeed()
	return out
}

// diskSpeed is how many bytes of layers a second are brought together here, as a small disk shows; 0 if it cannot be
// tried. All stand-ins of a process have the disks of one machine, so that it is tried once.
var diskSpeed = sync.OnceValue(func() float64 {
	const n = 8 << 20
	d := disk.New(n, "trial")
	defer d.Close()
	buf := make([]byte, n)
	for i := 0; i < n; i += disk.Page {
		buf[i] = 1
	}
	_, errA := d.WriteAt(buf[:disk.Page], 0)
	errB := d.Apart(1)
	_, errC := d.WriteAt(buf, 0)
	start := time.Now()
	if _, err := d.Consolidate(); errors.Join(errA, errB, errC, err) != nil {
		return 0
	}
	return n / time.Since(start).Seconds()
})

func (c *Cloud) askTrial(ctx context.Context, p *pair, n int64) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, p.URL+wire.PathTrial+"?"+wire.ParamLength+"="+strconv.FormatInt(n, 10), nil)
	if err != nil {
		return nil, err
	}
	c.sign(req)
	return peerClient.Do(req)
}

// link is the throttle of the way from another site, which all copying from there shares.
func (c *Cloud) link(peer string) *throttle {
	c.mu.Lock()
	defer c.mu.Unlock()
	t := c.ways[peer]
	if t == nil {
		t = &throttle{}
		if mb := c.site.Bandwidth[peer]; mb > 0 {
			t.rate = mb * 1e6 / c.pace
		}
		c.ways[peer] = t
	}
	return t
}
