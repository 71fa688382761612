package occi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

var (
	_ site.Source   = (*Driver)(nil)
	_ site.Target   = (*Driver)(nil)
	_ site.Releaser = (*Driver)(nil)
	_ site.Packager = (*Driver)(nil)

	_ site.Snapshotter = (*Driver)(nil)
	_ site.Limiter     = (*Driver)(nil)
)

// copyTimeout bounds one order to copy, which may be slow on purpose.
const copyTimeout = 10 * time.Minute

func diskPath(disk string, query url.Values) string {
	where := wire.PathDisk + url.PathEscape(disk)
	if len(query) > 0 {
		where += "?" + query.Encode()
	}
	return where
}

// Changes lists what was written on a disk since a generation.
func (d *Driver) Changes(ctx context.Context, disk, epoch string, since uint32) (site.Changes, error) {
	var out wire.Changes
	q := url.Values{wire.ParamView: {wire.ViewChanges}, wire.ParamSince: {fmt.Sprint(since)}, wire.ParamEpoch: {epoch}}
	if err := d.do(ctx, "list what was written on "+disk, http.MethodGet, diskPath(disk, q), nil, nil, &out); err != nil {
		return site.Changes{}, err
	}
	c := site.Changes{Size: out.Size, Epoch: out.Epoch, UpTo: out.UpTo, Whole: out.Whole, Written: extents(out.Written), Zero: extents(out.Zero), Layers: max(out.Layers, 1)}
	for _, x := range slices.Concat(c.Written, c.Zero) {
		if x.Offset < 0 || x.Length <= 0 || x.Offset > c.Size-x.Length {
			return c, &site.Error{Site: d.name, Doing: "list what was written", Class: site.Transient, Detail: "it lies outside the disk"}
		}
	}
	return c, nil
}

func extents(list []wire.Extent) []site.Extent {
	out := make([]site.Extent, len(list))
	for i, x := range list {
		out[i] = site.Extent{Offset: x[0], Length: x[1]}
	}
	return out
}

func onWire(list []site.Extent) []wire.Extent {
	out := make([]wire.Extent, len(list))
	for i, x := range list {
		out[i] = wire.Extent{x.Offset, x.Length}
	}
	return out
}

// Hashes are the digests of the blocks of a part of a disk.
func (d *Driver) Hashes(ctx context.Context, disk string, x site.Extent, block int64) ([]byte, error) {
	q := url.Values{wire.ParamView: {wire.ViewHashes}, wire.ParamFrom: {fmt.Sprint(x.Offset)}, wire.ParamLength: {fmt.Sprint(x.Length)}, wire.ParamBlock: {fmt.Sprint(block)}}
	data, _, err := d.raw(ctx, "digest "+disk, http.MethodGet, diskPath(disk, q), nil, nil)
	if err == nil && int64(len(data)) != (x.Length+block-1)/block*wire.BlockDigest {
		err = &site.Error{Site: d.name, Doing: "digest " + disk, Class: site.Transient, Detail: "the answer broke off"}
	}
	return data, err
}

// ReadDisk reads a part of a disk and checks it against the digest that the site tells.
func (d *Driver) ReadDisk(ctx context.Context, disk string, x site.Extent) ([]byte, error) {
	header := http.Header{"Range": {fmt.Sprintf("bytes=%d-%d", x.Offset, x.Offset+x.Length-1)}}
	data, told, err := d.raw(ctx, "read "+disk, http.MethodGet, diskPath(disk, nil), header, nil)
	if err == nil && (int64(len(data)) != x.Length || told.Get(wire.HeaderDigest) != wire.RangeDigest(data)) {
		err = &site.Error{Site: d.name, Doing: "read " + disk, Class: site.Transient, Detail: "the bytes were damaged on the way"}
	}
	return data, err
}

// WriteDisk writes a part of a disk.
func (d *Driver) WriteDisk(ctx context.Context, disk string, offset int64, data []byte) error {
	header := http.Header{"Content-Range": {fmt.Sprintf("bytes %d-%d/*", offset, offset+int64(len(data))-1)}, wire.HeaderDigest: {wire.RangeDigest(data)},
		"Content-Type": {"application/octet-stream"}}
	_, _, err := d.raw(ctx, "write "+disk, http.MethodPut, diskPath(disk, nil), header, data)
	return err
}

// Copy has the site copy from a disk of another to one of its own.
func (d *Driver) Copy(ctx context.Context, disk string, o site.CopyRequest) (site.Copied, error) {
	var out wire.Pulled
	body, err := json.Marshal(wire.Pull{Peer: o.Peer, Disk: o.Disk, Written: onWire(o.Written), Zero: onWire(o.Zero), Limit: o.Limit, Compress: o.Compress, Round: o.Round})
	if err != nil {
		return site.Copied{}, err
	}
	data, _, err := d.raw(ctx, "copy to "+disk, http.MethodPost, diskPath(disk, nil), http.Header{"Content-Type": {"application/json"}}, body)
	if err != nil {
		return site.Copied{}, err
	}
	if err := json.Unmarshal(data, &out); err != nil {
		return site.Copied{}, &site.Error{Site: d.name, Doing: "copy to " + disk, Class: site.Transient, Detail: "the answer cannot be read"}
	}
	return site.Copied{Bytes: out.Bytes, Wire: out.Wire, Holes: out.Holes, Verified: out.Verified, Took: time.Duration(out.Seconds * float64(time.Second))}, nil
}

// Consolidate makes the layers of a disk one.
func (d *Driver) Consolidate(ctx context.Context, disk string) (int64, error) {
	var out wire.Consolidated
	data, _, err := d.raw(ctx, "consolidate "+disk, http.MethodPost, diskPath(disk, url.Values{"action": {wire.ActionConsolidate}}), nil, nil)
	if err == nil && json.Unmarshal(data, &out) != nil {
		err = &site.Error{Site: d.name, Doing: "consolidate " + disk, Class: site.Transient, Detail: "the answer cannot be read"}
	}
	return out.Bytes, err
}

// Release gives up an interface's address and leads what comes there elsewhere.
func (d *Driver) Release(ctx context.Context, iface string, lead map[string]string) error {
	var pairs []string
	for port, where := range lead {
		pairs = append(pairs, port+":"+where)
	}
	slices.Sort(pairs)
	return d.tell(ctx, "release "+iface, kinds.Interface, iface, "?action="+wire.ActionRelease,
		wire.Action{Action: wire.ComputeAction + wire.ActionRelease, Attributes: map[string]any{wire.OwnLead: strings.Join(pairs, ",")}})
}

// Restore has a disk hold what a snapshot keeps.
func (d *Driver) Restore(ctx context.Context, snapshot, disk string) error {
	if c, are := d.copies(ctx); are {
		return c.Restore(ctx, snapshot, disk)
	}
	return d.tell(ctx, "restore "+snapshot, kinds.Snapshot, snapshot, "?action="+wire.ActionRestore,
		wire.Action{Action: wire.ComputeAction + wire.ActionRestore, Attributes: map[string]any{wire.RestoreTo: disk}})
}

// Limit bounds a volume.
func (d *Driver) Limit(ctx context.Context, volume string, l site.IOLimit) error {
	return d.tell(ctx, "limit "+volume, kinds.Volume, volume, "",
		wire.Resource{Kind: wire.Storage, Attributes: map[string]any{wire.OwnIOPerSecond: l.PerSecond, wire.OwnIOMiB: l.MiBPerSecond}})
}

// Upload writes the next bytes of an object.
func (d *Driver) Upload(ctx context.Context, object string, offset, total int64, data []byte) (int64, error) {
	header := http.Header{"Content-Range": {fmt.Sprintf("bytes %d-%d/%d", offset, offset+int64(len(data))-1, total)}, wire.HeaderDigest: {wire.RangeDigest(data)},
		"Content-Type": {"application/octet-stream"}}
	body, _, err := d.raw(ctx, "upload "+object, http.MethodPut, wire.PathObject+url.PathEscape(object), header, data)
	if err != nil {
		return 0, err
	}
	var out wire.Resource
	if err := json.Unmarshal(body, &out); err != nil {
		return 0, &site.Error{Site: d.name, Doing: "upload " + object, Class: site.Transient, Detail: "the answer cannot be read"}
	}
	return strconv.ParseInt(text(out.Attributes[wire.ObjectReceived]), 10, 64)
}

// Unpack has the site write a disk from a package among its objects.
func (d *Driver) Unpack(ctx context.Context, disk, object string, image int) (int64, error) {
	body, err := json.Marshal(wire.Unpack{Object: object, Image: image})
	if err != nil {
		return 0, err
	}
	data, _, err := d.raw(ctx, "unpack "+object, http.MethodPost, diskPath(disk, url.Values{"action": {wire.ActionUnpack}}), http.Header{"Content-Type": {"application/json"}}, body)
	var out wire.Unpacked
	if err == nil && json.Unmarshal(data, &out) != nil {
		err = &site.Error{Site: d.name, Doing: "unpack " + object, Class: site.Transient, Detail: "the answer cannot be read"}
	}
	return out.Bytes, err
}

// Self is the site as others are to know it.
func (d *Driver) Self(ctx context.Context) (site.Peer, error) {
	var out wire.Pair
	err := d.do(ctx, "ask for its key", http.MethodGet, wire.PathSelf, nil, nil, &out)
	return site.Peer{Site: out.Site, URL: d.base, Key: out.Key}, err
}

// Pair makes another site known to this one.
func (d *Driver) Pair(ctx context.Context, other site.Peer) error {
	return d.do(ctx, "pair with "+other.Site, http.MethodPut, wire.PathPairs+url.PathEscape(other.Site), nil,
		wire.Pair{Site: other.Site, URL: other.URL, Key: other.Key, MayStart: other.MayStart}, nil)
}

// Part forgets another site.
func (d *Driver) Part(ctx context.Context, other string) error {
	return d.do(ctx, "part from "+other, http.MethodDelete, wire.PathPairs+url.PathEscape(other), nil, nil, nil)
}

// Grant lets another site read a disk.
func (d *Driver) Grant(ctx context.Context, other, disk string) error {
	return d.do(ctx, "grant "+other+" a disk", http.MethodPut, wire.PathPairs+url.PathEscape(other)+"/"+url.PathEscape(disk), nil, nil, nil)
}

// Try has the site ask another.
func (d *Driver) Try(ctx context.Context, other string) (site.Trial, error) {
	var out wire.Trial
	err := d.do(ctx, "try the link to "+other, http.MethodGet, wire.PathPairs+url.PathEscape(other), nil, nil, &out)
	return site.Trial{Reachable: out.Reachable, Why: out.Why, RoundTrip: time.Duration(out.Milliseconds * float64(time.Millisecond)),
		Ahead: time.Duration(out.ClockSeconds * float64(time.Second)), BytesPerSecond: out.BytesPerSecond, DiskBytesPerSecond: out.DiskBytesPerSecond}, err
}

// raw sends bytes and returns the bytes of the answer.
func (d *Driver) raw(ctx context.Context, doing, method, where string, header http.Header, body []byte) ([]byte, http.Header, error) {
	fail := func(class site.Class, detail string, err error) error {
		return &site.Error{Site: d.name, Doing: doing, Class: class, Detail: detail, Err: err}
	}
	ctx, cancel := context.WithTimeout(ctx, copyTimeout)
	defer cancel()
	patient := *d.client
	patient.Timeout = 0 // the context bounds it
	resp, err := d.send(&patient, func() (*http.Request, error) { return d.request(ctx, method, where, header, body) })
	if err != nil {
		return nil, nil, fail(classOf(err), "", withoutURL(err))
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, 64<<20))
	if err != nil {
		return nil, nil, fail(site.Transient, "the answer broke off", err)
	}
	if resp.StatusCode >= 300 {
		return nil, nil, d.refusal(doing, resp, data)
	}
	return data, resp.Header, nil
}
