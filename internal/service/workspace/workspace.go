// Package workspace is the folder that a workspace is: the connections of sites, the credentials in their vault, key pairs, and the files
// that an administrator writes. What several processes change at once is changed under a lock.
//
// It knows no store and no run: services ask it for what they need of it.
package workspace

import (
	"context"
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

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/fault"
	"andamio/internal/durable"
	"andamio/internal/reach"
	"andamio/internal/vault"
)

// Workspace is the folder that holds the database, connections and keys. Files with secrets are readable by their
// owner alone.
type Workspace struct {
	Dir string
	// Loose are files and folders that others could read or write when the workspace was opened; they cannot any more.
	Loose []string
	Vault *vault.Vault
	// Routes reach sites through workers; nil where nobody does.
	Routes func(through reach.Through, site string) reach.Dialer
	// Present reports that a worker is there through whom sites may be reached; nil where nobody is.
	Present func(ctx context.Context, through reach.Through) (bool, error)
	files   durable.Files
	teams   teams
	ways    ways
}

// New is the workspace in a folder that is there.
func New(dir string) *Workspace {
	return &Workspace{Dir: dir, Vault: vault.New(dir), files: durable.In(dir)}
}

// KeepIn has the files of the workspace, and its credentials, be kept elsewhere than in its folder, which keeps the key that opens them, and what is this machine's own.
func (w *Workspace) KeepIn(files durable.Files) {
	w.files, w.Vault = files, vault.In(w.Dir, files, vault.File)
}

// Files are the files of the workspace.
func (w *Workspace) Files() durable.Files { return w.files }

// Where says for people where a file of the workspace is.
func (w *Workspace) Where(name string) string { return w.files.Where(name) }

// Shelves of the vault.
const (
	ShelfSites   = "sites"
	ShelfSecrets = "secrets"
	ShelfKeys    = "keys"
	// ShelfNotices holds the secrets that sites sign their notices with, ShelfSenders those of whoever sends notices about a site in its stead:
	// a program beside a hypervisor, a script on a device.
	ShelfNotices = "notices"
	ShelfSenders = "senders"
)

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

// Open is the workspace in a folder, which is made if it is not there, and is its owner's alone from then on. An empty dir is the user's
// own.
func Open(dir string) (*Workspace, error) {
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
	if err := os.MkdirAll(dir, durable.FolderMode); err != nil {
		return nil, fmt.Errorf("the workspace cannot be made; name another with --workspace: %w", err)
	}
	w := New(dir)
	if w.Loose, err = durable.Tighten(dir); err != nil {
		return nil, fmt.Errorf("others may read the workspace %s, and that cannot be changed: %w", dir, err)
	}
	return w, nil
}

// Path is where a file is that is this machine's own.
func (w *Workspace) Path(name string) string { return filepath.Join(w.Dir, name) }

// Write replaces a file whole, readable by its owner alone.
func (w *Workspace) Write(name string, data []byte) error { return w.files.Write(name, data) }

// ReadJSON reads a file into v; a file that is not there leaves v as it is.
func (w *Workspace) ReadJSON(name string, v any) error { return readJSON(w.files, name, v) }

func readJSON(files durable.Files, name string, v any) error {
	data, err := files.Read(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, v); err != nil {
		return fmt.Errorf("%s is damaged (%w): put a copy of it back; andamio restore has that of the last backup", files.Where(name), err)
	}
	return nil
}

// WriteJSON replaces a file by a value.
func (w *Workspace) WriteJSON(name string, v any) error {
	data, err := asJSON(v)
	if err != nil {
		return err
	}
	return w.Write(name, data)
}

// asJSON is a value as a file has it.
func asJSON(v any) ([]byte, error) {
	data, err := json.MarshalIndent(v, "", "  ")
	return append(data, '\n'), err
}

const FileSites = "sites.json"

// SecretVariable is the environment variable that gives a secret to a run.
func SecretVariable(name string) string {
	return "ANDAMIO_SECRET_" + strings.ToUpper(strings.NewReplacer("-", "_", ".", "_").Replace(name))
}

// Secrets are the values for the named secrets: from the environment, else from the workspace. Names without a value
// are an error that says how to give one.
func (w *Workspace) Secrets(names []string) (map[string]string, error) {
	out, missing, err := w.secrets(names)
	if err != nil || len(missing) == 0 {
		return out, err
	}
	for i, name := range missing {
		missing[i] = fmt.Sprintf("%s (andamio credentials secret %s keeps it, or give it in the environment as %s)", name, name, SecretVariable(name))
	}
	return nil, fault.Invalidf("the plan needs secrets that were not given: %s", strings.Join(missing, ", "))
}

// MissingSecrets are those of some that are neither kept nor in the environment.
func (w *Workspace) MissingSecrets(names []string) ([]string, error) {
	_, missing, err := w.secrets(names)
	return missing, err
}

func (w *Workspace) secrets(names []string) (given map[string]string, missing []string, err error) {
	given = map[string]string{}
	for _, name := range names {
		v := os.Getenv(SecretVariable(name))
		if v == "" {
			if v, err = w.Vault.Get(ShelfSecrets, name); err != nil {
				return nil, nil, err
			}
		}
		if given[name] = v; v == "" {
			missing = append(missing, name)
		}
	}
	return given, missing, nil
}

// SetSecrets keeps secrets; those that are "" are taken away.
func (w *Workspace) SetSecrets(secrets map[string]string) error {
	return w.Vault.Set(ShelfSecrets, secrets)
}

// InstancesKey is the name of the key pair that opens instances.
const InstancesKey = "instances"

// Key is the key pair that opens instances, made at first use.
func (w *Workspace) Key() (ssh.Signer, error) {
	text, err := w.Vault.Get(ShelfKeys, InstancesKey)
	if err == nil && text == "" {
		text, err = w.newKey()
	}
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey([]byte(text))
	if err != nil {
		return nil, fault.Invalidf("the key pair %q in %s is no private key", InstancesKey, w.Where(vault.File))
	}
	return signer, nil
}

func (w *Workspace) newKey() (string, error) {
	text, err := generateKey(InstancesKey)
	if err != nil {
		return "", err
	}
	return text, w.Vault.Set(ShelfKeys, map[string]string{InstancesKey: text})
}

// generateKey makes a private key as PEM.
func generateKey(comment string) (string, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	block, err := ssh.MarshalPrivateKey(private, "andamio "+comment)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(block)), nil
}

// FileDatabase is the workspace's database.
const FileDatabase = "andamio.db"

// FileStore names the database that the workspace is kept in, where that is not in its folder.
const FileStore = "store.json"

// There reports that a workspace's folder has its database still, or the name of it.
func (w *Workspace) There() bool { return IsIn(w.Dir) }

// IsIn reports that there is a workspace in a folder.
func IsIn(dir string) bool {
	for _, name := range []string{FileDatabase, FileStore} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return true
		}
	}
	return false
}

// FileMeasures is the database of what was measured.
const FileMeasures = "measures.db"
