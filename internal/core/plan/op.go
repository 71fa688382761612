package plan

// Op is what a step does to its resource.
type Op string

// The operations. Create, Configure and Start of software run its scripts; Connect runs a relationship's script; Check
// and Answer change nothing and succeed only when the endpoint really answers; Settle has nothing to do.
const (
	Create    Op = "create"
	Attach    Op = "attach"
	Plug      Op = "plug"
	Configure Op = "configure"
	Start     Op = "start"
	Connect   Op = "connect"
	Check     Op = "check"
	Answer    Op = "answer"
	Settle    Op = "settle"
	// Call runs an operation that is no part of the lifecycle, Take takes over what stands already, Require demands that
	// a condition holds.
	Call    Op = "call"
	Take    Op = "take"
	Require Op = "require"
	// What takes back what others did: Remove, Detach and Unplug at the site; Stop, Delete and Disconnect by the scripts
	// of software and of relationships.
	Remove     Op = "remove"
	Detach     Op = "detach"
	Unplug     Op = "unplug"
	Stop       Op = "stop"
	Delete     Op = "delete"
	Disconnect Op = "disconnect"
	// Halt and Boot switch an instance off and on, Alter changes in place what a site holds.
	Halt  Op = "halt"
	Boot  Op = "boot"
	Alter Op = "alter"
	// Clear does nothing at a site: what it waits for is gone, and what it drops went with it.
	Clear Op = "clear"
	// Sweep removes from a site whatever is left of a deployment, and looks that nothing is.
	Sweep Op = "sweep"
	// Act carries out an action beside the building: see [Action].
	Act Op = "act"
	// Accept and Lose change nothing: from then on a resource is declared as its site has it, or as gone. Both look first
	// that it is so. Mend sets names, tags and addresses at the site.
	Accept Op = "accept"
	Lose   Op = "lose"
	Mend   Op = "mend"
	// What moves a workload: Replicate copies its disks whole for the first time, Follow copies what changes until somebody
	// says to cut over, Finish copies the rest when nothing changes any more. See [Copying].
	Replicate Op = "replicate"
	Follow    Op = "follow"
	Finish    Op = "finish"
	// Hold waits until a window opens in which may be copied.
	Hold Op = "hold"
	// Consolidate makes the layers one in which a site keeps the rounds that were copied to a disk.
	Consolidate Op = "consolidate"
	// Suspend lets an instance stand still; Release gives up what is bound to its site, and keeps it for going back; Reclaim
	// has it back. Carry takes note that everything on an instance is where the instance is now.
	Suspend Op = "suspend"
	Release Op = "release"
	Reclaim Op = "reclaim"
	Carry   Op = "carry"
	// Fill writes the disks of a workload from a package, see [Filling]. It stands as long as the workload does, which is
	// filled again where it is built again.
	Fill Op = "fill"
	// Name makes a name stand for where a resource is reached, and Unname for nothing.
	Name   Op = "name"
	Unname Op = "unname"
)

// effect is what an operation does to what stands.
type effect int

const (
	// stays leaves its work standing, which another takes back.
	stays effect = iota + 1
	// takes takes back what others did, or switches off.
	takes
	// turns changes how something that stands is.
	turns
	// notes takes note of what is, or sets what is there.
	notes
	// moves belongs to moving a workload, and leaves nothing of its own behind it.
	moves
)

// effects has a row for every operation: what has none is refused by [Plan.Check], by the engine and by what works out
// what stands.
var effects = map[Op]effect{
	Create: stays, Attach: stays, Plug: stays, Configure: stays, Start: stays, Connect: stays, Check: stays, Answer: stays,
	Settle: stays, Call: stays, Take: stays, Require: stays, Fill: stays, Name: stays,
	Remove: takes, Detach: takes, Unplug: takes, Stop: takes, Delete: takes, Disconnect: takes, Halt: takes, Clear: takes,
	Sweep: takes, Suspend: takes, Release: takes, Unname: takes,
	Boot: turns, Alter: turns, Act: turns,
	Accept: notes, Lose: notes, Mend: notes,
	Replicate: moves, Follow: moves, Finish: moves, Hold: moves, Consolidate: moves, Reclaim: moves, Carry: moves,
}

// Known reports that an operation is one of those above.
func (o Op) Known() bool { return effects[o] != 0 }

// Stays reports that the work of an operation stands once it is done, until another takes it back.
func (o Op) Stays() bool { return effects[o] == stays }

// Takes reports that an operation takes back what others did, or switches off.
func (o Op) Takes() bool { return effects[o] == takes }

// Notes reports that an operation leaves nothing standing of its own: it takes note of what is, or sets what is there.
func (o Op) Notes() bool { return effects[o] == notes }

// Moves reports that an operation belongs to moving a workload, and leaves nothing of its own behind it.
func (o Op) Moves() bool { return effects[o] == moves }
