package api

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/gin-gonic/gin"

	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/store"
)

func (s *Server) tasks(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "list-tasks", Method: http.MethodGet, Path: "/api/tasks", Summary: "Long work, newest first",
	}, func(ctx context.Context, in *struct {
		Shot string `query:"shot" doc:"Empty for all shots"`
	}) (*body[[]store.Task], error) {
		tasks, err := s.Store.Tasks(ctx, in.Shot)
		return &body[[]store.Task]{tasks}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "cancel-task", Method: http.MethodPost, Path: "/api/tasks/{id}/cancel", Summary: "Cancel long work",
	}, func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*body[*store.Task], error) {
		t, err := s.Jobs.Cancel(ctx, in.ID)
		return &body[*store.Task]{t}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "render", Method: http.MethodPost, Path: "/api/shots/{id}/render", DefaultStatus: http.StatusAccepted,
		Summary: "Render the clean frames and a review movie from the revision in force",
	}, func(ctx context.Context, in *ShotPath) (*body[*store.Task], error) {
		rev, err := s.Store.Head(ctx, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		shot, err := s.Store.Shot(ctx, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		t, err := s.Jobs.Add(ctx, store.Task{ShotID: in.ID, Kind: "render", Title: fmt.Sprintf("Render %s, revision %d", shot.Name, rev.Number), Total: shot.Range().Len()},
			jobs.RenderDetail{Revision: rev.Number})
		return &body[*store.Task]{t}, asProblem(err)
	})
}

func (s *Server) events(api huma.API) {
	sse.Register(api, huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: "/api/events", Summary: "What changes, as it changes",
	}, map[string]any{
		"task": live.TaskChanged{}, "revision": live.RevisionChanged{}, "shot": live.ShotChanged{}, "followed": live.FrameFollowed{}, "edge": live.EdgeFollowed{},
		"hello": Hello{},
	}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		events, stop := s.Hub.Listen()
		defer stop()
		if send.Data(Hello{Ready: true}) != nil {
			return
		}
		for {
			select {
			case <-ctx.Done():
				return
			case <-s.Closing.Done():
				return
			case event, ok := <-events:
				if !ok || send.Data(event) != nil {
					return
				}
			}
		}
	})
}

// Hello is the first event: from here on nothing is missed.
type Hello struct {
	Ready bool `json:"ready"`
}

// downloads serves what a render made.
func (s *Server) downloads(router *gin.Engine) {
	router.GET("/api/renders/:task/movie", func(c *gin.Context) {
		if name, dir, ok := s.finished(c); ok {
			c.FileAttachment(filepath.Join(dir, jobs.MovieFile), name+"_review.mp4")
		}
	})
	router.GET("/api/renders/:task/frames", func(c *gin.Context) {
		name, dir, ok := s.finished(c)
		if !ok {
			return
		}
		frames, err := filepath.Glob(filepath.Join(dir, jobs.FramesFolder, "*.png"))
		if err != nil {
			refuse(c, err)
			return
		}
		c.Header("Content-Type", "application/zip")
		c.Header("Content-Disposition", `attachment; filename="`+name+`_clean.zip"`)
		archive := zip.NewWriter(c.Writer)
		for _, path := range frames {
			if err := addFile(archive, path); err != nil {
				c.Error(err) // the answer has begun: it ends here, and the archive is seen to be cut short
				return
			}
		}
		archive.Close()
	})
}

func addFile(archive *zip.Writer, path string) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	// PNG is packed already.
	out, err := archive.CreateHeader(&zip.FileHeader{Name: filepath.Base(path), Method: zip.Store})
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return err
}

// finished returns the shot's name and the folder of a render that is done.
func (s *Server) finished(c *gin.Context) (name, dir string, ok bool) {
	t, err := s.Store.Task(c, c.Param("task"))
	if err != nil {
		refuse(c, err)
		return "", "", false
	}
	if t.Kind != "render" || t.State != jobs.Done {
		problem(c, http.StatusConflict, "this render is not finished: it is "+t.State)
		return "", "", false
	}
	shot, err := s.Store.Shot(c, t.ShotID)
	if err != nil {
		refuse(c, err)
		return "", "", false
	}
	return shot.Name, s.Rooms.RenderDir(t.ID), true
}
