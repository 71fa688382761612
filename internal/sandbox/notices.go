package sandbox

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"slices"
	"time"

	"andamio/internal/notice"
	"andamio/internal/site/occi/wire"
	"andamio/internal/web"
)

// FeatureNotices is the feature of a site that sends notices of its changes.
const FeatureNotices = "notices"

// sink is where notices are posted.
type sink struct{ url, secret, authorities string }

// client posts to the sink.
func (s sink) client() *http.Client {
	if trust, err := (web.Trust{Authorities: s.authorities}).Config(); err == nil && trust != nil {
		return web.Client(noticePatience, web.Transport(trust))
	}
	return noticeClient
}

// noticePatience is how long a sink may take.
const noticePatience = 2 * time.Second

// maxSinks bounds how many a site posts to.
const maxSinks = 64

// subscribe takes a sink for notices. Only loopback addresses are taken: a stand-in must not reach anything outside this
// machine.
func (c *Cloud) subscribe(w http.ResponseWriter, r *http.Request) {
	if !slices.Contains(c.site.Features, FeatureNotices) {
		refuse(w, http.StatusNotFound, "this site sends no notices")
		return
	}
	var want wire.Resource
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body cannot be read: %v", err)
		return
	}
	s := sink{word(want.Attributes[wire.NoticeSink]), word(want.Attributes[wire.NoticeSecret]), word(want.Attributes[wire.NoticeAuthorities])}
	u, err := url.Parse(s.url)
	if err != nil || s.secret == "" || !net.ParseIP(u.Hostname()).IsLoopback() {
		refuse(w, http.StatusBadRequest, "notices go to a loopback address, and are signed with a secret")
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.sinks) >= maxSinks {
		refuse(w, http.StatusConflict, "notices go to %d sinks already", maxSinks)
		return
	}
	c.next++
	id := fmt.Sprintf("notice-%d", c.next)
	c.sinks[id] = s
	respond(w, http.StatusCreated, wire.Resource{Kind: wire.OwnNotice, ID: id})
}

func (c *Cloud) unsubscribe(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.sinks[r.PathValue("id")]; !ok {
		refuse(w, http.StatusNotFound, "no notices go there")
		return
	}
	delete(c.sinks, r.PathValue("id"))
	w.WriteHeader(http.StatusNoContent)
}

// changed posts a notice that a thing has changed. The lock is held.
func (c *Cloud) changed(t *thing) {
	if len(c.sinks) == 0 {
		return
	}
	c.sequence++
	l := lives[t.term]
	e, err := notice.New(notice.TypeChanged, "https://schemas.andamio.example/sites/"+c.site.Name, t.term+"/"+t.ID, time.Now(),
		notice.Changed{Kind: t.term, ID: t.ID, State: word(t.Attributes[l.word]), Sequence: c.sequence})
	if err != nil {
		return
	}
	again := c.faults.pick(c.site.Name, "notice", t.term, Twice) != ""
	late := c.faults.pick(c.site.Name, "notice", t.term, Shuffled) != ""
	for id, s := range c.sinks {
		go func() {
			client := s.client()
			defer client.CloseIdleConnections()
			if late {
				c.wait(time.Duration(rand.Float64() * float64(time.Second)))
			}
			ctx, cancel := context.WithTimeout(c.ctx, noticePatience)
			defer cancel()
			if err := notice.Send(ctx, client, s.url, s.secret, e, time.Now()); err != nil {
				c.deaf(id)
				return
			}
			if again {
				_ = notice.Send(ctx, client, s.url, s.secret, e, time.Now())
			}
		}()
	}
}

// noticeClient posts notices.
var noticeClient = web.Client(noticePatience, nil)

// deaf drops a sink that does not listen any more.
func (c *Cloud) deaf(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.sinks, id)
	_ = c.keep()
}
