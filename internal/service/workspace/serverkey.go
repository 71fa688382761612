package workspace

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io/fs"

	"golang.org/x/crypto/ssh"
)

// FilePortalKey is the key that the portal is known by.
const FilePortalKey = "portal_key"

// ServerKey is a private key by which this workspace's servers are known, as PEM (OpenSSH's format), in a file of its own; it is made when it
// is first asked for.
func (w *Workspace) ServerKey(name string) ([]byte, error) {
	data, err := w.files.Read(name)
	if err == nil || !errors.Is(err, fs.ErrNotExist) {
		return data, err
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "andamio")
	if err != nil {
		return nil, err
	}
	data = pem.EncodeToMemory(block)
	return data, w.files.Write(name, data)
}
