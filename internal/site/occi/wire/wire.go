// Package wire has the words and shapes of the Open Cloud Computing Interface 1.2 as Andamio speaks it, for the driver
// and for the stand-in clouds: kinds and attributes of the infrastructure extension (GFD.224), JSON rendering (GFD.226),
// and our own mixins, under a scheme of our own, for what the standard leaves to providers.
package wire

// ContentType is the media type of the JSON rendering (GFD.226, section 3).
const ContentType = "application/occi+json"

// Schemes of the standard and of our mixins.
const (
	Infrastructure = "http://schemas.ogf.org/occi/infrastructure#"
	ComputeAction  = "http://schemas.ogf.org/occi/infrastructure/compute/action#"
	OSTemplate     = "http://schemas.ogf.org/occi/infrastructure#os_tpl"
	ResourceTpl    = "http://schemas.ogf.org/occi/infrastructure#resource_tpl"
	IPNetwork      = "http://schemas.ogf.org/occi/infrastructure/network#ipnetwork"
	IPInterface    = "http://schemas.ogf.org/occi/infrastructure/networkinterface#ipnetworkinterface"
	SSHKey         = "http://schemas.ogf.org/occi/infrastructure/credentials#ssh_key"
	UserData       = "http://schemas.ogf.org/occi/infrastructure/compute#user_data"

	Own       = "https://schemas.andamio.example/occi/"
	OwnSite   = Own + "estate#site"
	OwnPlaced = Own + "estate#placed"
	OwnMark   = Own + "mark#mark"
	OwnReach  = Own + "network#reach"
	OwnSizes  = Own + "sizes#"
	OwnImages = Own + "images#"
	// OwnAppliances begins the mixins of what a site runs itself in the place of an instance.
	OwnAppliances = Own + "appliances#"
	PathQuery     = "/-/"
	// PathQueryWellKnown is its other place (GFD.223, section 3.4.1; RFC 5785).
	PathQueryWellKnown = "/.well-known/org/ogf/occi/-/"
	PathSite           = "/site/self"
	OwnNotice          = Own + "notice#notice"
	PathNotices        = "/notice/"
	PathAccess         = "/-/access"
	PathDrift          = "/-/drift" // of stand-ins only
	OwnAccess          = Own + "access#access"
	HeaderToken        = "Authorization"
	HeaderKey          = "Idempotency-Key"
)

// Kinds of the infrastructure extension, each with the path of its collection.
const (
	Compute          = Infrastructure + "compute"
	Storage          = Infrastructure + "storage"
	Network          = Infrastructure + "network"
	NetworkInterface = Infrastructure + "networkinterface"
	StorageLink      = Infrastructure + "storagelink"
)

// Attributes of the infrastructure extension (GFD.224, sections 3.1 to 3.4).
const (
	Cores    = "occi.compute.cores"
	Memory   = "occi.compute.memory" // GiB
	Hostname = "occi.compute.hostname"
	// EphemeralStorage is the disk of a machine that lives as long as it does, in GiB; UserDataText what it is told when it first starts, in base64.
	EphemeralStorage = "occi.compute.ephemeral_storage.size"
	UserDataText     = "occi.compute.userdata"
	ComputeState     = "occi.compute.state"
	ComputeWord      = "occi.compute.state.message"

	StorageSize  = "occi.storage.size" // GiB
	StorageState = "occi.storage.state"
	StorageWord  = "occi.storage.state.message"

	VLAN         = "occi.network.vlan"
	Label        = "occi.network.label"
	NetworkState = "occi.network.state"
	NetworkWord  = "occi.network.state.message"
	CIDR         = "occi.network.address"

	LinkMAC   = "occi.networkinterface.mac"
	LinkState = "occi.networkinterface.state"
	LinkWord  = "occi.networkinterface.state.message"
	Address   = "occi.networkinterface.address"

	Device     = "occi.storagelink.deviceid"
	MountPoint = "occi.storagelink.mountpoint"
	StoreState = "occi.storagelink.state"
	StoreWord  = "occi.storagelink.state.message"

	PublicKey = "occi.credentials.ssh.publickey"
)

// OwnAttributes begins the names of all attributes of our mixins.
const OwnAttributes = "andamio."

// Attributes of our mixins.
const (
	OwnZone      = "andamio.placed.zone"
	OwnHost      = "andamio.placed.host"
	OwnDisk      = "andamio.placed.disk"    // GiB of the instance's own disk
	OwnMountAt   = "andamio.mount.at"       // where a volume is to be mounted by whoever logs in to its machine
	OwnMarkText  = "andamio.mark.text"      // plan and step that asked
	OwnPorts     = "andamio.reach.ports"    // requested ports: "22,8080"
	OwnPortMap   = "andamio.reach.map"      // where they are reached: "22:20022,8080:20080"
	OwnInside    = "andamio.reach.inside"   // the address inside the network, of the site's pools
	OwnSSHUser   = "andamio.reach.ssh.user" // how to open a shell
	OwnHostKey   = "andamio.reach.ssh.hostkey"
	NoticeSink   = "andamio.notice.sink"   // where notices are posted
	NoticeSecret = "andamio.notice.secret" // with which they are signed
	// NoticeAuthorities are certificates, as PEM, of those who vouch for the sink, where the site would not trust it.
	NoticeAuthorities = "andamio.notice.authorities"
	// What a load balancer of the site's own is told; BalanceMember begins the names of its members, "" takes one away.
	BalancePort      = "andamio.balance.port"
	BalanceProtocol  = "andamio.balance.protocol"
	BalanceAlgorithm = "andamio.balance.algorithm"
	BalanceLook      = "andamio.balance.look"
	BalanceMember    = "andamio.balance.member."
	OwnSiteFacts     = "andamio.site.facts" // the site's part of an estate, as JSON
	OwnTag           = "andamio.tag."       // begins the names of tags

	AccessAccount = "andamio.access.account"   // whose credential it is
	AccessMay     = "andamio.access.may"       // what it may do: "read,create,change,delete"
	AccessMayNot  = "andamio.access.maynot"    // what it may not do
	AccessRegions = "andamio.access.regions"   // the parts that are listed by themselves
	AccessFirst   = "andamio.access.first_use" // it must be changed before anything else is done
	AccessToken   = "andamio.access.token"     // a new one, told once

	// Parameters of a listing: the region, and the id after which it goes on.
	ParamRegion = "region"
	ParamAfter  = "after"
)

// Resource is the rendering of a resource or, with source and target, of a link.
type Resource struct {
	Kind       string         `json:"kind"`
	Mixins     []string       `json:"mixins,omitempty"`
	Attributes map[string]any `json:"attributes,omitempty"`
	Actions    []string       `json:"actions,omitempty"`
	ID         string         `json:"id,omitempty"`
	Title      string         `json:"title,omitempty"`
	Summary    string         `json:"summary,omitempty"`
	Source     *End           `json:"source,omitempty"`
	Target     *End           `json:"target,omitempty"`
}

// End is one end of a link.
type End struct {
	Location string `json:"location"`
	Kind     string `json:"kind,omitempty"`
}

// Collection is the rendering of many resources or links.
type Collection struct {
	Resources []Resource `json:"resources,omitempty"`
	Links     []Resource `json:"links,omitempty"`
}

// Action is an action's invocation.
type Action struct {
	Action     string         `json:"action"`
	Attributes map[string]any `json:"attributes,omitempty"`
}

// Category describes a kind, mixin or action in the query interface.
type Category struct {
	Term       string         `json:"term"`
	Scheme     string         `json:"scheme"`
	Title      string         `json:"title,omitempty"`
	Parent     string         `json:"parent,omitempty"`
	Depends    []string       `json:"depends,omitempty"`
	Location   string         `json:"location,omitempty"`
	Actions    []string       `json:"actions,omitempty"`
	Attributes map[string]any `json:"attributes,omitempty"`
}

// Query is the rendering of the query interface.
type Query struct {
	Kinds   []Category `json:"kinds"`
	Mixins  []Category `json:"mixins"`
	Actions []Category `json:"actions"`
}

// Problem is the body of an error.
type Problem struct {
	Message string `json:"message"`
}
