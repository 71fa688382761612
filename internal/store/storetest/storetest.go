// Package storetest is what any store must do: those who keep a workspace elsewhere run it against theirs.
package storetest

import (
	"path/filepath"
	"testing"

	"andamio/internal/store"
)

// Opener opens the store of that name, and makes it if there is none. Opened twice it is one store with two users, as two processes
// have it. It is closed when the test ends.
type Opener func(t *testing.T, name string) store.Store

// tests are all of them, by name.
var tests = []struct {
	name string
	test func(t *testing.T, open Opener)
}{
	{"ALeaseHasOneHolder", aLeaseHasOneHolder},
	{"WhatIsDueIsRegisteredOnce", whatIsDueIsRegisteredOnce},
	{"WhatIsDueIsDoneAtMostOnce", whatIsDueIsDoneAtMostOnce},
	{"PlansComeBackAsTheyWere", plansComeBackAsTheyWere},
	{"OnlyOneWorkerGetsARun", onlyOneWorkerGetsARun},
	{"RunsLiveThroughTheirStates", runsLiveThroughTheirStates},
	{"EventsComeBackInOrderToEverybody", eventsComeBackInOrderToEverybody},
	{"JournalTakesConcurrentWriters", journalTakesConcurrentWriters},
	{"NothingIsHeldTwice", nothingIsHeldTwice},
	{"TwoRunsOfADeploymentAreNotWorkedOnAtOnce", twoRunsOfADeploymentAreNotWorkedOnAtOnce},
	{"AWorkerThatWasReplacedCanWriteNothing", aWorkerThatWasReplacedCanWriteNothing},
	{"DecisionsAreTakenOnce", decisionsAreTakenOnce},
	{"DurationsAreOfTheLastRuns", durationsAreOfTheLastRuns},
	{"WhatADeploymentKeepsIsItsOwn", whatADeploymentKeepsIsItsOwn},
	{"TheTrailIsWrittenByManyAtOnce", theTrailIsWrittenByManyAtOnce},
	{"TheTrailIsReadBackAsItWasWritten", theTrailIsReadBackAsItWasWritten},
	{"MovesAndPairsAreKept", movesAndPairsAreKept},
	{"DeploymentsAreListedTheNewestFirst", deploymentsAreListedTheNewestFirst},
	{"ARequestIsChangedByOneAtATime", aRequestIsChangedByOneAtATime},
	{"NoQuotaIsOverrun", noQuotaIsOverrun},
	{"WhatIsHeldIsChangedAndGivenBack", whatIsHeldIsChangedAndGivenBack},
	{"OneVersionOfAnOfferIsPublished", oneVersionOfAnOfferIsPublished},
	{"ADeploymentIsSomebodys", aDeploymentIsSomebodys},
	{"WhatDecidesAnAccountIsKept", whatDecidesAnAccountIsKept},
	{"AnEventIsToldOnceByEachHook", anEventIsToldOnceByEachHook},
	{"WhatAHookTellsIsTakenTogether", whatAHookTellsIsTakenTogether},
	{"AnAddressIsLeasedOnce", anAddressIsLeasedOnce},
	{"AlertsAreAsTheyBecameLast", alertsAreAsTheyBecameLast},
	{"ReactionsKnowWhatTheyDid", reactionsKnowWhatTheyDid},
	{"TokensAreKeptByTheirDigests", tokensAreKeptByTheirDigests},
	{"APromiseIsKeptWithWhatIsDueForIt", aPromiseIsKeptWithWhatIsDueForIt},
	{"ARunThatNeverBeganIsForgottenWithItsDeployment", aRunThatNeverBeganIsForgottenWithItsDeployment},
	{"WhatAForgottenRunHadIsTheOneBeforesAgain", whatAForgottenRunHadIsTheOneBeforesAgain},
	{"WhatWasWrittenComesBackWhole", whatWasWrittenComesBackWhole},
	{"SurveysAreListedAndEnded", surveysAreListedAndEnded},
	{"RegionsAndSitesStandByThemselves", regionsAndSitesStandByThemselves},
	{"NoticesAreTakenOnce", noticesAreTakenOnce},
	{"DecisionsOnIdentityComeBackAsTheyWere", decisionsOnIdentityComeBackAsTheyWere},
	{"ReservationsAreGivenBackByTheirRun", reservationsAreGivenBackByTheirRun},
	{"NothingIsDoneOnAClosedStore", nothingIsDoneOnAClosedStore},
	{"EveryCallHeedsItsContext", everyCallHeedsItsContext},
	{"RecordsAreWhatTheyBecameLast", recordsAreWhatTheyBecameLast},
	{"OnlyAWholeRegionTakesThePlaceOfWhatWasSeen", onlyAWholeRegionTakesThePlaceOfWhatWasSeen},
	{"ActsAreKeptAndTakenBackWhole", actsAreKeptAndTakenBackWhole},
	{"OnlyTheLastRunThatCountsIsTakenBack", onlyTheLastRunThatCountsIsTakenBack},
	{"OneOfTwoRunsIsClaimed", oneOfTwoRunsIsClaimed},
	{"OneOfManyReserves", oneOfManyReserves},
	{"ADeliveryIsTakenByOne", aDeliveryIsTakenByOne},
	{"TextsFromOutsideAreKept", textsFromOutsideAreKept},
	{"WhoeverWaitsIsTold", whoeverWaitsIsTold},
}

// Run runs the suite.
func Run(t *testing.T, open Opener) {
	for _, x := range tests {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			x.test(t, open)
		})
	}
}

// fresh is a name that no store has.
func fresh(t *testing.T) string {
	t.Helper()
	return filepath.Join(t.TempDir(), "a.db")
}
