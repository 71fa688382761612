package app

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/site/occi"
)

// Workspace is the folder that holds the database, connections and keys. Files with secrets are readable by their
// owner alone.
type Workspace struct{ Dir string }

// Connection is how a site is reached.
type Connection struct {
	Site  string `json:"site"`
	URL   string `json:"url"`
	Token string `json:"token"`
	// Timeout is for how many seconds one call may be unanswered; 0 is the driver's own.
	Timeout float64 `json:"timeout,omitempty"`
}

// driver speaks to the site.
func (c Connection) driver() *occi.Driver {
	d := occi.New(c.Site, c.URL, c.Token)
	if c.Timeout > 0 {
		d.Patience(time.Duration(c.Timeout * float64(time.Second)))
	}
	return d
}

// DefaultDir is the user's workspace, under $XDG_DATA_HOME (XDG Base Directory Specification).
func DefaultDir() (string, error) {
	base := os.Getenv("XDG_DATA_HOME")
	if !filepath.IsAbs(base) {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("there is no home folder for a workspace; name one with --workspace: %w", err)
		}
		base = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(base, "andamio"), nil
}

func openWorkspace(dir string) (*Workspace, error) {
	if dir == "" {
		d, err := DefaultDir()
		if err != nil {
			return nil, err
		}
		dir = d
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the workspace cannot be made; name another with --workspace: %w", err)
	}
	return &Workspace{dir}, nil
}

func (w *Workspace) path(name string) string { return filepath.Join(w.Dir, name) }

// write replaces a file whole, readable by its owner alone.
func (w *Workspace) write(name string, data []byte) error {
	tmp, err := os.CreateTemp(w.Dir, name+".*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	if _, err := tmp.Write(data); err != nil {
		tmp.Close()
		return err
	}
	if err := tmp.Close(); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), w.path(name))
}

// readJSON reads a file into v; a file that is not there leaves v as it is.
func (w *Workspace) readJSON(name string, v any) error {
	data, err := os.ReadFile(w.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, v); err != nil {
		return fmt.Errorf("%s cannot be read: %w", w.path(name), err)
	}
	return nil
}

func (w *Workspace) writeJSON(name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return w.write(name, append(data, '\n'))
}

const (
	fileSites   = "sites.json"
	fileSecrets = "secrets.json"
	fileKey     = "instances.key"
)

// Connections are the connected sites.
func (w *Workspace) Connections() ([]Connection, error) {
	var out []Connection
	return out, w.readJSON(fileSites, &out)
}

// SetConnections replaces the connected sites.
func (w *Workspace) SetConnections(c []Connection) error { return w.writeJSON(fileSites, c) }

// SecretVariable is the environment variable that gives a secret to a run.
func SecretVariable(name string) string {
	return "ANDAMIO_SECRET_" + strings.ToUpper(strings.NewReplacer("-", "_", ".", "_").Replace(name))
}

// Secrets are the values for the named secrets: from the environment, else from the workspace. Names without a value
// are an error that says how to give one.
func (w *Workspace) Secrets(names []string) (map[string]string, error) {
	kept := map[string]string{}
	if err := w.readJSON(fileSecrets, &kept); err != nil {
		return nil, err
	}
	out := map[string]string{}
	var missing []string
	for _, name := range names {
		if v := os.Getenv(SecretVariable(name)); v != "" {
			out[name] = v
		} else if v := kept[name]; v != "" {
			out[name] = v
		} else {
			missing = append(missing, fmt.Sprintf("%s (give it in the environment as %s)", name, SecretVariable(name)))
		}
	}
	if len(missing) > 0 {
		return nil, fmt.Errorf("the plan needs secrets that were not given: %s", strings.Join(missing, ", "))
	}
	return out, nil
}

// SetSecrets replaces the kept secrets.
func (w *Workspace) SetSecrets(secrets map[string]string) error {
	return w.writeJSON(fileSecrets, secrets)
}

// Key is the key pair that opens instances, made at first use.
func (w *Workspace) Key() (ssh.Signer, error) {
	data, err := os.ReadFile(w.path(fileKey))
	if errors.Is(err, fs.ErrNotExist) {
		data, err = w.newKey()
	}
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(data)
	if err != nil {
		return nil, fmt.Errorf("%s is no private key: %w", w.path(fileKey), err)
	}
	return signer, nil
}

func (w *Workspace) newKey() ([]byte, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "andamio")
	if err != nil {
		return nil, err
	}
	data := pem.EncodeToMemory(block)
	return data, w.write(fileKey, data)
}
