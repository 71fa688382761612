package guard

import (
	"errors"
	"fmt"
	"path"
	"slices"
)

// Limit bounds what somebody may by one way, such as by a token: no more than they may anyway, and no more than this.
type Limit struct {
	// Rights are those that are left of theirs; none says that all are.
	Rights []Right `json:"rights,omitempty"`
	Scope
}

// Nothing reports that it bounds nothing.
func (l *Limit) Nothing() bool { return len(l.Rights) == 0 && l.unbounded() }

// Check says what is wrong with a limit, all of it.
func (l *Limit) Check() error {
	var errs []error
	for _, r := range l.Rights {
		if !slices.Contains(Rights, r) {
			errs = append(errs, fmt.Errorf("%q is no right; there are %v", r, Rights))
		}
	}
	for _, list := range [][]string{l.Teams, l.Sites, l.Services, l.Stages, l.Deployments} {
		for _, pattern := range list {
			if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
				errs = append(errs, fmt.Errorf("%q is no pattern", pattern))
			}
		}
	}
	return errors.Join(errs...)
}

// limited is the role of what is left.
const limited = "what their token is for"

// For is a limit as a directory in which only one person is, who may what is left to them there: both this and the directory that there is are asked.
// Teams are those of the directory; nil where there is none.
func (l *Limit) For(person string, d *Directory) *Directory {
	rights := l.Rights
	if len(rights) == 0 {
		rights = Rights
	}
	out := &Directory{Version: Version, People: map[string]Person{person: {}}, Roles: map[string][]Right{limited: rights}, Grants: []Grant{{To: person, Role: limited, Scope: l.Scope}}}
	if d != nil {
		out.Teams = d.Teams
	}
	return out
}
