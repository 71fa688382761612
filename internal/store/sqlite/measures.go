package sqlite

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"net/url"

	"andamio/internal/durable"
	"andamio/internal/store"
	"andamio/internal/store/relational"
)

//go:embed measures/*.sql
var measureMigrations embed.FS

// Measures is an open database of what was measured. It is a file of its own: there is much of it, whoever writes to it keeps no journal waiting, and a backup
// of the workspace goes without.
type Measures struct {
	*relational.Measures
	db *database
}

var _ store.MeasuresStore = (*Measures)(nil)

// OpenMeasures opens the database of measures, making it as needed. A power failure may lose the last seconds of it, and nothing else.
func OpenMeasures(ctx context.Context, path string) (*Measures, error) {
	unlock, err := durable.Lock(ctx, path+".lock", lockPatience)
	if err != nil {
		return nil, fmt.Errorf("the database %s cannot be used: %w", path, err)
	}
	defer unlock()
	if err := makeFile(path); err != nil {
		return nil, err
	}
	q := url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(NORMAL)", fmt.Sprintf("busy_timeout(%d)", busyPatience.Milliseconds())}, "_txlock": {"immediate"}}
	db := connect("file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode())
	all := parsedOnce(db, path)
	m := &Measures{relational.MeasuresIn(all, all.size), all}
	if _, err := bringUpToDate(ctx, db, folder(measureMigrations, "measures"), func(int64, int64) error { return nil }); err != nil {
		return nil, errors.Join(fmt.Errorf("the measures in %s cannot be used: %w; whoever needs none of them removes the file", path, err), db.Close())
	}
	return m, nil
}

// size is how many bytes the pages in use take.
func (d *database) size(ctx context.Context) (int64, error) {
	var pages, free, size int64
	for pragma, into := range map[string]*int64{"page_count": &pages, "freelist_count": &free, "page_size": &size} {
		if err := d.DB.QueryRowContext(ctx, "PRAGMA "+pragma).Scan(into); err != nil {
			return 0, err
		}
	}
	return (pages - free) * size, nil
}
