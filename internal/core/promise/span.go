package promise

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Span is a duration as people say it: "30d", "12h", "1d12h".
func Span(d time.Duration) string {
	const day = 24 * time.Hour
	if d < day || d%time.Hour != 0 {
		text := d.String()
		if strings.HasSuffix(text, "m0s") {
			text = strings.TrimSuffix(text, "0s")
		}
		if strings.HasSuffix(text, "h0m") {
			text = strings.TrimSuffix(text, "0m")
		}
		return text
	}
	text := fmt.Sprintf("%dd", d/day)
	if d%day != 0 {
		text += fmt.Sprintf("%dh", d%day/time.Hour)
	}
	return text
}

// ParseSpan reads what [Span] writes: weeks and days before hours, minutes and seconds.
func ParseSpan(text string) (time.Duration, error) {
	rest, out := text, time.Duration(0)
	for _, unit := range []struct {
		letter string
		long   time.Duration
	}{{"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}} {
		if head, tail, has := strings.Cut(rest, unit.letter); has {
			n, err := strconv.Atoi(head)
			if err != nil || n < 0 || n > mostUnits {
				return 0, fmt.Errorf("%q is no span of time, such as 30d or 12h", text)
			}
			rest, out = tail, out+time.Duration(n)*unit.long
		}
	}
	if rest == "" && text != "" {
		return out, nil
	}
	d, err := time.ParseDuration(rest)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("%q is no span of time, such as 30d or 12h", text)
	}
	return out + d, nil
}

// mostUnits bounds weeks and days, so that no span overflows.
const mostUnits = 10_000
