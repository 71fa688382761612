package deployments

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/run"
)

// deploymentName is what a deployment may be called: a label of the domain name system (RFC 1123, section 2.1), since
// names that are published end with it.
var deploymentName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// CheckName says why a deployment cannot be called so; nil if it can.
func CheckName(name string) error {
	if deploymentName.MatchString(name) {
		return nil
	}
	return fault.Invalidf("%q cannot be a deployment's name: it is made of small letters, digits and hyphens, at most 63, with no hyphen at either end", name)
}

// Taken is the deployment that stands, or is about to, under a name; nil if there is none.
func (svc *Service) Taken(ctx context.Context, name string) (*Deployment, error) {
	if err := svc.desk.Read("the deployments"); err != nil {
		return nil, err
	}
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		if d.Name != name {
			continue
		}
		x, err := svc.Whole(ctx, d)
		if err != nil {
			return nil, err
		}
		if len(x.Runs) > 0 && x.State() != run.Retired {
			return x, nil
		}
	}
	return nil, nil
}

// NameFree checks that a deployment can be raised under a name.
func (svc *Service) NameFree(ctx context.Context, name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	d, err := svc.inside().Taken(ctx, name)
	if err != nil || d == nil {
		return err
	}
	return &NameTaken{Name: name, Deployment: d.ID}
}

// NameTaken says that a deployment of that name stands: raising its design means changing it.
type NameTaken struct {
	Name       string `json:"name,omitempty"`
	Deployment int64  `json:"deployment"`
}

// Code is the class of the error.
func (n *NameTaken) Code() fault.Code { return fault.Conflict }

func (n *NameTaken) Error() string {
	return strings.ReplaceAll("NAME stands already: what is wanted of it is shown and run by andamio diff NAME; another one of it is asked for by another name, --name OTHER", "NAME", n.Name)
}

// FindDeployment is the deployment that is named: by its number, or the one that stands of a name.
func (svc *Service) FindDeployment(ctx context.Context, name string) (*Deployment, error) {
	if id, err := strconv.ParseInt(name, 10, 64); err == nil {
		return svc.Deployment(ctx, id)
	}
	all, err := svc.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	var found *Deployment
	for i := range all {
		if all[i].Name != name || all[i].State() == run.Retired {
			continue
		}
		if found != nil {
			return nil, fault.Invalidf("several deployments are called %s: say which by its number, as andamio deployments shows it", name)
		}
		found = &all[i]
	}
	if found == nil {
		return nil, fault.NotFoundf("no deployment that stands is called %q; andamio deployments lists them", name)
	}
	return found, nil
}
