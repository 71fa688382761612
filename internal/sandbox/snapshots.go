package sandbox

import (
	"net/http"
	"strconv"
	"time"

	"andamio/internal/sandbox/host"
	"andamio/internal/site/occi/wire"
)

// snap has a new snapshot keep what its disk holds now, also where its machine is on and writes. The lock is held.
func (c *Cloud) snap(t *thing) *refusal {
	of := c.things[word(t.Attributes[wire.SnapshotOf])]
	if of == nil || of.disk == nil || of.term == "object" || of.term == "snapshot" {
		return no(http.StatusBadRequest, "there is no disk %q", word(t.Attributes[wire.SnapshotOf]))
	}
	of.disk.Open() // what a machine has in memory alone is put there
	if err := c.diskFor(t, of.disk.Size()); err != nil {
		return no(http.StatusInsufficientStorage, "no snapshot can be kept: %v", err)
	}
	n, err := t.disk.Take(of.disk)
	if err != nil {
		_ = t.disk.Remove()
		return no(http.StatusInsufficientStorage, "no snapshot can be kept: %v", err)
	}
	t.Attributes[wire.SnapshotBytes], t.Attributes[wire.SnapshotSize] = strconv.FormatInt(n, 10), strconv.FormatInt(of.disk.Size(), 10)
	if zone := word(of.Attributes[wire.OwnZone]); zone != "" {
		t.Attributes[wire.OwnZone] = zone
	}
	t.Attributes[wire.SnapshotAt] = time.Now().UTC().Format(time.RFC3339Nano)
	return nil
}

// restore has a disk hold what a snapshot keeps. The lock is held.
func (c *Cloud) restore(t *thing, action, to string) *refusal {
	if action != wire.ActionRestore {
		return no(http.StatusBadRequest, "a snapshot knows no action %q", action)
	}
	if t.Attributes[wire.SnapshotState] != "active" {
		return no(http.StatusConflict, "the snapshot is %v", t.Attributes[wire.SnapshotWord])
	}
	d := c.things[to]
	if d == nil || d.disk == nil || d.term != "storage" && d.term != "compute" {
		return no(http.StatusBadRequest, "there is no disk %q", to)
	}
	machine := d
	if d.term == "storage" {
		machine = c.machineOf(d.ID)
	}
	if machine != nil && machine.Attributes[wire.ComputeState] != "inactive" {
		return no(http.StatusConflict, "%s is in use: only a disk whose machine is off is restored", d.Title)
	}
	d.disk.Open()
	d.copied, d.stale = true, true
	if err := d.disk.Become(t.disk); err != nil {
		return no(http.StatusConflict, "it is not restored: %v", err)
	}
	if d.term == "compute" {
		if err := host.Wake(d.disk); err != nil {
			return no(http.StatusConflict, "it is not restored: %v", err)
		}
	}
	c.changed(d)
	return nil
}
