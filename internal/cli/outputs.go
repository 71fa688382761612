package cli

import (
	"reflect"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/calendar"
	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/ledger"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/problem"
	"andamio/internal/core/promise"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/token"
	"andamio/internal/core/tosca"
	"andamio/internal/core/window"
	"andamio/internal/names"
	"andamio/internal/reply"
	"andamio/internal/sandbox"
	"andamio/internal/service/accounts"
	"andamio/internal/service/fronts"
	"andamio/internal/service/moves"
	"andamio/internal/service/offers"
	"andamio/internal/service/promises"
	"andamio/internal/service/quotas"
	"andamio/internal/service/reactions"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/replicas"
	"andamio/internal/service/requests"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/snapshots"
	"andamio/internal/service/templates"
	"andamio/internal/service/tokens"
	"andamio/internal/service/watch"
	"andamio/internal/service/workers"
	"andamio/internal/service/workspace"
)

// A value is what commands print with --json. Its schema is schemas/values/NAME.schema.json, which is written from the type; docs/cli.md lists them.
type value[T any] struct{ name string }

// described is a value with the commands that print it.
type described struct {
	name     string
	of       reflect.Type
	commands []string
}

// values are all that commands print.
var values []described

// hold is what the tests hold each value against before it is printed.
var hold = func(name string, text []byte) error { return nil }

// valueOf makes a value of a type, which these commands print.
func valueOf[T any](name string, commands ...string) value[T] {
	values = append(values, described{name, reflect.TypeFor[T](), commands})
	return value[T]{name}
}

// print prints one value.
func (v value[T]) print(s *shared, x T) error {
	text, err := encoded(x)
	if err != nil {
		return err
	}
	if err := hold(v.name, text); err != nil {
		return err
	}
	_, err = s.out.Write(printable.JSON(append(text, '\n')))
	return err
}

// encoded is a value in JSON, and encodedLine one on a line.
func encoded(x any) ([]byte, error)     { return json.Marshal(x, reply.AsJSON, jsontext.WithIndent("  ")) }
func encodedLine(x any) ([]byte, error) { return json.Marshal(x, reply.AsJSON) }

// The values, by the commands that print them.
var (
	accountValue         = valueOf[*accounts.Account]("account", "account")
	savingsValue         = valueOf[[]ledger.Saving]("savings", "account savings")
	ratesValue           = valueOf[*ledger.Rates]("rates", "account rates")
	workersValue         = valueOf[[]workers.Worker]("workers", "workers")
	siteThroughValue     = valueOf[siteThrough]("site-through", "site through")
	backupValue          = valueOf[*app.Backup]("backup", "backup", "restore")
	storedValue          = valueOf[app.Stored]("stored", "workspace", "workspace join")
	copiedWorkspaceValue = valueOf[*app.CopiedWorkspace]("copied-workspace", "workspace copy")
	calendarValue        = valueOf[[]calendar.Event]("calendar", "calendar")
	begunValue           = valueOf[begun]("begun", "run", "scale", "stop", "start", "retire", "rollback", "clone")
	changeValue          = valueOf[changing]("change", "scale", "stop", "start", "retire", "run", "move cutover", "move commit", "snapshot take", "level give", "confirm (before anything is done)")
	capturedValue        = valueOf[captured]("captured", "capture")
	deploymentsValue     = valueOf[[]standing]("deployments", "deployments")
	rehearsalValue       = valueOf[rehearsal]("rehearsal", "rehearse")
	checkValue           = valueOf[checked]("check", "check", "plan", "pack")
	lockValue            = valueOf[lock]("lock", "credentials lock")
	secretValue          = valueOf[secretKept]("secret", "credentials secret")
	keyValue             = valueOf[keyMade]("key", "credentials key")
	keysValue            = valueOf[[]workspace.KeyPair]("keys", "credentials key")
	reportValue          = valueOf[Report]("run", "demo --headless", "run", "watch", "resume", "scale")
	standInsValue        = valueOf[[]sandbox.Endpoint]("stand-ins", "sandbox")
	writtenSitesValue    = valueOf[writtenSites]("written-sites", "estate import")
	releasedValue        = valueOf[released]("released", "estate release")
	explanationsValue    = valueOf[[]tosca.Explanation]("explanations", "explain")
	explanationValue     = valueOf[tosca.Explanation]("explanation", "explain CODE")
	writtenValue         = valueOf[written]("written", "export", "place --lp", "account -o")
	placementValue       = valueOf[*problem.Answer]("placement", "place")
	foundValue           = valueOf[[]reconcile.Thing]("found", "find")
	hooksValue           = valueOf[hooks]("hooks", "hook")
	levelsValue          = valueOf[levelsOf]("levels", "level")
	levellingValue       = valueOf[levelling]("levelling", "level settle", "level give")
	verifiedValue        = valueOf[*app.Verified]("verified", "log --verify")
	planValue            = valueOf[*plan.Plan]("plan", "plan", "manage")
	moveBegunValue       = valueOf[moveBegun]("move-begun", "move start", "move cutover", "move back", "move commit", "replica failover")
	moveSaidValue        = valueOf[moveSaid]("move-said", "move pause", "move resume", "move limit")
	movesValue           = valueOf[[]moveRow]("moves", "move")
	moveValue            = valueOf[moveStatus]("move", "move status")
	movePlanValue        = valueOf[movePlan]("move-plan", "move plan")
	replicasValue        = valueOf[replicasOf]("replicas", "replica")
	namesValue           = valueOf[*names.Zone]("names", "names")
	offersValue          = valueOf[[]offers.Offer]("offers", "offer")
	offerTriedValue      = valueOf[*offers.Report]("offer-tried", "offer check")
	offerValue           = valueOf[offers.Offer]("offer", "offer make", "offer publish")
	quoteValue           = valueOf[*offers.Quote]("quote", "offer quote")
	packedValue          = valueOf[*templates.Packed]("packed", "pack")
	unpackedValue        = valueOf[unpacked]("unpacked", "unpack")
	packageValue         = valueOf[*moves.Exported]("package", "package export")
	pairsValue           = valueOf[[]sites.Pair]("pairs", "pair")
	removedPairValue     = valueOf[removedPair]("removed-pair", "pair remove")
	keptValue            = valueOf[*promise.Report]("kept", "promises --from")
	keptFilesValue       = valueOf[keptFiles]("kept-files", "promises --from -o")
	promisesValue        = valueOf[[]promises.Kept]("promises", "promises")
	promiseValue         = valueOf[promises.Kept]("promise", "snapshot every", "hours", "replica every")
	leaseValue           = valueOf[promise.Promise]("lease", "lease")
	measuredValue        = valueOf[[]measured]("measured", "measure")
	overviewsValue       = valueOf[[]watch.Kept]("overviews", "measure overview")
	overviewValue        = valueOf[[]watch.Overview]("overview", "measure overview")
	forwardValue         = valueOf[workspace.Forward]("forward", "measure forward")
	measuredCurveValue   = valueOf[measuredCurve]("measured-curve", "measure")
	alertsValue          = valueOf[[]alarm.Alert]("alerts", "alert")
	alertStoryValue      = valueOf[alertStory]("alert-story", "alert show")
	alertValue           = valueOf[alarm.Alert]("alert", "alert acknowledge", "alert silence", "alert unsilence")
	thresholdsValue      = valueOf[*alarm.File]("thresholds", "threshold")
	reactionsValue       = valueOf[[]reactions.Status]("reactions", "reaction")
	reactionValue        = valueOf[reactions.Status]("reaction", "reaction show")
	frontsValue          = valueOf[[]fronts.Status]("fronts", "front")
	previewValue         = valueOf[[]watch.Would]("threshold-preview", "threshold preview")
	addressLeaseValue    = valueOf[promise.AddressLease]("address-lease", "lease address", "lease address extend")
	addressLeasesValue   = valueOf[[]promise.AddressLease]("address-leases", "lease address list")
	addressReturnedValue = valueOf[addressReturned]("address-returned", "lease address return")
	proposalValue        = valueOf[*runs.Proposal]("proposal", "run --propose", "scale --propose", "stop --propose", "start --propose", "retire --propose", "rollback --propose", "clone --propose", "move start --propose", "reconcile --settle --propose")
	proposalsValue       = valueOf[[]proposed]("proposals", "proposals")
	confirmedValue       = valueOf[runs.Confirmed]("confirmed", "confirm")
	withdrawnValue       = valueOf[withdrawn]("withdrawn", "withdraw")
	settlingValue        = valueOf[wouldSettle]("would-settle", "reconcile --settle", "confirm")
	quotasValue          = valueOf[[]quotas.Use]("quotas", "quota")
	settledValue         = valueOf[settled]("settled", "reconcile --settle")
	ruledValue           = valueOf[ruled]("ruled", "reconcile --rules")
	undoneValue          = valueOf[undone]("undone", "reconcile --undo")
	recordsWrittenValue  = valueOf[recordsWritten]("records-written", "records export")
	recordsReadValue     = valueOf[recordsRead]("records-read", "records import")
	recordHistoryValue   = valueOf[[]app.RecordChange]("record-history", "records show")
	mappingValue         = valueOf[*reconcile.MappingPreview]("mapping", "mapping")
	requestsValue        = valueOf[[]requests.View]("requests", "request", "decide")
	requestValue         = valueOf[requests.View]("request", "request ask", "request change")
	requestShownValue    = valueOf[requestShown]("request-shown", "request show")
	turnValue            = valueOf[wouldTurn]("would-turn", "request stop", "request start", "request give-back")
	rulesValue           = valueOf[[]requests.RuleUse]("request-rules", "decide rules")
	servingValue         = valueOf[servingAt]("serving", "serve")
	clockValue           = valueOf[app.Clock]("clock", "clock")
	copiedValue          = valueOf[copied]("copied", "copy")
	siteTestedValue      = valueOf[*sites.Tested]("site-tested", "site add")
	sitesTestedValue     = valueOf[map[string]siteTried]("sites-tested", "site test")
	sitesValue           = valueOf[[]app.ConnectedSite]("sites", "site list")
	siteRemovedValue     = valueOf[siteRemoved]("site-removed", "site remove")
	siteRotatedValue     = valueOf[siteRotated]("site-rotated", "site rotate")
	snapshotsValue       = valueOf[snapshotsOf]("snapshots", "snapshot")
	snapshotEndsValue    = valueOf[promise.EndsTerms]("snapshot-ends", "snapshot until")
	surveysValue         = valueOf[surveyed]("surveys", "survey")
	hearingValue         = valueOf[workspace.Hearing]("hearing", "notices")
	busValue             = valueOf[*app.BusState]("bus", "bus")
	senderValue          = valueOf[senderSecret]("sender", "notices --secret")
	loadedValue          = valueOf[sites.LoadRequest]("loaded", "sandbox load")
	driftedValue         = valueOf[[]sandbox.Drifted]("drifted", "sandbox drift")
	teamsValue           = valueOf[*guard.Directory]("teams", "team")
	mayValue             = valueOf[[]mayLine]("may", "team may")
	tokensValue          = valueOf[[]token.Token]("tokens", "token")
	tokenValue           = valueOf[tokens.Made]("token", "token make", "token rotate", "token sign-in")
	revokedValue         = valueOf[revoked]("revoked", "token revoke")
	typesValue           = valueOf[[]tosca.TypeExplained]("types", "types")
	roomsValue           = valueOf[[]siteFullness]("rooms", "estate rooms")
	// These are written bit by bit, or a line each.
	_            = valueOf[inventoryTold]("inventory", "reconcile")
	_            = valueOf[*app.Entry]("log-entry", "log (a line each)")
	windowsValue = valueOf[*window.File]("windows", "calendar windows")
)

// These are as the interface for programs has them.
type (
	begun     = reply.Begun
	changing  = reply.Change
	checked   = reply.Checked
	measured  = reply.Measured
	changed   = reply.Changed
	proposed  = reply.Proposed
	standing  = reply.Standing
	withdrawn = reply.Withdrawn
)

// revoked is a token that is none any more.
type revoked struct {
	Revoked string `json:"revoked"`
}

// captured is a template that was made of what stands.
type captured struct {
	Folder string   `json:"folder"`
	Files  []string `json:"files"`
}

// lock is what the credentials open with.
type lock struct {
	Passphrase bool `json:"passphrase"`
}

// secretKept is whether a secret is kept from now on.
type secretKept struct {
	Secret string `json:"secret"`
	Kept   bool   `json:"kept"`
}

// keyMade is a key pair; its private part is told once, where it was made.
type keyMade struct {
	Name    string `json:"name"`
	Public  string `json:"public"`
	Private string `json:"private"`
}

// writtenSites is an estate that was written to a file.
type writtenSites struct {
	Written string `json:"written"`
	Sites   int    `json:"sites"`
}

// released is what a run gave back.
type released struct {
	Run      int64 `json:"run"`
	Released int64 `json:"released"`
}

// addressReturned is an address that is free again.
type addressReturned struct {
	Site  string `json:"site"`
	Value string `json:"value"`
}

// written is a file that was written.
type written struct {
	Written string `json:"written"`
}

// moveBegun is a move that has begun, and the run that does it.
type moveBegun struct {
	Move int64 `json:"move"`
	Run  int64 `json:"run"`
}

// moveSaid is what a move was told.
type moveSaid struct {
	Move int64  `json:"move"`
	Said string `json:"said"`
}

// unpacked is where an archive was written, and its template.
type unpacked struct {
	Folder   string `json:"folder"`
	Template string `json:"template"`
}

// removedPair is two sites that are paired no more.
type removedPair struct {
	Removed []string `json:"removed"`
}

// ruled is how many findings each rule settled.
type ruled struct {
	Rules map[string]int `json:"rules"`
}

// undone is an act that is undone, by how many plans.
type undone struct {
	Undone int64 `json:"undone"`
	Plans  int   `json:"plans"`
}

// recordsWritten is how many records were written to a file.
type recordsWritten struct {
	Records int    `json:"records"`
	File    string `json:"file"`
}

// servingAt is where a serving process is, and which sites tell it of changes.
type servingAt struct {
	Address string   `json:"address"`
	URL     string   `json:"url"`
	Sites   []string `json:"sites"`
	Silent  []string `json:"silent"`
}

// copied is how much was copied.
type copied struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
}

// siteRemoved is a site that is connected no more.
type siteRemoved struct {
	Removed string `json:"removed"`
}

// siteRotated is a site that has another credential.
type siteRotated struct {
	Rotated string `json:"rotated"`
}

// senderSecret is the secret of whoever sends notices about a site, told once.
type senderSecret struct {
	Site   string `json:"site"`
	Secret string `json:"secret"`
}

// rehearsal is how long a run may take.
type rehearsal struct {
	Rounds    int                 `json:"rounds"`
	P50       float64             `json:"p50_seconds"`
	P90       float64             `json:"p90_seconds"`
	Unbounded float64             `json:"unbounded_p50_seconds"`
	Decisive  []rehearse.Decisive `json:"decisive"`
}

// hooks are what is told to others, with what was told last.
type hooks struct {
	Hooks      []hook.Hook    `json:"hooks"`
	Deliveries []app.Delivery `json:"deliveries"`
}

// levelsOf are the service levels, and what each deployment has of them.
type levelsOf struct {
	Levels      []promises.LevelUse   `json:"levels"`
	Deployments []promises.LevelState `json:"deployments"`
}

// levelling is what would have deployments keep their levels, and why some cannot, by name.
type levelling struct {
	Orders  []changing        `json:"orders"`
	Refused map[string]string `json:"refused"`
}

// moveStatus is how a move is.
type moveStatus struct {
	Move      int64         `json:"move"`
	Name      string        `json:"name"`
	Waves     []string      `json:"waves"`
	Workloads []workloadRow `json:"workloads"`
}

// movePlan is what a move would do.
type movePlan struct {
	Name        string                      `json:"name"`
	Waves       []migrate.Wave              `json:"waves"`
	Differences []migrate.Difference        `json:"differences"`
	Forecasts   map[string]migrate.Forecast `json:"forecasts"`
	Seconds     float64                     `json:"seconds"`
	Down        float64                     `json:"down_seconds"`
	Secrets     []string                    `json:"secrets"`
	Steps       int                         `json:"steps"`
	Fits        bool                        `json:"fits"`
}

// replicasOf are the copies of a deployment that are kept elsewhere.
type replicasOf struct {
	Deployment int64              `json:"deployment"`
	Replicas   []replicas.Replica `json:"replicas"`
}

// snapshotsOf are those of a deployment.
type snapshotsOf struct {
	Deployment int64           `json:"deployment"`
	Snapshots  []snapshots.Set `json:"snapshots"`
}

// keptFiles is what was kept of what was promised, and the files that say so.
type keptFiles struct {
	Report *promise.Report `json:"report"`
	Files  []string        `json:"files"`
}

// wouldSettle is what settling would do.
type wouldSettle struct {
	Would  []reconcile.Settled `json:"would"`
	Losses []plan.Loss         `json:"losses"`
}

// settled is what was done about findings.
type settled struct {
	Act  int64               `json:"act"`
	Runs []int64             `json:"runs"`
	Did  []reconcile.Settled `json:"did"`
	Done bool                `json:"done"`
}

// recordsRead is what the records of a file change.
type recordsRead struct {
	Added   int   `json:"added"`
	Changed int   `json:"changed"`
	Same    int   `json:"same"`
	Act     int64 `json:"act,omitempty"`
}

// requestShown is a request with all that belongs to it.
type requestShown struct {
	Request requests.View      `json:"request"`
	Thread  []app.RequestEvent `json:"thread"`
	Have    *requests.Having   `json:"have"`
}

// wouldTurn is what doing something to what one has would do.
type wouldTurn struct {
	Would  *plan.Plan  `json:"would"`
	Losses []plan.Loss `json:"losses"`
}

// siteTried is how a site answered, or why it did not.
type siteTried struct {
	*sites.Tested
	Error string `json:"error,omitempty"`
}

// surveyed is what surveys saw.
type surveyed struct {
	Surveys  []app.Survey `json:"surveys"`
	Records  int          `json:"records"`
	Findings int          `json:"findings"`
}

// mayLine is whether somebody may do something, and why.
type mayLine struct {
	Right guard.Right `json:"right"`
	guard.Answer
}

// inventoryTold is what disagrees, as printFindings writes it.
type inventoryTold struct {
	Declared int     `json:"declared"`
	Recorded int     `json:"recorded"`
	Observed int     `json:"observed"`
	Agreeing int     `json:"agreeing"`
	Weighed  int     `json:"weighed"`
	Review   int     `json:"review"`
	Ignored  int     `json:"ignored"`
	Findings []brief `json:"findings"`
}

// siteFullness is how full a site is, and whose what sleeps there is.
type siteFullness struct {
	Site     string     `json:"site"`
	Cores    fullness   `json:"cores"`
	Memory   fullness   `json:"memory_gib"`
	Disk     fullness   `json:"disk_gib"`
	Sleeping []sleeping `json:"sleeping"`
}

// fullness is how much there is of something: what is used, paused, held and free adds up to the total.
type fullness struct {
	Total  float64 `json:"total"`
	Used   float64 `json:"used"`
	Paused float64 `json:"paused"`
	Held   float64 `json:"held"`
	Free   float64 `json:"free"`
}

// sleeping are machines of a deployment that are switched off, "" of another team's.
type sleeping struct {
	Of        string          `json:"of"`
	Instances int             `json:"instances"`
	Takes     estate.Capacity `json:"takes"`
}
