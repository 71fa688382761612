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
	if err := d.do(ctx, "describe", http.MethodGet, wire.PathSite, nil, nil, &r); err != nil {
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
	header := http.Header{}
	if r.Key != "" {
		header.Set(wire.HeaderKey, r.Key)
	}
	var out wire.Resource
	err := d.do(ctx, fmt.Sprintf("create %s %s", r.Kind, r.Name), http.MethodPost, "/"+collections[r.Kind]+"/", header, render(r), &out)
	if err != nil {
		return site.Resource{}, err
	}
	return parse(r.Kind, out), nil
}

// Read says how a resource is now.
func (d *Driver) Read(ctx context.Context, kind kinds.Kind, id string) (site.Resource, error) {
	var out wire.Resource
	if err := d.do(ctx, fmt.Sprintf("read %s", kind), http.MethodGet, d.location(kind, id), nil, nil, &out); err != nil {
		return site.Resource{}, err
	}
	r := parse(kind, out)
	r.Details = told(out, text(out.Attributes[wire.OwnZone]))
	return r, nil
}

// List reads a whole collection, page by page.
func (d *Driver) List(ctx context.Context, kind kinds.Kind) ([]site.Resource, error) {
	var out []site.Resource
	for page := 1; ; page++ {
		var c wire.Collection
		where := fmt.Sprintf("/%s/?page=%d&number=%d", collections[kind], page, pageSize)
		if err := d.do(ctx, fmt.Sprintf("list %s", kind), http.MethodGet, where, nil, nil, &c); err != nil {
			return out, err
		}
		got := slices.Concat(c.Resources, c.Links)
		for _, r := range got {
			out = append(out, parse(kind, r))
		}
		if len(got) < pageSize {
			return out, nil
		}
	}
}

// Invoke starts or stops an instance.
func (d *Driver) Invoke(ctx context.Context, kind kinds.Kind, id, action string) (site.Resource, error) {
	var out wire.Resource
	err := d.do(ctx, action, http.MethodPost, d.location(kind, id)+"?action="+url.QueryEscape(action), nil,
		wire.Action{Action: wire.ComputeAction + action}, &out)
	if err != nil {
		return site.Resource{}, err
	}
	return parse(kind, out), nil
}

// Change makes a resource what the request says, in place.
func (d *Driver) Change(ctx context.Context, kind kinds.Kind, id string, r site.Request) (site.Resource, error) {
	var out wire.Resource
	err := d.do(ctx, fmt.Sprintf("change %s %s", kind, r.Name), http.MethodPost, d.location(kind, id), nil, renderChange(r), &out)
	if err != nil {
		return site.Resource{}, err
	}
	return parse(kind, out), nil
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
	return d.do(ctx, fmt.Sprintf("delete %s", kind), http.MethodDelete, d.location(kind, id), nil, nil, nil)
}

func (d *Driver) location(kind kinds.Kind, id string) string {
	return "/" + collections[kind] + "/" + url.PathEscape(id)
}

// do sends one request and decodes the answer into out, if out is not nil.
func (d *Driver) do(ctx context.Context, doing, method, where string, header http.Header, body, out any) error {
	fail := func(class site.Class, detail string, err error) error {
		return &site.Error{Site: d.name, Doing: doing, Class: class, Detail: detail, Err: err}
	}
	data, err := json.Marshal(body)
	if err != nil {
		return fail(site.Refused, "the request cannot be written", err)
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
		return fail(classOf(err), "", withoutURL(err))
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, maxBody))
	if err != nil {
		return fail(site.Transient, "the answer broke off", err)
	}
	if resp.StatusCode >= 300 {
		return d.refusal(doing, resp, answer)
	}
	if out == nil {
		return nil
	}
	if err := json.Unmarshal(answer, out); err != nil {
		return fail(site.Transient, "the answer is not what the protocol asks for", err)
	}
	return nil
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
