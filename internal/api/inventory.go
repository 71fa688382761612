package api

import (
	"context"
	"net/http"

	"andamio/internal/app"
	"andamio/internal/core/inventory"
	"andamio/internal/service/reconcile"
)

func inventoryOperations(s *Server) {
	lists(s, "listFindings", "/findings", "Say where declared, recorded and observed disagree", "inventory", []string{"reconcile"}, func(f *inventory.Finding) string { return f.ID },
		func(ctx context.Context, a *app.App, _ *paging) ([]inventory.Finding, error) {
			inv, err := a.Reconcile(ctx)
			if err != nil {
				return nil, err
			}
			return inv.Findings, nil
		})
	type find struct {
		Words string `query:"words" maxLength:"200"`
	}
	reads(s, "find", "/find", "Find anything by a part of its name or address", "inventory", []string{"find"}, func(ctx context.Context, a *app.App, in *find) ([]reconcile.Thing, error) {
		inv, err := a.Reconcile(ctx)
		if err != nil {
			return nil, err
		}
		all, err := a.Things(ctx, inv, nil)
		if err != nil {
			return nil, err
		}
		return reconcile.Find(in.Words, all), nil
	})
	type OfRecord struct {
		Record string `path:"record" maxLength:"200"`
	}
	reads(s, "getRecordHistory", "/records/{record}/history", "Show what became of a record", "inventory", []string{"records show"}, func(ctx context.Context, a *app.App, in *OfRecord) ([]app.RecordChange, error) {
		return a.RecordHistory(ctx, in.Record)
	})
}

// managingOperations have machines that nobody deployed here be deployments.
func managingOperations(s *Server) {
	type manage struct {
		Body struct {
			Whether
			reconcile.TakeOverRequest
		}
	}
	does(s, operation{id: "manageMachines", method: http.MethodPost, path: "/deployments", summary: "Have machines that nobody deployed here be a deployment", tag: "inventory", status: http.StatusOK, twins: []string{"manage"}},
		func(ctx context.Context, a *app.App, in *manage) (*ordered, error) {
			o, err := a.TakingOver(ctx, in.Body.TakeOverRequest)
			if err != nil {
				return nil, err
			}
			return carry(ctx, a, o.Plan.Name, o, in.Body.Whether)
		})
}
