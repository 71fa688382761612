package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/alarm"
	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/core/offer"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/quota"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/core/token"
	"andamio/internal/core/trail"
	"andamio/internal/store"
)

// cutting is a context that is over for a moment: at one of the times that something asks. Every statement asks before it is sent, so that one of them fails and those after it,
// if there are any, do not.
type cutting struct {
	context.Context
	at    int64
	asked atomic.Int64
	// cut says that it was over, told how many were told why: somebody else may have asked before whoever saw that, who must be told.
	cut  atomic.Bool
	told atomic.Int64
}

// mostTold is how many are told that it was over.
const mostTold = 4

var shut = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

func (c *cutting) Done() <-chan struct{} {
	if c.asked.Add(1) == c.at {
		c.cut.Store(true)
		return shut
	}
	return nil
}

func (c *cutting) Err() error {
	if c.asked.Load() == c.at || c.cut.Load() && c.told.Add(1) <= mostTold {
		return context.Canceled
	}
	return nil
}

// contents is everything in a database, table by table.
func contents(t *testing.T, path string) map[string][]string {
	t.Helper()
	db, err := sql.Open("sqlite", dsn(path, time.Second))
	require.NoError(t, err)
	defer db.Close()
	names, err := db.Query(`SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name NOT LIKE 'goose%'`)
	require.NoError(t, err)
	out := map[string][]string{}
	for names.Next() {
		var name string
		require.NoError(t, names.Scan(&name))
		out[name] = nil
	}
	require.NoError(t, names.Close())
	for name := range out {
		rows, err := db.Query(`SELECT * FROM ` + name)
		require.NoError(t, err)
		columns, err := rows.Columns()
		require.NoError(t, err)
		for rows.Next() {
			values := make([]any, len(columns))
			for i := range values {
				values[i] = new(any)
			}
			require.NoError(t, rows.Scan(values...))
			var line strings.Builder
			for i := range values {
				fmt.Fprintf(&line, "%s=%v ", columns[i], *values[i].(*any))
			}
			out[name] = append(out[name], line.String())
		}
		require.NoError(t, rows.Close())
		slices.Sort(out[name])
	}
	return out
}

var midday = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// peopled makes a store with something of everything in it, and returns what may be done to one like it.
func peopled(t *testing.T, path string) func(s *Store) map[string]func(ctx context.Context) error {
	t.Helper()
	ctx := t.Context()
	s, err := Open(ctx, path)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	must := func(err error) { t.Helper(); require.NoError(t, err) }
	runID, epoch := aRun(t, s)
	p, err := s.SavePlan(ctx, &plan.Plan{Version: plan.Version, Name: "other"})
	must(err)
	dep, err := s.CreateDeployment(ctx, "basin", "t", guard.Owner{Person: "eva"})
	must(err)
	second, err := s.CreateRun(ctx, store.Run{Plan: p, Deployment: dep})
	must(err)
	must(s.Reserve(ctx, second, []store.Reservation{{Site: "vega", Value: "10.0.0.7"}, {Site: "vega", Value: "10.0.0.8"}}))
	record := func(id string) *inventory.Record {
		return &inventory.Record{ID: id, Name: id, Class: kinds.Instance, Site: "vega"}
	}
	must(s.Revise(ctx, 0, "eva", midday, []store.RecordChange{{ID: "r", After: record("r"), Why: "built"}, {ID: "s", After: record("s"), Why: "built"}}))
	act, err := s.RecordSettlement(ctx, "eva", midday, store.SettlementChanges{Body: []byte("{}"), Changes: []store.RecordChange{{ID: "s", Before: record("s"), Why: "gone"}}})
	must(err)
	survey, err := s.BeginSurvey(ctx, "vega", false, []string{"a", "b"}, midday)
	must(err)
	seen := func(id string) mapping.Observation { return mapping.Observation{Site: "vega", Region: "a", ID: id} }
	must(s.Stage(ctx, survey, store.SurveyPart{Region: "a", State: store.SurveyGoing}, []mapping.Observation{seen("i-1"), seen("i-2")}))
	move, err := s.CreateMove(ctx, dep, "eva", []byte("{}"), midday)
	must(err)
	proposal, err := s.Propose(ctx, store.Proposal{Kind: "order", State: store.ProposalOpen, Deployment: dep, Plan: p})
	must(err)
	lease, err := s.TakeLease(ctx, "serve", "h/1", "", midday, midday, func(store.Lease) bool { return false })
	must(err)
	due, err := s.Register(ctx, clock.Due{Kind: "survey", Subject: "vega", Rule: "FREQ=HOURLY", Start: midday, Seen: midday})
	must(err)
	_, err = s.Fire(ctx, "serve", lease, store.Firing{Due: due, At: midday.Add(time.Hour), Kind: "survey", Subject: "vega", State: store.FiringGoing, Began: midday})
	must(err)
	promised := promise.Promise{Deployment: dep, Kind: promise.Lease, Since: midday, By: guard.Actor{Name: "eva"}, Lease: &promise.LeaseTerms{Until: midday.Add(time.Hour), Grace: time.Hour, Notice: []time.Duration{time.Minute}}}
	must(s.SetPromise(ctx, promised, nil))
	third, err := s.CreateRun(ctx, store.Run{Plan: p, Deployment: dep})
	must(err)
	request, err := s.AddRequest(ctx, store.Request{Offer: "trial", Person: "eva", State: "asked"}, store.RequestEvent{Text: "asked"})
	must(err)
	_, err = s.PublishOffer(ctx, store.Offer{Offer: offer.Offer{Name: "trial"}})
	must(err)
	takes := []quota.Take{{Account: "own/eva", Measure: quota.Cores, Amount: 4, Most: 9}, {Account: "team/map", Measure: quota.Cores, Amount: 4, Most: 9}}
	hold, err := s.HoldQuota(ctx, store.Hold{Request: request, State: "held"}, takes)
	must(err)
	must(s.KeepAlerts(ctx, []alarm.Alert{{ID: 1, Since: midday}}))
	must(s.SayOfAlert(ctx, 1, store.Silenced, &alarm.Said{By: "eva"}))
	must(s.SetHooks(ctx, []string{"c", "d"}, midday))
	for i, state := range []store.DeliveryState{store.DeliveryWaiting, store.DeliverySending, store.DeliveryFailed, store.DeliveryWaiting} {
		_, err = s.Enlist(ctx, store.Delivery{Hook: "c", Event: hook.Event{ID: fmt.Sprint("e", i)}, At: midday, Next: midday, State: store.DeliveryWaiting})
		must(err)
		if state != store.DeliveryWaiting {
			d, err := s.TakeDelivery(ctx, midday, midday)
			must(err)
			if d.State = state; state != store.DeliverySending {
				must(s.SettleDelivery(ctx, d))
			}
		}
	}
	sending, err := s.TakeDelivery(ctx, midday, midday)
	must(err)
	_, err = s.Enlist(ctx, store.Delivery{Hook: "c", Event: hook.Event{ID: "e9"}, At: midday, Next: midday, State: store.DeliveryWaiting})
	must(err)
	given, err := s.Deliveries(ctx, 10)
	must(err)
	failed := given[slices.IndexFunc(given, func(d store.Delivery) bool { return d.State == store.DeliveryFailed })].ID
	must(s.AddToken(ctx, token.Token{ID: "t1", Name: "one", Of: "eva", Made: midday, Ends: midday.Add(time.Hour)}, token.Secrets{Now: "d1"}))
	must(s.AddToken(ctx, token.Token{ID: "t2", Name: "two", Of: "eva", Made: midday, Ends: midday.Add(time.Hour)}, token.Secrets{Now: "d2"}))
	_, _, err = s.KeepOnce(ctx, store.Once{Who: "eva", Key: "k", Digest: "x", At: midday})
	must(err)
	must(s.KeepReactionState(ctx, react.Kept{Reaction: "grow", Deployment: dep}))
	must(s.KeepBook(ctx, dep, store.Book{Runs: "1", Body: []byte("{}")}))
	must(s.KeepPrices(ctx, store.PriceList{Site: "vega", From: midday, Body: []byte("{}")}))
	files := store.Source{Root: "t.yaml", Files: map[string][]byte{"t.yaml": []byte("a: 1")}}
	must(s.KeepSource(ctx, files.Digest(), files))
	must(s.LeaseAddress(ctx, promise.AddressLease{Site: "vega", Value: "10.0.0.20", For: "a", Until: midday.Add(time.Hour), Since: midday}, false))
	must(s.SetReactor(ctx, "abc", guard.Actor{Name: "eva"}))
	ended, err := s.CreateRun(ctx, store.Run{Plan: p})
	must(err)
	last, err := s.Claim(ctx, ended, 0, store.WorkerOn("h", 8), func(store.Run) bool { return false })
	must(err)
	must(s.Finish(ctx, ended, last, run.Failed))
	later := promised
	later.Lease = &promise.LeaseTerms{Until: midday.Add(2 * time.Hour), Grace: time.Hour, Notice: []time.Duration{time.Minute}}
	return func(s *Store) map[string]func(ctx context.Context) error {
		return map[string]func(ctx context.Context) error{
			"plan": func(ctx context.Context) error {
				_, err := s.SavePlan(ctx, &plan.Plan{Version: plan.Version, Name: "new"})
				return err
			},
			"run": func(ctx context.Context) error {
				_, err := s.CreateRun(ctx, store.Run{Plan: p, Deployment: dep})
				return err
			},
			"forget": func(ctx context.Context) error { return s.Forget(ctx, third) },
			"alerts": func(ctx context.Context) error {
				return s.KeepAlerts(ctx, []alarm.Alert{{ID: 1, Since: midday, Ended: midday}, {ID: 2, Since: midday}})
			},
			"acknowledge": func(ctx context.Context) error {
				return s.SayOfAlert(ctx, 1, store.Acknowledged, &alarm.Said{By: "eva"})
			},
			"silence over": func(ctx context.Context) error { return s.SayOfAlert(ctx, 1, store.Silenced, nil) },
			"beat":         func(ctx context.Context) error { _, err := s.Beat(ctx, runID, epoch); return err },
			"finish":       func(ctx context.Context) error { return s.Finish(ctx, runID, epoch, run.Standing) },
			"cancel":       func(ctx context.Context) error { return s.Cancel(ctx, runID) },
			"decide":       func(ctx context.Context) error { return s.Decide(ctx, runID, store.Decision{Step: "a", Verb: "skip"}) },
			"void":         func(ctx context.Context) error { return s.Void(ctx, third) },
			"deployment": func(ctx context.Context) error {
				_, err := s.CreateDeployment(ctx, "new", "t", guard.Owner{Team: "map", Tags: map[string]string{"a": "b"}})
				return err
			},
			"own": func(ctx context.Context) error { return s.Own(ctx, dep, guard.Owner{Team: "map"}) },
			"reserve": func(ctx context.Context) error {
				return s.Reserve(ctx, runID, []store.Reservation{{Site: "vega", Value: "10.0.0.9"}, {Site: "presa", Value: "10.0.0.9"}})
			},
			"keep": func(ctx context.Context) error {
				return s.Keep(ctx, dep, []store.Reservation{{Site: "vega", Value: "10.0.0.7"}})
			},
			"learn": func(ctx context.Context) error {
				return s.Learn(ctx, runID, []store.Took{{Key: "a", Step: "x", Seconds: 1, At: midday}, {Key: "b", Step: "y", Seconds: 2, At: midday}})
			},
			"settle": func(ctx context.Context) error {
				_, err := s.SettleProposal(ctx, proposal, store.ProposalOpen, store.ProposalConfirmed, store.Outcome{Run: runID})
				return err
			},
			"propose": func(ctx context.Context) error {
				_, err := s.Propose(ctx, store.Proposal{Kind: "order", State: store.ProposalOpen, Plan: p})
				return err
			},
			"move": func(ctx context.Context) error {
				_, err := s.CreateMove(ctx, dep, "eva", []byte("{}"), midday)
				return err
			},
			"move's run": func(ctx context.Context) error {
				return s.AddMoveRun(ctx, move, store.MoveRun{Wave: 0, Kind: store.MoveThere, Run: runID})
			},
			"pair": func(ctx context.Context) error { return s.SetPair(ctx, "a", "b", []byte("{}")) },
			"survey": func(ctx context.Context) error {
				_, err := s.BeginSurvey(ctx, "presa", true, []string{"x", "y"}, midday)
				return err
			},
			"stage": func(ctx context.Context) error {
				return s.Stage(ctx, survey, store.SurveyPart{Region: "a", Cursor: "t", State: store.SurveyGoing}, []mapping.Observation{seen("i-3"), seen("i-4")})
			},
			"region": func(ctx context.Context) error { return s.EndRegion(ctx, survey, "vega", "a", nil, midday) },
			"region failed": func(ctx context.Context) error {
				return s.EndRegion(ctx, survey, "vega", "b", errors.New("silent"), midday)
			},
			"end of survey": func(ctx context.Context) error { return s.EndSurvey(ctx, survey, store.SurveyDone, midday) },
			"observed": func(ctx context.Context) error {
				o := seen("i-9")
				_, err := s.Observed(ctx, []store.Sight{{Site: "vega", ID: "i-9", Observation: &o, Notices: []string{"x"}}, {Site: "vega", ID: "i-8", Notices: []string{"y"}}}, midday)
				return err
			},
			"forget site": func(ctx context.Context) error { return s.ForgetSite(ctx, "vega") },
			"facts":       func(ctx context.Context) error { return s.KeepFacts(ctx, "vega", []byte("{}"), midday) },
			"revise": func(ctx context.Context) error {
				return s.Revise(ctx, 0, "eva", midday, []store.RecordChange{{ID: "r", Before: record("r"), Why: "gone"}, {ID: "n", After: record("n"), Why: "new"}})
			},
			"touch": func(ctx context.Context) error {
				r := *record("r")
				r.Seen = midday
				return s.Touch(ctx, []inventory.Record{r, *record("s")})
			},
			"act": func(ctx context.Context) error {
				_, err := s.RecordSettlement(ctx, "eva", midday, store.SettlementChanges{Body: []byte("{}"), Changes: []store.RecordChange{{ID: "n", After: record("n")}}, Ignore: []store.Ignoring{{Ignored: inventory.Ignored{Finding: "f"}}}, Decide: []inventory.Decision{{Site: "vega", Provider: "i", Record: "r", Same: true}}})
				return err
			},
			"undo": func(ctx context.Context) error { return s.UndoSettlement(ctx, act, "eva", midday) },
			"trend": func(ctx context.Context) error {
				return s.KeepTrend(ctx, midday, map[inventory.Type]int{"missing": 3, "changed": 2})
			},
			"offer": func(ctx context.Context) error {
				_, err := s.PublishOffer(ctx, store.Offer{Offer: offer.Offer{Name: "trial"}})
				return err
			},
			"withdraw": func(ctx context.Context) error { return s.WithdrawOffer(ctx, "trial") },
			"hold": func(ctx context.Context) error {
				_, err := s.HoldQuota(ctx, store.Hold{State: "held"}, takes[:1])
				return err
			},
			"change of hold": func(ctx context.Context) error {
				return s.ChangeHold(ctx, store.Hold{ID: hold, Request: request, State: "held"}, takes[1:], false)
			},
			"request": func(ctx context.Context) error {
				_, err := s.AddRequest(ctx, store.Request{Offer: "x", State: "asked"}, store.RequestEvent{Text: "a"}, store.RequestEvent{Text: "b"})
				return err
			},
			"answer": func(ctx context.Context) error {
				_, err := s.ChangeRequest(ctx, store.Request{ID: request, Offer: "trial", State: "done"}, "asked", store.RequestEvent{Text: "done"})
				return err
			},
			"note": func(ctx context.Context) error {
				_, err := s.Note(ctx, trail.Entry{At: midday, Act: "a", On: "b"})
				return err
			},
			"promise":      func(ctx context.Context) error { return s.SetPromise(ctx, later, &promised) },
			"drop promise": func(ctx context.Context) error { return s.DropPromise(ctx, dep, promise.Lease, nil) },
			"lease": func(ctx context.Context) error {
				_, err := s.TakeLease(ctx, "other", "h/2", "", midday, midday, func(store.Lease) bool { return false })
				return err
			},
			"due": func(ctx context.Context) error {
				_, err := s.Register(ctx, clock.Due{Kind: "survey", Subject: "vega", Rule: "FREQ=DAILY", Start: midday, Seen: midday})
				return err
			},
			"due no more": func(ctx context.Context) error { return s.Unregister(ctx, "survey", "vega") },
			"fire": func(ctx context.Context) error {
				_, err := s.Fire(ctx, "serve", lease, store.Firing{Due: due, At: midday.Add(2 * time.Hour), State: store.FiringGoing, Began: midday})
				return err
			},
			"end of firing": func(ctx context.Context) error {
				return s.EndFiring(ctx, store.Firing{Due: due, At: midday.Add(time.Hour), State: store.FiringDone, Note: "well"})
			},
			"hooks": func(ctx context.Context) error { return s.SetHooks(ctx, []string{"a", "b"}, midday) },
			"address lent": func(ctx context.Context) error {
				return s.LeaseAddress(ctx, promise.AddressLease{Site: "vega", Value: "10.0.0.21", For: "b", Until: midday.Add(time.Hour), Since: midday}, false)
			},
			"address lent for longer": func(ctx context.Context) error {
				return s.LeaseAddress(ctx, promise.AddressLease{Site: "vega", Value: "10.0.0.20", For: "a", Until: midday.Add(2 * time.Hour), Since: midday}, true)
			},
			"address back": func(ctx context.Context) error { return s.ReturnAddress(ctx, "vega", "10.0.0.20") },
			"lease held":   func(ctx context.Context) error { return s.HoldLease(ctx, "serve", lease, midday.Add(time.Minute)) },
			"word on lease": func(ctx context.Context) error {
				return s.SayOfLease(ctx, "serve", lease, "at h", midday.Add(time.Minute))
			},
			"lease left": func(ctx context.Context) error { return s.LeaveLease(ctx, "serve", lease) },
			"delivery taken": func(ctx context.Context) error {
				_, err := s.TakeDelivery(ctx, midday.Add(time.Hour), midday)
				return err
			},
			"deliveries of one": func(ctx context.Context) error {
				got, err := s.TakeDeliveriesOf(ctx, "c", 5, midday.Add(time.Hour))
				if err == nil && len(got) != 2 {
					err = fmt.Errorf("%d wait", len(got))
				}
				return err
			},
			"delivery settled": func(ctx context.Context) error {
				d := sending
				d.State, d.Note = store.DeliverySent, "well"
				return s.SettleDelivery(ctx, d)
			},
			"delivery again": func(ctx context.Context) error { return s.ResendDelivery(ctx, failed, midday.Add(time.Hour)) },
			"book": func(ctx context.Context) error {
				return s.KeepBook(ctx, dep, store.Book{Runs: "1,2", Body: []byte("[]")})
			},
			"prices": func(ctx context.Context) error {
				return s.KeepPrices(ctx, store.PriceList{Site: "vega", From: midday.Add(time.Hour), Body: []byte("[]")})
			},
			"body of a move": func(ctx context.Context) error { return s.KeepMove(ctx, move, []byte("[]")) },
			"once": func(ctx context.Context) error {
				_, _, err := s.KeepOnce(ctx, store.Once{Who: "eva", Key: "l", Digest: "x", At: midday})
				return err
			},
			"answered once": func(ctx context.Context) error {
				return s.AnswerOnce(ctx, store.Once{Who: "eva", Key: "k", Digest: "x", At: midday, Status: 200, Type: "t", Body: []byte("b")})
			},
			"once forgotten": func(ctx context.Context) error { return s.ForgetOnce(ctx, midday.Add(time.Hour)) },
			"reaction": func(ctx context.Context) error {
				return s.KeepReactionState(ctx, react.Kept{Reaction: "shrink", Deployment: dep})
			},
			"reaction no more":  func(ctx context.Context) error { return s.DropReactionState(ctx, "grow", dep) },
			"reactions' person": func(ctx context.Context) error { return s.SetReactor(ctx, "def", guard.Actor{Name: "ada"}) },
			"source": func(ctx context.Context) error {
				other := store.Source{Root: "t.yaml", Files: map[string][]byte{"t.yaml": []byte("a: 2")}}
				return s.KeepSource(ctx, other.Digest(), other)
			},
			"token": func(ctx context.Context) error {
				return s.AddToken(ctx, token.Token{ID: "t3", Name: "three", Of: "eva", Made: midday, Ends: midday.Add(time.Hour)}, token.Secrets{Now: "d3"})
			},
			"token rotated": func(ctx context.Context) error { return s.RotateToken(ctx, "t1", "d4", midday.Add(time.Minute)) },
			"token revoked": func(ctx context.Context) error { return s.RevokeToken(ctx, "t2", "ada", midday) },
			"token used":    func(ctx context.Context) error { return s.UseToken(ctx, "t1", midday.Add(time.Hour), "10.0.0.1") },
			"released":      func(ctx context.Context) error { _, err := s.Release(ctx, second); return err },
			"left":          func(ctx context.Context) error { return s.Leave(ctx, ended) },
			"claimed": func(ctx context.Context) error {
				_, err := s.Claim(ctx, second, 0, store.WorkerOn("h", 9), func(store.Run) bool { return false })
				return err
			},
			"delivery": func(ctx context.Context) error {
				_, err := s.Enlist(ctx, store.Delivery{Hook: "a", At: midday, Next: midday, State: store.DeliveryWaiting})
				return err
			},
		}
	}
}

// TestEveryWriteIsWholeOrNotAtAll has each of the statements of each write fail, one after another: there is an error, and nothing is changed; and where none fails, there is none,
// and something is.
func TestEveryWriteIsWholeOrNotAtAll(t *testing.T) {
	t.Parallel()
	like := filepath.Join(t.TempDir(), "like.db")
	writes := peopled(t, like)
	whole, err := os.ReadFile(like)
	require.NoError(t, err)
	before := contents(t, like)
	for _, name := range slices.Sorted(maps.Keys(writes(nil))) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			fresh := func() (string, func(context.Context) error) {
				path := filepath.Join(t.TempDir(), "andamio.db")
				require.NoError(t, os.WriteFile(path, whole, 0o600))
				s, err := Open(t.Context(), path)
				require.NoError(t, err)
				t.Cleanup(func() { s.Close() })
				return path, writes(s)[name]
			}
			path, write := fresh()
			failed := 0
			for at := int64(1); ; at++ {
				require.Less(t, at, int64(400), "it never ends")
				ctx := &cutting{Context: context.WithoutCancel(t.Context()), at: at}
				err := write(ctx)
				if !ctx.cut.Load() {
					require.NoError(t, err)
					break
				}
				if err != nil {
					failed++
					require.Equal(t, before, contents(t, path), "statement %d: %v", at, err)
					continue
				}
				require.NotEqual(t, before, contents(t, path), "statement %d failed, and nobody said so", at)
				path, write = fresh() // who asked was not what sends a statement: all was done
			}
			assert.Positive(t, failed, "its statements fail")
			after := contents(t, path)
			text := func(m map[string][]string) string { b, _ := json.Marshal(m); return string(b) }
			assert.NotEqual(t, text(before), text(after), "it writes something")
		})
	}
}
