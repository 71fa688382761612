package reach

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Through says through which workers a site is reached: those of a pool, or of them those that have some labels. The zero value is from here.
type Through struct {
	Pool   string            `json:"pool,omitempty"`
	Labels map[string]string `json:"labels,omitempty"`
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

// ReadThrough reads POOL LABEL=VALUE..., as String writes it; "" is from here.
func ReadThrough(text string) (Through, error) {
	words := strings.Fields(text)
	if len(words) == 0 {
		return Through{}, nil
	}
	t := Through{Pool: words[0]}
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
	if t.Pool == "" && len(t.Labels) == 0 {
		return nil
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

// String is the pool, and the labels after it in the order of their names.
func (t Through) String() string {
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
