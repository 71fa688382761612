package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/rules"
	"andamio/internal/core/run"
	"andamio/internal/durable"
	"andamio/internal/service/runs"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
	"andamio/internal/store/postgres"
	"andamio/internal/store/relational"
	"andamio/internal/store/sqlite"
	"andamio/internal/vault"
)

// A workspace is kept in its folder, in files of SQLite and others; or in a database of PostgreSQL, for several machines, each of which has a folder with the address of that, the key that
// opens the credentials, and what is its own.

// fileStoreSecrets has the password for the database that a folder's workspace is kept in ([workspace.FileStore]), encrypted with the key of the credentials.
const (
	fileStoreSecrets = "store.age"
	shelfStore       = "store"
	storeFormat      = "andamio.store/1"
)

// storedAt says where the workspace of a folder is kept.
type storedAt struct {
	Format  string `json:"format"`
	Address string `json:"address"`
}

// keptIn is where the workspace of a folder is kept; "" is in the folder.
func keptIn(ws *workspace.Workspace) (string, error) {
	var e storedAt
	if err := workspace.New(ws.Dir).ReadJSON(workspace.FileStore, &e); err != nil || e.Format == "" {
		return "", err
	}
	if e.Format != storeFormat {
		return "", fault.Refusedf("%s is of %q, which this program does not know: use the one that made it", ws.Path(workspace.FileStore), e.Format)
	}
	return postgres.Named(e.Address)
}

// kept is a store with all that is kept beside it.
type kept struct {
	store.Store
	// files are those of the workspace; nil where they are in its folder.
	files durable.Files
	// measures opens what was measured.
	measures func(ctx context.Context) (store.MeasuresStore, error)
	// snapshot has it be read as it is at one moment.
	snapshot func(ctx context.Context, work func(relational.Asked) error) error
	database relational.Database
	// name says where it is.
	name string
	// machines says that several machines may use it.
	machines bool
}

// openStore opens the store of a folder's workspace, wherever that is kept.
func openStore(ctx context.Context, ws *workspace.Workspace) (*kept, error) {
	address, err := keptIn(ws)
	if err != nil {
		return nil, err
	}
	if address == "" {
		return inFolder(ctx, ws)
	}
	password, err := vault.In(ws.Dir, durable.In(ws.Dir), fileStoreSecrets).Get(shelfStore, address)
	if err != nil {
		return nil, err
	}
	return inDatabase(ctx, address, password)
}

// inFolder is the store in a folder.
func inFolder(ctx context.Context, ws *workspace.Workspace) (*kept, error) {
	s, err := sqlite.Open(ctx, ws.Path(workspace.FileDatabase))
	if err != nil {
		return nil, fmt.Errorf("the workspace %s cannot be opened: %w", ws.Dir, err)
	}
	return &kept{Store: s, snapshot: s.Snapshot, database: s.Database(), name: ws.Dir, measures: func(ctx context.Context) (store.MeasuresStore, error) {
		return sqlite.OpenMeasures(ctx, ws.Path(workspace.FileMeasures))
	}}, nil
}

// inDatabase is the store in a database of PostgreSQL.
func inDatabase(ctx context.Context, address, password string) (*kept, error) {
	s, err := postgres.Open(ctx, address, password)
	if err != nil {
		return nil, err
	}
	return &kept{Store: s, files: s.Files(), snapshot: s.Snapshot, database: s.Database(), name: s.Name(), machines: true,
		measures: func(context.Context) (store.MeasuresStore, error) { return s.Measures(), nil }}, nil
}

// Files is the workspace in a folder for whoever reads or writes its files and asks none of its services, wherever they are kept; close frees what that took.
func Files(ctx context.Context, dir string) (ws *workspace.Workspace, closed func() error, err error) {
	ws, closed = workspace.New(dir), func() error { return nil }
	if address, err := keptIn(ws); err != nil || address == "" {
		return ws, closed, err
	}
	k, err := openStore(ctx, ws)
	if err != nil {
		return nil, closed, err
	}
	ws.KeepIn(k.files)
	return ws, k.Close, nil
}

// RulesIn are the administrator's rules of the workspace in a folder, "" for the user's own, which need not be there.
func RulesIn(ctx context.Context, dir string) (*rules.File, error) {
	if dir == "" {
		own, err := workspace.DefaultDir()
		if err != nil {
			return rules.Default(), nil // nobody's workspace has no rules
		}
		dir = own
	}
	ws, closed, err := Files(ctx, dir)
	if err != nil {
		return nil, err
	}
	f, err := ws.Rules()
	return f, errors.Join(err, closed())
}

// CopiedTo is the copy that was made before the schema was brought up to date; "" if it was not.
func (k *kept) CopiedTo() string {
	if file, is := k.Store.(interface{ CopiedTo() string }); is {
		return file.CopiedTo()
	}
	return ""
}

// copyTo writes what is kept, as it is at one moment, to a file of SQLite that is not there yet.
func (k *kept) copyTo(ctx context.Context, name string) error {
	if file, is := k.Store.(*sqlite.Store); is {
		return file.CopyTo(ctx, name)
	}
	dir, err := os.MkdirTemp(filepath.Dir(name), ".copy-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	to, err := sqlite.Open(ctx, filepath.Join(dir, workspace.FileDatabase))
	if err != nil {
		return err
	}
	err = k.snapshot(ctx, func(from relational.Asked) error {
		_, err := relational.Copy(ctx, from, to.Database(), relational.Tables)
		return err
	})
	if err == nil {
		err = to.CopyTo(ctx, name) // one file, with nothing beside it
	}
	return errors.Join(err, to.Close())
}

// place is somewhere a workspace is kept, as a person names it: a folder, or an address.
type place struct {
	*kept
	files durable.Files
	dir   string
}

// Stored says where a workspace is kept.
type Stored struct {
	// Folder is this machine's own, Store where all else is: the same, or a database.
	Folder string `json:"folder"`
	Store  string `json:"store"`
	// Machines says that several machines may use it.
	Machines bool `json:"machines"`
	// Schema is the version of what it is kept in.
	Schema int64 `json:"schema"`
	// Runs and Deployments are how many there are, Entries how many are in the log.
	Runs        int   `json:"runs"`
	Deployments int   `json:"deployments"`
	Entries     int64 `json:"entries"`
}

// StoredIn says where the workspace is kept, and how much is in it.
func (a *App) StoredIn(ctx context.Context) (Stored, error) {
	if err := a.desk.Read("where the workspace is kept"); err != nil {
		return Stored{}, err
	}
	out := Stored{Folder: a.workspace.Dir, Store: a.kept.name, Machines: a.kept.machines}
	all, err := a.store.Runs(ctx)
	if err != nil {
		return out, err
	}
	deployments, err := a.store.Deployments(ctx)
	if err != nil {
		return out, err
	}
	last, err := a.store.LastOfTrail(ctx, 1)
	if err != nil {
		return out, err
	}
	if len(last) > 0 {
		out.Entries = last[0].Seq
	}
	out.Runs, out.Deployments = len(all), len(deployments)
	if of, is := a.kept.Store.(interface{ Schema() int64 }); is {
		out.Schema = of.Schema()
	}
	return out, nil
}

// CopiedWorkspace says what was copied.
type CopiedWorkspace struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Rows are how many rows there are of what is kept, by what of, and Files which files beside it.
	Rows  map[string]int `json:"rows"`
	Files []string       `json:"files"`
	// Bytes are those of the files.
	Bytes int64 `json:"bytes"`
}

// CopyWorkspace copies a workspace from one place to another in which there is none: places are folders, and addresses of databases, of which password is asked. What is copied is read back
// and is what it was, or nothing is copied. The key that opens the credentials is each machine's own and is not copied; nor is what a machine has to itself: the stand-ins, logs of steps, and packages.
func CopyWorkspace(ctx context.Context, from, to, password string) (*CopiedWorkspace, error) {
	if from == to {
		return nil, fault.Invalidf("%s cannot be copied to itself", from)
	}
	source, err := openPlace(ctx, from, password, false)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	if err := source.quiet(ctx); err != nil {
		return nil, err
	}
	target, err := openPlace(ctx, to, password, true)
	if err != nil {
		return nil, err
	}
	defer target.Close()
	return copyPlace(ctx, source, target)
}

// openPlace opens where a workspace is kept, or is to be.
func openPlace(ctx context.Context, name, password string, fresh bool) (*place, error) {
	if postgres.Is(name) {
		k, err := inDatabase(ctx, name, password)
		if err != nil {
			return nil, err
		}
		return &place{kept: k, files: k.files}, nil
	}
	if strings.Contains(name, "://") {
		return nil, fault.Invalidf("%q is neither a folder nor the address of a database, postgres://USER@HOST:PORT/DATABASE", name)
	}
	entries, err := os.ReadDir(name)
	if err != nil && (!fresh || !errors.Is(err, fs.ErrNotExist)) {
		return nil, fault.NotFoundf("the workspace %s cannot be read: %w", name, err)
	}
	if fresh && len(entries) > 0 {
		return nil, fault.Conflictf("%s has something in it (%s), and nothing is overwritten: name a folder that is empty or not there yet", name, entries[0].Name())
	}
	if _, err := os.Stat(filepath.Join(name, workspace.FileDatabase)); !fresh && errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(filepath.Join(name, workspace.FileStore)); err == nil {
			return nil, fault.Invalidf("the workspace of %s is kept in a database: name that (andamio workspace says which)", name)
		}
		return nil, fault.NotFoundf("%s is no workspace", name)
	}
	ws, err := workspace.Open(name)
	if err != nil {
		return nil, err
	}
	k, err := inFolder(ctx, ws)
	if err != nil {
		return nil, err
	}
	return &place{kept: k, files: durable.In(ws.Dir), dir: ws.Dir}, nil
}

// quiet refuses a place where somebody is at work: what is done while it is copied would be lost at the new one.
func (p *place) quiet(ctx context.Context) error {
	all, err := p.Runs(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.State == run.UnderWay && runs.Alive(r) {
			return fault.Conflictf("run %d is under way in %s: what it does from now on would be missing in the copy; copy when it is over (a backup may be made at any time)", r.ID, p.name)
		}
	}
	l, err := p.Lease(ctx, leaseServe)
	if err == nil && time.Since(l.Beat) < serveSilent && leaseLives(l) {
		return fault.Conflictf("%s is served by %s: what that does from now on would be missing in the copy; end it first, with andamio serve --stop (a backup may be made at any time)", p.name, l.Holder)
	}
	return nil
}

// sharedFiles are the files of a workspace that are copied with it, beside the overviews.
func sharedFiles() []string {
	return append(slices.Clone(backedUp), workspace.FilePortalKey)
}

// copyPlace copies all that is kept at one place to another.
func copyPlace(ctx context.Context, from, to *place) (*CopiedWorkspace, error) {
	out := &CopiedWorkspace{From: from.name, To: to.name, Rows: map[string]int{}}
	names, err := filesAt(from.files)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if _, err := to.files.Stamp(name); !errors.Is(err, fs.ErrNotExist) {
			return nil, errors.Join(fault.Conflictf("%s is there already, and nothing is overwritten", to.files.Where(name)), err)
		}
	}
	err = from.snapshot(ctx, func(asked relational.Asked) error {
		rows, err := relational.Copy(ctx, asked, to.database, relational.Tables)
		for table, n := range rows {
			out.Rows[table] = n
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("nothing is copied: %w", err)
	}
	if err := copyMeasures(ctx, from, to, out); err != nil {
		return nil, err
	}
	for _, name := range names {
		data, err := from.files.Read(name)
		if err == nil {
			err = to.files.Write(name, data)
		}
		if err != nil {
			return nil, err
		}
		out.Files, out.Bytes = append(out.Files, name), out.Bytes+int64(len(data))
	}
	return out, to.whole(ctx)
}

// copyMeasures copies what was measured, which nobody measures meanwhile.
func copyMeasures(ctx context.Context, from, to *place, out *CopiedWorkspace) error {
	type within interface{ Database() relational.Database }
	was, err := from.measures(ctx)
	if err != nil {
		return err
	}
	defer was.Close()
	becomes, err := to.measures(ctx)
	if err != nil {
		return err
	}
	defer becomes.Close()
	rows, err := relational.Copy(ctx, was.(within).Database(), becomes.(within).Database(), relational.MeasuresTables)
	for table, n := range rows {
		out.Rows[table] = n
	}
	return err
}

// filesAt are the files of a workspace that are copied with it, and are there.
func filesAt(files durable.Files) ([]string, error) {
	names := sharedFiles()
	overviews, err := files.Names(workspace.FolderOverviews)
	if err != nil {
		return nil, err
	}
	for _, name := range overviews {
		names = append(names, workspace.FolderOverviews+"/"+name)
	}
	var out []string
	for _, name := range names {
		switch _, err := files.Stamp(name); {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		default:
			out = append(out, name)
		}
	}
	return out, nil
}

// whole says of a place that was copied to that it is not whole.
func (p *place) whole(ctx context.Context) error {
	v, err := p.VerifyTrail(ctx, "")
	if err == nil && len(v.Wrong) > 0 {
		err = fault.Conflictf("the log that was copied to %s is not whole: %s", p.name, v.Wrong[0])
	}
	return err
}

// Join has a folder that is empty or not there yet be this machine's of a workspace that is kept in a database. Key is the file of the key that opens the workspace's credentials, "" where
// a passphrase does (ANDAMIO_PASSPHRASE). The folder of one that it is already is given the password and the key anew.
func Join(ctx context.Context, dir, address, password, key string) (*Stored, error) {
	address, err := postgres.Named(address)
	if err != nil {
		return nil, err
	}
	if err := joinable(dir, address); err != nil {
		return nil, err
	}
	k, err := inDatabase(ctx, address, password)
	if err != nil {
		return nil, err
	}
	defer k.Close()
	ws, err := workspace.Open(dir)
	if err != nil {
		return nil, err
	}
	if key != "" {
		text, err := os.ReadFile(key)
		if err != nil {
			return nil, fault.Invalidf("the key cannot be read: %w", err)
		}
		if err := durable.Write(ws.Path(vault.KeyFile), text); err != nil {
			return nil, err
		}
	}
	if _, err := vault.In(ws.Dir, k.files, vault.File).Names(workspace.ShelfSites); err != nil {
		return nil, fault.Default(fault.NotAllowed, fmt.Errorf("%w: bring the key of the workspace (credentials.key in the folder that it was copied from) with --key", err))
	}
	if password != "" {
		if err := vault.In(ws.Dir, durable.In(ws.Dir), fileStoreSecrets).Set(shelfStore, map[string]string{address: password}); err != nil {
			return nil, err
		}
	}
	if err := durable.WriteJSON(ws.Path(workspace.FileStore), storedAt{storeFormat, address}); err != nil {
		return nil, err
	}
	return &Stored{Folder: ws.Dir, Store: k.name, Machines: true}, nil
}

// joinable refuses a folder that is something else already.
func joinable(dir, address string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	at, err := keptIn(workspace.New(dir))
	if err != nil || at == address {
		return err
	}
	return fault.Conflictf("%s has something in it (%s): name a folder that is empty or not there yet with --workspace", dir, entries[0].Name())
}
