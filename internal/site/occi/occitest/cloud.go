// Package occitest is a cloud of the standard alone: what a driver meets at a site that knows none of our mixins.
package occitest

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

// New starts a cloud that ends with the test. Its address is URL.
func New(t *testing.T, user bool) *Cloud {
	t.Helper()
	c := &Cloud{t: t, user: user, All: map[string][]map[string]any{}}
	server := httptest.NewServer(c)
	t.Cleanup(server.Close)
	c.URL = server.URL + "/cloud"
	return c
}

// Cloud is a cloud that knows what the standard has, and nothing else: it refuses every mixin, attribute and member that it does not know. Its
// collections are below a path of its own, its answers to changes may be empty, and it tells all there is whatever is asked of a listing.
type Cloud struct {
	URL string
	// All are its things by the path of their collection: machines, disks, nets, nics, plugs. Sent is what was asked.
	All  map[string][]map[string]any
	Sent []string

	t    *testing.T
	user bool // it knows user data instead of keys
	mu   sync.Mutex
	n    int
}

// Things are those of a collection, while the cloud goes on.
func (c *Cloud) Things(collection string) []map[string]any {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.All[collection])
}

// Infra begins the names of the kinds.
const Infra = "http://schemas.ogf.org/occi/infrastructure"

var standardKinds = map[string]string{"machines": Infra + "#compute", "disks": Infra + "#storage", "nets": Infra + "#network",
	"nics": Infra + "#networkinterface", "plugs": Infra + "#storagelink"}

func (c *Cloud) mixins() []map[string]any {
	number := func(n float64) map[string]any {
		return map[string]any{"type": "number", "mutable": false, "required": false, "default": n}
	}
	out := []map[string]any{
		{"term": "resource_tpl", "scheme": Infra + "#"}, {"term": "os_tpl", "scheme": Infra + "#"},
		{"term": "small", "scheme": "http://cloud.ribera.test/occi/size#", "depends": []string{Infra + "#resource_tpl"},
			"attributes": map[string]any{"occi.compute.cores": number(1), "occi.compute.memory": number(2)}},
		{"term": "large", "scheme": "http://cloud.ribera.test/occi/size#", "depends": []string{Infra + "#resource_tpl"},
			"attributes": map[string]any{"occi.compute.cores": number(4), "occi.compute.memory": number(8)}},
		{"term": "plain-12", "scheme": "http://cloud.ribera.test/occi/image#", "depends": []string{Infra + "#os_tpl"}},
		{"term": "ipnetwork", "scheme": Infra + "/network#"}, {"term": "ipnetworkinterface", "scheme": Infra + "/networkinterface#"},
	}
	if c.user {
		return append(out, map[string]any{"term": "user_data", "scheme": Infra + "/compute#"})
	}
	return append(out, map[string]any{"term": "ssh_key", "scheme": Infra + "/credentials#"})
}

// known are the attributes of each kind, those of mixins with them.
var known = map[string][]string{
	"machines": {"occi.compute.cores", "occi.compute.memory", "occi.compute.hostname", "occi.compute.ephemeral_storage.size", "occi.credentials.ssh.publickey", "occi.compute.userdata"},
	"disks":    {"occi.storage.size"}, "nets": {"occi.network.vlan", "occi.network.label", "occi.network.address"},
	"nics": {"occi.networkinterface.mac", "occi.networkinterface.address"}, "plugs": {"occi.storagelink.deviceid", "occi.storagelink.mountpoint"},
}

func (c *Cloud) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Sent = append(c.Sent, r.Method+" "+r.URL.String())
	w.Header().Set("Content-Type", "application/occi+json")
	path, below := strings.CutPrefix(r.URL.Path, "/cloud/")
	term, id, _ := strings.Cut(path, "/")
	kind, is := standardKinds[term]
	switch {
	case below && path == "-/":
		c.query(w)
	case !below || !is:
		http.Error(w, "no such thing", http.StatusNotFound)
	case id == "" && r.Method == http.MethodGet:
		c.list(w, term)
	case id == "" && r.Method == http.MethodPost:
		c.create(w, r, term, kind)
	default:
		c.one(w, r, term, id)
	}
}

func (c *Cloud) query(w http.ResponseWriter) {
	var ks []map[string]any
	for at, kind := range standardKinds {
		scheme, term, _ := strings.Cut(kind, "#")
		ks = append(ks, map[string]any{"term": term, "scheme": scheme + "#", "location": "/cloud/" + at + "/"})
	}
	c.tell(w, http.StatusOK, map[string]any{"kinds": ks, "mixins": c.mixins(), "actions": []any{}})
}

func (c *Cloud) tell(w http.ResponseWriter, code int, body any) {
	w.WriteHeader(code)
	assert.NoError(c.t, json.NewEncoder(w).Encode(body))
}

func (c *Cloud) list(w http.ResponseWriter, term string) {
	member := "resources"
	if term == "nics" || term == "plugs" {
		member = "links"
	}
	c.tell(w, http.StatusOK, map[string]any{member: c.All[term]})
}

// refused is what is said of a body with what is not known; "" if all is.
func (c *Cloud) refused(term string, body map[string]any) string {
	for name := range body {
		if !slices.Contains([]string{"kind", "mixins", "attributes", "title", "summary", "source", "target"}, name) {
			return "the member " + name
		}
	}
	for _, m := range asList(body["mixins"]) {
		if !slices.ContainsFunc(c.mixins(), func(x map[string]any) bool { return fmt.Sprint(x["scheme"], x["term"]) == m }) {
			return fmt.Sprint("the mixin ", m)
		}
	}
	attributes, _ := body["attributes"].(map[string]any)
	for name := range attributes {
		if !slices.Contains(known[term], name) {
			return "the attribute " + name
		}
	}
	return ""
}

func asList(v any) []any {
	list, _ := v.([]any)
	return list
}

func (c *Cloud) create(w http.ResponseWriter, r *http.Request, term, kind string) {
	var body map[string]any
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil || body["kind"] != kind {
		http.Error(w, "not one of these", http.StatusBadRequest)
		return
	}
	if what := c.refused(term, body); what != "" {
		c.tell(w, http.StatusBadRequest, map[string]any{"message": what + " is not known"})
		return
	}
	for _, end := range []string{"source", "target"} {
		if e, _ := body[end].(map[string]any); e != nil && !strings.HasPrefix(fmt.Sprint(e["location"]), "/") {
			http.Error(w, "a link needs ends", http.StatusBadRequest)
			return
		}
	}
	c.n++
	id := fmt.Sprintf("%08d-0000-4000-8000-000000000000", c.n)
	body["id"] = "urn:uuid:" + id
	attributes, _ := body["attributes"].(map[string]any)
	if attributes == nil {
		attributes = map[string]any{}
		body["attributes"] = attributes
	}
	delete(attributes, "occi.credentials.ssh.publickey")
	_, name, _ := strings.Cut(kind, "#")
	attributes["occi."+name+".state"] = "active"
	if term == "disks" {
		attributes["occi.storage.state"] = "online"
	}
	if term == "nics" {
		attributes["occi.networkinterface.address"] = "10.9.0.5"
	}
	c.All[term] = append(c.All[term], body)
	w.Header().Set("Location", "http://"+r.Host+"/cloud/"+term+"/"+id)
	w.WriteHeader(http.StatusCreated) // and nothing is told of it
}

func (c *Cloud) one(w http.ResponseWriter, r *http.Request, term, id string) {
	i := slices.IndexFunc(c.All[term], func(x map[string]any) bool { return x["id"] == "urn:uuid:"+id })
	if i < 0 {
		http.Error(w, "no such thing", http.StatusNotFound)
		return
	}
	thing := c.All[term][i]
	switch {
	case r.Method == http.MethodGet:
		c.tell(w, http.StatusOK, thing)
	case r.Method == http.MethodDelete:
		c.All[term] = slices.Delete(c.All[term], i, i+1)
		w.WriteHeader(http.StatusNoContent)
	case r.URL.Query().Get("action") != "":
		thing["attributes"].(map[string]any)["occi.compute.state"] = map[string]string{"stop": "inactive", "start": "active"}[r.URL.Query().Get("action")]
		w.WriteHeader(http.StatusNoContent)
	default:
		var body map[string]any
		assert.NoError(c.t, json.NewDecoder(r.Body).Decode(&body))
		if what := c.refused(term, body); what != "" {
			c.tell(w, http.StatusBadRequest, map[string]any{"message": what + " is not known"})
			return
		}
		if title, _ := body["title"].(string); title != "" {
			thing["title"] = title
		}
		given, _ := body["attributes"].(map[string]any)
		for k, v := range given {
			thing["attributes"].(map[string]any)[k] = v
		}
		w.WriteHeader(http.StatusNoContent)
	}
}
