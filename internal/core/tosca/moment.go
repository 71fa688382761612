package tosca

import (
	"cmp"
	"regexp"
	"strconv"
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

// timestampForm is YAML's timestamp type (https://yaml.org/type/timestamp.html).
var timestampForm = regexp.MustCompile(`^(\d{4})-(\d\d?)-(\d\d?)(?:(?:[Tt]|[ \t]+)(\d\d?):(\d\d?):(\d\d?)(?:\.(\d*))?(?:[ \t]*(?:([Zz])|([-+])(\d\d?)(?::?(\d\d))?))?)?$`)

// ParseTimestamp reads a date, or a date and time with or without zone.
func ParseTimestamp(text string) (Timestamp, bool) {
	m := timestampForm.FindStringSubmatch(text)
	if m == nil {
		return Timestamp{}, false
	}
	n := make([]int, len(m))
	for i := range m {
		n[i], _ = strconv.Atoi(m[i])
	}
	part, _ := strconv.Atoi((m[7] + "000000000")[:9])
	shift := time.Duration(n[10])*time.Hour + time.Duration(n[11])*time.Minute
	if m[9] == "-" {
		shift = -shift
	}
	at := time.Date(n[1], time.Month(n[2]), n[3], n[4], n[5], n[6], part, time.UTC)
	if at.Day() != n[3] || int(at.Month()) != n[2] || n[4] > 23 || n[5] > 59 || n[6] > 59 || n[10] > 23 || n[11] > 59 {
		return Timestamp{}, false // there is no such day, or no such time of day
	}
	return Timestamp{text, at.Add(-shift)}, true
}
