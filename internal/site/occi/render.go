package occi

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

// render writes a request in the words of the standard.
func render(r site.Request) wire.Resource {
	a := map[string]any{}
	w := wire.Resource{Title: r.Name, Attributes: a}
	set := func(name, value string) {
		if value != "" {
			a[name] = value
		}
	}
	if r.Mark != "" {
		w.Mixins = append(w.Mixins, wire.OwnMark)
		a[wire.OwnMarkText] = r.Mark
	}
	switch r.Kind {
	case kinds.Network:
		w.Kind = wire.Network
		w.Mixins = append(w.Mixins, wire.IPNetwork)
		set(wire.Label, r.Name)
		set(wire.CIDR, r.CIDR)
		if vlan, err := strconv.Atoi(r.VLAN); err == nil {
			a[wire.VLAN] = vlan
		}
	case kinds.Volume:
		w.Kind = wire.Storage
		a[wire.StorageSize] = r.DiskGiB
		set(wire.OwnZone, r.Zone)
		set(wire.OwnClass, r.Class)
	case kinds.Object:
		w.Kind = wire.Object
		a[wire.ObjectBytes], a[wire.ObjectDigest] = r.Bytes, r.SHA256
	case kinds.Snapshot:
		w.Kind = wire.Snapshot
		a[wire.SnapshotOf] = r.Source
	case kinds.Instance:
		w.Kind = wire.Compute
		renderInstance(r, &w, set)
	case kinds.Interface:
		w.Kind = wire.NetworkInterface
		w.Mixins = append(w.Mixins, wire.IPInterface, wire.OwnReach)
		w.Source = &wire.End{Location: "/compute/" + r.Source, Kind: wire.Compute}
		w.Target = &wire.End{Location: "/network/" + r.Target, Kind: wire.Network}
		a[wire.OwnPorts] = joinPorts(r.Ports)
		set(wire.OwnInside, r.Address)
		set(wire.OwnMAC, r.MAC)
	case kinds.Attachment:
		w.Kind = wire.StorageLink
		w.Source = &wire.End{Location: "/compute/" + r.Source, Kind: wire.Compute}
		w.Target = &wire.End{Location: "/storage/" + r.Target, Kind: wire.Storage}
		set(wire.MountPoint, r.Location)
	}
	return w
}

func renderInstance(r site.Request, w *wire.Resource, set func(name, value string)) {
	if r.Appliance != "" {
		w.Mixins = append(w.Mixins, wire.OwnAppliances+r.Appliance, wire.OwnPlaced)
		set(wire.Hostname, r.Hostname)
		set(wire.OwnZone, r.Zone)
		set(wire.OwnHost, r.Host)
		return
	}
	w.Mixins = append(w.Mixins, wire.OwnImages+r.Image, wire.OwnPlaced)
	if r.Size != "" {
		w.Mixins = append(w.Mixins, wire.OwnSizes+r.Size)
	} else {
		w.Attributes[wire.Cores] = r.Cores
		w.Attributes[wire.Memory] = r.MemoryGiB
	}
	w.Attributes[wire.OwnDisk] = r.DiskGiB
	set(wire.Hostname, r.Hostname)
	set(wire.OwnClass, r.Class)
	set(wire.OwnZone, r.Zone)
	set(wire.OwnHost, r.Host)
	if r.Asleep {
		w.Attributes[wire.OwnAsleep] = "yes"
	}
	if r.PublicKey != "" {
		w.Mixins = append(w.Mixins, wire.SSHKey)
		set(wire.PublicKey, r.PublicKey)
	}
}

// renderChange writes what of a request can be changed in place.
func renderChange(r site.Request) wire.Resource {
	w := wire.Resource{Attributes: map[string]any{}}
	w.Title = r.Rename
	for name, v := range r.Tags {
		w.Attributes[wire.OwnTag+name] = v
	}
	switch r.Kind {
	case kinds.Interface:
		w.Kind = wire.NetworkInterface
		if r.Address != "" {
			w.Attributes[wire.OwnInside] = r.Address
		}
	case kinds.Instance:
		w.Kind = wire.Compute
		if r.Size == "" && r.Cores == 0 {
			break // nothing is said of its size
		}
		if r.Size != "" {
			w.Mixins = append(w.Mixins, wire.OwnSizes+r.Size)
		} else {
			w.Attributes[wire.Cores], w.Attributes[wire.Memory] = r.Cores, r.MemoryGiB
		}
		w.Attributes[wire.OwnDisk] = r.DiskGiB
	case kinds.Volume:
		w.Kind = wire.Storage
		if r.DiskGiB > 0 {
			w.Attributes[wire.StorageSize] = r.DiskGiB
		}
	}
	return w
}

func joinPorts(ports []int) string {
	words := make([]string, len(ports))
	for i, p := range ports {
		words[i] = strconv.Itoa(p)
	}
	return strings.Join(words, ",")
}

// stateNames are the attributes that hold a kind's state and the provider's word for it.
var stateNames = map[kinds.Kind][2]string{
	kinds.Network: {wire.NetworkState, wire.NetworkWord}, kinds.Volume: {wire.StorageState, wire.StorageWord},
	kinds.Instance: {wire.ComputeState, wire.ComputeWord}, kinds.Interface: {wire.LinkState, wire.LinkWord},
	kinds.Attachment: {wire.StoreState, wire.StoreWord}, kinds.Object: {wire.ObjectState, wire.ObjectWord},
	kinds.Snapshot: {wire.SnapshotState, wire.SnapshotWord},
}

// parse reads a rendering.
func parse(kind kinds.Kind, w wire.Resource) site.Resource {
	names := stateNames[kind]
	r := site.Resource{Kind: kind, ID: idOf(w.ID), Name: w.Title, Mark: cmp.Or(text(w.Attributes[wire.OwnMarkText]), w.Summary),
		Word: text(w.Attributes[names[1]]), Attributes: map[string]string{}}
	r.State = stateOf(text(w.Attributes[names[0]]), r.Word)
	if r.Word == "" {
		r.Word = text(w.Attributes[names[0]])
	}
	for from, to := range map[string]string{wire.Address: site.AttrAddress, wire.OwnSSHUser: site.AttrSSHUser,
		wire.OwnHostKey: site.AttrHostKey, wire.Device: site.AttrDevice, wire.OwnMountAt: site.AttrMount, wire.LinkMAC: site.AttrMAC, wire.ObjectReceived: site.AttrReceived,
		wire.OwnIOPerSecond: site.AttrIOPerSecond, wire.OwnIOMiB: site.AttrIOMiBPerSecond, wire.SnapshotAt: site.AttrTaken, wire.SnapshotBytes: site.AttrHeld} {
		if v := text(w.Attributes[from]); v != "" {
			r.Attributes[to] = v
		}
	}
	for _, pair := range strings.Split(text(w.Attributes[wire.OwnPortMap]), ",") {
		if port, mapped, ok := strings.Cut(pair, ":"); ok {
			r.Attributes[site.AttrPort+port] = mapped
		}
	}
	if ssh := r.Attributes[site.AttrPort+"22"]; ssh != "" {
		r.Attributes[site.AttrSSHPort] = ssh
	}
	if _, mapped := w.Attributes[wire.OwnPortMap]; !mapped && r.Attributes[site.AttrAddress] != "" { // its ports are what they are
		r.Attributes[site.AttrSSHPort] = sshPort
		if r.Attributes[site.AttrSSHUser] == "" {
			r.Attributes[site.AttrSSHUser] = sshUser
		}
	}
	return r
}

// Where a site does not say how a shell is opened: the port of RFC 4253, section 4.2, and who takes keys on most images.
const (
	sshPort = "22"
	sshUser = "root"
)

// stateOf reads the standard's states, and the words with which our mixins tell inactive resources apart.
func stateOf(state, word string) site.State {
	switch state {
	case "active", "online":
		return site.Active
	case "error":
		return site.Failed
	case "suspended":
		return site.Suspended
	}
	switch word {
	case "accepted":
		return site.Accepted
	case "building":
		return site.Building
	}
	return site.Stopped
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return fmt.Sprint(v)
}
