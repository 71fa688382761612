package workspace

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/front"
	"andamio/internal/core/hook"
	"andamio/internal/core/ledger"
	"andamio/internal/core/level"
	"andamio/internal/core/quota"
	"andamio/internal/core/react"
	"andamio/internal/core/window"
	"andamio/internal/durable"
)

// Files that an administrator writes: how much whom may have, what is approved and refused by rule and whom to ask, what the unit of the
// sites' prices is worth in a currency, what changes set off, which service levels there are, when what is done by itself may change anything, from where on a measure is wrong, and what is done about how things are.
const (
	FileQuotas     = "quotas.yaml"
	FileApprovals  = "approvals.yaml"
	FileRates      = "rates.yaml"
	FileHooks      = "hooks.yaml"
	FileLevels     = "levels.yaml"
	FileWindows    = "windows.yaml"
	FileThresholds = "thresholds.yaml"
	FileReactions  = "reactions.yaml"
	FileFronts     = "fronts.yaml"
	// FileLastFronts is what was known of the fronts last, which whoever answers for them goes on with.
	FileLastFronts = "fronts.json"
)

// written is what is in a file that an administrator writes; none where there is no file.
func written[T any](w *Workspace, name string, read func([]byte) (*T, error), none *T) (*T, error) {
	data, err := w.files.Read(name)
	if errors.Is(err, fs.ErrNotExist) {
		return none, nil
	}
	if err != nil {
		return nil, err
	}
	out, err := read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Where(name), err))
	}
	return out, nil
}

// Quotas are the workspace's quotas; none if there is no file.
func (w *Workspace) Quotas() (*quota.File, error) {
	return written(w, FileQuotas, quota.Read, &quota.File{Version: quota.Version})
}

// SetQuotas keeps quotas, as the text that they were read from.
func (w *Workspace) SetQuotas(text []byte) error { return w.files.Write(FileQuotas, text) }

// Approvals are the workspace's rules of approval; none if there is no file.
func (w *Workspace) Approvals() (*decide.File, error) {
	return written(w, FileApprovals, decide.Read, &decide.File{Version: decide.Version})
}

// SetApprovals keeps rules of approval, as the text that they were read from.
func (w *Workspace) SetApprovals(text []byte) error {
	return w.files.Write(FileApprovals, text)
}

// Rates are the workspace's rates; nil if there is no file, and accounts are in the unit.
func (w *Workspace) Rates() (*ledger.Rates, error) {
	return written(w, FileRates, ledger.ReadRates, nil)
}

// SetRates keeps rates, as the text that they were read from.
func (w *Workspace) SetRates(text []byte) error { return w.files.Write(FileRates, text) }

// Hooks are the workspace's hooks; none if there is no file.
func (w *Workspace) Hooks() (*hook.File, error) {
	return written(w, FileHooks, hook.Read, &hook.File{Version: hook.Version})
}

// SetHooks keeps hooks, as the text that they were read from.
func (w *Workspace) SetHooks(text []byte) error { return w.files.Write(FileHooks, text) }

// Levels are the workspace's service levels; none if there is no file.
func (w *Workspace) Levels() (*level.File, error) {
	return written(w, FileLevels, level.Read, &level.File{Version: level.Version})
}

// SetLevels keeps service levels, as the text that they were read from.
func (w *Workspace) SetLevels(text []byte) error { return w.files.Write(FileLevels, text) }

// Changed is when a file was written last; zero if there is none.
func (w *Workspace) Changed(file string) time.Time {
	stamp, err := w.files.Stamp(file)
	if err != nil {
		return time.Time{}
	}
	return stamp.Changed
}

// Windows are the workspace's blackouts and maintenance windows; none if there is no file.
func (w *Workspace) Windows() (*window.File, error) {
	return written(w, FileWindows, window.Read, &window.File{Version: window.Version})
}

// SetWindows keeps blackouts and maintenance windows, as the text that they were read from.
func (w *Workspace) SetWindows(text []byte) error { return w.files.Write(FileWindows, text) }

// Thresholds are the workspace's own, before those that ship.
func (w *Workspace) Thresholds() (*alarm.File, error) {
	own, err := written(w, FileThresholds, alarm.Read, &alarm.File{Version: alarm.Version})
	if err != nil {
		return nil, err
	}
	return own.Over(alarm.Default()), nil
}

// SetThresholds keeps thresholds, as the text that they were read from.
func (w *Workspace) SetThresholds(text []byte) error {
	return w.files.Write(FileThresholds, text)
}

// Reactions are the workspace's reactions; none if there is no file.
func (w *Workspace) Reactions() (*react.File, error) {
	return written(w, FileReactions, react.Read, &react.File{Version: react.Version})
}

// ReactionsDigest is that of the file of reactions; "" if there is none.
func (w *Workspace) ReactionsDigest() string {
	text, err := w.files.Read(FileReactions)
	if err != nil {
		return ""
	}
	return DigestOf(text)
}

// DigestOf is the SHA-256 digest of a text, as hexadecimal.
func DigestOf(text []byte) string { return fmt.Sprintf("%x", sha256.Sum256(text)) }

// SetReactions keeps reactions, as the text that they were read from.
func (w *Workspace) SetReactions(text []byte) error {
	return w.files.Write(FileReactions, text)
}

// Fronts are the workspace's fronts, with the text of their file; none, of no zone, if there is no file.
func (w *Workspace) Fronts() (*front.File, []byte, error) {
	f, err := written(w, FileFronts, front.Read, &front.File{Version: front.Version})
	if err != nil {
		return nil, nil, err
	}
	text, err := w.files.Read(FileFronts)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return f, text, err
}

// SetFronts keeps fronts, as the text that they were read from.
func (w *Workspace) SetFronts(text []byte) error { return w.files.Write(FileFronts, text) }

// LastFronts is what was known of fronts last on this machine, which needs nothing else to answer for them; nil if nothing was.
func (w *Workspace) LastFronts() ([]byte, error) {
	data, err := os.ReadFile(w.Path(FileLastFronts))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return data, err
}

// KeepLastFronts keeps what is known of fronts.
func (w *Workspace) KeepLastFronts(data []byte) error {
	return durable.Write(w.Path(FileLastFronts), data)
}
