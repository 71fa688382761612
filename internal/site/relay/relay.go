// Package relay copies disks between two sites that know nothing of each other, by way of this machine.
//
// In go the disks of a site that can be read and those of one that can be written; out comes one that copies ([site.Copier]), as sites do by
// themselves that are paired: each part is read here, written there, read back and compared with the digest of what was read.
package relay

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// block is what one digest is of: 64 KiB. A part is whole blocks wherever extents are.
const (
	block = 64 << 10
	part  = site.MaxPart
)

// ahead is how many parts are read before the first of them is written.
const ahead = 2

// Relay copies from one site's disks to another's. Rounds are written in place: it keeps no layers.
type Relay struct {
	From site.Disks
	site.Disks
}

// Between is what copies from one site to another.
func Between(from, to site.Disks) *Relay { return &Relay{From: from, Disks: to} }

var _ site.Target = (*Relay)(nil)

// Direct reports that disks go straight from one site to another, once the two are paired.
func Direct(from, to site.Site) bool {
	_, gives := from.(site.Source)
	_, takes := to.(site.Target)
	_, pairs := to.(site.Pairer)
	return gives && takes && pairs
}

// Way is how disks get from one site to another: straight, or by way of this machine. It is an error where they do not.
func Way(from, to site.Site) (site.Disks, site.Target, error) {
	source, gives := from.(site.Disks)
	disks, takes := to.(site.Disks)
	switch {
	case !gives:
		return nil, nil, fmt.Errorf("the disks of %s cannot be read", from.Name())
	case !takes:
		return nil, nil, fmt.Errorf("the disks of %s cannot be written", to.Name())
	case Direct(from, to):
		return source, to.(site.Target), nil
	}
	return source, Between(source, disks), nil
}

// Try asks two sites between which disks are relayed, one after the other: both must answer. What gets through is not known before something does.
func Try(ctx context.Context, one, other site.Site) site.Trial {
	start := time.Now()
	for _, s := range []site.Site{one, other} {
		if _, err := s.Read(ctx, kinds.Volume, "-"); err != nil && site.ClassOf(err) != site.NotFound {
			return site.Trial{Why: err.Error()}
		}
	}
	return site.Trial{Reachable: true, RoundTrip: time.Since(start)}
}

// piece is a part of a disk on its way.
type piece struct {
	at   int64
	data []byte
}

// Copy copies parts of a disk to another, and verifies them. [site.CopyRequest.Peer], Compress and Round mean nothing here.
func (r *Relay) Copy(ctx context.Context, disk string, o site.CopyRequest) (site.Copied, error) {
	start := time.Now()
	out := site.Copied{}
	if err := r.empty(ctx, disk, o.Zero); err != nil {
		return out, err
	}
	group, ctx := errgroup.WithContext(ctx)
	way := make(chan piece, ahead)
	group.Go(func() error {
		defer close(way)
		return r.read(ctx, o, way)
	})
	group.Go(func() error {
		for p := range way {
			if err := r.put(ctx, disk, p, &out); err != nil {
				return err
			}
			if err := slow(ctx, o.Limit, out.Bytes, start); err != nil {
				return err
			}
		}
		return nil
	})
	err := group.Wait()
	out.Wire, out.Took = out.Bytes, time.Since(start)
	return out, err
}

// Consolidate finds nothing to make one.
func (r *Relay) Consolidate(context.Context, string) (int64, error) { return 0, nil }

// read reads what is to be copied, part by part.
func (r *Relay) read(ctx context.Context, o site.CopyRequest, way chan<- piece) error {
	for _, x := range o.Written {
		for at := x.Offset; at < x.Offset+x.Length; at += part {
			n := min(part, x.Offset+x.Length-at)
			data, err := r.From.ReadDisk(ctx, o.Disk, site.Extent{Offset: at, Length: n})
			if err != nil {
				return err
			}
			if int64(len(data)) != n {
				return fmt.Errorf("%d bytes of %s from %d on were read, not %d", len(data), o.Disk, at, n)
			}
			select {
			case way <- piece{at, data}:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return nil
}

// put writes a part, unless it is there already, and reads back what it then is.
func (r *Relay) put(ctx context.Context, disk string, p piece, out *site.Copied) error {
	want, x := site.Digests(p.data, block), site.Extent{Offset: p.at, Length: int64(len(p.data))}
	got, err := r.Hashes(ctx, disk, x, block)
	if err != nil {
		return err
	}
	if !bytes.Equal(want, got) {
		if err := r.WriteDisk(ctx, disk, p.at, p.data); err != nil {
			return err
		}
		if got, err = r.Hashes(ctx, disk, x, block); err != nil {
			return err
		}
	}
	if !bytes.Equal(want, got) {
		return fmt.Errorf("%d bytes of %s from %d on are not what was written there", x.Length, disk, x.Offset)
	}
	for i := 0; i < len(want); i += site.DigestSize {
		if bytes.Equal(want[i:i+site.DigestSize], site.NoDigest[:]) {
			out.Holes += min(block, x.Length-int64(i/site.DigestSize)*block)
		}
	}
	out.Bytes += x.Length
	out.Verified += x.Length
	return nil
}

// empty has parts hold nothing any more, where they do hold something.
func (r *Relay) empty(ctx context.Context, disk string, zero []site.Extent) error {
	for _, x := range zero {
		for at := x.Offset; at < x.Offset+x.Length; at += part {
			p := piece{at, make([]byte, min(part, x.Offset+x.Length-at))}
			if err := r.put(ctx, disk, p, &site.Copied{}); err != nil {
				return err
			}
		}
	}
	return nil
}

// slow waits as long as so many bytes take at most at a limit of bytes a second; 0 is none.
func slow(ctx context.Context, limit, done int64, since time.Time) error {
	if limit <= 0 {
		return nil
	}
	wait := time.Duration(float64(done)/float64(limit)*float64(time.Second)) - time.Since(since)
	if wait <= 0 {
		return nil
	}
	select {
	case <-time.After(wait):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
