package occi

import (
	"context"
	"maps"
	"strconv"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/keep"
	"andamio/internal/site/occi/wire"
)

var _ site.Copying = (*Driver)(nil)

// copies are how a site keeps snapshots that lets disks be read and written, and has no kind of its own for them; false of any other.
func (d *Driver) copies(ctx context.Context) (keep.Copies, bool) {
	o, err := d.offers(ctx)
	if err != nil || o.plain() || len(o.kinds) == 0 {
		return keep.Copies{}, false
	}
	_, own := o.kinds[wire.Snapshot]
	return keep.Copies{At: d}, !own
}

// Copies reports that snapshots of this site are copies of disks.
func (d *Driver) Copies(ctx context.Context) bool {
	_, are := d.copies(ctx)
	return are
}

// kept are the snapshots, or the volumes that are none, among the volumes of a site whose snapshots are copies.
func kept(kind kinds.Kind, volumes []wire.Resource) []wire.Resource {
	var out []wire.Resource
	for _, w := range volumes {
		c, is := keep.Called(w.Title)
		switch {
		case is != (kind == kinds.Snapshot):
			continue
		case is:
			w = asSnapshot(w, c)
		}
		out = append(out, w)
	}
	return out
}

// asSnapshot renders a volume as the snapshot that it is.
func asSnapshot(w wire.Resource, c keep.Copy) wire.Resource {
	size, _ := w.Attributes[wire.StorageSize].(float64)
	at := map[string]any{} // a site may tell nothing else of it
	maps.Copy(at, w.Attributes)
	at[wire.SnapshotOf], at[wire.SnapshotSize] = c.Of, strconv.FormatInt(int64(size*(1<<30)), 10)
	at[wire.SnapshotState], at[wire.SnapshotWord] = "error", keep.Half
	if !c.Taken.IsZero() {
		at[wire.SnapshotState], at[wire.SnapshotWord] = "active", "copied"
		at[wire.SnapshotAt] = c.Taken.UTC().Format(time.RFC3339Nano)
	}
	w.Kind, w.Title, w.Attributes = wire.Snapshot, c.Name, at
	return w
}

// readKept is a volume as the snapshot that it is, with how much it holds.
func (d *Driver) readKept(ctx context.Context, w wire.Resource) (wire.Resource, error) {
	c, is := keep.Called(w.Title)
	if !is {
		return w, &site.Error{Site: d.name, Doing: "read snapshot", Class: site.NotFound, Detail: w.Title + " is a volume, and no copy of a disk"}
	}
	w = asSnapshot(w, c)
	if c.Taken.IsZero() {
		return w, nil
	}
	holds, err := d.Changes(ctx, idOf(w.ID), "", 0)
	w.Attributes[wire.SnapshotBytes] = strconv.FormatInt(site.Bytes(holds.Written), 10)
	return w, err
}
