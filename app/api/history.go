package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jardin/app/store"
)

// history serves the states of a treatment, and goes back to one.
func (s *Server) history(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "get-history", Method: http.MethodGet, Path: "/api/shots/{id}/history",
		Summary: "A page of the states of the treatment, the newest first: with who made each, when, and what was done",
	}, func(ctx context.Context, in *struct {
		ShotPath
		Before int `query:"before" minimum:"0" maximum:"2147483647" doc:"Only states with lower numbers; 0 for the newest"`
		Limit  int `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	}) (*body[[]store.State], error) {
		if _, err := s.Store.Shot(ctx, in.ID); err != nil {
			return nil, asProblem(err)
		}
		states, err := s.Store.History(ctx, in.ID, in.Before, in.Limit)
		return &body[[]store.State]{states}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "go-back", Method: http.MethodPost, Path: "/api/shots/{id}/history/{number}",
		Summary: "Put an earlier state in force again, as a new one: nothing of what came after is lost",
	}, func(ctx context.Context, in *struct {
		ShotPath
		Number int `path:"number" minimum:"0" maximum:"2147483647"`
	}) (*body[*store.Revision], error) {
		rev, err := s.Store.GoBack(ctx, in.ID, in.Number)
		return s.revised(in.ID, rev, err)
	})
}
