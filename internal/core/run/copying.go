package run

import (
	"math"
	"strconv"
	"time"
)

// The events of copying disks. Their attributes are listed with [Disk].
const (
	// Sized says how many bytes the first copy of a disk will have, before it begins.
	Sized      EventKind = "disk-sized"
	RoundBegun EventKind = "round-begun"
	Copied     EventKind = "copied"
	RoundDone  EventKind = "round-done"
	// Judged says how it stands after a round: how fast it changes, and for how long it would stand still now.
	Judged EventKind = "round-judged"
	// Changed says how much has changed on a disk since its first copy began, while that goes on.
	Changed EventKind = "disk-changed"
)

// The decisions on a step that copies. [LimitTo] is followed by the bytes per second, 0 for no bound.
const (
	CutOver = "cut-over"
	Pause   = "pause"
	GoOn    = "go-on"
	LimitTo = "limit "
)

// Disk is how copying one disk stands. Attributes of events: disk, round, epoch, upto, total, at, done, wire, took (seconds).
type Disk struct {
	// Round is the round that is under way, or the last; Done and Total are its bytes, At how far on the disk it has come.
	Round           int
	Done, Total, At int64
	Running         bool
	// Began is when the round began, and as of when it is looked for what changed in it: a round that broke off and goes on
	// where it was began when it did. Idle is for how long of that it was not copied, Seen when it was last heard of.
	Began, Seen time.Time
	Idle        time.Duration
	// Whole is how many bytes the first copy has, 0 while that is not known.
	Whole int64
	// Changed is how many bytes had changed at ChangedAt since the round began.
	Changed   int64
	ChangedAt time.Time
	// Epoch and Base say up to when all that was written has been copied; Upto will be that when this round is done.
	Epoch      string
	Base, Upto uint32
	// Bytes and Wire are all that was copied so far, Holes those that were left out.
	Bytes, Wire int64
	Past        []Round
	// Speed is how many bytes a second got through of late, without what was waited between.
	Speed float64
}

// What counts for [Disk.Speed]: the last seconds, or the last part of what went before where that is longer.
const (
	lately      = 3 * time.Second
	shareLately = 0.25
)

// quicken takes into account that so many bytes got through in some seconds.
func (d *Disk) quicken(bytes int64, took float64) {
	if took <= 0 || bytes <= 0 {
		return
	}
	now := float64(bytes) / took
	if d.Speed == 0 {
		d.Speed = now
		return
	}
	weight := 1 - math.Exp(-took/max(lately.Seconds(), shareLately*d.Took()))
	d.Speed += weight * (now - d.Speed)
}

// Round is a round that is over.
type Round struct {
	Round       int
	Began, At   time.Time
	Bytes, Wire int64
	Idle        time.Duration
}

// Took is for how many seconds a round was copied, without what it stood still for after it broke off.
func (r *Round) Took() float64 { return (r.At.Sub(r.Began) - r.Idle).Seconds() }

// Took is for how many seconds this round has been copied.
func (d *Disk) Took() float64 { return (d.Seen.Sub(d.Began) - d.Idle).Seconds() }

// Changing is how many bytes a second have changed since the round began, 0 if that is not known yet.
func (d *Disk) Changing() float64 {
	if s := d.ChangedAt.Sub(d.Began).Seconds(); !d.ChangedAt.IsZero() && s > 0 {
		return float64(d.Changed) / s
	}
	return 0
}

// Rate is how many bytes a second this round copies, 0 if that is not known yet.
func (d *Disk) Rate() float64 {
	took, done := d.Took(), d.Done
	if !d.Running && len(d.Past) > 0 {
		last := d.Past[len(d.Past)-1]
		took, done = last.Took(), last.Bytes
	}
	if took > 0 {
		return float64(done) / took
	}
	return 0
}

// Judgement is how it stands after a round of all disks of a workload.
type Judgement struct {
	Round int
	At    time.Time
	// Bytes were copied in it, Changing and Bandwidth are bytes a second, Pause the seconds that it would stand still now.
	Bytes               int64
	Changing, Bandwidth float64
	Pause               float64
}

// Control is what a person has said of a step that copies.
type Control struct {
	Cut, Paused bool
	// Limit bounds bytes per second if Limited.
	Limit   int64
	Limited bool
}

// control takes a decision on copying into account; false if it is none.
func (c *Control) take(verb string) bool {
	switch {
	case verb == CutOver:
		c.Cut = true
	case verb == Pause:
		c.Paused = true
	case verb == GoOn:
		c.Paused = false
	case len(verb) > len(LimitTo) && verb[:len(LimitTo)] == LimitTo:
		n, err := strconv.ParseInt(verb[len(LimitTo):], 10, 63)
		if err != nil {
			return false
		}
		c.Limit, c.Limited = n, true
	default:
		return false
	}
	return true
}

// Steers reports that a verb is a decision on copying.
func Steers(verb string) bool { return new(Control).take(verb) }

// copying takes an event of copying into account.
func (s *State) copying(e Event) {
	num := func(name string) int64 { n, _ := strconv.ParseInt(e.Attributes[name], 10, 64); return n }
	if e.Kind == Judged {
		float := func(name string) float64 { f, _ := strconv.ParseFloat(e.Attributes[name], 64); return f }
		s.Judged[e.Resource] = append(s.Judged[e.Resource], Judgement{int(num("round")), e.At, num("bytes"), float("changing"), float("bandwidth"), float("pause")})
		return
	}
	d := s.Disks[e.Attributes["disk"]]
	if d == nil {
		d = &Disk{}
		s.Disks[e.Attributes["disk"]] = d
	}
	before := d.Seen
	d.Seen = e.At
	switch e.Kind {
	case Sized:
		d.Whole = num("total")
	case Changed:
		d.Changed, d.ChangedAt = num("bytes"), e.At
	case RoundBegun:
		d.begin(int(num("round")), e.Attributes["epoch"], uint32(num("upto")), e.At)
		d.Total, d.Done, d.At = num("total"), num("done"), num("at")
		d.stoodStill(before, e.At)
	case Copied:
		took, _ := strconv.ParseFloat(e.Attributes["took"], 64)
		d.quicken(num("bytes"), took)
		d.Bytes += num("bytes")
		d.Wire += num("wire")
		d.Done, d.At = num("done"), num("at")
	case RoundDone:
		d.Past = append(d.Past, Round{d.Round, d.Began, e.At, d.Done, num("wire"), d.Idle})
		d.Base, d.Running = d.Upto, false
	}
}

// begin begins a round, or goes on with one that broke off: that copies what was written up to the same mark.
func (d *Disk) begin(round int, epoch string, upto uint32, at time.Time) {
	if !d.Running || round != d.Round || epoch != d.Epoch || upto != d.Upto || upto == 0 {
		d.Began, d.Idle = at, 0
		d.Changed, d.ChangedAt = 0, time.Time{}
	}
	d.Round, d.Epoch, d.Upto, d.Running = round, epoch, upto, true
}

// stoodStill takes into account that nothing was copied since it was heard of last, or all the time where nothing of it is
// left.
func (d *Disk) stoodStill(heard, now time.Time) {
	if d.Done == 0 {
		d.Idle = now.Sub(d.Began)
	} else if heard.After(d.Began) {
		d.Idle += now.Sub(heard)
	}
}
