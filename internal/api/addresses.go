package api

import (
	"context"
	"net/http"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/promise"
)

// addressOperations lease addresses for what Andamio does not build.
func addressOperations(s *Server) {
	lists(s, "listAddressLeases", "/address-leases", "List the addresses that are leased", "promises", []string{"lease address list"}, func(l *promise.AddressLease) string { return l.Site + " " + l.Value },
		func(ctx context.Context, a *app.App, _ *paging) ([]promise.AddressLease, error) {
			return a.AddressLeases(ctx)
		})
	type leasing struct {
		Body struct {
			Site  string    `json:"site"`
			Value string    `json:"value,omitempty" doc:"the address; any that is free where nothing is said"`
			For   string    `json:"for"`
			Until time.Time `json:"until"`
		}
	}
	does(s, operation{id: "leaseAddress", method: http.MethodPost, path: "/address-leases", summary: "Lease an address of a site's pools", tag: "promises", status: http.StatusCreated, twins: []string{"lease address"}},
		func(ctx context.Context, a *app.App, in *leasing) (*body[promise.AddressLease], error) {
			l, err := a.LeaseAddress(ctx, promise.AddressLease{Site: in.Body.Site, Value: in.Body.Value, For: in.Body.For, Until: in.Body.Until}, time.Now())
			return &body[promise.AddressLease]{l}, err
		})
	type leased struct {
		Site  string `path:"site" maxLength:"128"`
		Value string `path:"value" maxLength:"128"`
	}
	does(s, operation{id: "extendAddressLease", method: http.MethodPut, path: "/address-leases/{site}/{value}", summary: "Lease it for longer", tag: "promises", status: http.StatusOK, twins: []string{"lease address extend"}},
		func(ctx context.Context, a *app.App, in *struct {
			Site  string `path:"site" maxLength:"128"`
			Value string `path:"value" maxLength:"128"`
			Body  struct {
				Until time.Time `json:"until"`
			}
		}) (*body[promise.AddressLease], error) {
			l, err := a.ExtendAddress(ctx, in.Site, in.Value, in.Body.Until, time.Now())
			return &body[promise.AddressLease]{l}, err
		})
	does(s, operation{id: "returnAddress", method: http.MethodDelete, path: "/address-leases/{site}/{value}", summary: "Return it", tag: "promises", status: http.StatusNoContent, twins: []string{"lease address return"}},
		func(ctx context.Context, a *app.App, in *leased) (*gone, error) {
			return nil, a.ReturnAddress(ctx, in.Site, in.Value)
		})
}
