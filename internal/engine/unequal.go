package engine

import (
	"context"
	"slices"

	"andamio/internal/site"
)

// unequal compares two disks by the digests of their blocks: what of the source differs, and what only the target holds.
func (c *copier) unequal(ctx context.Context, from, to string, list site.Changes) (written, zero []site.Extent, err error) {
	var there site.Changes
	err = c.e.call(ctx, c.s, func() (err error) {
		there, err = c.to.Changes(ctx, to, "", 0)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	for _, x := range blocks(slices.Concat(list.Written, there.Written), min(list.Size, there.Size)) {
		var a, b []byte
		if err := c.e.callAt(ctx, c.s, c.terms.From, func() (err error) { a, err = c.from.Hashes(ctx, from, x, hashBlock); return err }); err != nil {
			return nil, nil, err
		}
		if err := c.e.call(ctx, c.s, func() (err error) { b, err = c.to.Hashes(ctx, to, x, hashBlock); return err }); err != nil {
			return nil, nil, err
		}
		for i := 0; i*digestSize < len(a); i++ {
			off := x.Offset + int64(i)*hashBlock
			n := min(hashBlock, x.Offset+x.Length-off)
			one, other := a[i*digestSize:(i+1)*digestSize], b[i*digestSize:(i+1)*digestSize]
			switch {
			case slices.Equal(one, other):
			case allZero(one):
				zero = append(zero, site.Extent{Offset: off, Length: n})
			default:
				written = append(written, site.Extent{Offset: off, Length: n})
			}
		}
	}
	return written, zero, nil
}

// digestSize is the length of a block's digest.
const digestSize = 32

func allZero(p []byte) bool { return !slices.ContainsFunc(p, func(b byte) bool { return b != 0 }) }

// blocks are the parts of a disk, of whole blocks, that extents touch, each once and none too long for one question.
func blocks(list []site.Extent, size int64) []site.Extent {
	const most = 1024 * hashBlock
	slices.SortFunc(list, func(a, b site.Extent) int { return int(min(max(a.Offset-b.Offset, -1), 1)) })
	var out []site.Extent
	end := int64(0)
	for _, x := range list {
		from := max(x.Offset/hashBlock*hashBlock, end)
		to := min((x.Offset+x.Length+hashBlock-1)/hashBlock*hashBlock, size)
		for ; from < to; from += most {
			out = append(out, site.Extent{Offset: from, Length: min(most, to-from)})
		}
		end = max(end, to)
	}
	return out
}
