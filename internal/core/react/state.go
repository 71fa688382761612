package react

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/promise"
)

// State is what a reaction did to a deployment, and what it saw of it. The zero State has done nothing.
type State struct {
	// Acts are what was done or proposed within a day, the oldest first.
	Acts []Act `json:"acts,omitempty"`
	// Down are the machines that fell.
	Down []promise.Fall `json:"down,omitempty"`
	// Since is since when what it is about is so; zero if it is not. About says what that is: another one begins anew.
	Since time.Time `json:"since,omitzero"`
	About string    `json:"about,omitempty"`
	// Called is when a person was called, and CalledFor why; zero once all is well, or somebody said so.
	Called    time.Time `json:"called,omitzero"`
	CalledFor string    `json:"called_for,omitempty"`
	// CalledAbout is what it was called about: something else is seen to meanwhile.
	CalledAbout string `json:"called_about,omitempty"`
	// Says is what it decided last, or what holds it.
	Says string `json:"says,omitempty"`
}

// Kept is the state of a reaction to a deployment as it is kept.
type Kept struct {
	Reaction   string `json:"reaction"`
	Deployment int64  `json:"deployment"`
	State      State  `json:"state"`
}

// Act is something that was done.
type Act struct {
	At time.Time `json:"at"`
	Do Doing     `json:"do"`
	// On are the machines, or the tier; Count is how many there are then, From how many there were.
	On    []string `json:"on,omitempty"`
	From  int      `json:"from,omitempty"`
	Count int      `json:"count,omitempty"`
	Site  string   `json:"site,omitempty"`
	// Proposed says that a person was to confirm it.
	Proposed bool   `json:"proposed,omitempty"`
	Why      string `json:"why"`
	// Failed says why it could not be done; "" if it was.
	Failed string `json:"failed,omitempty"`
}

// Words say what was done.
func (a *Act) Words() string {
	text := string(a.Do) + " " + strings.Join(a.On, ", ")
	if a.Do == Scaling {
		text += fmt.Sprintf(" from %d to %d", a.From, a.Count)
	}
	if a.Do == Leaving {
		text = "move off " + a.Site
	}
	switch {
	case a.Failed != "":
		text += " (failed: " + a.Failed + ")"
	case a.Proposed:
		text += " (proposed)"
	}
	return text
}

// Within is within what time tries are counted.
const Within = 24 * time.Hour

// flapsWithin and flaps are within what time how many turns from growing to shrinking and back are flapping.
const (
	flapsWithin = 2 * time.Hour
	flaps       = 3
)

// forget drops what is long ago.
func (s *State) forget(now time.Time) {
	s.Acts = slices.DeleteFunc(slices.Clone(s.Acts), func(a Act) bool { return !a.At.Add(Within).After(now) })
}

// last is when something was done last.
func (s *State) last() time.Time {
	if n := len(s.Acts); n > 0 {
		return s.Acts[n-1].At
	}
	return time.Time{}
}

// since is how often it did something about a machine from a time on.
func (s *State) since(machine string, from time.Time) int {
	n := 0
	for _, a := range s.Acts {
		if !a.At.Before(from) && slices.Contains(a.On, machine) {
			n++
		}
	}
	return n
}

// lastOn is what was done about a machine last; "" if nothing was.
func (s *State) lastOn(machine string) Doing {
	for _, a := range slices.Backward(s.Acts) {
		if slices.Contains(a.On, machine) {
			return a.Do
		}
	}
	return ""
}

// turns is how often a tier was turned from growing to shrinking or back within the last while.
func (s *State) turns(now time.Time) int {
	n, way := 0, 0
	for _, a := range s.Acts {
		if a.Do != Scaling || a.At.Add(flapsWithin).Before(now) {
			continue
		}
		if w := sign(a.Count - a.From); w != 0 {
			if way != 0 && w != way {
				n++
			}
			way = w
		}
	}
	return n
}

func sign(n int) int {
	switch {
	case n > 0:
		return 1
	case n < 0:
		return -1
	}
	return 0
}

// call calls a person.
func (s *State) call(now time.Time, about, why string, args ...any) {
	if s.Called.IsZero() {
		s.Called = now.UTC()
	}
	s.CalledFor, s.CalledAbout = fmt.Sprintf(why, args...), about
}

// well says that what it is about is not so.
func (s *State) well() {
	s.Since, s.About, s.Called, s.CalledFor, s.CalledAbout = time.Time{}, "", time.Time{}, "", ""
}

// Note notes that something is done now: before it is done, so that it is never done more often.
func (s *State) Note(d *Decision, now time.Time) {
	s.Acts = append(slices.Clone(s.Acts), Act{At: now.UTC(), Do: d.Do, On: d.Machines, From: d.From, Count: d.Count, Site: d.Site, Proposed: d.Mode == Propose, Why: d.Why})
	s.Since, s.About = time.Time{}, ""
}

// Failed notes that what was noted last could not be done.
func (s *State) Failed(err error) {
	s.Says = "it could not be done: " + err.Error()
	s.Acts[len(s.Acts)-1].Failed = err.Error()
}

// failure says why what was done last could not be; "" if it could.
func (s *State) failure() string {
	if n := len(s.Acts); n > 0 && s.Acts[n-1].Failed != "" {
		return ", which could not be helped: " + s.Acts[n-1].Failed
	}
	return ""
}

// Left are the sites that were left within a day.
func (s *State) Left() []string {
	var out []string
	for _, a := range s.Acts {
		if a.Do == Leaving && a.Failed == "" && !slices.Contains(out, a.Site) {
			out = append(out, a.Site)
		}
	}
	return out
}
