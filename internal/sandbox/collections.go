package sandbox

import (
	"encoding/json"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"

	"andamio/internal/site/occi/wire"
)

// What the protocol has of collections beside listing and making (GFD.223, section 3.4): those of a mixin, to which things are added and from which they are taken,
// filters, actions of all that there is, and mixins that are a client's own.

// uri is where something is, as an absolute URI: an entity is known by that (GFD.221, section 4.5.1).
func uri(r *http.Request, where string) string {
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	return scheme + "://" + r.Host + where
}

// told is a thing as it is now, known by its URI.
func told(r *http.Request, t *thing) wire.Resource {
	out := t.copy()
	out.ID = uri(r, "/"+t.term+"/"+t.ID)
	return out
}

// mixinPath is where the collection of a mixin is: the last part of its scheme, if it is not the standard's, and its term.
func mixinPath(mixin string) string {
	scheme, term := wire.Parted(mixin)
	last := path.Base(strings.TrimRight(scheme, "#"))
	if last == "infrastructure" {
		return "/mixin/" + term + "/"
	}
	return "/mixin/" + last + "." + term + "/"
}

// mixinAt is the mixin whose collection is at a path, "" if there is none. The lock is held.
func (c *Cloud) mixinAt(where string) string {
	for _, m := range c.categories().Mixins {
		if name := m.Scheme + m.Term; mixinPath(name) == where {
			return name
		}
	}
	return ""
}

// matching are the things that a filter names, of one kind or of all. The lock is held.
func (c *Cloud) matching(term string, f wire.Resource) []*thing {
	var out []*thing
	for _, id := range c.ids {
		if t := c.things[id]; t != nil && (term == "" || t.term == term) && t.is(f) {
			out = append(out, t)
		}
	}
	return out
}

// is reports that a filter names the thing: by its kind, title, all of the mixins and all of the attributes that there are in it.
func (t *thing) is(f wire.Resource) bool {
	if f.Kind != "" && t.Kind != f.Kind || f.Title != "" && t.Title != f.Title {
		return false
	}
	lacks := func(m string) bool { return !slices.Contains(t.Mixins, m) }
	return !slices.ContainsFunc(f.Mixins, lacks) && holds(t.Attributes, f.Attributes)
}

// holds reports whether attributes have all of those that are wanted. Numbers are alike however they are written.
func holds(attributes, wanted map[string]any) bool {
	for name, v := range wanted {
		if got, has := attributes[name]; !has || name == wire.PublicKey || !alike(got, v) {
			return false
		}
	}
	return true
}

func alike(a, b any) bool {
	if n := number(a); n != 0 || number(b) != 0 {
		return n == number(b)
	}
	return fmt.Sprint(a) == fmt.Sprint(b)
}

// filterOf reads which things are asked for: by a body or header fields, or by parameters.
func (c *Cloud) filterOf(r *http.Request) (wire.Resource, *refusal) {
	var f wire.Resource
	if r.ContentLength > 0 {
		if err := json.NewDecoder(r.Body).Decode(&f); err != nil {
			return f, no(http.StatusBadRequest, "the filter cannot be read: %v", err)
		}
	}
	q := r.URL.Query()
	for _, category := range q["category"] {
		if slices.ContainsFunc(c.categories().Kinds, func(k wire.Category) bool { return k.Scheme+k.Term == category }) {
			f.Kind = category
			continue
		}
		f.Mixins = append(f.Mixins, category)
	}
	for _, pair := range q["attribute"] {
		name, v, ok := strings.Cut(pair, "=")
		if !ok {
			return f, no(http.StatusBadRequest, "%q is no attribute with its value, NAME=VALUE", pair)
		}
		if f.Attributes == nil {
			f.Attributes = map[string]any{}
		}
		f.Attributes[name] = v
	}
	if m := c.unknown(f.Mixins); m != "" {
		return f, no(http.StatusBadRequest, "the mixin %q is not offered here", m)
	}
	return f, nil
}

// mixinCollection lists the things that have a mixin, gives it to some, to those alone, or takes it from some; with an action, all of them do that.
func (c *Cloud) mixinCollection(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	mixin := c.mixinAt(r.URL.Path)
	if mixin == "" {
		refuse(w, http.StatusNotFound, "there is no mixin at %s", r.URL.Path)
		return
	}
	members := c.matching("", wire.Resource{Mixins: []string{mixin}})
	switch {
	case r.Method == http.MethodGet:
		c.tellAll(w, r, members)
	case r.URL.Query().Get("action") != "":
		c.actOnAll(w, r, members)
	default:
		c.tag(w, r, mixin, members)
	}
}

// tag gives a mixin to the things that a request names, to those alone (PUT), or takes it from them (DELETE).
func (c *Cloud) tag(w http.ResponseWriter, r *http.Request, mixin string, members []*thing) {
	named, why := c.named(r)
	if why == nil && !c.free(mixin) {
		why = no(http.StatusForbidden, "%s is what a thing is made with: it is neither given nor taken", mixin)
	}
	if why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	take := func(t *thing) {
		t.Mixins = slices.DeleteFunc(slices.Clone(t.Mixins), func(m string) bool { return m == mixin })
	}
	if r.Method == http.MethodPut {
		for _, t := range members {
			take(t)
		}
	}
	for _, t := range named {
		take(t)
		if r.Method != http.MethodDelete {
			t.Mixins = append(t.Mixins, mixin)
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// free reports that a mixin is a client's own. What the others say of a thing came of how it was made.
func (c *Cloud) free(mixin string) bool {
	_, own := c.tags[mixin]
	return own
}

// named are the things whose locations a request tells. The lock is held.
func (c *Cloud) named(r *http.Request) ([]*thing, *refusal) {
	var body struct {
		Locations []string `json:"locations"`
		wire.Collection
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		return nil, no(http.StatusBadRequest, "the body cannot be read: %v", err)
	}
	for _, x := range slices.Concat(body.Resources, body.Links) {
		body.Locations = append(body.Locations, x.ID)
	}
	var out []*thing
	for _, where := range body.Locations {
		t := c.things[path.Base(where)]
		if t == nil {
			return nil, no(http.StatusNotFound, "there is nothing at %s", where)
		}
		out = append(out, t)
	}
	if len(out) == 0 {
		return nil, no(http.StatusBadRequest, "it is not said of which things: X-OCCI-Location, or locations in JSON")
	}
	return out, nil
}

// tellAll tells things of any kinds.
func (c *Cloud) tellAll(w http.ResponseWriter, r *http.Request, all []*thing) {
	var out wire.Collection
	for _, t := range all {
		if terms[t.term].link {
			out.Links = append(out.Links, told(r, t))
		} else {
			out.Resources = append(out.Resources, told(r, t))
		}
	}
	respond(w, http.StatusOK, out)
}

// actOnCollection has all things of a kind, of those that a filter names, do something.
func (c *Cloud) actOnCollection(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.actOnAll(w, r, c.matching(r.PathValue("term"), wire.Resource{}))
}

// actOnAll has things do something, each that can. It fails where none of them can.
func (c *Cloud) actOnAll(w http.ResponseWriter, r *http.Request, all []*thing) {
	var body wire.Action
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		refuse(w, http.StatusBadRequest, "the body cannot be read: %v", err)
		return
	}
	var last *refusal
	did := 0
	for _, t := range all {
		if why := c.act(t, strings.TrimPrefix(body.Action, wire.ComputeAction), ""); why != nil {
			last = why
		} else {
			did++
		}
	}
	if did == 0 && last != nil {
		refuse(w, last.code, "%s", last.text)
		return
	}
	c.tellAll(w, r, all)
}

// define makes a mixin of a client's own (GFD.223, section 3.4.3).
func (c *Cloud) define(w http.ResponseWriter, r *http.Request) {
	all, why := mixinsOf(r)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range all {
		name := m.Scheme + m.Term
		switch {
		case why != nil:
		case m.Scheme == "" || m.Term == "" || !strings.HasSuffix(m.Scheme, "#"):
			why = no(http.StatusBadRequest, "a mixin has a term, and a scheme that ends with #")
		case c.unknown([]string{name}) == "" || c.mixinAt(mixinPath(name)) != "":
			why = no(http.StatusConflict, "there is a mixin %s, or one whose things are at %s", name, mixinPath(name))
		}
	}
	if why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	for _, m := range all {
		m.Attributes, m.Actions = nil, nil
		c.tags[m.Scheme+m.Term] = m
	}
	w.WriteHeader(http.StatusNoContent)
}

// undefine removes a mixin of a client's own, from all things that have it too.
func (c *Cloud) undefine(w http.ResponseWriter, r *http.Request) {
	all, why := mixinsOf(r)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range all {
		if why == nil && !c.free(m.Scheme+m.Term) {
			why = no(http.StatusForbidden, "%s is no mixin that a client made", m.Scheme+m.Term)
		}
	}
	if why != nil {
		refuse(w, why.code, "%s", why.text)
		return
	}
	for _, m := range all {
		name := m.Scheme + m.Term
		delete(c.tags, name)
		for _, t := range c.things {
			t.Mixins = slices.DeleteFunc(slices.Clone(t.Mixins), func(x string) bool { return x == name })
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// mixinsOf are the mixins that a request defines, in JSON, or in a text rendering as those of a thing without a kind.
func mixinsOf(r *http.Request) ([]wire.Category, *refusal) {
	var body struct {
		wire.Category
		Mixins []json.RawMessage `json:"mixins"`
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		return nil, no(http.StatusBadRequest, "the body cannot be read: %v", err)
	}
	var out []wire.Category
	if body.Term != "" {
		out = append(out, body.Category)
	}
	for _, raw := range body.Mixins {
		var m wire.Category
		var name string
		if json.Unmarshal(raw, &name) == nil {
			m.Scheme, m.Term = wire.Parted(name)
		} else if err := json.Unmarshal(raw, &m); err != nil {
			return nil, no(http.StatusBadRequest, "a mixin cannot be read: %v", err)
		}
		out = append(out, m)
	}
	if len(out) == 0 {
		return nil, no(http.StatusBadRequest, "no mixin is told")
	}
	return out, nil
}

// put changes a thing, or makes one that is to be known by an id of the client's (GFD.223, section 3.4.5).
func (c *Cloud) put(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	c.mu.Lock()
	_, there := c.things[id]
	c.mu.Unlock()
	if there || r.URL.Query().Get("action") != "" {
		c.change(w, r)
		return
	}
	if !validID(id) {
		refuse(w, http.StatusBadRequest, "%q cannot be an id: small letters, digits and -, at most 64", id)
		return
	}
	c.createAs(w, r, id)
}

// validID reports that a client's id can be a part of a path and of a file's name.
func validID(id string) bool {
	return len(id) <= 64 && strings.Trim(id, "-") != "" && strings.Trim(id, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}
