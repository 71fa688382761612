package app

import (
	"andamio/internal/core/guard"
	"andamio/internal/core/trail"
	"andamio/internal/reach"
	"andamio/internal/service/workers"
	"andamio/internal/site"
	"andamio/internal/store"
)

// What is kept, for screens and commands, which know nothing of the store.
type (
	// Run is what is known of a run without reading its journal.
	Run = store.Run
	// Worker is one in a closed network that is gone through.
	Worker = workers.Worker
	// Survey is one look at a site, region by region.
	Survey = store.Survey
	// SurveyState is how a survey is.
	SurveyState = store.SurveyState
	// Covered is when a region of a site was seen whole.
	Covered = store.Covered
	// RecordChange is a change of a record by somebody.
	RecordChange = store.RecordChange
	// Trial is what one site found when it asked another.
	Trial = site.Trial
	// Through says through which workers a site is reached.
	Through = reach.Through
	// Delivery is how a hook was told of something, or not.
	Delivery = store.Delivery
	// RequestEvent is what was done or said about a request.
	RequestEvent = store.RequestEvent
	// Reservation is an address or a VLAN that a run holds.
	Reservation = store.Reservation
)

// Who acts, and by which way.
type (
	Actor = guard.Actor
	Way   = guard.Way
	// Entry is one of the trail of what was done.
	Entry = trail.Entry
)

// The ways in which somebody acts.
const (
	ByScreen   = guard.Screen
	ByCommand  = guard.Command
	BySchedule = guard.Schedule
	ByRule     = guard.Rule
)

// The states of a survey.
const (
	SurveyGoing   = store.SurveyGoing
	SurveyDone    = store.SurveyDone
	SurveyPartial = store.SurveyPartial
	SurveyFailed  = store.SurveyFailed
	SurveyStopped = store.SurveyStopped
)

// ErrNotFound says that there is no such thing.
var ErrNotFound = store.ErrNotFound
