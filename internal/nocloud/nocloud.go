// Package nocloud makes what a new machine reads when it starts for the first time: a seed of cloud-init's data source NoCloud, which gives it its
// name, the key of its SSH server and the key that opens it.
package nocloud

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"golang.org/x/crypto/ssh"
)

// Label is the label by which first-boot programs know a NoCloud seed.
const Label = "cidata"

// Seed is what a machine reads when it starts for the first time. A system that was started with the seed of another instance takes it for a new one.
type Seed struct {
	Instance, Hostname string
	// Authorized is the public key that opens the machine, in the form of an authorized_keys line.
	Authorized string
	// Private and Public are the key of its SSH server.
	Private, Public string
}

// New is a seed with a host key of its own, whose public half is known before the machine speaks.
func New(instance, hostname, authorized string) (*Seed, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, err
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return nil, err
	}
	return &Seed{Instance: instance, Hostname: hostname, Authorized: strings.TrimSpace(authorized),
		Private: string(pem.EncodeToMemory(block)), Public: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))}, nil
}

// Files are the seed's, by name.
func (s *Seed) Files() map[string]string {
	user := "#cloud-config\ndisable_root: false\nssh_pwauth: false\nssh_deletekeys: true\n" +
		"ssh_keys:\n  ed25519_private: |\n" + indented(s.Private, "    ") + "  ed25519_public: " + s.Public + "\n"
	if s.Authorized != "" {
		user += "users:\n  - name: root\n    ssh_authorized_keys:\n      - " + s.Authorized + "\n"
	}
	return map[string]string{
		"meta-data":      fmt.Sprintf("instance-id: %s\nlocal-hostname: %s\n", s.Instance, s.Hostname),
		"user-data":      user,
		"network-config": "version: 2\nethernets:\n  all:\n    match: {name: \"e*\"}\n    dhcp4: true\n    dhcp-identifier: mac\n",
	}
}

func indented(text, by string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return by + strings.Join(lines, "\n"+by) + "\n"
}

// Size is how large an image of a seed is, in bytes.
const Size = 512 << 10

// Image is the seed as a file system (ISO 9660 with Rock Ridge). What is written on the way is in a folder that nobody else reads.
func (s *Seed) Image() ([]byte, error) {
	dir, err := os.MkdirTemp("", "andamio-seed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	work, name := filepath.Join(dir, "files"), filepath.Join(dir, "image")
	if err := os.Mkdir(work, 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	fs, err := iso9660.Create(file.New(f, false), Size, 0, 2048, work)
	if err != nil {
		return nil, err
	}
	for name, text := range s.Files() {
		w, err := fs.OpenFile(name, os.O_CREATE|os.O_RDWR)
		if err == nil {
			_, err = w.Write([]byte(text))
		}
		if err != nil {
			return nil, err
		}
		w.Close()
	}
	if err := fs.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: Label}); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	return append(data, bytes.Repeat([]byte{0}, max(0, Size-len(data)))...), err
}
