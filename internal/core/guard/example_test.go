package guard_test

import (
	"fmt"

	"andamio/internal/core/guard"
)

// Every act is asked for.
func ExampleAllow() {
	fmt.Println(guard.Allow(nil, guard.Actor{Name: "ana", Way: guard.Screen}, guard.BeginRun, guard.Named("gauge")))
	fmt.Println(guard.Allow(nil, guard.Actor{Way: guard.API}, guard.BeginRun, guard.Named("gauge")))
	// Output:
	// <nil>
	// nobody may not do that (begin-run, gauge): it is not known who asks
}

// Who may do what is in a directory of teams.
func ExampleDirectory_May() {
	d, err := guard.ReadDirectory([]byte(`
version: andamio.teams/1
people: { ana: { user: ana }, eva: {} }
teams: { gauging: { members: [ eva ] } }
grants:
- { to: ana, role: engineer }
- { to: "team:gauging", role: operator, teams: [ own ], sites: [ presa ] }
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	mine := guard.Thing{Name: "gauge", Team: "gauging", Sites: []string{"presa"}}
	fmt.Println(d.May("eva", guard.Operate, mine).Why)
	mine.Sites = append(mine.Sites, "vega")
	fmt.Println(d.May("eva", guard.Operate, mine).Why)
	fmt.Println(d.May("eva", guard.Keep, mine).Why)
	// Output:
	// given to the team gauging, as operator: things of own; at presa
	// their right to operate is bounded, and this is at vega, not at presa
	// that takes the right to keep, which nobody gave them
}
