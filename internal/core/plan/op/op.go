// Package op is what a step of a plan can do, as data: a row for each operation says what a step of it carries, what it does to what
// stands, what takes it back, how a run that broke off may do it again, and what it is called.
//
// Whoever treats operations alike reads the rows; only the engine's handlers and what compiles plans know single
// operations by name. See docs/architecture.md for what a new operation takes.
package op

// Op is what a step does to its resource.
type Op string

// The operations; [Row.Means] says what each is.
const (
	Create      Op = "create"
	Attach      Op = "attach"
	Plug        Op = "plug"
	Configure   Op = "configure"
	Start       Op = "start"
	Connect     Op = "connect"
	Check       Op = "check"
	Answer      Op = "answer"
	Barrier     Op = "settle"
	Call        Op = "call"
	Do          Op = "do"
	Take        Op = "take"
	Require     Op = "require"
	Remove      Op = "remove"
	Detach      Op = "detach"
	Unplug      Op = "unplug"
	Stop        Op = "stop"
	Delete      Op = "delete"
	Disconnect  Op = "disconnect"
	Halt        Op = "halt"
	Boot        Op = "boot"
	Alter       Op = "alter"
	Clear       Op = "clear"
	Sweep       Op = "sweep"
	Act         Op = "act"
	Accept      Op = "accept"
	Lose        Op = "lose"
	Mend        Op = "mend"
	Replicate   Op = "replicate"
	Follow      Op = "follow"
	Finish      Op = "finish"
	Hold        Op = "hold"
	Consolidate Op = "consolidate"
	Suspend     Op = "suspend"
	Release     Op = "release"
	Reclaim     Op = "reclaim"
	Carry       Op = "carry"
	Fill        Op = "fill"
	Restore     Op = "restore"
	Recall      Op = "recall"
	Renew       Op = "renew"
	Name        Op = "name"
	Unname      Op = "unname"
	Balance     Op = "balance"
	Enroll      Op = "enroll"
	Dismiss     Op = "dismiss"
)

// Effect is what an operation does to what stands.
type Effect int

const (
	// Stays leaves its work standing, which another takes back.
	Stays Effect = iota + 1
	// Takes takes back what others did, or switches off.
	Takes
	// Turns changes how something that stands is.
	Turns
	// Notes takes note of what is, or sets what is there.
	Notes
	// Moves belongs to moving a workload, and leaves nothing of its own behind it.
	Moves
)

// Fold is what an operation that was done makes of its resource, beside its own work standing.
type Fold int

const (
	// AsItWas leaves the resource as it was.
	AsItWas Fold = iota
	// SwitchedOff and SwitchedOn are of an instance; Suspended is off and goes on where it was.
	SwitchedOff
	Suspended
	SwitchedOn
	// Recalled is on, with all that ran on it when the run began.
	Recalled
	// Altered and Accepted are as the plan has the resource, which is still on or off as it was if it was altered.
	Altered
	Accepted
	// Ruined ends what stood on an instance.
	Ruined
	// Carried is where the plan has it, with everything on it.
	Carried
	// Reset is an instance whose disk holds what it once held: what the plan does again on it is to be done again.
	Reset
)

// Payload is what a step carries beside what every step has.
type Payload int

// The payloads. A step of kind create carries a [Filling] if its resource is an object.
const (
	None Payload = iota
	// Script may be run on an instance; without one, or with an endpoint to ask, the step is the site's or a probe.
	Script
	// Clause must hold.
	Clause
	// Action is a call to a web service.
	Action
	// Copying says which disks, and how.
	Copying
	// Terms are those of a copying without its disks.
	Terms
	// Naming is a published name.
	Naming
	// Filling is a package.
	Filling
	// Restoring is a snapshot.
	Restoring
	// Balancing is what a load balancer does, Member one of those that it hands out to.
	Balancing
	Member
)

// Repeat is why doing an operation once more does no harm, where a run broke off and nobody knows whether it was done.
type Repeat int

const (
	// Nothing is done in the world, or only looked.
	Nothing Repeat = iota + 1
	// Marked things are looked for by the mark of the step first, and asked for with a key that makes a repeat the same request.
	Marked
	// Traced scripts leave their end on the instance, which is taken over instead of running them again.
	Traced
	// Keyed requests carry a key by which a web service tells a repeat.
	Keyed
	// Same requests have the same outcome however often they are made.
	Same
	// Journalled rounds go on with the first that the journal does not have whole.
	Journalled
)

// Row is what is known of an operation.
type Row struct {
	Op      Op
	Effect  Effect
	Payload Payload
	Fold    Fold
	// AtSite operations have a site build something, and are done when it says that it stands.
	AtSite bool
	// Waits is for a person, a window, or others like it: such a step counts for no limit, or it would keep out what it waits for.
	Waits bool
	// Inverse takes back what a site did, Undo what a script did; where there is neither, Final says why.
	Inverse, Undo Op
	Final         string
	Repeat        Repeat
	// Verb is how titles of steps of it begin; "" is its own name.
	Verb string
	// Means says what it does, in a sentence without an end.
	Means string
}

// Known reports that an operation is one of those above.
func (o Op) Known() bool { return rows[o] != nil }

// Row is what is known of an operation; that of none is empty.
func (o Op) Row() Row {
	if r := rows[o]; r != nil {
		return *r
	}
	return Row{}
}

// Stays reports that the work of an operation stands once it is done, until another takes it back.
func (o Op) Stays() bool { return o.effect() == Stays }

// Takes reports that an operation takes back what others did, or switches off.
func (o Op) Takes() bool { return o.effect() == Takes }

// Notes reports that an operation leaves nothing standing of its own: it takes note of what is, or sets what is there.
func (o Op) Notes() bool { return o.effect() == Notes }

// AtSite reports that a site builds something for an operation.
func (o Op) AtSite() bool { return rows[o] != nil && rows[o].AtSite }

// Waits reports that an operation waits for a person or a window, and counts for no limit.
func (o Op) Waits() bool { return rows[o] != nil && rows[o].Waits }

// Copies reports that an operation copies disks.
func (o Op) Copies() bool { return rows[o] != nil && rows[o].Payload == Copying }

func (o Op) effect() Effect {
	if r := rows[o]; r != nil {
		return r.Effect
	}
	return 0
}

// Verb is how titles of steps of an operation begin.
func (o Op) Verb() string {
	if r := rows[o]; r != nil && r.Verb != "" {
		return r.Verb
	}
	return string(o)
}
