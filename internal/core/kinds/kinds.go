// Package kinds has the one list of what things are: what templates build, plans build and take away, sites hold, and the inventory
// records. Which of them a package deals with, it says where it lists them.
package kinds

// Kind is what a thing is. A mapping of what sites tell may use others than those below.
type Kind string

// The kinds.
const (
	// None is nothing that is built by itself.
	None Kind = ""

	Network   Kind = "network"
	Volume    Kind = "volume"
	Instance  Kind = "instance"
	Interface Kind = "interface"
	// Attachment links an instance to a volume, as an interface links it to a network.
	Attachment Kind = "attachment"
	// Object is a file that a site keeps, such as a package.
	Object Kind = "object"
	// Snapshot is what a disk held at a moment.
	Snapshot Kind = "snapshot"

	// Software runs on an instance; an endpoint is where users reach a service: it is not created but must answer.
	Software Kind = "software"
	Endpoint Kind = "endpoint"
	// Action is something done beside the building, before, during or after it.
	Action Kind = "action"

	// What surveys see beyond that.
	Address  Kind = "address"
	Balancer Kind = "load-balancer"
	Image    Kind = "image"
	Host     Kind = "host"
	Hardware Kind = "hardware"
	Service  Kind = "service"
)

// BuiltAlone reports that a site builds a thing of the kind for itself, and not as part of another.
func (k Kind) BuiltAlone() bool { return k == Network || k == Volume || k == Instance }

// Seen reports that deployments have things of the kind at their sites that a survey sees.
func (k Kind) Seen() bool { return k.BuiltAlone() || k == Interface || k == Snapshot }
