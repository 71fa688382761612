package tosca

import (
	"cmp"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Version is a value of the type version (section 3.3.2): MAJOR.MINOR, then optionally FIX, QUALIFIER and BUILD.
type Version struct {
	// Text is the version as written, "2.1.4.beta-3".
	Text string
	// Numbers are major, minor and fix; Build is 0 where none is given.
	Numbers   [3]int
	Qualifier string
	Build     int
}

func (v Version) String() string { return v.Text }

// MarshalText writes the version as it was written.
func (v Version) MarshalText() ([]byte, error) { return []byte(v.Text), nil }

// Cmp orders versions as section 3.3.2.3 does: a version with a qualifier comes before the one without.
func (v Version) Cmp(o Version) int {
	for i := range v.Numbers {
		if c := cmp.Compare(v.Numbers[i], o.Numbers[i]); c != 0 {
			return c
		}
	}
	switch {
	case v.Qualifier == o.Qualifier:
		return cmp.Compare(v.Build, o.Build)
	case v.Qualifier == "":
		return 1
	case o.Qualifier == "":
		return -1
	}
	return cmp.Compare(v.Qualifier, o.Qualifier)
}

var versionForm = regexp.MustCompile(`^(\d{1,9})\.(\d{1,9})(?:\.(\d{1,9})(?:\.([A-Za-z0-9_]+)(?:-(\d{1,9}))?)?)?$`)

// ParseVersion reads a version; "0" and "0.0" are the standard's words for no version.
func ParseVersion(text string) (Version, bool) {
	if text == "0" {
		return Version{Text: text}, true
	}
	m := versionForm.FindStringSubmatch(text)
	if m == nil {
		return Version{}, false
	}
	v := Version{Text: text, Qualifier: m[4]}
	for i := range v.Numbers {
		v.Numbers[i], _ = strconv.Atoi(m[i+1])
	}
	v.Build, _ = strconv.Atoi(m[5])
	return v, true
}

// Timestamp is a value of the type timestamp (section 3.3.1, by YAML's timestamp).
type Timestamp struct {
	// Text is the time stamp as written; Time is in UTC where no zone is given.
	Text string
	Time time.Time
}

func (t Timestamp) String() string { return t.Text }

// MarshalText writes the time stamp as it was written.
func (t Timestamp) MarshalText() ([]byte, error) { return []byte(t.Text), nil }

// timestampForms are the forms of YAML's timestamp type, as Go writes them.
var timestampForms = []string{"2006-1-2", "2006-1-2T15:4:5.999999999Z07:00", "2006-1-2T15:4:5.999999999Z07",
	"2006-1-2T15:4:5.999999999", "2006-1-2T15:4:5.999999999Z7"}

// ParseTimestamp reads a date, or a date and time with or without zone.
func ParseTimestamp(text string) (Timestamp, bool) {
	s := strings.Join(strings.Fields(text), " ")
	s = strings.Replace(s, "t", "T", 1)
	s = strings.Replace(s, " ", "T", 1)
	s = strings.ReplaceAll(s, " ", "")
	for _, form := range timestampForms {
		if at, err := time.Parse(form, s); err == nil {
			return Timestamp{text, at.UTC()}, true
		}
	}
	return Timestamp{}, false
}
