package moves

import (
	"context"
	"slices"

	"andamio/internal/core/fault"
	"andamio/internal/core/migrate"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/site"
)

// sector is the size in bytes of the part of a disk that a machine reads first.
const sector = 512

// startsThere looks that what a wave takes to sites of another kind are disks that machines start from: some sites only make machines believe, and
// what they keep on disks is nothing that starts anywhere else.
func (svc *Service) startsThere(ctx context.Context, d *deployments.Deployment, m *Move, wave int, pairs []sites.Pair) error {
	for _, id := range m.Waves[wave].Instances {
		i := slices.IndexFunc(m.Choices, func(c migrate.Choice) bool { return c.Instance == id })
		from, to := m.From[id], m.Choices[i].Site
		if !slices.ContainsFunc(pairs, func(p sites.Pair) bool { return p.Relayed && p.A == min(from, to) && p.B == max(from, to) }) {
			continue
		}
		source, err := svc.disks(ctx, from)
		if err != nil {
			return err
		}
		first, err := source.ReadDisk(ctx, d.Stand.Plan.Known[id]["site.id"], site.Extent{Length: sector})
		if err != nil {
			return err
		}
		if !bootable(first) {
			return fault.Refusedf("%s does not start at %s: its disk at %s has no boot sector, as the disks of machines have that are real", id, to, from)
		}
	}
	return nil
}

// bootable reports that a sector ends as those do that a machine starts from.
func bootable(first []byte) bool {
	return len(first) == sector && first[sector-2] == 0x55 && first[sector-1] == 0xaa
}
