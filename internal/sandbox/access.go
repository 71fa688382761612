package sandbox

import (
	"cmp"
	"encoding/json"
	"net/http"
	"slices"
	"strings"

	"andamio/internal/site/occi/wire"
)

// account is whose a token is, and what it may do.
type account struct {
	name string
	may  []string
	// first tokens must be changed before anything else is done.
	first bool
}

// accounts are a stand-in's accounts by token.
type accounts map[string]account

// rights are everything that a token may do.
var rights = []string{"read", "create", "change", "delete"}

// newAccounts gives the token all rights.
func newAccounts(token string) accounts {
	return accounts{token: {name: "deploy-bot", may: rights}}
}

// rightFor is what a request needs.
func rightFor(r *http.Request) string {
	switch call, _ := callOf(r); call {
	case "list", "read":
		return "read"
	case "act":
		return "change"
	default:
		return call
	}
}

// admit says why a request is not let in, nil if it is.
func (c *Cloud) admit(r *http.Request) *refusal {
	token, _ := strings.CutPrefix(r.Header.Get(wire.HeaderToken), "Bearer ")
	c.mu.Lock()
	defer c.mu.Unlock()
	a, known := c.accounts[token]
	if !known || token == "" {
		return no(http.StatusUnauthorized, "the token is missing or wrong")
	}
	if r.URL.Path == wire.PathAccess || r.URL.Path == wire.PathSelf {
		return nil // what may be done, and a new token, everybody may ask for
	}
	if a.first {
		return no(http.StatusForbidden, "the token is for first use only: ask for a new one")
	}
	if need := rightFor(r); !slices.Contains(a.may, need) && !strings.HasPrefix(r.URL.Path, wire.PathNotices) {
		return no(http.StatusForbidden, "%s may not %s here", a.name, need)
	}
	return nil
}

// access answers what the token may do.
func (c *Cloud) access(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	token, _ := strings.CutPrefix(r.Header.Get(wire.HeaderToken), "Bearer ")
	a := c.accounts[token]
	var not, regions []string
	for _, x := range rights {
		if !slices.Contains(a.may, x) {
			not = append(not, x)
		}
	}
	for _, z := range c.site.Zones {
		regions = append(regions, z.Name)
	}
	respond(w, http.StatusOK, wire.Resource{Kind: wire.OwnAccess, ID: "self", Attributes: map[string]any{
		wire.AccessAccount: a.name, wire.AccessMay: strings.Join(a.may, ","), wire.AccessMayNot: strings.Join(not, ","),
		wire.AccessRegions: strings.Join(regions, ","), wire.AccessFirst: a.first}})
}

// shortestToken is how many characters a token that is proposed has at least.
const shortestToken = 20

// rotate gives the account another token, the one that is proposed if one is; the one used ends.
func (c *Cloud) rotate(w http.ResponseWriter, r *http.Request) {
	var want wire.Resource
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body cannot be read: %v", err)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	old, _ := strings.CutPrefix(r.Header.Get(wire.HeaderToken), "Bearer ")
	a := c.accounts[old]
	a.first = false
	fresh := cmp.Or(word(want.Attributes[wire.AccessToken]), token())
	if _, taken := c.accounts[fresh]; taken || len(fresh) < shortestToken {
		refuse(w, http.StatusBadRequest, "a token has at least %d characters, and is nobody's yet", shortestToken)
		return
	}
	delete(c.accounts, old)
	c.accounts[fresh] = a
	respond(w, http.StatusOK, wire.Resource{Kind: wire.OwnAccess, Attributes: map[string]any{wire.AccessToken: fresh}})
}

// Account opens an account at a stand-in and returns its token. One for first use must be changed before it is good for
// anything.
func (s *Sandbox) Account(site, name string, firstUse bool, may ...string) string {
	for _, c := range s.clouds() {
		if c.site.Name == site {
			c.mu.Lock()
			defer c.mu.Unlock()
			fresh := token()
			c.accounts[fresh] = account{name, may, firstUse}
			return fresh
		}
	}
	return ""
}

// regionOf is the region in which a thing is listed: its zone, that of the instance it is linked to, or the site's first.
// The lock is held.
func (c *Cloud) regionOf(t *thing) string {
	if source := c.things[t.source]; source != nil {
		t = source
	}
	if zone := word(t.Attributes[wire.OwnZone]); zone != "" {
		return zone
	}
	return c.site.Zones[0].Name
}

// driftNow has the stand-in change by itself, as if somebody had done so by hand.
func (c *Cloud) driftNow(w http.ResponseWriter, r *http.Request) {
	var want DriftRequest
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body cannot be read: %v", err)
		return
	}
	respond(w, http.StatusOK, c.drift(want))
}
