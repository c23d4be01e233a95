package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"jardin/app/datafolder"
	"jardin/app/jobs"
	"jardin/app/picture"
)

func (s *Server) usage(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "get-usage", Method: http.MethodGet, Path: "/api/usage",
		Summary: "What fills memory and disk, and how much they may",
	}, s.getUsage)
	huma.Register(api, huma.Operation{
		OperationID: "clear", Method: http.MethodDelete, Path: "/api/usage/{what}", DefaultStatus: http.StatusNoContent,
		Summary: "Clear what can be made again: memory, paint on disk, footage that was sent, or the files of a render",
	}, s.clear)
}

func (s *Server) getUsage(ctx context.Context, _ *struct{}) (*body[picture.Usage], error) {
	tasks, err := s.Store.AllTasks(ctx, "")
	if err != nil {
		return nil, asProblem(err)
	}
	shots, err := s.Store.Shots(ctx)
	if err != nil {
		return nil, asProblem(err)
	}
	u := s.Workspace.Usage()
	for _, shot := range shots {
		if dir, err := s.Workspace.PlateDir(shot.ID); err == nil {
			u.Disk = append(
				u.Disk,
				picture.Filling{
					What:  "plates",
					Name:  "Plates of " + shot.Name,
					Bytes: picture.Size(dir) + picture.Size(dir+".part"),
				},
			)
		}
	}
	for _, t := range tasks {
		if t.Kind != "render" {
			continue
		}
		dir, err := s.Workspace.RenderDir(t.ID)
		if err != nil {
			continue
		}
		if n := picture.Size(dir); n > 0 {
			u.Disk = append(
				u.Disk,
				picture.Filling{
					What:  "render",
					ID:    t.ID,
					Name:  t.Title,
					Bytes: n,
					Clear: t.State != jobs.Running && t.State != jobs.Waiting && t.State != jobs.Paused,
				},
			)
		}
	}
	if n := picture.Size(s.Workspace.Folder.Kind(datafolder.Uploads)); n > 0 {
		u.Disk = append(
			u.Disk,
			picture.Filling{What: "uploads", Name: "Footage sent from browsers", Bytes: n, Clear: true},
		)
	}
	return &body[picture.Usage]{u}, nil
}

func (s *Server) clear(ctx context.Context, in *struct {
	What string `path:"what" enum:"memory,paint,uploads,render"`
	ID   string `query:"id" doc:"Of the render"`
}) (*struct{}, error) {
	switch in.What {
	case "memory":
		s.Workspace.ClearMemory()
	case "paint":
		return nil, asProblem(s.Workspace.ClearPaint())
	case "uploads":
		return nil, asProblem(s.clearUploads(ctx))
	case "render":
		t, err := s.Store.Task(ctx, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		if t.Kind != "render" || t.State == jobs.Running || t.State == jobs.Waiting || t.State == jobs.Paused {
			return nil, huma.Error409Conflict("only the files of a render that has ended can be cleared")
		}
		return nil, asProblem(s.Workspace.Folder.Remove(datafolder.Renders, t.ID))
	}
	return nil, nil
}

// clearUploads removes footage that was sent, but what is being brought in now.
func (s *Server) clearUploads(ctx context.Context) error {
	tasks, err := s.Store.AllTasks(ctx, "")
	if err != nil {
		return err
	}
	for _, t := range tasks {
		if t.Kind == "import" && (t.State == jobs.Running || t.State == jobs.Waiting || t.State == jobs.Paused) {
			return huma.Error409Conflict("a shot is being brought in; clear what was sent when it is in")
		}
	}
	return s.Workspace.Folder.Clear(datafolder.Uploads)
}
