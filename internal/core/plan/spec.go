package plan

import (
	"bytes"
	"encoding/json"
	"fmt"

	"andamio/internal/core/kinds"
)

// Spec is what a site is asked for: that of the resource's kind. It is a value: who changes it puts another in its place, by [Respec].
type Spec interface {
	// of is the kind of things that it specifies; "" is any that has nothing to specify.
	of() kinds.Kind
}

// InstanceSpec is what an instance is to be like.
type InstanceSpec struct {
	Hostname  string  `json:"hostname,omitempty"`
	Cores     int     `json:"cores,omitempty"`
	MemoryGiB float64 `json:"memory_gib,omitempty"`
	// DiskGiB is its own disk, without volumes.
	DiskGiB float64 `json:"disk_gib,omitempty"`
	// Size is the site's name of what it has; "" is the cores and memory as they are.
	Size  string `json:"size,omitempty"`
	Image string `json:"image,omitempty"`
	// Class is the class of storage of its own disk.
	Class string `json:"class,omitempty"`
	// Appliance is the service of the site's own that it is, such as a load balancer: nobody logs in to it, and it has no disk. "" is an instance.
	Appliance string `json:"appliance,omitempty"`
	// Asleep instances are built and not switched on: their disks come from elsewhere.
	Asleep bool `json:"asleep,omitempty"`
}

// VolumeSpec is what a volume is to be like.
type VolumeSpec struct {
	DiskGiB float64 `json:"disk_gib,omitempty"`
	Label   string  `json:"label,omitempty"`
	// Class is the class of storage.
	Class string `json:"class,omitempty"`
	// CopyOf is the volume, or the instance whose own disk, at another site that this is a copy of; "" is a volume of its own.
	CopyOf string `json:"copy_of,omitempty"`
}

// NetworkSpec is what a network is to be like.
type NetworkSpec struct {
	Label string `json:"label,omitempty"`
	CIDR  string `json:"cidr,omitempty"`
	VLAN  string `json:"vlan,omitempty"`
	// Existing is the site's id of one that is taken over instead of being built.
	Existing string `json:"existing,omitempty"`
	// Others is one that is taken over with the machines in it, and stays other people's: where those go, one like it is built.
	Others bool `json:"others,omitempty"`
}

// InterfaceSpec is what an interface links, and how.
type InterfaceSpec struct {
	// Network and Instance are resources.
	Network  string `json:"network,omitempty"`
	Instance string `json:"instance,omitempty"`
	// Address is the one within the network; "" leaves it to the site.
	Address string `json:"address,omitempty"`
	// Ports are those that are to be reached from outside.
	Ports []int `json:"ports,omitempty"`
	// MAC is the hardware address; "" leaves it to the site.
	MAC string `json:"mac,omitempty"`
}

// EndpointSpec is where software answers.
type EndpointSpec struct {
	Protocol string `json:"protocol,omitempty"`
	Port     int    `json:"port,omitempty"`
	Path     string `json:"path,omitempty"`
	// Interface is the resource at whose address it answers, EndpointOf the software.
	Interface  string `json:"interface,omitempty"`
	EndpointOf string `json:"endpoint_of,omitempty"`
}

// SoftwareSpec is what software does with what comes to it.
type SoftwareSpec struct {
	// LeadsTo are the members of a load balancer, which hands them what comes to it; none of any other software.
	LeadsTo []string `json:"leads_to,omitempty"`
}

// SnapshotSpec is what a snapshot keeps.
type SnapshotSpec struct {
	// Set names those that were taken together, of which there are so many Parts; Barrier says that all machines stood still meanwhile.
	Set     string `json:"set"`
	Parts   int    `json:"parts"`
	Barrier bool   `json:"barrier,omitempty"`
	// Memory says that it is not of a disk: it is of what was in the memory of an instance that stood still.
	Memory bool `json:"memory,omitempty"`
	// Of is the volume, or the instance whose own disk or memory it is; DiskGiB the size of that.
	Of      string  `json:"of"`
	DiskGiB float64 `json:"disk_gib,omitempty"`
	// Parent is the set that the disk held before it was written on: the one that was taken of it, or that it was restored to, last.
	Parent string `json:"parent,omitempty"`
	// Holds says of an instance's own disk which software was on it, and as what: a digest of its scripts with what they were given. Of its memory it says so
	// of what it had attached too.
	Holds map[string]string `json:"holds,omitempty"`
}

// NoSpec is that of a resource of which nothing is asked of a site, such as an action.
type NoSpec struct{}

func (InstanceSpec) of() kinds.Kind  { return kinds.Instance }
func (VolumeSpec) of() kinds.Kind    { return kinds.Volume }
func (NetworkSpec) of() kinds.Kind   { return kinds.Network }
func (InterfaceSpec) of() kinds.Kind { return kinds.Interface }
func (EndpointSpec) of() kinds.Kind  { return kinds.Endpoint }
func (SoftwareSpec) of() kinds.Kind  { return kinds.Software }
func (SnapshotSpec) of() kinds.Kind  { return kinds.Snapshot }
func (NoSpec) of() kinds.Kind        { return "" }

// AsInstance is the specification of an instance; nothing of anything else. So are the ones that follow.
func (r *Resource) AsInstance() InstanceSpec { return as[InstanceSpec](r) }

// AsVolume is the specification of a volume.
func (r *Resource) AsVolume() VolumeSpec { return as[VolumeSpec](r) }

// AsNetwork is the specification of a network.
func (r *Resource) AsNetwork() NetworkSpec { return as[NetworkSpec](r) }

// AsInterface is the specification of an interface.
func (r *Resource) AsInterface() InterfaceSpec { return as[InterfaceSpec](r) }

// AsEndpoint is the specification of an endpoint.
func (r *Resource) AsEndpoint() EndpointSpec { return as[EndpointSpec](r) }

// AsSoftware is the specification of software.
func (r *Resource) AsSoftware() SoftwareSpec { return as[SoftwareSpec](r) }

// AsSnapshot is the specification of a snapshot.
func (r *Resource) AsSnapshot() SnapshotSpec { return as[SnapshotSpec](r) }

func as[S Spec](r *Resource) S {
	s, _ := r.Spec.(S)
	return s
}

// DiskGiB is the size of a volume, of an instance's own disk, or of the one that a snapshot keeps; 0 of anything else.
func (r *Resource) DiskGiB() float64 {
	switch s := r.Spec.(type) {
	case InstanceSpec:
		return s.DiskGiB
	case VolumeSpec:
		return s.DiskGiB
	case SnapshotSpec:
		return s.DiskGiB
	}
	return 0
}

// Respec gives a resource a changed specification, if it has one of that kind. Copies of the resource keep theirs.
func Respec[S Spec](r *Resource, change func(*S)) {
	if s, is := r.Spec.(S); is {
		change(&s)
		r.Spec = s
	}
}

// refersTo are the resources that a specification names.
func refersTo(s Spec) []string {
	switch s := s.(type) {
	case InterfaceSpec:
		return []string{s.Network, s.Instance}
	case EndpointSpec:
		return []string{s.Interface}
	}
	return nil
}

// Dangle has a resource refer to nothing that is gone.
func (r *Resource) Dangle(gone func(id string) bool) {
	drop := func(refs ...*string) {
		for _, ref := range refs {
			if gone(*ref) {
				*ref = ""
			}
		}
	}
	drop(&r.PartOf, &r.On)
	Respec(r, func(s *InterfaceSpec) { drop(&s.Network, &s.Instance) })
	Respec(r, func(s *EndpointSpec) { drop(&s.Interface) })
}

// specs read the specification of every kind that has one.
var specs = map[kinds.Kind]func([]byte) (Spec, error){
	kinds.Instance: readSpec[InstanceSpec], kinds.Volume: readSpec[VolumeSpec], kinds.Network: readSpec[NetworkSpec],
	kinds.Interface: readSpec[InterfaceSpec], kinds.Endpoint: readSpec[EndpointSpec], kinds.Snapshot: readSpec[SnapshotSpec],
	kinds.Software: readSpec[SoftwareSpec],
}

// anySoftware is the specification of most software, which leads to nothing: one for all of it.
var anySoftware Spec = SoftwareSpec{}

// unspecified is the specification of a thing of which nothing is said.
func unspecified(k kinds.Kind) Spec {
	if k == kinds.Software {
		return anySoftware
	}
	return NoSpec{}
}

// Sized is the specification of a thing of which the size of its disk is known alone.
func Sized(k kinds.Kind, diskGiB float64) Spec {
	switch k {
	case kinds.Instance:
		return InstanceSpec{DiskGiB: diskGiB}
	case kinds.Volume:
		return VolumeSpec{DiskGiB: diskGiB}
	}
	return NoSpec{}
}

// SpecOf reads the specification of a thing of a kind; what such a thing does not have is an error.
func SpecOf(k kinds.Kind, data []byte) (Spec, error) {
	read := specs[k]
	if read == nil {
		read = readSpec[NoSpec]
	}
	if len(data) == 0 {
		data = []byte("{}")
	}
	s, err := read(data)
	if err != nil {
		return nil, fmt.Errorf("its specification is not that of a thing of kind %s: %w", k, err)
	}
	return s, nil
}

func readSpec[S Spec](data []byte) (Spec, error) {
	var s S
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	err := dec.Decode(&s)
	return s, err
}

// written is a plan as it is read: of what kind a specification is follows from its resource.
type written struct {
	*bare
	Resources []writtenResource `json:"resources"`
}

type (
	bare         Plan
	bareResource Resource
)

type writtenResource struct {
	bareResource
	Spec json.RawMessage `json:"spec"`
}

// plan is what was written.
func (w *written) plan() (*Plan, error) {
	p := (*Plan)(w.bare)
	p.Resources = make([]Resource, len(w.Resources))
	for i := range w.Resources {
		r := Resource(w.Resources[i].bareResource)
		var err error
		if r.Spec, err = SpecOf(r.Kind, w.Resources[i].Spec); err != nil {
			return nil, fmt.Errorf("resource %s: %w", r.ID, err)
		}
		p.Resources[i] = r
	}
	return p, nil
}
