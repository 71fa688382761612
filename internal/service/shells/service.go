// Package shells is the service of going into instances: a shell, a command, and copying files, by SSH.
package shells

import (
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/workspace"
)

// Service is the service of shells for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	deployments *deployments.Service
}

// New returns the service for whoever is at the desk, over that of deployments.
func New(desk *acting.Desk, ws *workspace.Workspace, of *deployments.Service) *Service {
	return &Service{desk: desk, workspace: ws, deployments: of}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}
