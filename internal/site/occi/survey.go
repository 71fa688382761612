package occi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

// Access asks what the token may do.
func (d *Driver) Access(ctx context.Context) (site.Access, error) {
	var out wire.Resource
	err := d.do(ctx, "ask for the rights", http.MethodGet, wire.PathAccess, nil, nil, &out)
	if site.ClassOf(err) == site.NotFound && err != nil {
		_, err := d.offers(ctx) // what the credential may do is not told; that it is known is
		return site.Access{}, err
	}
	if err != nil {
		return site.Access{}, err
	}
	first, _ := out.Attributes[wire.AccessFirst].(bool)
	return site.Access{Account: text(out.Attributes[wire.AccessAccount]), May: words(out.Attributes[wire.AccessMay]),
		MayNot: words(out.Attributes[wire.AccessMayNot]), Regions: words(out.Attributes[wire.AccessRegions]), FirstUse: first}, nil
}

func words(v any) []string {
	return slices.DeleteFunc(strings.Split(text(v), ","), func(s string) bool { return s == "" })
}

// Rotate has the site take another token in place of the one that is used. Whoever proposes it can keep it before the site
// knows it, and so never be without one that is good. A site that makes its own answers with that.
func (d *Driver) Rotate(ctx context.Context, fresh string) (string, error) {
	want, out := wire.Resource{Kind: wire.OwnAccess, Attributes: map[string]any{wire.AccessToken: fresh}}, wire.Resource{}
	if err := d.do(ctx, "change the credential", http.MethodPost, wire.PathAccess, nil, want, &out); err != nil {
		return "", err
	}
	token := text(out.Attributes[wire.AccessToken])
	if token == "" {
		return "", &site.Error{Site: d.name, Doing: "change the credential", Class: site.Transient, Err: errors.New("the site does not say what it is now")}
	}
	return token, nil
}

// Page reads a part of a collection.
func (d *Driver) Page(ctx context.Context, q site.Query) (site.Page, error) {
	size := q.Size
	if size == 0 {
		size = pageSize
	}
	query := url.Values{"number": {fmt.Sprint(size)}, wire.ParamAfter: {q.After}}
	if q.Region != "" {
		query.Set(wire.ParamRegion, q.Region)
	}
	o, err := d.offers(ctx)
	if err != nil {
		return site.Page{}, err
	}
	if o.plain() { // it does not know where a listing is to go on
		all, err := d.all(ctx, q.Kind)
		return paged(q, all), err
	}
	at, shown := q.Kind, func(got []wire.Resource) []wire.Resource { return got }
	if _, copied := d.copies(ctx); copied && (q.Kind == kinds.Snapshot || q.Kind == kinds.Volume) {
		at, shown = kinds.Volume, func(got []wire.Resource) []wire.Resource { return kept(q.Kind, got) }
	}
	var c wire.Collection
	where, err := d.where(ctx, at)
	if err == nil {
		err = d.do(ctx, fmt.Sprintf("list %s", q.Kind), http.MethodGet, where+"?"+query.Encode(), nil, nil, &c)
	}
	if site.ClassOf(err) == site.NotFound && err != nil {
		return site.Page{}, nil // it does not know the kind, and has nothing of it
	}
	if err != nil {
		return site.Page{}, err
	}
	got := slices.Concat(c.Resources, c.Links)
	full := len(got) >= size
	got = slices.DeleteFunc(got, func(w wire.Resource) bool { return w.ID == "" }) // by what it would be asked for nobody knows
	page := paged(q, shown(got))
	if full && len(got) > 0 {
		page.Next = idOf(got[len(got)-1].ID)
	}
	return page, nil
}

// paged is a part of a collection.
func paged(q site.Query, got []wire.Resource) site.Page {
	var page site.Page
	for _, w := range got {
		r := parse(q.Kind, w)
		r.Details = told(w, q.Region)
		page.Resources = append(page.Resources, r)
	}
	return page
}

// told is all that a rendering says.
func told(w wire.Resource, region string) *site.Details {
	t := &site.Details{Type: w.Kind[strings.LastIndexByte(w.Kind, '#')+1:], Region: region, Mixins: w.Mixins, Raw: map[string]string{}}
	for k, v := range w.Attributes {
		t.Raw[k] = text(v)
	}
	if w.Source != nil {
		t.Source = path.Base(w.Source.Location)
	}
	if w.Target != nil {
		t.Target = path.Base(w.Target.Location)
	}
	return t
}
