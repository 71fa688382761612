// Package keep has sites that let disks be read and written, and keep no snapshots, keep some all the same: as volumes of theirs, to which disks are copied.
//
// In go a site and what is asked of a snapshot; out comes what a site that keeps them would say. What such a volume is says its name, since that is what every site
// tells of it: of which disk, and since when it is whole. A copy takes time, so that it is of one moment only where nobody writes meanwhile.
package keep

import (
	"context"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/relay"
)

// Site is what it takes.
type Site interface {
	site.Site
	site.Disks
}

// Copies keeps snapshots at a site.
type Copies struct{ At Site }

// named is the name of a volume that is a snapshot: what that is called, of which disk, and when it was taken; one that is not whole has no time.
var named = regexp.MustCompile(`^(.*), copy of (\S+), (?:being made|of (\S+))$`)

const (
	making = "%s, copy of %s, being made"
	made   = "%s, copy of %s, of %s"
)

// Half is the word for a copy that is not whole: nobody can say whether somebody is at it. Whoever is has it taken away and copies anew when they come again.
const Half = "being copied, or half copied"

// looksAgain is how often a volume that is being built is looked at.
const looksAgain = 50 * time.Millisecond

// Copy is what the name of a volume says that is a snapshot.
type Copy struct {
	Name, Of string
	// Taken is the moment of which it is; zero of one that is not whole.
	Taken time.Time
}

// Called is what the name of a volume says; false is that it is no snapshot.
func Called(name string) (Copy, bool) {
	part := named.FindStringSubmatch(name)
	if part == nil {
		return Copy{}, false
	}
	at, _ := time.Parse(time.RFC3339Nano, part[3])
	return Copy{part[1], part[2], at}, true
}

// String is the name of its volume.
func (c Copy) String() string {
	if c.Taken.IsZero() {
		return fmt.Sprintf(making, c.Name, c.Of)
	}
	return fmt.Sprintf(made, c.Name, c.Of, c.Taken.UTC().Format(time.RFC3339Nano))
}

// as is a volume as the snapshot that it is; false of any other.
func as(v site.Resource) (site.Resource, bool) {
	c, is := Called(v.Name)
	out := site.Resource{Kind: kinds.Snapshot, ID: v.ID, Name: c.Name, Mark: v.Mark, State: v.State, Word: v.Word, Attributes: map[string]string{}, Details: v.Details}
	switch {
	case !c.Taken.IsZero():
		out.Attributes[site.AttrTaken] = c.Taken.UTC().Format(time.RFC3339Nano)
	case v.State == site.Active:
		out.State, out.Word = site.Failed, Half
	}
	return out, is
}

// Create keeps what a disk holds. Asked for again with its key it goes on with what there is.
func (c Copies) Create(ctx context.Context, r site.Request) (site.Resource, error) {
	from, err := c.At.Changes(ctx, r.Source, "", 0)
	if site.ClassOf(err) == site.NotFound && err != nil {
		return site.Resource{}, &site.Error{Site: c.At.Name(), Doing: "create snapshot " + r.Name, Class: site.Refused, Detail: "there is no disk " + r.Source}
	}
	if err != nil {
		return site.Resource{}, err
	}
	name := Copy{Name: r.Name, Of: r.Source}
	v, err := c.At.Create(ctx, site.Request{Kind: kinds.Volume, Name: name.String(), Mark: r.Mark, Key: r.Key, Zone: r.Zone,
		DiskGiB: math.Ceil(float64(from.Size) / (1 << 30))})
	if err != nil {
		return v, err
	}
	if v, err = c.built(ctx, v); err != nil {
		return v, err
	}
	if s, is := as(v); is && s.Attributes[site.AttrTaken] != "" {
		return c.Read(ctx, v.ID)
	}
	name.Taken = time.Now()
	if err := c.copy(ctx, r.Source, v.ID, from); err != nil {
		return v, err
	}
	if _, err := c.At.Change(ctx, kinds.Volume, v.ID, site.Request{Kind: kinds.Volume, Name: r.Name, Rename: name.String()}); err != nil {
		return v, err
	}
	return c.Read(ctx, v.ID)
}

// built waits until a volume is there.
func (c Copies) built(ctx context.Context, v site.Resource) (site.Resource, error) {
	for v.State == site.Accepted || v.State == site.Building {
		select {
		case <-ctx.Done():
			return v, ctx.Err()
		case <-time.After(looksAgain):
		}
		var err error
		if v, err = c.At.Read(ctx, kinds.Volume, v.ID); err != nil {
			return v, err
		}
	}
	if v.State != site.Active {
		return v, &site.Error{Site: c.At.Name(), Doing: "create a volume", Class: site.Transient, Detail: "it says " + v.Word}
	}
	return v, nil
}

// copy has a disk hold what another holds, of which the site told what that is, and nothing else.
func (c Copies) copy(ctx context.Context, from, to string, holds site.Changes) error {
	has, err := c.At.Changes(ctx, to, "", 0)
	if err != nil {
		return err
	}
	_, err = relay.Between(c.At, c.At).Copy(ctx, to, site.CopyRequest{Disk: from, Written: holds.Written, Zero: without(has.Written, holds.Written)})
	return err
}

// without are parts without others, both in order and none over another.
func without(parts, others []site.Extent) []site.Extent {
	var out []site.Extent
	for _, x := range parts {
		at, end := x.Offset, x.Offset+x.Length
		for _, o := range others {
			if o.Offset+o.Length <= at || o.Offset >= end {
				continue
			}
			if o.Offset > at {
				out = append(out, site.Extent{Offset: at, Length: o.Offset - at})
			}
			at = o.Offset + o.Length
		}
		if at < end {
			out = append(out, site.Extent{Offset: at, Length: end - at})
		}
	}
	return out
}

// Read says how a snapshot is now, with how much it holds.
func (c Copies) Read(ctx context.Context, id string) (site.Resource, error) {
	v, err := c.At.Read(ctx, kinds.Volume, id)
	if err != nil {
		return v, err
	}
	out, is := as(v)
	if !is {
		return site.Resource{}, &site.Error{Site: c.At.Name(), Doing: "read snapshot", Class: site.NotFound, Detail: id + " is a volume, and no copy of a disk"}
	}
	if out.Attributes[site.AttrTaken] != "" {
		holds, err := c.At.Changes(ctx, id, "", 0)
		if err != nil {
			return out, err
		}
		out.Attributes[site.AttrHeld] = strconv.FormatInt(site.Bytes(holds.Written), 10)
	}
	return out, nil
}

// Change gives a snapshot another name, and sets tags.
func (c Copies) Change(ctx context.Context, id string, r site.Request) (site.Resource, error) {
	v, err := c.At.Read(ctx, kinds.Volume, id)
	if err != nil {
		return v, err
	}
	if name, is := Called(v.Name); is && r.Rename != "" {
		name.Name = r.Rename
		r.Rename = name.String()
	}
	r.Kind = kinds.Volume
	if _, err := c.At.Change(ctx, kinds.Volume, id, r); err != nil {
		return v, err
	}
	return c.Read(ctx, id)
}

// Delete takes a snapshot away.
func (c Copies) Delete(ctx context.Context, id string) error {
	if _, err := c.Read(ctx, id); err != nil {
		return err
	}
	return c.At.Delete(ctx, kinds.Volume, id)
}

// Restore has a disk, whose machine is off, hold what a snapshot keeps, and nothing else.
func (c Copies) Restore(ctx context.Context, snapshot, disk string) error {
	s, err := c.Read(ctx, snapshot)
	if err != nil {
		return err
	}
	if s.State != site.Active || s.Attributes[site.AttrTaken] == "" {
		return &site.Error{Site: c.At.Name(), Doing: "restore " + snapshot, Class: site.Conflict, Detail: "it is not whole"}
	}
	if err := c.writable(ctx, disk); err != nil {
		return err
	}
	holds, err := c.At.Changes(ctx, snapshot, "", 0)
	if err != nil {
		return err
	}
	return c.copy(ctx, snapshot, disk, holds)
}

// firstBytes are those that are written as they are, to see whether a disk may be written.
const firstBytes = 4096

// writable is the site's refusal of a disk that is in use, also where nothing of it would have to be written.
func (c Copies) writable(ctx context.Context, disk string) error {
	data, err := c.At.ReadDisk(ctx, disk, site.Extent{Length: firstBytes})
	if err != nil {
		return err
	}
	return c.At.WriteDisk(ctx, disk, 0, data)
}
