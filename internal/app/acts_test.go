package app

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
)

// What a method of a service is: it reads, it works something out that is shown before it is done, it is of the program itself, or it
// does what other methods ask the guard for. All others are acts.
const (
	reads    = "reads"
	worksOut = "works out"
	// theirs is what reads or works out what is the actor's own or offered to them, and leaves out all else by itself.
	theirs  = "reads what is theirs"
	itself  = "of the program itself"
	through = "through others"
	// within is what other services ask; it does what was let before.
	within = "of the services themselves"
)

// methods say of every exported method of [App] and its services what it is, or which act.
var methods = map[string]any{
	"Settlements": reads, "Actor": itself, "As": itself, "By": itself, "Close": itself, "NotePID": itself, "Work": itself, "Watch": reads,
	"MeasureAll": reads, "Measured": reads, "Curve": reads, "Figures": reads, "Overview": reads, "Wholes": reads, "WriteOpenMetrics": reads, "AsOf": reads, "ReadingsAt": reads, "AlertsAt": reads, "Story": reads, "Tale": reads, "Helping": worksOut, "Alerts": reads, "AlertsSince": reads, "Alert": reads, "Acknowledge": guard.AcknowledgeAlert, "Silence": guard.SilenceAlert, "Unsilence": guard.SilenceAlert,
	"Reactions": reads, "Reacting": reads, "React": reads, "SetReactions": guard.SetReactions, "ResumeReaction": guard.ResumeReaction, "Fronts": reads, "FrontStates": reads, "AnswerFronts": reads, "WithdrawPlain": reads, "SetFronts": guard.SetFronts, "Rebuilding": worksOut, "Refreshed": reads, "Total": reads, "DrawMeasures": reads,
	"Overviews": reads, "KeptOverview": reads, "Picked": reads, "DrawOverview": reads, "KeepOverview": guard.KeepOverview, "DropOverview": guard.DropOverview, "Forwarding": reads, "SetForwarding": guard.SendMeasures,
	"MakeToken": guard.MakeToken, "RotateToken": guard.MakeToken, "RevokeToken": guard.EndToken, "Tokens": theirs, "WrittenText": reads, "Bears": itself, "Once": itself, "WasAnswered": itself, "Bearing": itself, "Borne": itself, "BusNow": reads, "SetBus": guard.SetBus, "KeepIn": within, "PublishSent": guard.MakeOffer, "MakeFile": guard.MakeOffer, "Within": itself, "Saying": itself, "Shared": itself, "Unbounded": itself,
	"Thresholds": reads, "SetThresholds": guard.SetThresholds, "Preview": reads,
	"MayKeepMemory": reads, "LeaseAddress": guard.LeaseAddress, "ExtendAddress": guard.LeaseAddress, "ReturnAddress": guard.ReturnAddress, "AddressLeases": theirs, "AddressDue": within,
	"Backup": guard.BackUp, "Begin": through, "Cancel": guard.CancelRun, "Capture": reads, "Changed": worksOut, "ChangingInput": worksOut,
	"CheckPair": reads, "CheckPairs": reads, "Cloning": worksOut, "Doing": worksOut, "Promises": reads, "PromisesOf": reads, "SetPromise": guard.SetPromise, "DropPromise": guard.DropPromise, "ExtendLease": guard.ExtendLease, "EndSnapshot": guard.SetPromise, "Due": within, "Promise": within, "LeaseOf": within, "KeepPromised": within, "Guards": within, "Levels": reads, "LevelStates": reads, "Calendar": reads, "Report": reads, "WriteReport": reads, "Replicas": reads, "Costs": within, "Replicating": worksOut, "DroppingReplica": worksOut, "DraftFailOver": worksOut, "Fence": within, "LevelNames": reads, "SetLevels": guard.SetLevels, "Windows": reads, "SetWindows": guard.SetWindows, "Levelling": worksOut, "Keeping": within, "PromiseLevel": within, "LevelOf": within, "KeepingCosts": within, "Snapshots": reads, "Taking": worksOut, "Restoring": worksOut, "DroppingSnapshot": worksOut, "Beside": worksOut, "Trying": worksOut, "Raising": worksOut, "Command": guard.EnterHost, "Commit": guard.EndMove, "Connect": guard.ConnectSite,
	"ConnectNames": guard.ConnectNames, "ConnectSandbox": itself, "Copy": guard.CopyFiles, "CopyTemplate": worksOut, "CutOver": through,
	"Decide": guard.DecideStep, "Deployment": reads, "FindDeployment": reads, "ConnectedSites": reads, "Deployments": reads, "Disconnect": guard.RemoveSite, "DraftBack": worksOut, "DraftCommit": worksOut,
	"DraftMove": worksOut, "DraftWave": worksOut, "Drafting": worksOut, "Drift": guard.StandIns, "Load": guard.StandIns, "Dropping": worksOut, "EachOfTrail": reads, "Estate": reads, "Answering": reads,
	"ExportMap": reads, "ExportPackage": guard.ExportDisks, "ExportRecords": guard.ExportRecord, "FindHost": reads, "Fragment": reads, "GoBack": guard.EndMove,
	"History": reads, "Import": guard.ImportRecord, "ImportPackage": worksOut, "KeepPackage": worksOut, "ImportRecords": worksOut, "TakingOver": worksOut, "Nobodys": reads, "DraftTaken": reads, "LettingGo": worksOut, "LastOfTrail": reads, "TrailBetween": reads,
	"Leave": guard.LeaveRun, "Lifting": through, "Listen": guard.Hear, "Lock": guard.LockVault, "Look": reads, "MakeKey": guard.KeepKey, "MakeSenderSecret": guard.KeepSecret, "BringKey": guard.KeepKey,
	"MakePair": guard.PairSites, "Move": reads, "Moves": reads, "NewRun": guard.BeginRun, "OpenShell": guard.EnterHost, "OpenConsole": guard.EnterHost, "OrderOf": worksOut, "Pairs": reads,
	"Propose": guard.Propose, "ProposeMove": guard.Propose, "ProposeSettling": guard.Propose, "ProposedSettling": worksOut, "Proposals": reads, "OpenProposals": reads, "Proposed": worksOut, "Confirm": guard.Confirm, "Withdraw": guard.Withdraw,
	"Picture": reads, "Powering": worksOut, "PoweringWhich": worksOut, "PreviewMapping": reads, "Reconcile": reads, "ReconcileFiles": reads, "Redraft": worksOut, "Rehearse": worksOut,
	"RehearseRest": worksOut, "Release": guard.GiveBack, "Replay": reads, "Resume": guard.ResumeRun, "Retiring": worksOut, "RollingBack": worksOut,
	"Rotate": guard.Rotate, "Scaling": worksOut, "ServiceMap": reads, "ServiceMapAt": reads, "SetHearing": guard.TellNotices, "SetSecrets": guard.KeepSecret, "Settle": guard.SettleFound,
	"SettleByRules": through, "WatchPromises": reads, "Sights": reads, "RaisingAgain": worksOut, "Settling": worksOut, "Sites": reads, "Standing": reads, "StartMove": guard.StartMove, "Steer": guard.SteerMove, "Survey": guard.SurveySite,
	"SurveyAll": through, "Serve": guard.Serve, "ServedBy": itself, "KeepServed": through, "StopServing": itself, "Clock": reads, "Taken": reads, "TemplateOf": reads, "Test": reads, "Things": reads, "Timed": reads, "Undo": guard.UndoSettled, "Unpair": guard.PartSites,
	"Opened": itself, "Runs": reads, "Run": reads, "PlanOf": reads, "Events": reads, "Reservations": reads, "Claims": reads, "Connections": reads, "Connection": reads,
	"CheckSiteName": reads, "Surveys": reads, "LastSurvey": reads, "Coverage": reads, "InventoryStamp": reads, "RecordHistory": reads, "Keys": reads, "Zone": reads,
	"Hearing": reads, "Rules": reads, "MissingSecrets": reads, "StoredIn": reads, "Reaching": itself, "Workers": reads, "JoinWorker": guard.JoinWorker, "SetThrough": guard.RouteSite, "MayRelay": itself, "Relay": itself, "ReachedAt": itself, "Dialer": within, "Present": within, "SignsIn": itself, "SignIn": through, "ServingProcesses": reads, "NotedNext": itself,
	"NothingAt": within, "NoneBetween": within, "NoMove": within, "SettledBut": within, "Quiet": within, "Wanted": within, "DesignOf": within, "Whole": within,
	"EstateFor": within, "Ruled": within, "Fold": within, "KeepSource": within, "KeepTemplate": within, "Latest": within, "NameFree": within, "PairOf": within, "SettleCredentials": within,
	"BeginProposed": within, "SettleProposed": within, "Begins": within, "GroundOf": within, "KeepOrder": within, "KeepProposal": within, "Start": within,
	"Inside": within, "Ask": within,
	"Directory": reads, "SetDirectory": guard.SetTeams, "May": reads, "Give": guard.GiveAway,
	"Offers": theirs, "Offer": theirs, "Publish": guard.MakeOffer, "WithdrawOffer": guard.MakeOffer, "CheckOffer": worksOut, "Quote": theirs,
	"Quotas": reads, "Uses": theirs, "SetQuotas": guard.SetQuotas, "Reserve": within, "Before": within, "Given": within, "After": within, "GiveBack": within, "Built": within,
	"Left": theirs, "LeftAfter": theirs, "Foresee": theirs, "MayRead": theirs, "IsFor": theirs, "Turned": theirs, "WhoHas": itself, "PortalKey": itself, "Entered": guard.EnterPortal, "Version": within, "At": within, "Mend": within, "AskFor": guard.AskFor, "Answer": guard.DecideOn, "AcceptPrice": guard.AcceptPrice, "TakeBack": guard.TakeBack, "Reanswer": guard.Reanswer, "Again": theirs, "OfferThis": guard.MakeOffer, "OfferFile": reads, "Saved": theirs, "SayOf": guard.SayOf,
	"Rulings": reads, "Have": theirs, "Turning": theirs, "TurnIt": guard.TurnOwn, "Hooks": reads, "SetHooks": guard.SetHooks, "Deliveries": reads, "Resend": guard.ResendEvent, "CostOf": within, "Gather": within, "Deliver": within, "MayBegin": within,
	"Account": theirs, "Savings": theirs, "ExportAccount": theirs, "DrawAccount": theirs, "Rates": theirs, "SetRates": guard.SetRates, "RefreshPrices": guard.SurveySite,
	"Requests": theirs, "Request": theirs, "Thread": theirs, "EffectOf": theirs, "Approvals": reads, "SetApprovals": guard.SetApprovals,
	"Updating": worksOut, "VerifyTrail": reads, "Waiting": reads,
}

// TestNoMethodIsForgotten holds that every method of the services is known for what it is, and that each act asks the guard and is
// noted, under its own name.
func TestNoMethodIsForgotten(t *testing.T) {
	found := exported(t)
	for name, body := range found {
		what, known := methods[name]
		if !assert.True(t, known, "%s is new: say in this table which act it is, or why it is none", name) {
			continue
		}
		act, isAct := what.(guard.Act)
		if !isAct {
			assert.NotContains(t, body, "desk.Do", "%s is said to do nothing", name)
			continue
		}
		assert.NotNil(t, guard.Of(act))
		assert.Contains(t, body, "guard."+constants(t)[act], "%s is said to be %s", name, act)
	}
	for name := range methods {
		assert.Contains(t, found, name, "%s is gone", name)
	}
}

// services are where methods that screens and commands call are: of App, and of the services that it has.
var services = map[string]string{".": "App", "../service/sites": "Service", "../service/deployments": "Service", "../service/runs": "Service", "../service/accounts": "Service", "../service/hooks": "Service",
	"../service/moves": "Service", "../service/offers": "Service", "../service/quotas": "Service", "../service/requests": "Service", "../service/shells": "Service", "../service/reconcile": "Service", "../service/snapshots": "Service", "../service/watch": "Service", "../service/reactions": "Service", "../service/fronts": "Service", "../service/tokens": "Service", "../service/workers": "Service", "../service/promises": "Service", "../service/replicas": "Service"}

// exported are the exported methods of App and its services, with which functions and constants they mention; of those that NewRun calls
// too.
func exported(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	for dir, of := range services {
		for _, f := range files(t, dir) {
			for _, d := range f.Decls {
				m, is := d.(*ast.FuncDecl)
				if !is || m.Recv == nil || !m.Name.IsExported() {
					continue
				}
				if on, is := m.Recv.List[0].Type.(*ast.StarExpr); !is || fmt.Sprint(on.X) != of {
					continue
				}
				out[m.Name.Name] += mentions(m.Body)
			}
		}
	}
	out["NewRun"] += " guard.BeginRun guard.ChangeRun" // which of both is another function's to say
	return out
}

// TestEveryServiceIsLookedAt holds that no service is left out of those whose methods are known.
func TestEveryServiceIsLookedAt(t *testing.T) {
	known := map[string]bool{"acting": true, "templates": true, "workspace": true} // which change nothing by themselves
	for dir := range services {
		known[filepath.Base(dir)] = true
	}
	all, err := filepath.Glob("../service/*")
	require.NoError(t, err)
	for _, dir := range all {
		assert.True(t, known[filepath.Base(dir)], "%s is new: name it in services", dir)
	}
}

func files(t *testing.T, dir string) []*ast.File {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	require.NoError(t, err)
	var out []*ast.File
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		out = append(out, f)
	}
	return out
}

func mentions(n ast.Node) string {
	var out []string
	ast.Inspect(n, func(n ast.Node) bool {
		if s, is := n.(*ast.SelectorExpr); is {
			out = append(out, lastOf(s.X)+"."+s.Sel.Name)
		}
		return true
	})
	return strings.Join(out, " ") + " "
}

// constants are the names of the acts' constants.
func constants(t *testing.T) map[guard.Act]string {
	t.Helper()
	out := map[guard.Act]string{}
	for _, f := range files(t, "../core/guard") {
		ast.Inspect(f, func(n ast.Node) bool {
			if v, is := n.(*ast.ValueSpec); is && len(v.Values) == 1 && fmt.Sprint(v.Type) == "Act" {
				out[guard.Act(strings.Trim(v.Values[0].(*ast.BasicLit).Value, `"`))] = v.Names[0].Name
			}
			return true
		})
	}
	return out
}

// lastOf is the last name of an expression: desk of svc.desk.
func lastOf(x ast.Expr) string {
	if s, is := x.(*ast.SelectorExpr); is {
		return s.Sel.Name
	}
	return fmt.Sprint(x)
}
