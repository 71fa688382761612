package api

import (
	"context"
	"net/http"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
)

func siteOperations(s *Server) {
	lists(s, "listSites", "/sites", "List the connected sites, with when they were surveyed and will be", "sites", []string{"site list"}, func(l *app.ConnectedSite) string { return l.Site },
		func(ctx context.Context, a *app.App, _ *paging) ([]app.ConnectedSite, error) {
			return a.ConnectedSites(ctx)
		})
	reads(s, "getEstate", "/estate", "Show what the sites offer and what is free", "sites", []string{"estate", "estate rooms"}, func(ctx context.Context, a *app.App, _ *nothing) (*estate.Estate, error) { return a.Answering(ctx) })
	reads(s, "listPairs", "/pairs", "Show how the pairs of sites for moves are", "sites", []string{"pair"}, func(ctx context.Context, a *app.App, _ *nothing) ([]sites.Pair, error) { return a.Pairs(ctx) })
	type survey struct {
		Body reconcile.SurveyRequest
	}
	does(s, operation{id: "surveySite", method: http.MethodPost, path: "/surveys", summary: "List everything that there is at a site, region by region", tag: "sites", status: http.StatusOK, twins: []string{"survey"}},
		func(ctx context.Context, a *app.App, in *survey) (*body[app.Survey], error) {
			if in.Body.Site == "" {
				return nil, fault.Invalidf("name the site that is surveyed")
			}
			out, err := a.Survey(ctx, in.Body)
			return &body[app.Survey]{out}, err
		})
}

// connectingOperations are those that connect sites, and no more.
func connectingOperations(s *Server) {
	type connect struct {
		Body struct {
			workspace.Connection
			Secrets map[string]string `json:"secrets,omitempty" doc:"what its driver needs that is secret, by name"`
		}
	}
	connection := func(in *connect) (workspace.Connection, error) {
		c := in.Body.Connection
		return c, fault.Default(fault.Invalid, c.Tell(in.Body.Secrets))
	}
	does(s, operation{id: "connectSite", method: http.MethodPost, path: "/sites", summary: "Test and connect a site", tag: "sites", status: http.StatusCreated, twins: []string{"site add"}},
		func(ctx context.Context, a *app.App, in *connect) (*body[*sites.Tested], error) {
			if err := a.CheckSiteName(in.Body.Site); err != nil {
				return nil, fault.Default(fault.Invalid, err)
			}
			c, err := connection(in)
			if err != nil {
				return nil, err
			}
			x, err := a.Connect(ctx, c)
			return &body[*sites.Tested]{x}, err
		})
	type OfSite struct {
		Site string `path:"site" maxLength:"128"`
	}
	does(s, operation{id: "testSite", method: http.MethodPost, path: "/sites/{site}/test", summary: "Test a site that is connected", tag: "sites", status: http.StatusOK, twins: []string{"site test"}},
		func(ctx context.Context, a *app.App, in *OfSite) (*body[*sites.Tested], error) {
			c, err := a.Connection(in.Site)
			if err != nil {
				return nil, err
			}
			x, err := a.Test(ctx, c)
			return &body[*sites.Tested]{x}, err
		})
	does(s, operation{id: "removeSite", method: http.MethodDelete, path: "/sites/{site}", summary: "Connect a site no more, on which nothing stands", tag: "sites", status: http.StatusNoContent, twins: []string{"site remove"}},
		func(ctx context.Context, a *app.App, in *OfSite) (*gone, error) {
			return nil, a.Disconnect(ctx, in.Site)
		})
	type renewal struct {
		OfSite
		Body struct {
			Credential string `json:"credential" minLength:"1" maxLength:"65536"`
		}
	}
	does(s, operation{id: "rotateCredential", method: http.MethodPost, path: "/sites/{site}/rotate", summary: "Change the credential of a site, once it is seen that the new one holds", tag: "sites", status: http.StatusNoContent, twins: []string{"site rotate"}},
		func(ctx context.Context, a *app.App, in *renewal) (*gone, error) {
			return nil, a.Rotate(ctx, in.Site, in.Body.Credential)
		})
	type paired struct {
		A string `path:"a" maxLength:"128"`
		B string `path:"b" maxLength:"128"`
	}
	does(s, operation{id: "removePair", method: http.MethodDelete, path: "/pairs/{a}/{b}", summary: "Pair two sites no more", tag: "sites", status: http.StatusNoContent, twins: []string{"pair remove"}},
		func(ctx context.Context, a *app.App, in *paired) (*gone, error) {
			return nil, a.Unpair(ctx, in.A, in.B)
		})
}
