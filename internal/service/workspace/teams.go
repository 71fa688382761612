package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/ledger"
	"andamio/internal/core/quota"
	"andamio/internal/durable"
)

// FileTeams is who there is, in which teams, and what each may do.
const FileTeams = "teams.yaml"

// teams is the directory as it was last read, as long as its file is the same.
type teams struct {
	mu      sync.Mutex
	changed time.Time
	size    int64
	read    *guard.Directory
}

// Directory is who may do what; nil where nobody wrote it down. What is changed in its file holds from the next act on.
func (w *Workspace) Directory() (*guard.Directory, error) {
	info, err := os.Stat(w.Path(FileTeams))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	w.teams.mu.Lock()
	defer w.teams.mu.Unlock()
	if t := &w.teams; t.read != nil && t.changed.Equal(info.ModTime()) && t.size == info.Size() {
		return t.read, nil
	}
	data, err := os.ReadFile(w.Path(FileTeams))
	if err != nil {
		return nil, err
	}
	d, err := guard.ReadDirectory(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Path(FileTeams), err))
	}
	w.teams.changed, w.teams.size, w.teams.read = info.ModTime(), info.Size(), d
	return d, nil
}

// SetDirectory keeps a directory, as the text that it was read from.
func (w *Workspace) SetDirectory(text []byte) error {
	return durable.Write(w.Path(FileTeams), text)
}

// FileQuotas is how much whom may have.
const FileQuotas = "quotas.yaml"

// Quotas are the workspace's quotas; none if there is no file.
func (w *Workspace) Quotas() (*quota.File, error) {
	data, err := os.ReadFile(w.Path(FileQuotas))
	if errors.Is(err, fs.ErrNotExist) {
		return &quota.File{Version: quota.Version}, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := quota.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Path(FileQuotas), err))
	}
	return f, nil
}

// SetQuotas keeps quotas, as the text that they were read from.
func (w *Workspace) SetQuotas(text []byte) error { return durable.Write(w.Path(FileQuotas), text) }

// FileApprovals is what is approved and refused by rule, and whom to ask.
const FileApprovals = "approvals.yaml"

// Approvals are the workspace's rules of approval; none if there is no file.
func (w *Workspace) Approvals() (*decide.File, error) {
	data, err := os.ReadFile(w.Path(FileApprovals))
	if errors.Is(err, fs.ErrNotExist) {
		return &decide.File{Version: decide.Version}, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := decide.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Path(FileApprovals), err))
	}
	return f, nil
}

// SetApprovals keeps rules of approval, as the text that they were read from.
func (w *Workspace) SetApprovals(text []byte) error {
	return durable.Write(w.Path(FileApprovals), text)
}

// FileRates is what the unit of the sites' prices is worth in a currency.
const FileRates = "rates.yaml"

// Rates are the workspace's rates; nil if there is no file, and accounts are in the unit.
func (w *Workspace) Rates() (*ledger.Rates, error) {
	data, err := os.ReadFile(w.Path(FileRates))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	r, err := ledger.ReadRates(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Path(FileRates), err))
	}
	return r, nil
}

// SetRates keeps rates, as the text that they were read from.
func (w *Workspace) SetRates(text []byte) error { return durable.Write(w.Path(FileRates), text) }

// FileHooks is what changes set off.
const FileHooks = "hooks.yaml"

// Hooks are the workspace's hooks; none if there is no file.
func (w *Workspace) Hooks() (*hook.File, error) {
	data, err := os.ReadFile(w.Path(FileHooks))
	if errors.Is(err, fs.ErrNotExist) {
		return &hook.File{Version: hook.Version}, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := hook.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Path(FileHooks), err))
	}
	return f, nil
}

// SetHooks keeps hooks, as the text that they were read from.
func (w *Workspace) SetHooks(text []byte) error { return durable.Write(w.Path(FileHooks), text) }
