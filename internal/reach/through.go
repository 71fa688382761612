package reach

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Through says through which workers a site is reached: those of a pool, or of them those that have some labels. The zero value is from here.
type Through struct {
	Pool   string            `json:"pool,omitempty"`
	Labels map[string]string `json:"labels,omitempty"`
	// Wait is for how long a step of a run waits for one of them where none is there; 0 is [UsualWait], and [NoWait] not at all.
	Wait time.Duration `json:"-"`
}

// For how long a step waits for a worker where nobody says it, as "not at all", and at most.
const (
	UsualWait = 10 * time.Minute
	NoWait    = time.Duration(-1)
	MostWait  = 7 * 24 * time.Hour
)

// Patience is for how long a step of a run waits for one of the workers where none is there.
func (t Through) Patience() time.Duration {
	if t.Wait == 0 {
		return UsualWait
	}
	return max(t.Wait, 0)
}

// wordWait is before how long a step waits, after all labels.
const wordWait = "wait"

// readWait takes how long a step waits off the end of words.
func readWait(words []string) (rest []string, wait time.Duration, err error) {
	if n := len(words); n < 3 || words[n-2] != wordWait {
		return words, 0, nil
	}
	n := len(words)
	wait, err = time.ParseDuration(words[n-1])
	switch {
	case err != nil || wait < 0 || wait > MostWait:
		return nil, 0, fmt.Errorf("%q is not how long a step waits for a worker: write wait 30m, wait 0s for not at all, or wait %s at most", words[n-1], MostWait)
	case wait == 0:
		wait = NoWait
	}
	return words[:n-2], wait, nil
}

// pool is what pools of workers may be called.
var pool = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,61}[a-z0-9])?$`)

// label is what labels that choose may be made of.
var label = regexp.MustCompile(`^[A-Za-z0-9._/-]+$`)

// mostLabels bounds by how many labels workers are chosen.
const mostLabels = 32

// CheckPool says what is the matter with the name of a pool of workers.
func CheckPool(name string) error {
	if !pool.MatchString(name) {
		return fmt.Errorf("%q is no name of a pool of workers: it is made of small letters, digits, dots, hyphens and underscores", name)
	}
	return nil
}

// ReadThrough reads POOL LABEL=VALUE... wait DURATION, as String writes it; "" is from here.
func ReadThrough(text string) (Through, error) {
	words, wait, err := readWait(strings.Fields(text))
	if len(words) == 0 || err != nil {
		return Through{}, err
	}
	t := Through{Pool: words[0], Wait: wait}
	for _, w := range words[1:] {
		name, value, is := strings.Cut(w, "=")
		if !is {
			return Through{}, fmt.Errorf("%q is no label: write NAME=VALUE", w)
		}
		if _, twice := t.Labels[name]; twice {
			return Through{}, fmt.Errorf("the label %s is there twice, and a worker has it once", name)
		}
		if t.Labels == nil {
			t.Labels = map[string]string{}
		}
		t.Labels[name] = value
	}
	return t, t.Check()
}

// Check says what is the matter with it.
func (t Through) Check() error {
	if t.Pool == "" && len(t.Labels) == 0 && t.Wait == 0 {
		return nil
	}
	if t.Wait != NoWait && (t.Wait < 0 || t.Wait > MostWait) {
		return fmt.Errorf("a step waits for a worker for %s at most", MostWait)
	}
	if err := CheckPool(t.Pool); err != nil {
		return err
	}
	if len(t.Labels) > mostLabels {
		return fmt.Errorf("workers are chosen by %d labels at most", mostLabels)
	}
	for _, name := range slices.Sorted(maps.Keys(t.Labels)) {
		if !label.MatchString(name) || !label.MatchString(t.Labels[name]) {
			return fmt.Errorf("workers are not chosen by the label %q=%q: both parts are made of letters, digits, and . _ / -", name, t.Labels[name])
		}
	}
	return nil
}

// String is whom it means, and how long steps wait for them where that is not as usual.
func (t Through) String() string {
	if t.Wait == 0 {
		return t.Whom()
	}
	return t.Whom() + " " + wordWait + " " + t.Patience().String()
}

// Whom is the pool, and the labels after it in the order of their names.
func (t Through) Whom() string {
	out := t.Pool
	for _, name := range slices.Sorted(maps.Keys(t.Labels)) {
		out += " " + name + "=" + t.Labels[name]
	}
	return out
}

// Means reports that it means a worker of a pool with some labels.
func (t Through) Means(pool string, labels map[string]string) bool {
	for name, value := range t.Labels {
		if has, is := labels[name]; !is || has != value {
			return false
		}
	}
	return t.Pool != "" && t.Pool == pool
}
