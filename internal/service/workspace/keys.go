package workspace

import (
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/fault"
)

// shelfPublic holds the public halves of key pairs whose private halves were given out.
const shelfPublic = "public-keys"

// KeyPair is a key pair by name, as far as it is shown.
type KeyPair struct {
	Name   string `json:"name"`
	Public string `json:"public"`
	// Kept says that the private half is in the vault.
	Kept bool `json:"kept"`
}

// Keys lists the key pairs.
func (w *Workspace) Keys() ([]KeyPair, error) {
	out := []KeyPair{}
	for _, shelf := range []string{ShelfKeys, shelfPublic} {
		names, err := w.Vault.Names(shelf)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			text, err := w.Vault.Get(shelf, name)
			if err != nil {
				return nil, err
			}
			if shelf == ShelfKeys {
				if text, err = publicOf(text); err != nil {
					return nil, fault.Invalidf("the key pair %s: %w", name, err)
				}
			}
			out = append(out, KeyPair{name, text, shelf == ShelfKeys})
		}
	}
	slices.SortFunc(out, func(a, b KeyPair) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func publicOf(private string) (string, error) {
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		return "", fault.Invalidf("this is no private key, or it is locked with a passphrase of its own") // the error could quote it
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
}

func (w *Workspace) freeKey(name string) error {
	keys, err := w.Keys()
	if err != nil {
		return err
	}
	if !nameOf.MatchString(name) {
		return fault.Invalidf("%q is no name for a key pair: small letters, digits and hyphens", name)
	}
	if slices.ContainsFunc(keys, func(k KeyPair) bool { return k.Name == name }) {
		return fault.Conflictf("there is a key pair %q already", name)
	}
	return nil
}

// MakeKey makes a key pair, keeps the public half and gives out the private one, this once.
func (w *Workspace) MakeKey(name string) (public, private string, err error) {
	if err := w.freeKey(name); err != nil {
		return "", "", err
	}
	if private, err = generateKey(name); err != nil {
		return "", "", err
	}
	if public, err = publicOf(private); err != nil {
		return "", "", err
	}
	return public, private, w.Vault.Set(shelfPublic, map[string]string{name: public})
}

// BringKey keeps a key pair that somebody has, its private half encrypted. The name "instances" makes it the one that
// opens new instances.
func (w *Workspace) BringKey(name string, private []byte) (public string, err error) {
	if public, err = publicOf(string(private)); err != nil {
		return "", err
	}
	if name != InstancesKey {
		if err := w.freeKey(name); err != nil {
			return "", err
		}
	}
	return public, w.Vault.Set(ShelfKeys, map[string]string{name: string(private)})
}

// Lock has the credentials open with a passphrase from now on, "" with a new key file.
func (w *Workspace) Lock(phrase string) error { return w.Vault.Lock(phrase) }
