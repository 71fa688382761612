// Package trail is the trail of what was done: who did what to what, when, by which way, with which plan. Each entry holds the
// digest of the one before it, so that one that was changed, left out or put in is found.
package trail

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/guard"
)

// Entry is one act.
type Entry struct {
	// Seq counts entries from 1 on.
	Seq int64     `json:"seq"`
	At  time.Time `json:"at"`
	guard.Actor
	Act guard.Act `json:"act"`
	// On is what it was done to.
	On string `json:"on"`
	// Plan is the digest of the plan that it was done with, Run the run of it, where there are such.
	Plan string `json:"plan,omitempty"`
	Run  int64  `json:"run,omitempty"`
	// Note says more, such as what was decided. Failed says why it was not done after all.
	Note   string `json:"note,omitempty"`
	Failed string `json:"failed,omitempty"`
	// Before is the digest of the entry before, "" for the first, and Digest that of this one.
	Before string `json:"before"`
	Digest string `json:"digest"`
}

// Sum is the SHA-256 digest of an entry, as hexadecimal, over its JSON without the digest.
func (e Entry) Sum() string {
	e.Digest = ""
	e.At = e.At.UTC()
	body, err := json.Marshal(e)
	if err != nil {
		panic(err) // it is made of text and numbers
	}
	sum := sha256.Sum256(body)
	return hex.EncodeToString(sum[:])
}

// After is an entry that follows another: with its number and digests, and with texts that are texts, which any database keeps as they are.
func (e Entry) After(last Entry) Entry {
	for _, text := range []*string{&e.Name, &e.On, &e.Note, &e.Failed} {
		*text = strings.ReplaceAll(strings.ToValidUTF8(*text, "\uFFFD"), "\x00", "\uFFFD")
	}
	e.Seq, e.Before = last.Seq+1, last.Digest
	e.At = e.At.UTC()
	e.Digest = e.Sum()
	return e
}

// Source is what entries are told to be of where they are told as events, and the beginning of their type (CloudEvents 1.0, section 3.1).
const (
	Source    = "andamio/log"
	EventType = "example.andamio.log."
)

// Words say what an entry is, for people.
func (e Entry) Words() string {
	words := string(e.Act)
	if row := guard.Of(e.Act); row != nil {
		words = row.Words
	}
	text := words + " " + e.On
	if e.Note != "" {
		text += ": " + e.Note
	}
	if e.Failed != "" {
		text += ", which failed: " + e.Failed
	}
	return text
}

// Wrong is something that is the matter with a trail.
type Wrong struct {
	Seq int64  `json:"seq"`
	Why string `json:"why"`
}

func (w Wrong) String() string { return fmt.Sprintf("entry %d %s", w.Seq, w.Why) }

// Verifier looks whether entries, given one after another from the first on, are a whole trail.
type Verifier struct {
	// Expect is the digest of an entry that must be there; "" is any.
	Expect string
	last   Entry
	found  bool
	// Wrong is what is the matter, at most [Most] of it.
	Wrong []Wrong
}

// Most bounds how much that is wrong is told.
const Most = 100

func (v *Verifier) wrong(seq int64, format string, args ...any) {
	if len(v.Wrong) < Most {
		v.Wrong = append(v.Wrong, Wrong{seq, fmt.Sprintf(format, args...)})
	}
}

// Next takes the next entry.
func (v *Verifier) Next(e Entry) {
	switch {
	case e.Seq == v.last.Seq+2:
		v.wrong(v.last.Seq+1, "is missing")
	case e.Seq > v.last.Seq+1:
		v.wrong(v.last.Seq+1, "and those up to %d are missing", e.Seq-1)
	case e.Seq <= v.last.Seq:
		v.wrong(e.Seq, "comes after %d", v.last.Seq)
	case e.Before != v.last.Digest:
		v.wrong(e.Seq, "does not follow the one before it: one of both was changed")
	}
	if e.Digest != e.Sum() {
		v.wrong(e.Seq, "was changed")
	}
	v.found = v.found || e.Digest == v.Expect
	v.last = e
}

// End says that there are no more, and how many there ever were by another count.
func (v *Verifier) End(ever int64) {
	if v.last.Seq < ever {
		v.wrong(v.last.Seq+1, "and those up to %d are missing: they were the last", ever)
	}
	if v.Expect != "" && !v.found {
		v.wrong(0, "with the digest %s is not there any more: all of it may have been made anew", v.Expect)
	}
}

// Last is the last entry: whoever keeps its digest elsewhere finds out by it that all of the trail was made anew.
func (v *Verifier) Last() Entry { return v.last }
