// Package site is the port that every kind of site implements: a private cloud, an edge site, a region of a public
// cloud. The engine and the surveys know sites only through it; each driver is a folder below this one.
//
// All calls take a context, whose end they obey, and return an [Error] that says what the caller may do about it.
package site

import (
	"context"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
)

// State is what a site says of a resource. Accepted and Building are on the way, Active is there and usable.
type State string

// The states.
const (
	Accepted State = "accepted"
	Building State = "building"
	Active   State = "active"
	Stopped  State = "stopped"
	Failed   State = "failed"
)

// Request asks for one resource. Only the fields of its kind count.
type Request struct {
	Kind kinds.Kind
	Name string
	// Mark ties the resource to the plan and step that asked for it; surveys find it there.
	Mark string
	// Key makes the request idempotent: a repeat with the same key gives the same resource.
	Key string

	// Instances.
	Hostname, Zone, Host, Size, Image, PublicKey string
	Cores                                        int
	MemoryGiB, DiskGiB                           float64
	// Networks.
	CIDR, VLAN string
	// Links lead from an instance to a network or volume, by the site's ids; a snapshot is of Source, a volume or instance.
	Source, Target string
	// Memory asks for a snapshot of what is in the memory of an instance, which stands still, in the place of its disk.
	Memory bool
	// Address is the address inside its network that an interface is to have; "" leaves it to the site.
	Address string
	// MAC is the hardware address that an interface is to have; "" leaves it to the site.
	MAC string
	// Appliance is the service of the site's own that is to be built in the place of an instance, such as [LoadBalancer]; "" builds an instance.
	Appliance string
	// Asleep instances are built and not switched on, so that their disks can be written.
	Asleep bool
	// Ports of an interface that must be reachable from outside; Location of an attachment.
	Ports    []int
	Location string
	// Class is the class of storage of a volume, or of an instance's own disk; "" leaves it to the site.
	Class string
	// Bytes and SHA256 are the size of an object and the digest that it must have when all of it is there.
	Bytes  int64
	SHA256 string
	// Rename and Tags are set by [Site.Change] alone: a new name, and tags, of which those with "" are taken away.
	Rename string
	Tags   map[string]string
}

// Attributes that drivers set, where the site knows them: the address at which an instance is reached, the port there
// for each requested port ("port.8080"), and how to open a shell.
const (
	AttrAddress = "address"
	AttrPort    = "port."
	AttrSSHUser = "ssh.user"
	AttrSSHPort = "ssh.port"
	AttrHostKey = "ssh.hostkey"
	AttrDevice  = "device"
	// AttrMount is where an attached volume is to be mounted by whoever logs in to its machine. Sites that reach into machines do it
	// themselves, and do not tell this.
	AttrMount = "mount"
	AttrMAC   = "mac"
	// AttrReceived is how many bytes of an object are there.
	AttrReceived = "received"
	// AttrTaken is when a snapshot was taken (RFC 3339), AttrHeld how many bytes of it hold something.
	AttrTaken = "taken"
	AttrHeld  = "held"
	// AttrIOPerSecond and AttrIOMiBPerSecond are what bounds a volume (see [Limiter]); what is not bounded has none.
	AttrIOPerSecond    = "io.per_second"
	AttrIOMiBPerSecond = "io.mib_per_second"
)

// Resource is what a site says about one thing it holds.
type Resource struct {
	Kind  kinds.Kind
	ID    string
	Name  string
	Mark  string
	State State
	// Word is the site's own word for its state, for showing beside ours.
	Word       string
	Attributes map[string]string
	// Details is what a survey is told beyond that; nil elsewhere.
	Details *Details
}

// Details is all that a site says of a thing, in its own words: what the mapping makes records of.
type Details struct {
	// Type is the site's word for what it is; Region the part of the site it was listed in.
	Type, Region   string
	Source, Target string
	Mixins         []string
	Raw            map[string]string
}

// Query asks for one page of a listing.
type Query struct {
	Kind   kinds.Kind
	Region string
	// After is the [Page.Next] of the page before, "" for the first; Size is how many at most.
	After string
	Size  int
}

// Page is one page. Next leads to the next, "" if this is the last.
type Page struct {
	Resources []Resource
	Next      string
}

// Access is what a credential may and may not do at a site.
type Access struct {
	Account string   `json:"account"`
	May     []string `json:"may"`
	MayNot  []string `json:"may_not,omitempty"`
	// Regions are the parts of the site that are listed by themselves.
	Regions []string `json:"regions"`
	// FirstUse credentials must be changed before anything else is done.
	FirstUse bool `json:"first_use,omitempty"`
}

// Surveyor is a site that can be surveyed.
type Surveyor interface {
	// Access says what the credential may do. It changes nothing.
	Access(ctx context.Context) (Access, error)
	// Page lists some things of a kind in a region with all that the site tells of them. What is made or removed between
	// two pages shifts none of the others.
	Page(ctx context.Context, q Query) (Page, error)
	// Rotate has the site take a new credential, which has been kept before, in place of the one used, which ends with that; a
	// site that makes its own answers with another.
	Rotate(ctx context.Context, fresh string) (token string, err error)
}

// Site is one place that can hold resources.
type Site interface {
	// Name is the name under which the estate knows the site.
	Name() string
	// Describe reads what the site offers: zones, sizes, images, prices, what is free.
	Describe(ctx context.Context) (*estate.Site, error)
	// Create asks for a resource. The site may still be building it when Create returns.
	Create(ctx context.Context, r Request) (Resource, error)
	// Read says how a resource is now.
	Read(ctx context.Context, kind kinds.Kind, id string) (Resource, error)
	// List says all resources of a kind that the credential can see.
	List(ctx context.Context, kind kinds.Kind) ([]Resource, error)
	// Invoke starts or stops an instance: action is "start" or "stop".
	Invoke(ctx context.Context, kind kinds.Kind, id, action string) (Resource, error)
	// Change makes a resource what the request says, in place: an instance that is stopped gets another size, a volume
	// grows. The site may still be changing it when Change returns.
	Change(ctx context.Context, kind kinds.Kind, id string, r Request) (Resource, error)
	// Delete removes a resource. Deleting what is gone is a [NotFound] error.
	Delete(ctx context.Context, kind kinds.Kind, id string) error
}

// Pusher is a site that can send notices (package notice) of every change to a sink, signed with the secret, until stop
// is called.
type Pusher interface {
	Push(ctx context.Context, to Sink) (stop func(context.Context) error, err error)
}

// Sink is where notices are posted, and the secret that they are signed with. Authorities are certificates, as PEM, of those
// who vouch for it; "" is whom the site trusts.
type Sink struct{ URL, Secret, Authorities string }

// Kinds are all kinds, in the order in which they can be removed: what links before what it links.
var Kinds = []kinds.Kind{kinds.Snapshot, kinds.Attachment, kinds.Interface, kinds.Instance, kinds.Volume, kinds.Network, kinds.Object}

// Class says what a caller may do about an error.
type Class string

const (
	// Transient errors may pass: try again later.
	Transient Class = "transient"
	// Refused requests are wrong or not allowed: trying again is useless.
	Refused Class = "refused"
	// NotFound says that the thing is not there.
	NotFound Class = "not found"
	// Conflict says that the state or capacity of the site does not allow it now.
	Conflict Class = "conflict"
	// RateLimited says to wait; see [Error.After].
	RateLimited Class = "rate-limited"
)

// Error is why a site did not do something.
type Error struct {
	Site   string
	Doing  string
	Class  Class
	Detail string
	// After is how long a rate-limited caller must wait.
	After time.Duration
	Err   error
}

func (e *Error) Error() string {
	text := fmt.Sprintf("%s: %s: %s", e.Site, e.Doing, e.Class)
	if e.Detail != "" {
		text += ": " + e.Detail
	}
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	return text
}

func (e *Error) Unwrap() error { return e.Err }

// Code is the class of the error for whoever asked Andamio. What a site has not is a conflict with what was thought of it.
func (e *Error) Code() fault.Code {
	switch e.Class {
	case Refused:
		return fault.Refused
	case NotFound, Conflict:
		return fault.Conflict
	}
	return fault.Unavailable
}

// Final makes an error one that trying again does not help.
func Final(err error) error {
	if err == nil {
		return nil
	}
	return final{err}
}

type final struct{ error }

func (f final) Unwrap() error { return f.error }

// ClassOf is the class of a site's error; errors of other sorts count as transient, unless they are final.
func ClassOf(err error) Class {
	if f := (final{}); errors.As(err, &f) {
		return Refused
	}
	var e *Error
	if errors.As(err, &e) {
		return e.Class
	}
	return Transient
}
