// Package token is about what a program shows to act for somebody: who it is for, what it bounds, and until when. The secret itself is nowhere but with whoever
// was told it once.
package token

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
)

// Prefix begins every secret, so that one that gets where it does not belong is found there.
const Prefix = "andamio_"

// Token is what is known of one.
type Token struct {
	// ID is a part of its secret that is told to everybody, Name what it is called.
	ID   string `json:"id"`
	Name string `json:"name"`
	// Of is whom it acts for.
	Of string `json:"of"`
	// Parent is the token by which it was made, without which it is none, and with the bounds of which; "" if a person made it.
	Parent string    `json:"parent,omitempty"`
	Made   time.Time `json:"made"`
	Ends   time.Time `json:"ends"`
	// Limit bounds what it may be used for, beside what its person may; From where from, as addresses or networks (RFC 4632, RFC 4291). None says anywhere.
	Limit guard.Limit `json:"limit,omitzero"`
	From  []string    `json:"from,omitempty"`

	// Revoked is when it was, and by whom.
	Revoked   time.Time `json:"revoked,omitzero"`
	RevokedBy string    `json:"revoked_by,omitempty"`
	// Used is when it was used last, to a minute, and from where.
	Used     time.Time `json:"used,omitzero"`
	UsedFrom string    `json:"used_from,omitempty"`
	// Until is when the secret before the last rotation is one no more; zero if there is none.
	Until time.Time `json:"overlap_until,omitzero"`
}

// Secrets are the digests of a token's secret, and of the one before it, which holds until a moment.
type Secrets struct {
	Now, Before string
	Until       time.Time
}

// Longest and Usual are for how long a token is one at most, and where nobody says; Overlap is for how long the secret before a rotation holds where nobody says.
const (
	Longest = 366 * 24 * time.Hour
	Usual   = 90 * 24 * time.Hour
	Overlap = time.Hour
)

// name is what tokens are called.
var name = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9 ._-]{0,61}[A-Za-z0-9])?$`)

// Check says what is wrong with a token that is to be made, all of it.
func (t *Token) Check(now time.Time) error {
	var errs []error
	if !name.MatchString(t.Name) {
		errs = append(errs, fmt.Errorf("%q is no name of a token: letters, digits, spaces, dots, hyphens and underscores, 63 at most", t.Name))
	}
	switch {
	case !t.Ends.After(now):
		errs = append(errs, errors.New("it would be none from the beginning: say for how long it is one"))
	case t.Ends.Sub(now) > Longest:
		errs = append(errs, fmt.Errorf("it would be one for longer than %d days: rotate it instead", int(Longest.Hours()/24)))
	}
	if _, err := networks(t.From); err != nil {
		errs = append(errs, err)
	}
	if err := errors.Join(append(errs, t.Limit.Check())...); err != nil {
		return fault.Default(fault.Invalid, err)
	}
	return nil
}

func networks(from []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, text := range from {
		p, err := netip.ParsePrefix(text)
		if a, errA := netip.ParseAddr(text); err != nil && errA == nil {
			p, err = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("%q is neither an address nor a network, such as 192.0.2.0/24", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// Lasts says why a token is none any more; nil if it is.
func (t *Token) Lasts(now time.Time) error {
	switch {
	case !t.Revoked.IsZero():
		return fault.NotAllowedf("the token %s was revoked", t.ID)
	case !now.Before(t.Ends):
		return fault.NotAllowedf("the token %s ended %s", t.ID, t.Ends.UTC().Format(time.RFC3339))
	}
	return nil
}

// Holds says why a token is none any more, or not from an address; nil if it is.
func (t *Token) Holds(now time.Time, from netip.Addr) error {
	if err := t.Lasts(now); err != nil || len(t.From) == 0 {
		return err
	}
	all, err := networks(t.From)
	if err != nil {
		return err
	}
	for _, p := range all {
		if p.Contains(from.Unmap()) {
			return nil
		}
	}
	return fault.NotAllowedf("the token %s is for other addresses than %s", t.ID, from.Unmap())
}

// Secret is the secret of a token with 32 random bytes.
func Secret(id string, random []byte) string {
	return Prefix + id + "_" + base64.RawURLEncoding.EncodeToString(random)
}

// ParseSecret is the id of the token that a secret is of; false if it is no secret.
func ParseSecret(secret string) (id string, is bool) {
	rest, is := strings.CutPrefix(secret, Prefix)
	id, random, has := strings.Cut(rest, "_")
	if data, err := base64.RawURLEncoding.DecodeString(random); !is || !has || id == "" || err != nil || len(data) != 32 {
		return "", false
	}
	return id, true
}

// Digest is what is kept of a secret: it has 256 bits by chance, so that nothing slower is needed.
func Digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Fits reports that a secret is one of a token's at a moment. It takes as long whatever is wrong with it.
func (s Secrets) Fits(secret string, now time.Time) bool {
	got := []byte(Digest(secret))
	is := subtle.ConstantTimeCompare(got, []byte(s.Now)) == 1
	was := subtle.ConstantTimeCompare(got, []byte(s.Before)) == 1
	return is || was && now.Before(s.Until)
}
