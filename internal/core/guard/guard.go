// Package guard says who may do what. Every act that reads what is somebody's, or changes anything, is a row of [Acts] with the
// right that it takes; [Allow] is asked before each.
package guard

import (
	"fmt"
	"slices"

	"andamio/internal/core/fault"
)

// Way is how somebody acts.
type Way string

// The ways. By schedule and by rule nobody is there: the actor is who set them up.
const (
	Screen   Way = "screen"
	Command  Way = "command"
	API      Way = "api"
	Schedule Way = "schedule"
	Rule     Way = "rule"
)

// Actor is who acts, and by which way.
type Actor struct {
	// Name is that of a person of the directory, or of a user of the operating system where there is none.
	Name string `json:"who"`
	Way  Way    `json:"way"`
}

// By is the actor by another way.
func (a Actor) By(w Way) Actor { return Actor{a.Name, w} }

func (a Actor) String() string {
	if a.Name == "" {
		return "nobody"
	}
	return a.Name + " by " + string(a.Way)
}

// Right is what somebody must have for an act.
type Right string

// The rights.
const (
	// Read is to see what there is; Ask to propose what is to be done, Approve to confirm what others propose; Deploy to raise what was not there, Operate to change, stop, take away and enter what is,
	// Move to move it, Settle to settle findings and change records.
	Read    Right = "read"
	Ask     Right = "ask"
	Approve Right = "approve"
	Deploy  Right = "deploy"
	Operate Right = "operate"
	Move    Right = "move"
	Settle  Right = "settle"
	// Connect is to connect sites, name servers and each other; Keep to look after the workspace, its people, secrets and copies.
	Connect Right = "connect"
	Keep    Right = "keep"
	// Offer is to make offers of templates, Account to read what things cost whom.
	Offer   Right = "offer"
	Account Right = "account"
)

// Rights are all of them.
var Rights = []Right{Read, Ask, Approve, Deploy, Operate, Move, Settle, Connect, Keep, Offer, Account}

// Act is something that can be done.
type Act string

// The acts.
const (
	Propose      Act = "propose"
	Confirm      Act = "confirm"
	Withdraw     Act = "withdraw"
	BeginRun     Act = "begin-run"
	ChangeRun    Act = "change-run"
	ResumeRun    Act = "resume-run"
	CancelRun    Act = "cancel-run"
	LeaveRun     Act = "leave-run"
	DecideStep   Act = "decide-step"
	SteerMove    Act = "steer-move"
	StartMove    Act = "start-move"
	EndMove      Act = "end-move"
	SettleFound  Act = "settle"
	UndoSettled  Act = "undo-settled"
	ImportRecord Act = "import-records"
	ExportRecord Act = "export-records"
	ConnectSite  Act = "connect-site"
	RemoveSite   Act = "remove-site"
	Rotate       Act = "rotate-credential"
	SurveySite   Act = "survey-site"
	PairSites    Act = "pair-sites"
	PartSites    Act = "part-sites"
	ConnectNames Act = "connect-names"
	TellNotices  Act = "set-notices"
	SetBus       Act = "set-bus"
	Hear         Act = "hear-notices"
	Serve        Act = "serve"
	GiveBack     Act = "give-back"
	EnterHost    Act = "enter-host"
	CopyFiles    Act = "copy-files"
	ExportDisks  Act = "export-package"
	KeepSecret   Act = "keep-secret"
	KeepKey      Act = "keep-key"
	LockVault    Act = "lock-credentials"
	BackUp       Act = "back-up"
	StandIns     Act = "change-stand-ins"
	SetTeams     Act = "set-teams"
	GiveAway     Act = "give-away"
	MakeOffer    Act = "make-offer"
	SetQuotas    Act = "set-quotas"
	SetApprovals Act = "set-approvals"
	SetRates     Act = "set-rates"
	SetHooks     Act = "set-hooks"
	ResendEvent  Act = "resend-event"
	AskFor       Act = "ask-for"
	SayOf        Act = "say-of-request"
	Reanswer     Act = "reanswer-request"
	TakeBack     Act = "withdraw-request"
	TurnOwn      Act = "turn-own"
	AcceptPrice  Act = "accept-price"
	DecideOn     Act = "decide-request"
	EnterPortal  Act = "enter-portal"
	Look         Act = "look"
	SetPromise   Act = "set-promise"
	DropPromise  Act = "drop-promise"
	ExtendLease  Act = "extend-lease"
	SetLevels    Act = "set-levels"
	SetWindows   Act = "set-windows"

	AcknowledgeAlert Act = "acknowledge-alert"
	SilenceAlert     Act = "silence-alert"
	SetThresholds    Act = "set-thresholds"
	SetReactions     Act = "set-reactions"
	ResumeReaction   Act = "resume-reaction"
	SetFronts        Act = "set-fronts"
	SendMeasures     Act = "send-measures"
	KeepOverview     Act = "keep-overview"
	DropOverview     Act = "drop-overview"

	MakeToken    Act = "make-token"
	MakeTokenFor Act = "make-token-for"
	EndToken     Act = "revoke-token"
	EndTokenOf   Act = "revoke-token-of"
	JoinWorker   Act = "join-worker"
	RouteSite    Act = "route-site"

	LeaseAddress  Act = "lease-address"
	ReturnAddress Act = "return-address"
)

// Row says what an act is.
type Row struct {
	Act   Act
	Right Right
	// Words say that it was done, before what it was done to.
	Words string
}

// Acts are all acts.
var Acts = []Row{
	{Propose, Ask, "proposed a plan of"},
	{Confirm, Approve, "confirmed"},
	{Withdraw, Ask, "withdrew"},
	{BeginRun, Deploy, "began"},
	{ChangeRun, Operate, "began"},
	{ResumeRun, Operate, "went on with"},
	{CancelRun, Operate, "cancelled"},
	{LeaveRun, Operate, "left as it is"},
	{DecideStep, Operate, "decided on"},
	{StartMove, Move, "began to move"},
	{SteerMove, Move, "steered"},
	{EndMove, Move, "ended"},
	{SettleFound, Settle, "settled"},
	{UndoSettled, Settle, "took back"},
	{ImportRecord, Settle, "imported"},
	{ExportRecord, Read, "exported"},
	{ConnectSite, Connect, "connected"},
	{RemoveSite, Connect, "removed"},
	{Rotate, Connect, "changed the credential of"},
	{SurveySite, Read, "surveyed"},
	{PairSites, Connect, "paired"},
	{PartSites, Connect, "parted"},
	{ConnectNames, Connect, "connected"},
	{TellNotices, Connect, "had notices sent to"},
	{SetBus, Connect, "had what happens be kept on the bus"},
	{Hear, Read, "heard notices at"},
	{Serve, Keep, "began to serve"},
	{GiveBack, Operate, "gave back what was held for"},
	{LeaseAddress, Operate, "leased an address of"},
	{ReturnAddress, Operate, "returned an address of"},
	{EnterHost, Operate, "entered"},
	{CopyFiles, Operate, "copied"},
	{ExportDisks, Read, "packed"},
	{KeepSecret, Keep, "kept a value for"},
	{KeepKey, Keep, "kept the key pair"},
	{LockVault, Keep, "had the credentials open with"},
	{BackUp, Keep, "backed up to"},
	{StandIns, Connect, "changed stand-ins of"},
	{SetTeams, Keep, "set who may do what, for"},
	{GiveAway, Keep, "gave"},
	{MakeOffer, Offer, "offered"},
	{SetQuotas, Keep, "set how much whom may have, in"},
	{SetApprovals, Keep, "set what is approved by rule, in"},
	{SetRates, Keep, "set what a unit is worth in"},
	{SetHooks, Keep, "set what changes set off, in"},
	{ResendEvent, Keep, "had told again"},
	{AskFor, Ask, "asked for"},
	{SayOf, Ask, "said something of"},
	{Reanswer, Ask, "gave other answers to"},
	{TakeBack, Ask, "withdrew"},
	{TurnOwn, Ask, "stopped, started or gave back"},
	{AcceptPrice, Ask, "accepted the price of"},
	{DecideOn, Approve, "decided"},
	{EnterPortal, Ask, "came in by"},
	{Look, Read, "looked at"},
	{SetPromise, Operate, "promised of"},
	{DropPromise, Operate, "promised no more of"},
	{ExtendLease, Ask, "extended the lease of"},
	{SetLevels, Keep, "set the service levels"},
	{SetWindows, Keep, "set the blackouts and windows"},
	{AcknowledgeAlert, Operate, "sees to"},
	{SilenceAlert, Operate, "silenced"},
	{SetThresholds, Keep, "set the thresholds"},
	{SetReactions, Keep, "set the reactions"},
	{ResumeReaction, Operate, "let a reaction act again"},
	{SetFronts, Connect, "set the fronts"},
	{SendMeasures, Connect, "set where measures are sent"},
	{KeepOverview, Operate, "kept the overview"},
	{DropOverview, Operate, "dropped the overview"},
	{MakeToken, Ask, "made the token"},
	{MakeTokenFor, Keep, "made a token for"},
	{EndToken, Ask, "revoked the token"},
	{EndTokenOf, Keep, "revoked the token"},
	{JoinWorker, Connect, "had a worker join"},
	{RouteSite, Connect, "said how is reached"},
}

// Of is the row of an act; nil if there is none.
func Of(act Act) *Row {
	i := slices.IndexFunc(Acts, func(r Row) bool { return r.Act == act })
	if i < 0 {
		return nil
	}
	return &Acts[i]
}

// Refused is the error of an act that its actor may not do.
type Refused struct {
	Actor Actor
	Act   Act
	On    string
	Why   string
}

func (r *Refused) Error() string {
	return fmt.Sprintf("%s may not do that (%s, %s): %s", r.Actor, r.Act, r.On, r.Why)
}

// Code is the class of a refusal.
func (*Refused) Code() fault.Code { return fault.NotAllowed }

// ways are all ways.
var ways = []Way{Screen, Command, API, Schedule, Rule}

// Allow says whether somebody may do something to something, by a directory. Where there is none, whoever acts on this machine as a user
// of it may do everything; nobody may do nothing.
func Allow(d *Directory, actor Actor, act Act, on Thing) error {
	row := Of(act)
	refused := func(why string) error { return &Refused{actor, act, on.Name, why} }
	switch {
	case row == nil:
		return refused("no such act is known")
	case actor.Name == "":
		return refused("it is not known who asks")
	case !slices.Contains(ways, actor.Way):
		return refused("it is not known by which way")
	case d == nil:
		return nil
	}
	if a := d.May(actor.Name, row.Right, on); !a.Yes {
		return refused(a.Why)
	}
	return nil
}
