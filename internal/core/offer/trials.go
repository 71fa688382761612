package offer

import (
	"math/rand/v2"
)

// Trials are sets of answers that an offer is tried with before it is published.
type Trials struct {
	Sets []Answers `json:"-"`
	// All is how many sets there are, 0 where they have no end; Whole says that every one of them is tried.
	All   int  `json:"all"`
	Whole bool `json:"whole"`
}

// Trials are all sets of answers where there are at most so many, else so many of them that are drawn by a seed, with the smallest and the
// largest of every question among them, two more for each where so many are too few for that. A question that only the template bounds is answered by its default.
func (o *Offer) Trials(most int, seed uint64) Trials {
	asked := o.Asked()
	lists := make([][]string, len(asked))
	all, bounded := 1, true
	for i := range asked {
		lists[i] = asked[i].Answers()
		if lists[i] == nil {
			bounded = false
			lists[i] = []string{""}
		}
		if all <= most { // beyond that how many there are does not matter, and would overflow
			all *= len(lists[i])
		}
	}
	out := Trials{All: all, Whole: bounded && all <= most}
	if !bounded {
		out.All = 0
	}
	if all <= most {
		out.Sets = every(asked, lists)
		return out
	}
	out.All = count(lists)
	rng := rand.New(rand.NewPCG(seed, 18))
	out.Sets = append(out.Sets, set(asked, lists, func([]string) int { return 0 }), set(asked, lists, func(l []string) int { return len(l) - 1 }))
	for i := range lists { // each at its ends, with the others as they come
		for _, end := range []int{0, len(lists[i]) - 1} {
			s := set(asked, lists, func(l []string) int { return rng.IntN(len(l)) })
			if a := lists[i][end]; a != "" {
				s[asked[i].Input] = a
			}
			out.Sets = append(out.Sets, s)
		}
	}
	for len(out.Sets) < most {
		out.Sets = append(out.Sets, set(asked, lists, func(l []string) int { return rng.IntN(len(l)) }))
	}
	return out
}

// mostCounted bounds what is counted.
const mostCounted = 1 << 40

func count(lists [][]string) int {
	n := 1
	for _, l := range lists {
		if n *= len(l); n > mostCounted {
			return mostCounted
		}
	}
	return n
}

// Answers are those that a question offers, as they are written; nil if only the template bounds them.
func (q *Question) Answers() []string {
	var out []string
	for _, c := range q.Choices {
		out = append(out, Written(c.Value))
	}
	if q.From == nil || q.To == nil {
		return out
	}
	for k := 0; k < mostSteps; k++ {
		n := *q.From + float64(k)*q.step()
		if n > *q.To+1e-9 {
			return out
		}
		out = append(out, Written(n))
	}
	return append(out, Written(*q.To))
}

// mostSteps bounds how much of a range is gone through.
const mostSteps = 10_000

func set(asked []Question, lists [][]string, pick func([]string) int) Answers {
	out := Answers{}
	for i, l := range lists {
		if a := l[pick(l)]; a != "" {
			out[asked[i].Input] = a
		}
	}
	return out
}

// every are all sets of answers.
func every(asked []Question, lists [][]string) []Answers {
	at := make([]int, len(lists))
	var out []Answers
	for {
		k := -1
		out = append(out, set(asked, lists, func([]string) int { k++; return at[k] }))
		i := len(at) - 1
		for ; i >= 0; i-- {
			if at[i]++; at[i] < len(lists[i]) {
				break
			}
			at[i] = 0
		}
		if i < 0 {
			return out
		}
	}
}
