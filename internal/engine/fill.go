package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"slices"

	"andamio/internal/core/ovf"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// fill writes the disks of a workload from a package, which must be the one that was looked at when the plan was made.
// What was written before the run broke off is written again: it does no harm.
func (e *Engine) fill(ctx context.Context, s *plan.Step) error {
	m, ok := e.Sites[s.Site].(site.Mover)
	if !ok {
		return site.Final(fmt.Errorf("%s lets no disks be written", s.Site))
	}
	f, err := os.Open(s.Filling.File)
	if err != nil {
		return site.Final(fmt.Errorf("the package cannot be opened: %w", err))
	}
	defer f.Close()
	sum := sha256.New()
	length, err := io.Copy(sum, f)
	if err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != s.Filling.SHA256 {
		return site.Final(fmt.Errorf("%s is not the package that it was when the plan was made", s.Filling.File))
	}
	a, err := ovf.Open(f, length)
	if err != nil {
		return site.Final(err)
	}
	for i, to := range s.Filling.Disks {
		if err := e.fillDisk(ctx, s, m, a.Image(i), to); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) fillDisk(ctx context.Context, s *plan.Step, m site.Mover, from *ovf.Image, to string) error {
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
	buf := make([]byte, site.MaxPart)
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
	}
	return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: to, Text: fmt.Sprintf("%d bytes written to %s", site.Bytes(held), to)})
}
