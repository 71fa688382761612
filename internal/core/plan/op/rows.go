package op

// All are the operations, in the order in which a deployment meets them.
func All() []Row { return table }

// table has a row for every operation: what has none is refused by a plan's check, by the engine and by what works out what stands.
var table = []Row{
	{Op: Create, Effect: Stays, Payload: Script, AtSite: true, Inverse: Remove, Undo: Delete, Repeat: Marked,
		Means: "has a site build the resource; of software, runs the script that puts it there"},
	{Op: Attach, Effect: Stays, AtSite: true, Inverse: Detach, Repeat: Marked,
		Means: "attaches a volume to an instance"},
	{Op: Plug, Effect: Stays, AtSite: true, Inverse: Unplug, Repeat: Marked, Verb: "plug into",
		Means: "gives an instance an interface to a network"},
	{Op: Configure, Effect: Stays, Payload: Script, Undo: Disconnect, Repeat: Traced,
		Means: "runs the script that configures software"},
	{Op: Start, Effect: Stays, Payload: Script, Undo: Stop, Repeat: Traced,
		Means: "runs the script that starts software"},
	{Op: Connect, Effect: Stays, Payload: Script, Undo: Disconnect, Repeat: Traced,
		Means: "runs a script of a relationship"},
	{Op: Check, Effect: Stays, Final: "it only looks", Repeat: Nothing,
		Means: "looks that a port accepts connections"},
	{Op: Answer, Effect: Stays, Final: "it only looks", Repeat: Nothing,
		Means: "looks that a page is really served"},
	{Op: Barrier, Effect: Stays, Final: "it does nothing", Repeat: Nothing,
		Means: "has nothing to do: others wait for what it comes after"},
	{Op: Call, Effect: Stays, Payload: Script, Undo: Disconnect, Repeat: Traced,
		Means: "runs an operation that is no part of the lifecycle"},
	{Op: Do, Effect: Turns, Payload: Script, Final: "nobody knows what the script changed", Repeat: Traced, Verb: "run a script on",
		Means: "runs a script once, of which nothing stands"},
	{Op: Take, Effect: Stays, Final: "what stood before goes on standing", Repeat: Nothing,
		Means: "takes over what stands already"},
	{Op: Require, Effect: Stays, Payload: Clause, Final: "it only looks", Repeat: Nothing,
		Means: "demands that a condition holds"},
	{Op: Act, Effect: Turns, Payload: Action, Final: "what was called or told cannot be unsaid", Repeat: Keyed,
		Means: "calls a web service or sends a message beside the building"},
	{Op: Name, Effect: Stays, Payload: Naming, Inverse: Unname, Repeat: Same,
		Means: "makes a name stand for where a resource is reached, until everybody who is asked knows"},
	{Op: Fill, Effect: Stays, Payload: Filling, Final: "what was written stays as long as the workload does", Repeat: Same,
		Means: "writes the disks of a workload from a package"},

	{Op: Balance, Effect: Stays, Payload: Balancing, Final: "it goes with the load balancer", Repeat: Same,
		Means: "tells a load balancer of the site's own what to do with what comes to it"},
	{Op: Enroll, Effect: Stays, Payload: Member, Inverse: Dismiss, Repeat: Same,
		Means: "has a load balancer of the site's own hand out to a member too"},

	{Op: Halt, Effect: Takes, Fold: SwitchedOff, Final: "wanting it on again boots it", Repeat: Same,
		Means: "switches an instance off"},
	{Op: Boot, Effect: Turns, Fold: SwitchedOn, Final: "wanting it off again halts it", Repeat: Same,
		Means: "switches an instance on"},
	{Op: Alter, Effect: Turns, Fold: Altered, Final: "wanting it as it was alters it again", Repeat: Same,
		Means: "changes in place what a site holds"},

	{Op: Restore, Effect: Turns, Payload: Restoring, Fold: Reset, Final: "what was there before is in the snapshot that is taken first", Repeat: Same,
		Means: "has a disk hold what a snapshot keeps"},

	{Op: Recall, Effect: Turns, Payload: Restoring, Fold: Recalled, Final: "what ran before is in the memory that is kept first", Repeat: Same, Verb: "recall the memory of",
		Means: "has an instance that is off go on from the memory that a snapshot keeps"},

	{Op: Renew, Effect: Moves, Payload: Copying, Final: "what it held before is in the snapshot that was taken of it then", Repeat: Journalled,
		Means: "has a copy at another site hold what a snapshot of a disk keeps, by what was written since the one before"},

	{Op: Stop, Effect: Takes, Payload: Script, Final: "it takes back", Repeat: Traced,
		Means: "runs the script that stops software"},
	{Op: Disconnect, Effect: Takes, Payload: Script, Final: "it takes back", Repeat: Traced, Verb: "take back",
		Means: "runs the script that takes back what another script did"},
	{Op: Delete, Effect: Takes, Payload: Script, Final: "it takes back", Repeat: Traced,
		Means: "runs the script that takes software away"},
	{Op: Unname, Effect: Takes, Payload: Naming, Final: "it takes back", Repeat: Same, Verb: "take back the name",
		Means: "makes a name stand for nothing"},
	{Op: Dismiss, Effect: Takes, Payload: Member, Final: "it takes back", Repeat: Same,
		Means: "has a load balancer of the site's own hand out to a member no more"},
	{Op: Unplug, Effect: Takes, Final: "it takes back", Repeat: Same, Verb: "unplug from",
		Means: "takes an interface away"},
	{Op: Detach, Effect: Takes, Final: "it takes back", Repeat: Same,
		Means: "detaches a volume from an instance"},
	{Op: Remove, Effect: Takes, Fold: Ruined, Final: "what was on it is gone", Repeat: Same,
		Means: "has a site remove the resource, and looks that it is gone"},
	{Op: Clear, Effect: Takes, Final: "it does nothing", Repeat: Nothing,
		Means: "does nothing at a site: what it waits for is gone, and what it drops went with it"},
	{Op: Sweep, Effect: Takes, Final: "it takes back", Repeat: Same,
		Means: "removes from a site whatever is left of a deployment, and looks that nothing is"},

	{Op: Accept, Effect: Notes, Fold: Accepted, Final: "the run that took note is marked void", Repeat: Nothing,
		Means: "declares a resource as its site has it, once it has looked"},
	{Op: Lose, Effect: Notes, Final: "the run that took note is marked void", Repeat: Nothing,
		Means: "declares a resource as gone, once it has looked"},
	{Op: Mend, Effect: Notes, Final: "mending it again sets it as it was", Repeat: Same,
		Means: "sets names, tags and addresses at the site"},

	{Op: Replicate, Effect: Moves, Payload: Copying, Final: "going back copies the other way", Repeat: Journalled,
		Means: "copies the disks of a workload whole for the first time"},
	{Op: Follow, Effect: Moves, Payload: Copying, Waits: true, Final: "going back copies the other way", Repeat: Journalled,
		Means: "copies what changes, round by round, until somebody says to cut over"},
	{Op: Hold, Effect: Moves, Payload: Terms, Waits: true, Final: "it only waits", Repeat: Nothing,
		Means: "waits until a window opens in which may be copied"},
	{Op: Suspend, Effect: Takes, Fold: Suspended, Final: "going back boots it", Repeat: Same,
		Means: "lets an instance stand still"},
	{Op: Finish, Effect: Moves, Payload: Copying, Final: "going back copies the other way", Repeat: Journalled,
		Means: "copies the rest when nothing changes any more"},
	{Op: Release, Effect: Takes, Final: "reclaim has it back", Repeat: Same,
		Means: "gives up what is bound to a site, and keeps it for going back"},
	{Op: Reclaim, Effect: Moves, Final: "release gives it up again", Repeat: Same,
		Means: "has back what was given up"},
	{Op: Carry, Effect: Moves, Fold: Carried, Final: "going back carries it the other way", Repeat: Nothing,
		Means: "takes note that everything on an instance is where the instance is now"},
	{Op: Consolidate, Effect: Moves, Final: "it changes no content", Repeat: Same,
		Means: "makes one of the layers in which a site keeps the rounds that were copied to a disk"},
}

// rows finds them.
var rows = func() map[Op]*Row {
	out := make(map[Op]*Row, len(table))
	for i := range table {
		out[table[i].Op] = &table[i]
	}
	return out
}()

// String says which effect it is, in a word or two.
func (e Effect) String() string {
	return [...]string{"", "stays", "takes back", "turns", "takes note", "moves"}[e]
}

// String says of a payload what a step carries.
func (p Payload) String() string {
	return [...]string{"", "script", "clause", "action", "copying", "copying", "naming", "filling", "restoring", "balancing", "member"}[p]
}

// String says why doing it again does no harm.
func (r Repeat) String() string {
	return [...]string{"", "nothing is done, or only looked", "looked for by its mark, asked for with a key", "the script's end is kept on the instance",
		"the request carries a key", "doing it again has the same outcome", "goes on with the first round that is not whole"}[r]
}
