package api

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/gin-gonic/gin"

	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
)

func (s *Server) tasks(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "list-tasks", Method: http.MethodGet, Path: "/api/tasks",
		Summary: "A page of long work, newest first: ask with the last one's id for those before it",
	}, s.listTasks)
	huma.Register(api, huma.Operation{
		OperationID: "cancel-task", Method: http.MethodPost, Path: "/api/tasks/{id}/cancel",
		Summary: "Cancel long work",
	}, s.cancelTask)
	for name, move := range map[string]struct {
		do      func(context.Context, string) (*store.Task, error)
		summary string
	}{"pause": {s.Jobs.Pause, "Interrupt long work until it is continued"}, "continue": {s.Jobs.Continue,
		"Go on with work that was paused, or try again what failed or was cancelled"}} {
		huma.Register(api, huma.Operation{
			OperationID: name + "-task", Method: http.MethodPost, Path: "/api/tasks/{id}/" + name,
			Summary: move.summary,
		}, func(ctx context.Context, in *struct {
			ID string `path:"id"`
		}) (*body[*store.Task], error) {
			t, err := move.do(ctx, in.ID)
			return &body[*store.Task]{t}, asProblem(err)
		})
	}
	huma.Register(api, huma.Operation{
		OperationID: "render-name", Method: http.MethodPost, Path: "/api/shots/{id}/render/name",
		Summary: "How the files of a render would be called",
	}, s.renderName)
	huma.Register(api, huma.Operation{
		OperationID: "render", Method: http.MethodPost, Path: "/api/shots/{id}/render",
		DefaultStatus: http.StatusAccepted,
		Summary: "Render frames, and movies if they are wanted, from the revision in force. Every delivery of a shot " +
			"has a number of its own",
	}, s.render)
}

func (s *Server) listTasks(ctx context.Context, in *struct {
	Shot   string `query:"shot" maxLength:"64" doc:"Empty for all shots"`
	Before string `query:"before" maxLength:"64" doc:"Only what was asked for before this task; empty for the newest"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*body[[]store.Task], error) {
	tasks, err := s.Store.Tasks(ctx, in.Shot, in.Before, in.Limit)
	return &body[[]store.Task]{tasks}, asProblem(err)
}

func (s *Server) cancelTask(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*body[*store.Task], error) {
	t, err := s.Jobs.Cancel(ctx, in.ID)
	return &body[*store.Task]{t}, asProblem(err)
}

type renderBody struct {
	ShotPath
	Body *picture.DeliverySpec `required:"false"`
}

// delivery is what a render of what is in force now would leave.
func (s *Server) delivery(ctx context.Context, in *renderBody) (*picture.Delivery, *store.Shot, error) {
	rev, err := s.Store.Head(ctx, in.ID)
	if err != nil {
		return nil, nil, asProblem(err)
	}
	shot, err := s.Store.Shot(ctx, in.ID)
	if err != nil {
		return nil, nil, asProblem(err)
	}
	source, err := s.Workspace.Source(ctx, in.ID)
	if err != nil {
		return nil, nil, asProblem(err)
	}
	wanted := picture.DeliverySpec{Movies: []string{media.Review}}
	if in.Body != nil {
		wanted = *in.Body
	}
	d := &picture.Delivery{
		DeliverySpec: wanted, Show: shot.Show, Shot: shot.Name, Padding: shot.Padding, Revision: rev.Number,
	}
	if err := d.Prepare(source.Plates, rev.Document, shot.Format); err != nil {
		return nil, nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return d, shot, nil
}

// Named is how the files of a render would be called.
type Named struct {
	First string `json:"first" doc:"The first frame's file"`
	Files int    `json:"files" doc:"How many frames there are"`
}

func (s *Server) renderName(ctx context.Context, in *renderBody) (*body[Named], error) {
	d, _, err := s.delivery(ctx, in)
	if err != nil {
		return nil, err
	}
	made, err := s.Store.Deliveries(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	d.Version = made + 1
	return &body[Named]{Named{d.FrameFile(d.Leaving.First), d.Leaving.Len()}}, nil
}

func (s *Server) render(ctx context.Context, in *renderBody) (*body[*store.Task], error) {
	d, shot, err := s.delivery(ctx, in)
	if err != nil {
		return nil, err
	}
	version, err := s.Store.NextDelivery(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	t, err := s.Jobs.Add(
		ctx,
		store.Task{
			ShotID: in.ID,
			Kind:   "render",
			Title: fmt.Sprintf(
				"Render %s, version %d%s",
				shot.Name,
				version,
				map[string]string{
					picture.PatchOnly: ": patch", picture.Mattes: ": mattes", picture.Marked: ": what is marked",
					picture.Gathered: ": what was gathered", picture.Found: ": what was gathered of what is marked",
				}[d.What],
			),
			Total:   d.Range.Len(),
			Version: version,
			Movies:  strings.Join(d.Movies, " "),
		},
		jobs.RenderDetail{Revision: d.Revision, Wanted: d.DeliverySpec},
	)
	return &body[*store.Task]{t}, asProblem(err)
}

func (s *Server) events(api huma.API) {
	sse.Register(api, huma.Operation{
		OperationID: "events", Method: http.MethodGet, Path: "/api/events", Summary: "What changes, as it changes",
	}, map[string]any{
		"task": live.TaskChanged{}, "revision": live.RevisionChanged{}, "shot": live.ShotChanged{},
		"followed": live.FrameFollowed{}, "edge": live.EdgeFollowed{}, "gathered": live.FrameGathered{},
		"hello": Hello{},
	}, func(ctx context.Context, in *struct {
		Shot string `query:"shot" doc:"Also all that happens to this shot; left out only long work, and shots that come and go"`
	}, send sse.Sender) {
		events, stop := s.Hub.Listen(store.ActorOf(ctx).Window, in.Shot)
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
		kind := c.DefaultQuery("kind", media.Review)
		d, ok := s.finished(c)
		if !ok {
			return
		}
		if !slices.Contains(d.Movies, kind) {
			problem(c, http.StatusNotFound, "no such movie was wanted of this render")
			return
		}
		c.FileAttachment(
			filepath.Join(d.Dir, picture.MovieFile(kind)),
			fmt.Sprintf("%s_v%03d_%s", d.Shot, d.Version, picture.MovieFile(kind)),
		)
	})
	router.GET("/api/renders/:task/frames", func(c *gin.Context) {
		d, ok := s.finished(c)
		if !ok {
			return
		}
		files := []string{picture.ManifestFile, picture.SumsFileIn(d.Dir)}
		for n := d.Leaving.First; n <= d.Leaving.Last; n++ {
			files = append(files, filepath.Join(d.Folder, d.FrameFile(n)))
		}
		c.Header("Content-Type", "application/zip")
		c.Header(
			"Content-Disposition",
			fmt.Sprintf("attachment; filename=%q", fmt.Sprintf("%s_v%03d_%s.zip", d.Shot, d.Version, d.What)),
		)
		archive := zip.NewWriter(c.Writer)
		for _, name := range files {
			if err := addFile(archive, d.Dir, name); err != nil {
				c.Error(err) // the answer has begun: it ends here, and the archive is seen to be cut short
				return
			}
		}
		archive.Close()
	})
}

func addFile(archive *zip.Writer, dir, name string) error {
	in, err := os.Open(filepath.Join(dir, name))
	if err != nil {
		return err
	}
	defer in.Close()
	// Frames are packed already, or hardly pack.
	out, err := archive.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return err
}

// finished returns the delivery of a render that is done.
func (s *Server) finished(c *gin.Context) (*picture.Delivery, bool) {
	t, err := s.Store.Task(c, c.Param("task"))
	if err != nil {
		refuse(c, err)
		return nil, false
	}
	if t.Kind != "render" || t.State != jobs.Done {
		problem(c, http.StatusConflict, "this render is not finished: it is "+t.State)
		return nil, false
	}
	d, _, err := s.Jobs.Delivery(c, t)
	if err != nil {
		refuse(c, err)
		return nil, false
	}
	if _, err := os.Stat(filepath.Join(d.Dir, picture.ManifestFile)); err != nil {
		problem(c, http.StatusGone, "the files of this render were cleared; render again")
		return nil, false
	}
	return d, true
}

// begin puts long work into the queue; detail is what its kind needs to know.
func (s *Server) begin(ctx context.Context, t store.Task, detail any) (*body[*store.Task], error) {
	task, err := s.Jobs.Add(ctx, t, detail)
	return &body[*store.Task]{task}, asProblem(err)
}
