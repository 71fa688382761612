package store

import (
	"context"
	"strconv"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/history"
	"andamio/internal/core/inventory"
	"andamio/internal/core/ledger"
	"andamio/internal/core/mapping"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/quota"
	"andamio/internal/core/run"
	"andamio/internal/core/trail"
)

// Store is where a workspace is kept. Several processes may use one at once. What a call has returned from survives the end of the
// process, and of the power, at any moment. Package storetest says what else any implementation must do.
type Store interface {
	PlansStore
	RunsStore
	DeploymentsStore
	ProposalsStore
	MovesStore
	SurveysStore
	RecordsStore
	TrailStore
	ClockStore
	OffersStore
	QuotasStore
	RequestsStore
	LedgerStore
	HooksStore
	PromisesStore
	AddressesStore
	AlertsStore
	ReactionsStore
	TokensStore
	OnceStore
	// Changed is closed when something of what is named changes next, here or elsewhere: whoever asks for it before they look misses nothing. It is nil
	// where the store does not tell, and may be closed though nothing changed: they look again in either case.
	Changed(of Topic) <-chan struct{}
	// Close frees what the store holds.
	Close() error
}

// Topic is something that may be waited for.
type Topic string

// TopicTrail is the trail of what is done.
const TopicTrail Topic = "trail"

// TopicRun is a run: its journal, its state, and what is asked of it.
func TopicRun(id int64) Topic { return Topic("run " + strconv.FormatInt(id, 10)) }

// PlansStore keeps plans and what they were compiled from.
type PlansStore interface {
	// SavePlan keeps a plan and returns its number.
	SavePlan(ctx context.Context, p *plan.Plan) (int64, error)
	// Plan returns a kept plan.
	Plan(ctx context.Context, id int64) (*plan.Plan, error)
	// PlanDigest is the SHA-256 digest of a kept plan, as hexadecimal.
	PlanDigest(ctx context.Context, id int64) (string, error)
	// KeepSource keeps the files of a template under their digest; what is kept already stays.
	KeepSource(ctx context.Context, digest string, files Source) error
	// Source returns the files kept under a digest; nil if there are none.
	Source(ctx context.Context, digest string) (*Source, error)
}

// AddressesStore keeps the addresses and VLANs that are leased to what is not deployed here.
type AddressesStore interface {
	// LeaseAddress keeps an address that neither a run nor a lease has, with what is due for it; again has the lease that it has be another. Who has it is
	// in the error (ErrTaken).
	LeaseAddress(ctx context.Context, l promise.AddressLease, again bool) error
	// ReturnAddress has it be nobody's again.
	ReturnAddress(ctx context.Context, site, value string) error
	// AddressLeases are all, by site and address.
	AddressLeases(ctx context.Context) ([]promise.AddressLease, error)
}

// RunsStore keeps runs, who works on them, and their journals.
type RunsStore interface {
	// CreateRun makes a run that is not begun yet, of what is set of r: its plan, deployment, purpose, what is wanted, the
	// number of steps, and limits.
	CreateRun(ctx context.Context, r Run) (int64, error)
	// Forget removes a run that never began, and its deployment if nothing else was made of that. What the run has of the sites' pools
	// is the run's before it again, if there is one: what nobody needs of it is given back later.
	Forget(ctx context.Context, id int64) error
	// Runs lists the runs, the newest first.
	Runs(ctx context.Context) ([]Run, error)
	// RunsOf lists the runs of a deployment, the oldest first.
	RunsOf(ctx context.Context, deployment int64) ([]Run, error)
	// Run returns one run.
	Run(ctx context.Context, id int64) (Run, error)
	// Claim makes a process the worker of a run, and returns the epoch of its work. It does so only if the run stands at the
	// given epoch, so that of several that want it one gets it, and no other run of the same deployment goes on by a worker
	// that lives; lives decides that of the other runs. ErrTaken says that it does not.
	Claim(ctx context.Context, id, epoch int64, worker Worker, lives func(Run) bool) (int64, error)
	// Beat says that a run's worker lives, and returns whether a cancel is asked for. ErrTaken says that another worker has
	// the run.
	Beat(ctx context.Context, id, epoch int64) (cancel bool, err error)
	// Finish says how a run ended, unless another worker has taken it over.
	Finish(ctx context.Context, id, epoch int64, state run.Status) error
	// Cancel asks the worker of a run to stop.
	Cancel(ctx context.Context, id int64) error
	// Leave settles that what failed in a run stays as it is.
	Leave(ctx context.Context, runID int64) error
	// Void takes back a run that only took note of things. Only the last run of a deployment that counts can be.
	Void(ctx context.Context, id int64) error
	// Events returns at most limit events of a run after a number, in order.
	Events(ctx context.Context, runID, after int64, limit int) ([]run.Event, error)
	// Journal opens the journal of a run for appending, for the worker that claimed it at that epoch.
	Journal(ctx context.Context, runID, epoch int64) (Journal, error)
	// Decide keeps a decision for the run's worker.
	Decide(ctx context.Context, runID int64, d Decision) error
	// Decisions are those that the worker has not taken yet.
	Decisions(ctx context.Context, runID int64) ([]Decision, error)
	// Taken says that the worker has journalled a decision.
	Taken(ctx context.Context, id int64) error
	// Busy reports that somebody is writing at this moment, so that nobody else can.
	Busy(ctx context.Context) bool
}

// DeploymentsStore keeps deployments, what they hold, and how long their steps took.
type DeploymentsStore interface {
	// CreateDeployment makes a deployment of somebody of which nothing stands yet.
	CreateDeployment(ctx context.Context, name, template string, of guard.Owner) (int64, error)
	// Own makes a deployment somebody's.
	Own(ctx context.Context, deployment int64, of guard.Owner) error
	// Deployments lists all, the newest first.
	Deployments(ctx context.Context) ([]Deployment, error)
	// Deployment returns one.
	Deployment(ctx context.Context, id int64) (Deployment, error)
	// Reserve gives a run what it asks for, all or nothing; what another run of its deployment has becomes its own. The error
	// names the run that has some of it already.
	Reserve(ctx context.Context, runID int64, all []Reservation) error
	// Keep gives back what the runs of a deployment have beside what is to be kept.
	Keep(ctx context.Context, deployment int64, keep []Reservation) error
	// Release gives back what a run has, and returns how much that was.
	Release(ctx context.Context, runID int64) (int64, error)
	// Reservations lists what is held, by site.
	Reservations(ctx context.Context) ([]Reservation, error)
	// Learn keeps how long the steps of a run took.
	Learn(ctx context.Context, runID int64, all []Took) error
	// Durations are the kept durations of the last runs, in the order of the runs.
	Durations(ctx context.Context, runs int) ([]history.Sample, error)
}

// ProposalsStore keeps what was proposed and waits to be confirmed.
type ProposalsStore interface {
	// Propose keeps a proposal, which is open.
	Propose(ctx context.Context, p Proposal) (int64, error)
	// SettleProposal brings a proposal from one state to another; false if it was not in that state, since somebody else did.
	SettleProposal(ctx context.Context, id int64, from, to ProposalState, out Outcome) (bool, error)
	// Proposals lists all proposals, the newest first.
	Proposals(ctx context.Context) ([]Proposal, error)
	// Proposal returns one.
	Proposal(ctx context.Context, id int64) (Proposal, error)
}

// MovesStore keeps moves of workloads, and pairs of sites.
type MovesStore interface {
	// CreateMove keeps a move.
	CreateMove(ctx context.Context, deployment int64, who string, body []byte, now time.Time) (int64, error)
	// KeepMove replaces what is kept of a move.
	KeepMove(ctx context.Context, id int64, body []byte) error
	// AddMoveRun notes that a run does something for a move.
	AddMoveRun(ctx context.Context, move int64, r MoveRun) error
	// Moves lists all moves, the newest first.
	Moves(ctx context.Context) ([]Move, error)
	// Move returns one.
	Move(ctx context.Context, id int64) (Move, error)
	// SetPair keeps what is known of a pair of sites; "" forgets it. The order of the two does not matter.
	SetPair(ctx context.Context, a, b string, body []byte) error
	// Pairs lists what is known of all pairs.
	Pairs(ctx context.Context) ([][]byte, error)
	// Pair is what is known of a pair; nil if the two are none.
	Pair(ctx context.Context, a, b string) ([]byte, error)
}

// SurveysStore keeps surveys and what they saw.
type SurveysStore interface {
	// BeginSurvey makes a survey of some regions.
	BeginSurvey(ctx context.Context, site string, deep bool, regions []string, now time.Time) (int64, error)
	// Stage keeps a page of what a survey saw, and how far it got, together: what is staged is not observed yet.
	Stage(ctx context.Context, survey int64, p SurveyPart, seen []mapping.Observation) error
	// EndRegion ends a region of a survey. If all of it was listed, that takes the place of what was observed there before,
	// in one transaction; if not, what was observed stays as it is.
	EndRegion(ctx context.Context, survey int64, site, region string, failed error, now time.Time) error
	// EndSurvey ends a survey. What is staged of one that was stopped stays, so that it can go on.
	EndSurvey(ctx context.Context, id int64, state SurveyState, now time.Time) error
	// Surveys lists the last surveys, the newest first.
	Surveys(ctx context.Context, limit int) ([]Survey, error)
	// Survey returns one.
	Survey(ctx context.Context, id int64) (Survey, error)
	// LastSurvey is the last survey of a site, ErrNotFound if there is none.
	LastSurvey(ctx context.Context, site string) (Survey, error)
	// Observations are what surveys and notices saw last.
	Observations(ctx context.Context) ([]mapping.Observation, error)
	// Observed keeps what some things are now, in one transaction, and returns how many notices were taken for the first
	// time. Where something was seen before it stays in the region it was seen in.
	Observed(ctx context.Context, all []Sight, now time.Time) (int, error)
	// Coverage says how old what is known of each region is.
	Coverage(ctx context.Context) ([]Covered, error)
	// ForgetSite drops what was observed at a site; records stay.
	ForgetSite(ctx context.Context, site string) error
	// KeepFacts keeps what a site says that it offers.
	KeepFacts(ctx context.Context, site string, body []byte, now time.Time) error
	// Facts are what sites said that they offer, as JSON by site.
	Facts(ctx context.Context) (map[string][]byte, error)
	// InventoryStamp changes whenever anything does that a reconciliation looks at.
	InventoryStamp(ctx context.Context) (string, error)
}

// RecordsStore keeps records, and what was done about findings.
type RecordsStore interface {
	// Records are all records, by id.
	Records(ctx context.Context) (inventory.Records, error)
	// Revise changes records, each with what it was before, in one transaction; act is what they belong to, 0 for none. It
	// also does more within that transaction, if that is not nil.
	Revise(ctx context.Context, act int64, who string, now time.Time, changes []RecordChange) error
	// Touch says of records that they were just seen: no change, and no entry in their history.
	Touch(ctx context.Context, records []inventory.Record) error
	// History is what became of a record, the newest first.
	History(ctx context.Context, record string) ([]RecordChange, error)
	// ChangesOf are the changes of records that belong to an act, in order.
	ChangesOf(ctx context.Context, act int64) ([]RecordChange, error)
	// RecordSettlement keeps an act with all that it does to the inventory.
	RecordSettlement(ctx context.Context, who string, now time.Time, d SettlementChanges) (int64, error)
	// UndoSettlement takes back what an act did to the inventory: its records are what they were before it, and what it ignored or
	// decided is so no more. One that was undone is refused.
	UndoSettlement(ctx context.Context, id int64, who string, now time.Time) error
	// Settlements lists what persons did, the newest first.
	Settlements(ctx context.Context, limit int) ([]Settlement, error)
	// Ignored are the findings that are let be.
	Ignored(ctx context.Context) ([]Ignoring, error)
	// Identities are what persons said of identity.
	Identities(ctx context.Context) ([]inventory.Decision, error)
	// KeepTrend keeps how many findings of each sort there are at a time.
	KeepTrend(ctx context.Context, now time.Time, counts map[inventory.Type]int) error
	// Trend is how findings went since a time, the oldest first.
	Trend(ctx context.Context, since time.Time) ([]TrendPoint, error)
}

// OffersStore keeps what is offered, version by version.
type OffersStore interface {
	// PublishOffer keeps a version of an offer, which takes the place of the one that is published, and returns its number.
	PublishOffer(ctx context.Context, o Offer) (int64, error)
	// WithdrawOffer takes the published version of an offer back; ErrNotFound if none is.
	WithdrawOffer(ctx context.Context, name string) error
	// Offers lists the newest version of every offer, by name.
	Offers(ctx context.Context) ([]Offer, error)
	// OfferVersions lists the versions of an offer, the newest first.
	OfferVersions(ctx context.Context, name string) ([]Offer, error)
	// Offer returns a version of an offer.
	Offer(ctx context.Context, name string, number int64) (Offer, error)
}

// QuotasStore keeps what everybody has of quotas. However many take at once, no account is ever overrun.
type QuotasStore interface {
	// HoldQuota takes from accounts for something, all or nothing, and returns the hold. *quota.Overrun says of which account there is not
	// enough.
	HoldQuota(ctx context.Context, h Hold, takes []quota.Take) (int64, error)
	// ChangeHold puts other takes in the place of a hold's, all or nothing: what is more has to be there, what is less is given back. A hold
	// of no parts and without takes is gone. By force more is taken than there is, where what stands cannot be otherwise.
	ChangeHold(ctx context.Context, h Hold, takes []quota.Take, force bool) error
	// HoldOf is what is held for a deployment; where that is 0, for a request of which nothing is built. Nil if nothing is.
	HoldOf(ctx context.Context, request, deployment int64) (*Hold, error)
	// Holds lists what everybody has of quotas, the oldest first.
	Holds(ctx context.Context) ([]Hold, error)
	// TakesOf are what one hold has.
	TakesOf(ctx context.Context, hold int64) ([]quota.Take, error)
	// Takes are how much everybody has of which account.
	Takes(ctx context.Context) ([]quota.Taken, error)
}

// RequestsStore keeps what was asked of offers.
type RequestsStore interface {
	// AddRequest keeps a request with the beginning of its thread, and returns its number. ErrNameTaken says that another which is not over
	// has its name.
	AddRequest(ctx context.Context, r Request, events ...RequestEvent) (int64, error)
	// ChangeRequest changes a request that is in a state and as it was read, with what that adds to its thread; false if it was not, since
	// somebody else changed it.
	ChangeRequest(ctx context.Context, r Request, from RequestState, events ...RequestEvent) (bool, error)
	// Requests lists all requests, the newest first.
	Requests(ctx context.Context) ([]Request, error)
	// Request returns one.
	Request(ctx context.Context, id int64) (Request, error)
	// RequestThread is what was done and said about a request, the oldest first.
	RequestThread(ctx context.Context, id int64) ([]RequestEvent, error)
}

// LedgerStore keeps what was written down of journals, and what decides what that cost whom.
type LedgerStore interface {
	// KeepBook keeps what was written down of the runs of a deployment, in the place of what was before.
	KeepBook(ctx context.Context, deployment int64, b Book) error
	// Books are all books, by deployment.
	Books(ctx context.Context) (map[int64]Book, error)
	// KeepPrices keeps what a site asks from a moment on, unless that is what it asked last.
	KeepPrices(ctx context.Context, l PriceList) error
	// PriceLists are all that sites ever asked, the oldest first.
	PriceLists(ctx context.Context) ([]PriceList, error)
	// Owners are whose each deployment was from when on, the oldest first.
	Owners(ctx context.Context) (map[int64][]ledger.Owned, error)
}

// HooksStore keeps what hooks set off. However many see to it, each event is told by each hook once.
type HooksStore interface {
	// Enlist keeps an event that a hook is to tell; false if it was kept before.
	Enlist(ctx context.Context, d Delivery) (bool, error)
	// TakeDelivery takes one up that waits and is due, or was being sent by somebody who is silent since a time; of several that want it one
	// gets it. ErrNotFound says that none is.
	TakeDelivery(ctx context.Context, now, silent time.Time) (Delivery, error)
	// TakeDeliveriesOf takes up as many as there are of a hook that wait and are due, up to a number, in the order in which they were enlisted; each goes
	// to one of several that want it.
	TakeDeliveriesOf(ctx context.Context, hook string, most int, now time.Time) ([]Delivery, error)
	// SettleDelivery says what came of one that was taken up, unless somebody else has taken it up since.
	SettleDelivery(ctx context.Context, d Delivery) error
	// ResendDelivery has one wait again that was given up, or of which nobody knows; ErrNotFound if it is not so.
	ResendDelivery(ctx context.Context, id int64, now time.Time) error
	// Deliveries lists the last, the newest first.
	Deliveries(ctx context.Context, limit int) ([]Delivery, error)
	// SetHooks notes which hooks there are; each is there since it was noted first.
	SetHooks(ctx context.Context, names []string, now time.Time) error
	// HooksSince are the hooks that were noted, with since when.
	HooksSince(ctx context.Context) (map[string]time.Time, error)
}

// TrailStore keeps who did what.
type TrailStore interface {
	// Note adds an entry to the trail and returns it as it is kept. Several processes may do so at once.
	Note(ctx context.Context, e trail.Entry) (trail.Entry, error)
	// Trail returns at most so many entries after one, oldest first.
	Trail(ctx context.Context, after int64, limit int) ([]trail.Entry, error)
	// EachOfTrail goes through all entries, the oldest first.
	EachOfTrail(ctx context.Context, do func(*trail.Entry) error) error
	// VerifyTrail looks whether any entry was changed, left out or put in, and whether one with an expected digest is there, if one is
	// given.
	VerifyTrail(ctx context.Context, expect string) (*trail.Verifier, error)
	// LastOfTrail returns the last entries, the newest first.
	LastOfTrail(ctx context.Context, limit int) ([]trail.Entry, error)
	// TrailOfRun returns what was done about a run, oldest first.
	TrailOfRun(ctx context.Context, id int64) ([]trail.Entry, error)
	// TrailEver is how many entries there ever were.
	TrailEver(ctx context.Context) (int64, error)
}

// Journal appends to the journal of one run. Only the run's worker has one, so it numbers the events itself.
type Journal interface {
	// Append returns when the events will survive the process, and the power. ErrTaken says that another worker has the run.
	Append(events ...run.Event) error
	Close() error
}
