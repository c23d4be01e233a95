package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/datafolder"
	"jardin/app/jobs"
	"jardin/app/media"
	"jardin/app/store"
	"jardin/core/colorspace"
)

// Called is what a shot is called.
type Called struct {
	Show string `json:"show" minLength:"1" maxLength:"100" pattern:"\\S" patternDescription:"more than blanks"`
	Name string `json:"name" minLength:"1" maxLength:"100" pattern:"^[\\w .-]*\\w[\\w .-]*$" patternDescription:"letters, digits, spaces, dots, dashes, and not only the last three"`
}

// NewShot says what to bring in and how its code values relate to light.
type NewShot struct {
	Called
	Path     string              `json:"path" doc:"A folder of numbered stills or a movie, in one of the server's folders"`
	First    int                 `json:"first" minimum:"0" maximum:"9999999" doc:"Number of the first frame"`
	Rate     media.Rational      `json:"rate"`
	Transfer colorspace.Transfer `json:"transfer" enum:"srgb,bt709,bt1886,gamma22,gamma24,gamma26,linear,acescct"`

	Primaries colorspace.Primaries `json:"primaries,omitempty" enum:"bt709,p3d65,bt2020,ap0,ap1" doc:"BT.709 if left out"`
	Aspect    float64              `json:"aspect,omitempty" minimum:"0.1" maximum:"10" doc:"Of a pixel, width to height, if the files tell it wrong"`
	Reading   media.Reading        `json:"reading,omitempty"`
}

func (s *Server) shots(api huma.API, router *gin.Engine) {
	router.GET("/api/material/picture", s.lookAt)
	huma.Register(api, huma.Operation{
		OperationID: "list-folder", Method: http.MethodGet, Path: "/api/folders",
		Summary: "Folders and movies in a folder that the server may read",
	}, s.listFolder)
	huma.Register(api, huma.Operation{
		OperationID: "inspect", Method: http.MethodGet, Path: "/api/material",
		Summary: "What footage lies at a path",
	}, s.inspectRoute)
	huma.Register(api, huma.Operation{
		OperationID: "list-shots", Method: http.MethodGet, Path: "/api/shots", Summary: "All shots",
	}, s.listShots)
	huma.Register(api, huma.Operation{
		OperationID: "get-shot", Method: http.MethodGet, Path: "/api/shots/{id}", Summary: "One shot",
	}, s.getShot)
	huma.Register(api, huma.Operation{
		OperationID: "add-shot", Method: http.MethodPost, Path: "/api/shots", DefaultStatus: http.StatusCreated,
		Summary: "Bring a shot in; a task decodes its frames",
	}, s.addShot)
	huma.Register(api, huma.Operation{
		OperationID: "rename-shot", Method: http.MethodPatch, Path: "/api/shots/{id}",
		Summary: "Give a shot another name, or move it to another show",
	}, s.renameShot)
	huma.Register(api, huma.Operation{
		OperationID: "delete-shot", Method: http.MethodDelete, Path: "/api/shots/{id}",
		DefaultStatus: http.StatusNoContent,
		Summary: "Delete a shot. It keeps its treatment and plates for some time, and can be taken back. The footage " +
			"it was brought in from is not touched",
	}, s.deleteShot)
	huma.Register(api, huma.Operation{
		OperationID: "list-deleted", Method: http.MethodGet, Path: "/api/deleted",
		Summary: "Shots that were deleted and can be taken back, and for how many days",
	}, s.listDeleted)
	huma.Register(api, huma.Operation{
		OperationID: "take-back-shot", Method: http.MethodPost, Path: "/api/deleted/{id}",
		Summary: "Take back a shot that was deleted",
	}, s.takeBackShot)
	huma.Register(api, huma.Operation{
		OperationID: "purge-shot", Method: http.MethodDelete, Path: "/api/deleted/{id}",
		DefaultStatus: http.StatusNoContent,
		Summary:       "Remove a deleted shot for good, with its treatment, plates and renders",
	}, s.purgeShot)
}

func (s *Server) listFolder(_ context.Context, in *struct {
	Path string `query:"path" doc:"Empty for the folders that the server was told of"`
}) (*body[[]media.Entry], error) {
	entries, err := s.Roots.List(in.Path)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if entries == nil {
		entries = []media.Entry{}
	}
	return &body[[]media.Entry]{entries}, nil
}

func (s *Server) inspectRoute(ctx context.Context, in *struct {
	Path string `query:"path" required:"true"`
}) (*body[*media.Material], error) {
	m, err := s.inspect(ctx, in.Path)
	var several *media.Several
	if errors.As(err, &several) {
		return &body[*media.Material]{&media.Material{
			Kind: "several", Path: in.Path, Sequences: several.Sequences, Gaps: []media.Gap{}, Notes: []string{},
		}}, nil
	}
	if err != nil {
		return nil, unusable(err)
	}
	return &body[*media.Material]{m}, nil
}

// unusable gives what is wrong with footage its status.
func unusable(err error) error { return huma.Error422UnprocessableEntity(err.Error()) }

// lookAt serves a frame of material before it is brought in.
func (s *Server) lookAt(c *gin.Context) {
	ctx := c.Request.Context()
	m, err := s.material(ctx, c.Query("path"))
	if err != nil {
		refuse(c, unusable(err))
		return
	}
	n, err := strconv.Atoi(c.DefaultQuery("frame", strconv.Itoa(m.First)))
	if err != nil {
		err = fmt.Errorf("%q is not a frame number", c.Query("frame"))
	}
	shot := media.Shot{Transfer: m.Transfer, Primaries: m.Primaries}
	if t := colorspace.Transfer(c.Query("transfer")); err == nil && t != "" {
		shot.Transfer, err = t, t.Valid()
	}
	if p := colorspace.Primaries(c.Query("primaries")); err == nil && p != "" {
		shot.Primaries, err = p, p.Valid()
	}
	var data []byte
	if err == nil {
		data, err = m.Preview(ctx, n, media.Reading{Matrix: c.Query("matrix"), Range: c.Query("range")}, shot, 480)
	}
	if err != nil {
		refuse(c, unusable(err))
		return
	}
	c.Header("Cache-Control", "private, no-cache")
	c.Data(http.StatusOK, "image/jpeg", data)
}

func (s *Server) listShots(ctx context.Context, _ *struct{}) (*body[[]store.Shot], error) {
	shots, err := s.Store.Shots(ctx)
	return &body[[]store.Shot]{shots}, asProblem(err)
}

func (s *Server) getShot(ctx context.Context, in *ShotPath) (*body[*store.Shot], error) {
	shot, err := s.Store.Shot(ctx, in.ID)
	return &body[*store.Shot]{shot}, asProblem(err)
}

func (s *Server) addShot(ctx context.Context, in *struct{ Body NewShot }) (*body[*store.Shot], error) {
	shot, err := s.AddShot(ctx, in.Body)
	return &body[*store.Shot]{shot}, err
}

func (s *Server) renameShot(ctx context.Context, in *struct {
	ShotPath
	Body Called
}) (*body[*store.Shot], error) {
	if err := s.Store.RenameShot(ctx, in.ID, in.Body.Show, in.Body.Name); err != nil {
		return nil, asProblem(err)
	}
	s.shotChanged(in.ID)
	shot, err := s.Store.Shot(ctx, in.ID)
	return &body[*store.Shot]{shot}, asProblem(err)
}

func (s *Server) deleteShot(ctx context.Context, in *ShotPath) (*struct{}, error) {
	if err := s.Store.DeleteShot(ctx, in.ID); err != nil {
		return nil, asProblem(err)
	}
	tasks, err := s.Store.AllTasks(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	for _, t := range tasks {
		if _, err := s.Jobs.Cancel(ctx, t.ID); err != nil {
			return nil, asProblem(err)
		}
	}
	s.Workspace.Forget(in.ID)
	s.shotChanged(in.ID)
	return nil, nil
}

func (s *Server) listDeleted(ctx context.Context, _ *struct{}) (*body[Deleted], error) {
	shots, err := s.Store.Deleted(ctx)
	return &body[Deleted]{Deleted{s.KeepDeleted, shots}}, asProblem(err)
}

func (s *Server) takeBackShot(ctx context.Context, in *ShotPath) (*body[*store.Shot], error) {
	shot, err := s.Store.TakeBackShot(ctx, in.ID)
	if err == nil {
		s.shotChanged(in.ID)
	}
	return &body[*store.Shot]{shot}, asProblem(err)
}

func (s *Server) purgeShot(ctx context.Context, in *ShotPath) (*struct{}, error) {
	return nil, asProblem(s.Purge(ctx, in.ID))
}

// Deleted is what can be taken back.
type Deleted struct {
	Days  int          `json:"days" doc:"For so many days after it was deleted"`
	Shots []store.Shot `json:"shots" nullable:"false"`
}

// Purge removes a deleted shot for good. Its files go only once its row is gone.
func (s *Server) Purge(ctx context.Context, id string) error {
	gone, err := s.Store.PurgeShot(ctx, id)
	if err != nil {
		return err
	}
	err = s.Workspace.Folder.Remove(datafolder.Plates, gone.Shot)
	for _, task := range gone.Tasks {
		err = errors.Join(err, s.Workspace.Folder.Remove(datafolder.Renders, task))
	}
	s.shotChanged(id)
	return err
}

// Readable are the folders that footage may come from: those that the server was told, and
// what browsers sent.
func (s *Server) Readable() media.Roots {
	return append(media.Roots{s.Workspace.Folder.Kind(datafolder.Uploads)}, s.Roots...)
}

func (s *Server) inspect(ctx context.Context, path string) (*media.Material, error) {
	m, err := s.material(ctx, path)
	if err == nil {
		err = m.FindFields(ctx)
	}
	if err != nil {
		return nil, err
	}
	return m, nil
}

// material is what lies at a path; whether it is interlaced, for which its pictures are looked at, is not known yet.
func (s *Server) material(ctx context.Context, path string) (*media.Material, error) {
	if _, err := s.Readable().Resolve(path); err != nil {
		return nil, err
	}
	m, err := media.Inspect(ctx, path)
	if err == nil {
		err = s.Readable().Inside(m)
	}
	if err == nil {
		err = s.Workspace.Fits(m.Width, m.Height)
	}
	return m, err
}

// AddShot inspects the material, adds the shot and queues its import.
func (s *Server) AddShot(ctx context.Context, n NewShot) (*store.Shot, error) {
	m, err := s.inspect(ctx, n.Path)
	if err != nil {
		return nil, unusable(err)
	}
	plan, err := m.Plan(n.Reading)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := m.OneMoment(n.Reading); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	reading, err := json.Marshal(n.Reading)
	if err != nil {
		return nil, err
	}
	if n.Primaries == "" {
		n.Primaries = colorspace.BT709Primaries
	}
	if n.Aspect == 0 {
		n.Aspect = m.Aspect
	}
	kept := media.Shot{First: n.First, Last: n.First + len(plan) - 1, Rate: n.Rate}.Apart(n.Reading.Fields)
	if kept.Last-kept.First+1 > media.MaxFrames {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf(
			"taken apart it makes %d frames; %d is the most a shot may have. Bring in a part", kept.Last-kept.First+1, media.MaxFrames))
	}
	shot := &store.Shot{
		ID: jobs.NewID(), Show: strings.TrimSpace(n.Show), Name: strings.TrimSpace(n.Name), Source: n.Path,
		First: kept.First, Last: kept.Last, Width: m.Width, Height: m.Height, Depth: m.Depth, Float: m.Float,
		Alpha:  m.Alpha,
		Aspect: n.Aspect, Padding: max(m.Padding, 1), Timecode: m.TimecodeOf(plan, n.Rate), Format: m.Format,
		Primaries: n.Primaries, Reading: reading,
		RateNum: kept.Rate.Num, RateDen: kept.Rate.Den, Transfer: n.Transfer, State: "importing",
	}
	if m.Kind == "movie" {
		shot.Padding = 4
	}
	if shot.Show == "" || shot.Name == "" {
		return nil, huma.Error422UnprocessableEntity("show and shot need a name")
	}
	if err := s.Store.AddShot(ctx, shot); err != nil {
		return nil, asProblem(err)
	}
	_, err = s.Jobs.Add(
		ctx,
		store.Task{ShotID: shot.ID, Kind: "import", Title: "Bring in " + shot.Name, Total: shot.Range().Len()},
		jobs.ImportDetail{Path: n.Path, Reading: n.Reading},
	)
	if err != nil {
		return nil, asProblem(err)
	}
	s.shotChanged(shot.ID)
	return shot, nil
}
