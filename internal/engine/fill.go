package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"

	"andamio/internal/core/kinds"
	"andamio/internal/core/ovf"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// fill writes the disks of a workload from a package, which must be the one that was looked at when the plan was made.
// What was written before the run broke off is written again: it does no harm.
func (e *Engine) fill(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	if s.Filling.Object != "" {
		return e.unpack(ctx, s)
	}
	m, ok := site.Can[site.Disks](ctx, e.Sites[s.Site])
	if !ok {
		return site.Final(fmt.Errorf("%s lets no disks be written", s.Site))
	}
	f, length, err := openPackage(s.Filling)
	if err != nil {
		return err
	}
	defer f.Close()
	a, err := ovf.Open(f, length)
	if err != nil {
		return site.Final(err)
	}
	for i, to := range s.Filling.Disks {
		if slices.Contains(s.Filling.Keep, to) {
			continue
		}
		if err := e.fillDisk(ctx, s, m, a.Image(i), to); err != nil {
			return err
		}
	}
	return nil
}

// openPackage opens a package that must be the one that was looked at when the plan was made.
func openPackage(x *plan.Filling) (*os.File, int64, error) {
	f, err := os.Open(x.File)
	if err != nil {
		return nil, 0, site.Final(fmt.Errorf("the package cannot be opened: %w", err))
	}
	sum := sha256.New()
	length, err := io.Copy(sum, f)
	if err == nil && hex.EncodeToString(sum.Sum(nil)) != x.SHA256 {
		err = site.Final(fmt.Errorf("%s is not the package that it was when the plan was made", x.File))
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, length, nil
}

// unpack has the site write the disks from a package in its object storage.
func (e *Engine) unpack(ctx context.Context, s *plan.Step) error {
	m, ok := site.Can[site.Packager](ctx, e.Sites[s.Site])
	if !ok {
		return site.Final(fmt.Errorf("%s keeps no packages", s.Site))
	}
	object, ok := e.Attribute(s.Filling.Object, "site.id")
	if !ok || object == "" {
		return site.Final(fmt.Errorf("the site's id of %s is not known", s.Filling.Object))
	}
	for i, to := range s.Filling.Disks {
		if slices.Contains(s.Filling.Keep, to) {
			continue
		}
		id, ok := e.Attribute(to, "site.id")
		if !ok || id == "" {
			return site.Final(fmt.Errorf("the site's id of %s is not known", to))
		}
		var n int64
		err := e.call(ctx, s, func() (err error) {
			n, err = m.Unpack(ctx, id, object, i)
			return err
		})
		if err != nil {
			return err
		}
		if err := e.filled(s, to, fmt.Sprintf("%d bytes unpacked to %s by the site", n, to)); err != nil {
			return err
		}
	}
	return nil
}

// liftedTold is after how many bytes it is told how far lifting has come.
const liftedTold = 64 << 20

// lift brings a package to a site's object storage, from where it broke off, and returns what the site says then.
func (e *Engine) lift(ctx context.Context, s *plan.Step, got site.Resource) (site.Resource, error) {
	m, ok := site.Can[site.Packager](ctx, e.Sites[s.Site])
	if !ok {
		return got, site.Final(fmt.Errorf("%s keeps no objects", s.Site))
	}
	f, length, err := openPackage(s.Filling)
	if err != nil {
		return got, err
	}
	defer f.Close()
	at, _ := strconv.ParseInt(got.Attributes[site.AttrReceived], 10, 63)
	told := at
	buf := make([]byte, site.MaxPart)
	for at < length && got.State != site.Failed {
		part := buf[:min(int64(len(buf)), length-at)]
		if _, err := f.ReadAt(part, at); err != nil {
			return got, err
		}
		was := at
		err := e.call(ctx, s, func() (err error) {
			at, err = m.Upload(ctx, got.ID, was, length, part)
			return err
		})
		if err == nil && at == was {
			err = fmt.Errorf("%s takes no more than %d bytes of %d", s.Site, at, length)
		}
		if err != nil {
			return got, err
		}
		if at-told >= liftedTold || at == length {
			told = at
			if err := e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: fmt.Sprintf("%d of %d bytes lifted", at, length)}); err != nil {
				return got, err
			}
		}
	}
	now, err := e.read(ctx, s, kinds.Object, got.ID)
	if err != nil {
		return got, err
	}
	return now, nil
}

func (e *Engine) fillDisk(ctx context.Context, s *plan.Step, m site.Disks, from *ovf.Image, to string) error {
	id, ok := e.Attribute(to, "site.id")
	if !ok || id == "" {
		return site.Final(fmt.Errorf("the site's id of %s is not known", to))
	}
	var held []site.Extent
	for _, x := range from.Held() {
		if n := len(held) - 1; n >= 0 && held[n].Offset+held[n].Length == x.Offset && held[n].Length+x.Length <= site.MaxPart {
			held[n].Length += x.Length
			continue
		}
		held = append(held, site.Extent{Offset: x.Offset, Length: x.Length})
	}
	buf, written := make([]byte, site.MaxPart), int64(0)
	for _, x := range held {
		data := buf[:x.Length]
		if _, err := from.ReadAt(data, x.Offset); err != nil {
			return err
		}
		if !slices.ContainsFunc(data, func(b byte) bool { return b != 0 }) {
			continue
		}
		if err := e.call(ctx, s, func() error { return m.WriteDisk(ctx, id, x.Offset, data) }); err != nil {
			return err
		}
		written += x.Length
	}
	return e.filled(s, to, fmt.Sprintf("%d bytes written to %s", written, to))
}

// filled journals that a disk was written from a package.
func (e *Engine) filled(s *plan.Step, disk, text string) error {
	return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: disk, Text: text},
		run.Event{Kind: run.Learned, Resource: disk, Attributes: map[string]string{plan.AttrFilled: s.Filling.SHA256}})
}
