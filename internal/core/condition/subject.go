package condition

import "cel.dev/cel-go/cel"

// Subject is a deployment as what rules are about.
type Subject struct {
	Name     string
	Services []string
	Team     string
	Person   string
	Stage    string
	Tags     map[string]string
}

// OfDeployments is the environment of expressions over deployment: its name, services, team, person, stage and tags.
func OfDeployments() (*cel.Env, error) {
	return cel.NewEnv(cel.Variable("deployment", cel.MapType(cel.StringType, cel.DynType)))
}

// Facts are what expressions are worked out over.
func (s *Subject) Facts() map[string]any {
	services, tags := s.Services, s.Tags
	if services == nil {
		services = []string{}
	}
	if tags == nil {
		tags = map[string]string{}
	}
	return map[string]any{"deployment": map[string]any{"name": s.Name, "services": services, "team": s.Team, "person": s.Person, "stage": s.Stage, "tags": tags}}
}
