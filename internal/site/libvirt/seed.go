package libvirt

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

// seedLabel is the label by which first-boot programs know a NoCloud seed.
const seedLabel = "cidata"

// seed is what a machine reads when it starts for the first time: the files of a NoCloud seed.
type seed struct {
	instance, hostname, authorized string
	private, public                string
}

// newSeed is a seed with a host key of its own, whose public half is known before the machine speaks.
func newSeed(instance, hostname, authorized string) (*seed, error) {
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
	return &seed{instance: instance, hostname: hostname, authorized: strings.TrimSpace(authorized),
		private: string(pem.EncodeToMemory(block)), public: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))}, nil
}

// files are the seed's.
func (s *seed) files() map[string]string {
	user := "#cloud-config\ndisable_root: false\nssh_pwauth: false\nssh_deletekeys: true\n" +
		"ssh_keys:\n  ed25519_private: |\n" + indented(s.private, "    ") + "  ed25519_public: " + s.public + "\n"
	if s.authorized != "" {
		user += "users:\n  - name: root\n    ssh_authorized_keys:\n      - " + s.authorized + "\n"
	}
	return map[string]string{
		"meta-data":      fmt.Sprintf("instance-id: %s\nlocal-hostname: %s\n", s.instance, s.hostname),
		"user-data":      user,
		"network-config": "version: 2\nethernets:\n  all:\n    match: {name: \"e*\"}\n    dhcp4: true\n    dhcp-identifier: mac\n",
	}
}

func indented(text, by string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return by + strings.Join(lines, "\n"+by) + "\n"
}

// seedSize is how large an image of a seed is.
const seedSize = 512 << 10

// image is the seed as a file system (ISO 9660 with Rock Ridge). What is written on the way is in a folder that nobody else reads.
func (s *seed) image() ([]byte, error) {
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
	fs, err := iso9660.Create(file.New(f, false), seedSize, 0, 2048, work)
	if err != nil {
		return nil, err
	}
	for name, text := range s.files() {
		w, err := fs.OpenFile(name, os.O_CREATE|os.O_RDWR)
		if err == nil {
			_, err = w.Write([]byte(text))
		}
		if err != nil {
			return nil, err
		}
		w.Close()
	}
	if err := fs.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: seedLabel}); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	return append(data, bytes.Repeat([]byte{0}, max(0, seedSize-len(data)))...), err
}
