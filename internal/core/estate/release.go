package estate

import "strings"

// Release says of a system more than what kind it is: as the capability OperatingSystem of TOSCA 1.3 (section 5.5.5) does of what a node needs, and a
// site of its images. What is empty is not said by an image, and does not matter to a node.
type Release struct {
	Architecture string `json:"architecture,omitempty"`
	Distribution string `json:"distribution,omitempty"`
	// Version has as many parts as are sure: an image of 12 is one of 12.0 and of 12.4, one of 12.4 is not of 12.0.
	Version string `json:"os_version,omitempty"`
}

// May reports whether what an image says of its release allows that it is the wanted one.
func (r Release) May(wanted Release) bool {
	return agree(r.Architecture, wanted.Architecture) && agree(r.Distribution, wanted.Distribution) && versionsAgree(r.Version, wanted.Version)
}

// String says the release in a few words; "" where nothing is said.
func (r Release) String() string {
	var words []string
	for _, w := range []string{r.Distribution, r.Version, r.Architecture} {
		if w != "" {
			words = append(words, w)
		}
	}
	return strings.Join(words, " ")
}

func agree(a, b string) bool { return a == "" || b == "" || strings.EqualFold(a, b) }

func versionsAgree(a, b string) bool {
	if a == "" || b == "" {
		return true
	}
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(as), len(bs)) {
		if !strings.EqualFold(as[i], bs[i]) {
			return false
		}
	}
	return true
}
