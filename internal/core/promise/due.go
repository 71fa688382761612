package promise

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/clock"
	"andamio/internal/core/guard"
)

// The kinds of what is due for promises (package clock).
const (
	DueSave   = "save"
	DueDrill  = "restore drill"
	DueCopy   = "replicate"
	DueOff    = "switch off"
	DueOn     = "switch on"
	DueNotice = "notice of end"
	DueEnd    = "end of lease"
	DueGone   = "end of grace"
	DueDrop   = "end of snapshot"
	// DueRecover is that machines were down for long enough.
	DueRecover = "recover"
	// DueLimit is that volumes are not bounded yet.
	DueLimit = "limit"
	// DueAnnounced is what was said that takes service away by itself.
	DueAnnounced = "announced"
)

// dueKinds are those of each kind of promise.
var dueKinds = map[Kind][]string{Saved: {DueSave}, Drilled: {DueDrill}, Replicated: {DueCopy}, Hours: {DueOff, DueOn}, Lease: {DueNotice, DueEnd, DueGone}, Guarded: {DueAnnounced}, Ends: {DueDrop}, Recovered: {DueRecover}, Limited: {DueLimit}}

// DueKindsOf are the kinds of what is due for a promise of a kind.
func DueKindsOf(k Kind) []string { return slices.Clone(dueKinds[k]) }

// Subject is that of what is due for a deployment; a part, such as the time zone of off hours that follow the sun, tells several of a kind apart.
func Subject(deployment int64, part string) string {
	if part == "" {
		return strconv.FormatInt(deployment, 10)
	}
	return fmt.Sprintf("%d %s", deployment, part)
}

// DeploymentOf is the deployment that something due is for.
func DeploymentOf(subject string) (int64, error) {
	head, _, _ := strings.Cut(subject, " ")
	return strconv.ParseInt(head, 10, 64)
}

// Dues are what is due for a promise, from a moment on.
func (p *Promise) Dues(from time.Time) []clock.Due {
	by := p.By.By(guard.Schedule)
	again := func(kind, part string, w When, earlier time.Duration) clock.Due {
		return clock.Due{Kind: kind, Subject: Subject(p.Deployment, part), Rule: w.text(earlier), Zone: w.Zone, Start: w.Start.Add(-earlier), By: by, Seen: from}
	}
	once := func(kind, part string, at time.Time) clock.Due {
		return clock.Due{Kind: kind, Subject: Subject(p.Deployment, part), Start: at, By: by, Seen: from}
	}
	switch p.Kind {
	case Saved:
		return []clock.Due{again(DueSave, "", p.Saved.When, 0)}
	case Replicated:
		return []clock.Due{again(DueCopy, "", p.Replicated.When, 0)}
	case Drilled:
		return []clock.Due{again(DueDrill, "", p.Drilled.When, 0)}
	case Hours:
		return p.Hours.dues(again)
	case Ends:
		return p.Ends.dues(once)
	case Limited:
		if p.Limited.At.IsZero() {
			return nil
		}
		return []clock.Due{once(DueLimit, "", p.Limited.At)}
	case Recovered:
		if p.Recovered.At.IsZero() {
			return nil
		}
		return []clock.Due{once(DueRecover, "", p.Recovered.At)}
	case Guarded:
		if p.Guarded.Announced.IsZero() {
			return nil
		}
		return []clock.Due{once(DueAnnounced, "", p.Guarded.Announced)}
	case Lease:
		out := []clock.Due{once(DueEnd, "", p.Lease.Until), once(DueGone, "", p.Lease.Until.Add(p.Lease.Grace))}
		for _, n := range p.Lease.Notice {
			out = append(out, once(DueNotice, Span(n), p.Lease.Until.Add(-n)))
		}
		return out
	}
	return nil
}
