// Package occi is the driver for sites that speak the Open Cloud Computing Interface 1.2 over HTTP with the JSON
// rendering (GFD.221 to GFD.226). Sizes, images, capacity, prices and port maps come through mixins of our own scheme,
// see package wire.
package occi

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/reach"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
	"andamio/internal/web"
)

// Timeout bounds one request; a site that is silent for longer has failed transiently.
const Timeout = 10 * time.Second

// maxBody bounds what is read of one answer.
const maxBody = 16 << 20

// pageSize is how many resources a listing asks for at once.
const pageSize = 200

// Driver speaks to one site.
type Driver struct {
	name, base string
	client     *http.Client

	mu    sync.Mutex
	token string
	// renew says what the token is now, when the site does not take the one there is; nil knows no other.
	renew func() string
	// offer is what the query interface told, nil before it was asked.
	offer *offer
}

var (
	_ site.Site   = (*Driver)(nil)
	_ site.Pusher = (*Driver)(nil)

	_ site.Surveyor = (*Driver)(nil)
)

// New makes a driver for the site at the base URL, with a bearer token.
func New(name, base, token string) *Driver {
	return &Driver{name: name, base: strings.TrimRight(base, "/"), token: token, client: web.Client(Timeout, nil)}
}

// Trust has the driver trust whom a configuration says, and nobody else.
func (d *Driver) Trust(c *tls.Config) { d.client.Transport = web.Transport(c) }

// Over has the driver trust whom a configuration says, and reach the site by a dialer; nil is whom this machine trusts, and from here.
func (d *Driver) Over(c *tls.Config, dial reach.Dialer) {
	if c == nil && dial == nil {
		return
	}
	t := web.Transport(c)
	if dial != nil {
		t.DialContext, t.Proxy = dial, nil // whoever is gone through is the only one
	}
	d.client.Transport = t
}

// Renew has the driver ask what its token is now when the site does not take the one it has: somebody may have changed it.
func (d *Driver) Renew(now func() string) { d.renew = now }

// renewed reports that there is another token than one that the site did not take.
func (d *Driver) renewed(used string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.token == used && d.renew != nil {
		if now := d.renew(); now != "" {
			d.token = now
		}
	}
	return d.token != used
}

// send sends a request with the token, and once more with another if there is another by now.
func (d *Driver) send(client *http.Client, request func() (*http.Request, error)) (*http.Response, error) {
	for {
		req, err := request()
		if err != nil {
			return nil, err
		}
		d.mu.Lock()
		token := d.token
		d.mu.Unlock()
		req.Header.Set(wire.HeaderToken, "Bearer "+token)
		resp, err := client.Do(req)
		if err != nil || resp.StatusCode != http.StatusUnauthorized || !d.renewed(token) {
			return resp, err
		}
		resp.Body.Close()
	}
}

// Patience sets for how long one request may be unanswered.
func (d *Driver) Patience(t time.Duration) { d.client.Timeout = t }

// Name is the site's name.
func (d *Driver) Name() string { return d.name }

// collections are the paths of the kinds' collections, which are the terms of the kinds.
var collections = map[kinds.Kind]string{
	kinds.Network: "network", kinds.Volume: "storage", kinds.Instance: "compute",
	kinds.Interface: "networkinterface", kinds.Attachment: "storagelink", kinds.Object: "object",
	kinds.Snapshot: "snapshot",
}

// Describe reads the site's facts.
func (d *Driver) Describe(ctx context.Context) (*estate.Site, error) {
	var r wire.Resource
	err := d.do(ctx, "describe", http.MethodGet, wire.PathSite, nil, nil, &r)
	if site.ClassOf(err) == site.NotFound && err != nil {
		o, err := d.offers(ctx)
		if err != nil {
			return nil, err
		}
		return o.describe(d.name), nil
	}
	if err != nil {
		return nil, err
	}
	text, _ := r.Attributes[wire.OwnSiteFacts].(string)
	var s estate.Site
	if err := json.Unmarshal([]byte(text), &s); err != nil {
		return nil, &site.Error{Site: d.name, Doing: "describe", Class: site.Refused, Detail: "the site's facts cannot be read", Err: err}
	}
	return &s, nil
}

// Create asks for a resource.
func (d *Driver) Create(ctx context.Context, r site.Request) (site.Resource, error) {
	if r.Memory { // sites would take it for a snapshot of the disk
		return site.Resource{}, &site.Error{Site: d.name, Doing: "keep the memory " + r.Name, Class: site.Refused, Detail: "sites of this protocol keep none"}
	}
	if c, are := d.copies(ctx); are && r.Kind == kinds.Snapshot {
		v, err := c.Create(ctx, r)
		if err != nil {
			return site.Resource{}, err
		}
		return d.Read(ctx, kinds.Snapshot, v.ID)
	}
	header := http.Header{}
	if r.Key != "" {
		header.Set(wire.HeaderKey, r.Key)
	}
	want, err := d.fitted(ctx, r, render(r))
	if err != nil {
		return site.Resource{}, err
	}
	where, err := d.where(ctx, r.Kind)
	if err != nil {
		return site.Resource{}, err
	}
	var out wire.Resource
	got, err := d.exchange(ctx, fmt.Sprintf("create %s %s", r.Kind, r.Name), http.MethodPost, where, header, want, &out)
	if err != nil {
		return site.Resource{}, err
	}
	return d.whole(ctx, r.Kind, "", got.Get("Location"), out)
}

// Read says how a resource is now.
func (d *Driver) Read(ctx context.Context, kind kinds.Kind, id string) (site.Resource, error) {
	_, copied := d.copies(ctx)
	copied = copied && kind == kinds.Snapshot
	at := kind
	if copied {
		at = kinds.Volume
	}
	where, err := d.location(ctx, at, id)
	if err != nil {
		return site.Resource{}, err
	}
	var out wire.Resource
	if err := d.do(ctx, fmt.Sprintf("read %s", kind), http.MethodGet, where, nil, nil, &out); err != nil {
		return site.Resource{}, err
	}
	if out.ID == "" {
		if out.Kind == "" && len(out.Attributes) == 0 {
			return site.Resource{}, &site.Error{Site: d.name, Doing: fmt.Sprintf("read %s", kind), Class: site.Transient, Detail: "it says nothing of what it has there"}
		}
		out.ID = id // it is what was asked for
	}
	if copied {
		if out, err = d.readKept(ctx, out); err != nil {
			return site.Resource{}, err
		}
	}
	r := parse(kind, out)
	r.Details = told(out, text(out.Attributes[wire.OwnZone]))
	return r, nil
}

// List reads a whole collection, page by page. A site that does not know the kind has nothing of it.
func (d *Driver) List(ctx context.Context, kind kinds.Kind) ([]site.Resource, error) {
	all, err := d.collected(ctx, kind)
	var out []site.Resource
	for _, r := range all {
		out = append(out, parse(kind, r))
	}
	return out, err
}

// collected is a whole collection: of a site whose snapshots are copies, those among its volumes.
func (d *Driver) collected(ctx context.Context, kind kinds.Kind) ([]wire.Resource, error) {
	if _, copied := d.copies(ctx); copied && (kind == kinds.Snapshot || kind == kinds.Volume) {
		volumes, err := d.all(ctx, kinds.Volume)
		return kept(kind, volumes), err
	}
	return d.all(ctx, kind)
}

// all is a whole collection. A site that knows no pages tells all at once, and again: that is the end of it.
func (d *Driver) all(ctx context.Context, kind kinds.Kind) ([]wire.Resource, error) {
	where, err := d.where(ctx, kind)
	if err != nil {
		return nil, err
	}
	var out []wire.Resource
	seen := map[string]bool{}
	for page := 1; ; page++ {
		var c wire.Collection
		err := d.do(ctx, fmt.Sprintf("list %s", kind), http.MethodGet, fmt.Sprintf("%s?page=%d&number=%d", where, page, pageSize), nil, nil, &c)
		if site.ClassOf(err) == site.NotFound && err != nil {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		got, fresh := slices.Concat(c.Resources, c.Links), 0
		for _, r := range got {
			if r.ID != "" && !seen[r.ID] {
				seen[r.ID] = true
				out, fresh = append(out, r), fresh+1
			}
		}
		if len(got) < pageSize || fresh == 0 {
			return out, nil
		}
	}
}

// Invoke starts or stops an instance.
func (d *Driver) Invoke(ctx context.Context, kind kinds.Kind, id, action string) (site.Resource, error) {
	where, err := d.location(ctx, kind, id)
	if err != nil {
		return site.Resource{}, err
	}
	var out wire.Resource
	err = d.do(ctx, action, http.MethodPost, where+"?action="+url.QueryEscape(action), nil,
		wire.Action{Action: wire.ComputeAction + action}, &out)
	if err != nil {
		return site.Resource{}, err
	}
	return d.whole(ctx, kind, id, "", out)
}

// Change makes a resource what the request says, in place.
func (d *Driver) Change(ctx context.Context, kind kinds.Kind, id string, r site.Request) (site.Resource, error) {
	if c, are := d.copies(ctx); are && kind == kinds.Snapshot {
		if _, err := c.Change(ctx, id, r); err != nil {
			return site.Resource{}, err
		}
		return d.Read(ctx, kind, id)
	}
	want, err := d.fitted(ctx, r, renderChange(r))
	if err != nil {
		return site.Resource{}, err
	}
	where, err := d.location(ctx, kind, id)
	if err != nil {
		return site.Resource{}, err
	}
	var out wire.Resource
	if err := d.do(ctx, fmt.Sprintf("change %s %s", kind, r.Name), http.MethodPost, where, nil, want, &out); err != nil {
		return site.Resource{}, err
	}
	return d.whole(ctx, kind, id, "", out)
}

// Push has the site send notices to a sink.
func (d *Driver) Push(ctx context.Context, to site.Sink) (func(context.Context) error, error) {
	var out wire.Resource
	want := wire.Resource{Kind: wire.OwnNotice, Attributes: map[string]any{wire.NoticeSink: to.URL, wire.NoticeSecret: to.Secret}}
	if to.Authorities != "" {
		want.Attributes[wire.NoticeAuthorities] = to.Authorities
	}
	err := d.do(ctx, "ask for notices", http.MethodPost, wire.PathNotices, nil, want, &out)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) error {
		return d.do(ctx, "end notices", http.MethodDelete, wire.PathNotices+url.PathEscape(idOf(out.ID)), nil, nil, nil)
	}, nil
}

// Delete removes a resource.
func (d *Driver) Delete(ctx context.Context, kind kinds.Kind, id string) error {
	if c, are := d.copies(ctx); are && kind == kinds.Snapshot {
		return c.Delete(ctx, id)
	}
	where, err := d.location(ctx, kind, id)
	if err != nil {
		return err
	}
	return d.do(ctx, fmt.Sprintf("delete %s", kind), http.MethodDelete, where, nil, nil, nil)
}

// located has the ends of a link be where this site has them.
func (o *offer) located(w wire.Resource, base string) wire.Resource {
	for _, end := range []*wire.End{w.Source, w.Target} {
		if end == nil {
			continue
		}
		if at := o.collection(end.Kind, base); at != "" {
			end.Location = at + idOf(end.Location)
		}
	}
	return w
}

func (d *Driver) location(ctx context.Context, kind kinds.Kind, id string) (string, error) {
	where, err := d.where(ctx, kind)
	return where + url.PathEscape(id), err
}

// tell has a thing do or be something, of which nothing is told.
func (d *Driver) tell(ctx context.Context, doing string, kind kinds.Kind, id, query string, body any) error {
	where, err := d.location(ctx, kind, id)
	if err != nil {
		return err
	}
	return d.do(ctx, doing, http.MethodPost, where+query, nil, body, nil)
}

// do sends one request and decodes the answer into out, if out is not nil.
func (d *Driver) do(ctx context.Context, doing, method, where string, header http.Header, body, out any) error {
	_, err := d.exchange(ctx, doing, method, where, header, body, out)
	return err
}

// exchange is do, with the header fields of the answer. An answer without a body leaves out as it is.
func (d *Driver) exchange(ctx context.Context, doing, method, where string, header http.Header, body, out any) (http.Header, error) {
	fail := func(class site.Class, detail string, err error) error {
		return &site.Error{Site: d.name, Doing: doing, Class: class, Detail: detail, Err: err}
	}
	data, err := json.Marshal(body)
	if err != nil {
		return nil, fail(site.Refused, "the request cannot be written", err)
	}
	if body == nil {
		data = nil
	}
	resp, err := d.send(d.client, func() (*http.Request, error) {
		req, err := d.request(ctx, method, where, header, data)
		if err == nil {
			req.Header.Set("Accept", wire.ContentType)
			req.Header.Set("Content-Type", wire.ContentType)
		}
		return req, err
	})
	if err != nil {
		return nil, fail(classOf(err), "", withoutURL(err))
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, maxBody))
	if err != nil {
		return nil, fail(site.Transient, "the answer broke off", err)
	}
	if resp.StatusCode >= 300 {
		return nil, d.refusal(doing, resp, answer)
	}
	if out == nil || len(bytes.TrimSpace(answer)) == 0 {
		return resp.Header, nil
	}
	if where := locationIn(resp.Header.Get("Content-Type"), answer); where != "" && resp.StatusCode == http.StatusCreated {
		resp.Header.Set("Location", where)
		return resp.Header, nil
	}
	if err := json.Unmarshal(answer, out); err != nil {
		return nil, fail(site.Transient, "the answer is not what the protocol asks for", err)
	}
	return resp.Header, nil
}

// locationIn is where something was made, as a site tells that in text (GFD.229) though it was asked for JSON; "" if it does not.
func locationIn(media string, answer []byte) string {
	if media, _, _ = mime.ParseMediaType(media); media != wire.TextPlain && media != wire.URIList {
		return ""
	}
	text := strings.TrimSpace(string(answer))
	if media == wire.URIList {
		return text
	}
	fields, err := wire.ReadLines(text)
	if err != nil {
		return ""
	}
	for _, f := range fields {
		if strings.EqualFold(f.Name, wire.FieldLocation) {
			return f.Value
		}
	}
	return ""
}

// request makes a request without the token.
func (d *Driver) request(ctx context.Context, method, where string, header http.Header, body []byte) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, d.base+where, bytes.NewReader(body))
	if err != nil {
		return nil, site.Final(err)
	}
	for k, v := range header {
		req.Header[k] = v
	}
	return req, nil
}

// classOf is the class of an error of asking: one that sends us elsewhere does not pass.
func classOf(err error) site.Class {
	var elsewhere *web.Redirected
	if errors.As(err, &elsewhere) {
		return site.Refused
	}
	return site.ClassOf(err)
}

// withoutURL drops the method and URL that net/http puts before an error: the site and the act are named already.
func withoutURL(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// refusal turns a status into an error of the right class.
func (d *Driver) refusal(doing string, resp *http.Response, body []byte) error {
	var p wire.Problem
	detail := resp.Status
	if json.Unmarshal(body, &p) == nil && p.Message != "" {
		detail = p.Message
	}
	e := &site.Error{Site: d.name, Doing: doing, Class: site.Refused, Detail: detail}
	switch {
	case resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone:
		e.Class = site.NotFound
	case resp.StatusCode == http.StatusConflict:
		e.Class = site.Conflict
	case resp.StatusCode == http.StatusTooManyRequests:
		e.Class = site.RateLimited
		e.After = retryAfter(resp.Header.Get("Retry-After"))
	case resp.StatusCode >= 500 || resp.StatusCode == http.StatusRequestTimeout:
		e.Class = site.Transient
	}
	return e
}

// mostAfter is the most, in seconds, that is read of how long a site wants to be left alone: whoever waits decides how long.
const mostAfter = 24 * 60 * 60

// retryAfter reads the seconds or the date of a Retry-After header (RFC 9110, section 10.2.3).
func retryAfter(text string) time.Duration {
	if s, err := strconv.Atoi(text); err == nil && s >= 0 {
		return time.Duration(min(s, mostAfter)) * time.Second
	}
	if t, err := http.ParseTime(text); err == nil {
		return min(max(time.Until(t), 0), mostAfter*time.Second)
	}
	return time.Second
}

// idOf is the last part of a location or URN.
func idOf(location string) string {
	return strings.TrimPrefix(path.Base(location), "urn:uuid:")
}
