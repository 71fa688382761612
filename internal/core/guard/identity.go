package guard

import (
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

// Identity is the provider of OpenID Connect that says who people are.
type Identity struct {
	// Issuer is its address (OpenID Connect Discovery 1.0, section 2), Client what we are called there: a public client that may use the device flow (RFC 8628).
	Issuer string `json:"issuer"`
	Client string `json:"client"`
	// Claim is by what of an ID token a person is known: sub, email or preferred_username; "" is sub.
	Claim string `json:"claim,omitempty"`
}

// The claims by which people may be known (OpenID Connect Core 1.0, section 5.1). An address of mail counts where the provider has verified it.
const (
	BySubject  = "sub"
	ByEmail    = "email"
	ByUsername = "preferred_username"
)

// By is the claim by which people are known.
func (i Identity) By() string {
	if i.Claim == "" {
		return BySubject
	}
	return i.Claim
}

// ByIdentity is the person whom the provider calls so; "" if there is none.
func (d *Directory) ByIdentity(value string) string {
	for name, p := range d.People {
		if value != "" && p.Identity == value {
			return name
		}
	}
	return ""
}

func (d *Directory) checkIdentity(wrong wronged) {
	known := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(d.People)) {
		of := d.People[name].Identity
		if of == "" {
			continue
		}
		if d.Identity == nil {
			wrong("people."+name+".identity", "no provider says who that is: name one under identity")
		}
		if other := known[of]; other != "" {
			wrong("people."+name+".identity", "%s is %s already", of, other)
		}
		known[of] = name
	}
	if d.Identity == nil {
		return
	}
	switch at := issuer.FindStringSubmatch(d.Identity.Issuer); {
	case at == nil:
		wrong("identity.issuer", "%q is no address of a provider, such as https://login.ribera.test", d.Identity.Issuer)
	case at[1] != "https" && !loopback(strings.Trim(at[2], "[]")):
		wrong("identity.issuer", "what a provider says counts over https alone")
	}
	if d.Identity.Client == "" {
		wrong("identity.client", "say what we are called at the provider")
	}
	if by := d.Identity.By(); !slices.Contains([]string{BySubject, ByEmail, ByUsername}, by) {
		wrong("identity.claim", "%q is no claim by which people are known; there are %s, %s and %s", by, BySubject, ByEmail, ByUsername)
	}
}

// issuer is an address with nothing beside scheme, host, port and path.
var issuer = regexp.MustCompile(`^(https?)://([A-Za-z0-9.-]+|\[[0-9a-fA-F:]+\])(?::[0-9]{1,5})?(?:/[A-Za-z0-9._~/-]*)?$`)

func loopback(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && a.IsLoopback()
}
