// Package vault keeps credentials in one file that is encrypted at rest, in the format age v1.
//
// In go values under a shelf and a name; out they come to the program, and to nobody else: nothing here prints, and no
// value is part of an error. The file opens with a key file, made at first use and readable by its owner alone, or with a
// passphrase. Several processes may use one vault: it is replaced whole, under a lock.
package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"filippo.io/age"

	"andamio/internal/core/fault"
	"andamio/internal/durable"
)

// Names of the files in the vault's folder.
const (
	File    = "credentials.age"
	KeyFile = "credentials.key"
	lock    = "credentials.lock"
)

// The environment may name the passphrase, or another key file.
const (
	EnvPassphrase = "ANDAMIO_PASSPHRASE"
	EnvKeyFile    = "ANDAMIO_KEY_FILE"
)

// workFactor is that of scrypt for passphrases, as a power of two: about a second of work for each guess.
var workFactor = 18

// ErrLocked says that the vault needs another key than there is.
var ErrLocked = fault.NotAllowedf("the credentials cannot be opened")

// Vault is credentials in a file, which may be where several machines have it; the key file that opens it is each machine's own.
type Vault struct {
	dir   string
	files durable.Files
	file  string

	mu     sync.Mutex
	seen   []byte
	opened contents
}

// patience is how long another process may be at changing a vault.
const patience = 30 * time.Second

// contents are the values by shelf and name.
type contents map[string]map[string]string

// MarshalJSON writes values that are text as texts, and others as their bytes in base64: a text of JSON would change them.
func (c contents) MarshalJSON() ([]byte, error) {
	out := map[string]map[string]any{}
	for shelf, values := range c {
		out[shelf] = map[string]any{}
		for name, v := range values {
			out[shelf][name] = v
			if !utf8.ValidString(v) {
				out[shelf][name] = inBytes{[]byte(v)}
			}
		}
	}
	return json.Marshal(out)
}

// inBytes is a value that is no text.
type inBytes struct {
	Bytes []byte `json:"bytes"`
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (c *contents) UnmarshalJSON(data []byte) error {
	var in map[string]map[string]json.RawMessage
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	*c = contents{}
	for shelf, values := range in {
		(*c)[shelf] = map[string]string{}
		for name, raw := range values {
			var text string
			var other inBytes
			if json.Unmarshal(raw, &text) == nil {
				(*c)[shelf][name] = text
			} else if err := json.Unmarshal(raw, &other); err != nil {
				return err
			} else {
				(*c)[shelf][name] = string(other.Bytes)
			}
		}
	}
	return nil
}

// New is the vault of a folder; nothing is read or made yet.
func New(dir string) *Vault { return In(dir, durable.In(dir), File) }

// In is the vault in a file that is kept elsewhere than the key file, which is in a folder.
func In(dir string, files durable.Files, file string) *Vault {
	return &Vault{dir: dir, files: files, file: file}
}

func (v *Vault) path(name string) string { return filepath.Join(v.dir, name) }

// where says for people where the credentials are.
func (v *Vault) where() string { return v.files.Where(v.file) }

// Get returns a value, "" if there is none.
func (v *Vault) Get(shelf, name string) (string, error) {
	c, err := v.read()
	return c[shelf][name], err
}

// Names are the names on a shelf, in no order.
func (v *Vault) Names(shelf string) ([]string, error) {
	c, err := v.read()
	var out []string
	for name := range c[shelf] {
		out = append(out, name)
	}
	return out, err
}

// Set keeps values on a shelf; those that are "" are taken away.
func (v *Vault) Set(shelf string, values map[string]string) error {
	return v.SetAll(map[string]map[string]string{shelf: values})
}

// SetAll keeps values on several shelves, all of them or none.
func (v *Vault) SetAll(shelves map[string]map[string]string) error {
	return v.change(func(c contents) {
		for shelf, values := range shelves {
			if c[shelf] == nil {
				c[shelf] = map[string]string{}
			}
			for name, value := range values {
				if value == "" {
					delete(c[shelf], name)
				} else {
					c[shelf][name] = value
				}
			}
		}
	})
}

// read opens the file, unless it is what it was when it was opened last: what is encrypted anew never looks the same.
func (v *Vault) read() (contents, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	data, err := v.files.Read(v.file)
	if errors.Is(err, fs.ErrNotExist) {
		v.seen, v.opened = nil, nil
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if v.opened != nil && bytes.Equal(v.seen, data) {
		return v.opened, nil
	}
	c, err := v.open(data)
	if err != nil {
		return nil, err
	}
	v.seen, v.opened = data, c
	return c, nil
}

func (v *Vault) open(text []byte) (contents, error) {
	ids, err := v.identities()
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(text), ids...)
	if err != nil {
		return nil, fmt.Errorf("%w: %s needs its passphrase in %s, or its key file in %s or beside it", ErrLocked, v.where(), EnvPassphrase, EnvKeyFile)
	}
	data, err := io.ReadAll(io.LimitReader(r, most))
	if err != nil {
		return nil, fmt.Errorf("%s is damaged, put a copy of it back (andamio restore has the last backup): %w", v.where(), err)
	}
	c := contents{}
	if json.Unmarshal(data, &c) != nil { // the error would quote what is inside
		return nil, fmt.Errorf("%s holds no credentials: put a copy of it back (andamio restore has the last backup)", v.where())
	}
	return c, nil
}

// identities are the keys that there are.
func (v *Vault) identities() ([]age.Identity, error) {
	var out []age.Identity
	if phrase := os.Getenv(EnvPassphrase); phrase != "" {
		id, err := age.NewScryptIdentity(phrase)
		if err != nil {
			return nil, err
		}
		id.SetMaxWorkFactor(workFactor + 2)
		out = append(out, id)
	}
	data, err := os.ReadFile(v.keyFile())
	if errors.Is(err, fs.ErrNotExist) {
		if len(out) == 0 {
			return nil, fmt.Errorf("%w: there is neither a passphrase in %s nor the key file %s", ErrLocked, EnvPassphrase, v.keyFile())
		}
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	ids, err := age.ParseIdentities(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s is no key file of age", v.keyFile()) // the error would quote the line
	}
	return append(out, ids...), nil
}

func (v *Vault) keyFile() string {
	if name := os.Getenv(EnvKeyFile); name != "" {
		return name
	}
	return v.path(KeyFile)
}

// change reads, changes and writes the vault while no other process does.
func (v *Vault) change(how func(contents)) error {
	return v.alone(func() error {
		c, err := v.read()
		if err != nil {
			return err
		}
		now := contents{}
		for shelf, values := range c {
			now[shelf] = map[string]string{}
			for name, value := range values {
				now[shelf][name] = value
			}
		}
		how(now)
		to, err := v.recipient()
		if err != nil {
			return err
		}
		return v.write(now, to)
	})
}

func (v *Vault) alone(work func() error) error {
	unlock, err := v.files.Lock(context.Background(), lock, patience)
	if err != nil {
		return err
	}
	defer unlock()
	return work()
}

// recipient is for whom the vault is encrypted: as it is now, or for the key file if it is new, unless a passphrase is
// given.
func (v *Vault) recipient() (age.Recipient, error) {
	if phrase := os.Getenv(EnvPassphrase); phrase != "" && v.byPassphrase() {
		return passphrase(phrase)
	}
	data, err := os.ReadFile(v.keyFile())
	if errors.Is(err, fs.ErrNotExist) {
		return v.newKey()
	}
	if err != nil {
		return nil, err
	}
	ids, err := age.ParseIdentities(bytes.NewReader(data))
	if err != nil || len(ids) == 0 {
		return nil, fmt.Errorf("%s is no key file of age", v.keyFile())
	}
	switch id := ids[0].(type) {
	case *age.X25519Identity:
		return id.Recipient(), nil
	case *age.HybridIdentity:
		return id.Recipient(), nil
	}
	return nil, fmt.Errorf("%s holds a key of a sort that nothing can be encrypted for", v.keyFile())
}

func passphrase(phrase string) (age.Recipient, error) {
	r, err := age.NewScryptRecipient(phrase)
	if err != nil {
		return nil, err
	}
	r.SetWorkFactor(workFactor)
	return r, nil
}

// byPassphrase reports that the file opens with a passphrase, or is not there yet.
func (v *Vault) byPassphrase() bool {
	data, err := v.files.Read(v.file)
	return err != nil || bytes.Contains(data[:min(len(data), 64)], []byte("-> scrypt "))
}

func (v *Vault) newKey() (age.Recipient, error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	text := fmt.Sprintf("# opens %s; keep it to yourself, and a copy of it elsewhere\n%s\n", File, id)
	if err := durable.Write(v.keyFile(), []byte(text)); err != nil {
		return nil, err
	}
	return id.Recipient(), nil
}

// most is how many bytes all that is kept may take: no more is read.
const most = 16 << 20

func (v *Vault) write(c contents, to age.Recipient) error {
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if len(text) > most {
		return fmt.Errorf("it is not kept: with it all credentials would take %d bytes, and %d at most are read", len(text), most)
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return err
	}
	_, err = w.Write(text)
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	v.mu.Lock()
	was := v.seen
	v.mu.Unlock()
	return v.files.Replace(v.file, was, out.Bytes())
}

// Lock has the vault open with another passphrase from now on; "" with a new key file. The key file that opened it
// before is removed where it lies in the vault's folder.
func (v *Vault) Lock(phrase string) error {
	return v.alone(func() error {
		c, err := v.read()
		if err != nil {
			return err
		}
		if c == nil {
			c = contents{}
		}
		if strings.TrimSpace(phrase) == "" {
			to, err := v.newKey()
			if err != nil {
				return err
			}
			return v.write(c, to)
		}
		to, err := passphrase(phrase)
		if err == nil {
			err = v.write(c, to)
		}
		if err != nil {
			return err
		}
		if err := os.Remove(v.path(KeyFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
}
