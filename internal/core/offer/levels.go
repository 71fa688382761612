package offer

import (
	"fmt"
	"slices"
	"strings"
)

// LevelInput is what the question for a service level goes by. No input of a template is called so.
const LevelInput = "service level"

// Asked are all questions of an offer: its own, and for the service level where there is a choice.
func (o *Offer) Asked() []Question {
	if len(o.Levels) < 2 {
		return o.Questions
	}
	q := Question{Input: LevelInput, Ask: "How well is it kept?", Default: o.Levels[0]}
	for _, l := range o.Levels {
		q.Choices = append(q.Choices, Choice{Value: l})
	}
	return append(slices.Clone(o.Questions), q)
}

// LevelOf is the service level that answers choose; "" is none.
func (o *Offer) LevelOf(given Answers) string {
	if chosen := strings.TrimSpace(given[LevelInput]); chosen != "" {
		return chosen
	}
	if len(o.Levels) == 0 {
		return ""
	}
	return o.Levels[0]
}

// wrongLevel says what is wrong with the service level that answers choose; nil if nothing.
func (o *Offer) wrongLevel(given Answers) []Wrong {
	switch chosen, answered := given[LevelInput]; {
	case !answered:
		return nil
	case len(o.Levels) < 2:
		return []Wrong{{LevelInput, "", "nobody asked that"}}
	case !slices.Contains(o.Levels, o.LevelOf(given)):
		return []Wrong{{LevelInput, "How well is it kept?", fmt.Sprintf("%q is none of %s", chosen, strings.Join(o.Levels, ", "))}}
	}
	return nil
}
