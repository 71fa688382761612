package run

import "time"

// Bar is when a step ran or is expected to, as durations since the run's start.
type Bar struct {
	From, To time.Duration
}

// Forecast says when each step ran or will run and when the whole will end, from what happened so far and the plan's
// expected durations: a step under way is expected to take its time, at least until now; one that waits begins when
// the last it waits for ends. Steps that are held or were stopped have an empty bar.
func (s *State) Forecast(now time.Time) (bars []Bar, end time.Duration) {
	bars = make([]Bar, len(s.Steps))
	gone := time.Duration(0)
	if !s.Started.IsZero() {
		gone = now.Sub(s.Started)
	}
	if s.Over() {
		gone = s.Ended.Sub(s.Started)
	}
	for i := range s.Steps {
		bars[i] = s.bar(i, bars, gone)
		end = max(end, bars[i].To)
	}
	return bars, end
}

func (s *State) bar(i int, bars []Bar, gone time.Duration) Bar {
	st := &s.Steps[i]
	expected := time.Duration(st.Seconds * float64(time.Second))
	switch st.Status {
	case Standing, Failed, Stopped, Passed:
		began := st.Started
		if began.IsZero() { // a journal that lacks the beginning must not stretch the picture
			began = st.Ended
		}
		return Bar{began.Sub(s.Started), st.Ended.Sub(s.Started)}
	case UnderWay:
		from := st.Started.Sub(s.Started)
		return Bar{from, max(from+expected, gone)}
	case Held:
		return Bar{}
	}
	from := time.Duration(0)
	if s.Over() {
		return Bar{}
	}
	if !s.Started.IsZero() {
		from = gone
	}
	for _, a := range s.after[i] {
		from = max(from, bars[a].To)
	}
	return Bar{from, from + expected}
}
