package workspace

import (
	"net/url"

	"andamio/internal/core/fault"
	"andamio/internal/web"
)

// fileForward says where measures are sent on to.
const fileForward = "forward.json"

// Forward is where measures are sent on to, as they are measured.
type Forward struct {
	// URL takes them by remote write; "" sends nothing.
	URL string `json:"url,omitempty"`
	// Secret names the kept secret that goes along as a bearer token (RFC 6750); "" is none.
	Secret string `json:"secret,omitempty"`
}

// Forward says where measures are sent on to.
func (w *Workspace) Forward() (Forward, error) {
	var f Forward
	err := w.ReadJSON(fileForward, &f)
	return f, err
}

// SetForward changes where measures are sent on to, from the next round on.
func (w *Workspace) SetForward(f Forward) error {
	if err := f.Check(); err != nil {
		return err
	}
	return w.WriteJSON(fileForward, f)
}

// Check refuses what measures cannot, or may not, be sent to.
func (f Forward) Check() error {
	if f.URL == "" {
		if f.Secret != "" {
			return fault.Invalidf("a secret goes along to somewhere: name the URL too")
		}
		return nil
	}
	u, err := url.Parse(f.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return fault.Invalidf("%q is no URL of http or https", f.URL)
	case u.User != nil:
		return fault.Invalidf("a URL is kept in the open: keep the credential with andamio credentials secret, and name that")
	case f.Secret != "" && u.Scheme == "http" && !web.Loopback(u.Hostname()):
		return fault.Refusedf("over http anybody could read the secret on its way: use https")
	}
	return nil
}
