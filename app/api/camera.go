package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/exchange"
	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/store"
	"jardin/core/camera"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// space is what was found of the set, for the space view.
type space struct {
	Views   []treatment.CameraView  `json:"views" nullable:"false"`
	Points  []treatment.CameraPoint `json:"points" nullable:"false"`
	Cards   []cardIn                `json:"cards" nullable:"false"`
	RMS     float64                 `json:"rms"`
	Fits    int                     `json:"fits" doc:"Points that fit"`
	Turning bool                    `json:"turning,omitempty"`
	Given   bool                    `json:"given,omitempty" doc:"Brought in from elsewhere"`
	Unit    string                  `json:"unit,omitempty"`
	Width   int                     `json:"width"`
	Height  int                     `json:"height"`
}

// cardIn is a card in space.
type cardIn struct {
	Track   string        `json:"track"`
	Name    string        `json:"name"`
	Colour  string        `json:"colour,omitempty"`
	Corners [4][3]float64 `json:"corners"`
}

type FramePath struct {
	ShotPath
	Frame    int `path:"frame" minimum:"0" maximum:"99999999"`
	Revision int `query:"revision" minimum:"-1" maximum:"2147483647" default:"-1" doc:"Left out, the one in force"`
	From     int `query:"from" minimum:"0" maximum:"99999999" doc:"A frame that is painted on: what of the cards it does not show well is told"`
}

// onFrame is what of the space is seen on a frame.
type onFrame struct {
	Points []carry.SeenPoint `json:"points" nullable:"false"`
	Cards  []cardSeen        `json:"cards" nullable:"false"`
}

type cardSeen struct {
	Track   string          `json:"track"`
	Corners []treatment.Vec `json:"corners" nullable:"false" doc:"Upper left, upper right, lower right, lower left"`
	Away    float64         `json:"away" doc:"How far its middle is from the camera, along where it looks"`
	// Stretched are of parts of four corners.
	Stretched [][]treatment.Vec `json:"stretched,omitempty" doc:"Parts on which paint from the frame that is painted on is stretched more than twofold, or which it does not show"`
}

// cameras serves the shot's lens and camera, and the cards in the space that it saw.
func (s *Server) cameras(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "solve-camera", Method: http.MethodPost, Path: "/api/shots/{id}/camera/solve", DefaultStatus: http.StatusAccepted,
		Summary: "Find where the camera was, by what can be followed over the whole shot",
	}, s.solveCamera)
	huma.Register(api, huma.Operation{
		OperationID: "get-space", Method: http.MethodGet, Path: "/api/shots/{id}/camera",
		Summary: "Where the camera was, and what it saw where",
	}, s.getSpace)
	huma.Register(api, huma.Operation{
		OperationID: "get-space-on-frame", Method: http.MethodGet, Path: "/api/shots/{id}/camera/frames/{frame}",
		Summary: "Points and cards as they are seen on a frame",
	}, s.getOnFrame)
	huma.Register(api, huma.Operation{
		OperationID: "lay-space", Method: http.MethodPost, Path: "/api/shots/{id}/camera/lay",
		Summary: "Say where the floor and the origin are, and how far two points are apart",
	}, s.laySpace)
	huma.Register(api, huma.Operation{
		OperationID: "make-card", Method: http.MethodPost, Path: "/api/shots/{id}/cards",
		Summary: "Make a card, a track that lies in space",
	}, s.makeCard)
	huma.Register(api, huma.Operation{
		OperationID: "move-card", Method: http.MethodPost, Path: "/api/shots/{id}/camera/frames/{frame}/card",
		Summary: "A card as it is when it is moved by hand on a frame; nothing is saved",
	}, s.moveCard)
	huma.Register(api, huma.Operation{
		OperationID: "lens-from-lines", Method: http.MethodPost, Path: "/api/shots/{id}/lens/lines",
		Summary: "Find the lens by lines that are straight in the set",
	}, s.lensFromLines)
	huma.Register(api, huma.Operation{
		OperationID: "get-lens", Method: http.MethodGet, Path: "/api/shots/{id}/lens",
		Summary: "What the lens does, by places: of the straight picture to the plate",
	}, s.getLens)
}

func (s *Server) solveCamera(ctx context.Context, in *struct{ ShotPath }) (*body[*store.Task], error) {
	source, err := s.Workspace.Source(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	frames := source.Plates.Last - source.Plates.First + 1
	if frames < 3 {
		return nil, huma.Error422UnprocessableEntity("a camera is found from how things move: three frames at least are needed")
	}
	return s.begin(ctx, store.Task{ShotID: in.ID, Kind: "solve", Title: "Solve the camera", Subject: "camera", Total: frames}, struct{}{})
}

// spaceAt returns the space of a revision.
func (s *Server) spaceAt(ctx context.Context, in *atRevision) (*store.Revision, *carry.Set, *carry.Space, error) {
	rev, err := s.revisionAt(ctx, in)
	if err != nil {
		return nil, nil, nil, asProblem(err)
	}
	t, err := s.Workspace.Treatment(ctx, in.ID, rev.Number)
	if err != nil {
		return nil, nil, nil, asProblem(err)
	}
	found, err := t.Motions().Space()
	if errors.Is(err, carry.ErrNoCamera) {
		return rev, t.Motions(), nil, huma.Error404NotFound(err.Error())
	}
	if err != nil {
		return rev, t.Motions(), nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return rev, t.Motions(), found, nil
}

func (s *Server) getSpace(ctx context.Context, in *atRevision) (*body[space], error) {
	rev, motions, found, err := s.spaceAt(ctx, in)
	if err != nil {
		return nil, err
	}
	doc := rev.Document
	out := space{
		Points: found.Points, RMS: found.RMS, Turning: found.Turning, Given: doc.Camera.Data.Given,
		Width: doc.Lens.Size[0], Height: doc.Lens.Size[1], Cards: cardsOf(doc),
	}
	if doc.Camera.World != nil {
		out.Unit = doc.Camera.World.Unit
	}
	kept := motions.Path()
	for i, n := range found.Frames {
		v := found.Views[n]
		view := treatment.ViewOf(n, &v)
		view.RMS, view.Fits = kept.Views[i].RMS, kept.Views[i].Fits
		out.Views = append(out.Views, view)
	}
	if out.Points == nil {
		out.Points = []treatment.CameraPoint{}
	}
	for _, p := range found.Points {
		if !p.Off {
			out.Fits++
		}
	}
	return &body[space]{out}, nil
}

func cardsOf(doc *treatment.Document) []cardIn {
	out := []cardIn{}
	for i := range doc.Tracks {
		t := &doc.Tracks[i]
		if t.Card == nil {
			continue
		}
		c := cardIn{Track: t.ID, Name: t.Name, Colour: t.Colour}
		for k, p := range t.Card.Corners() {
			c.Corners[k] = p
		}
		out = append(out, c)
	}
	return out
}

func (s *Server) getOnFrame(ctx context.Context, in *FramePath) (*body[onFrame], error) {
	rev, _, found, err := s.spaceAt(ctx, &atRevision{in.ShotPath, in.Revision})
	if err != nil {
		return nil, err
	}
	out := onFrame{Points: found.On(in.Frame), Cards: []cardSeen{}}
	if out.Points == nil {
		out.Points = []carry.SeenPoint{}
	}
	for i := range rev.Document.Tracks {
		t := &rev.Document.Tracks[i]
		if t.Card == nil {
			continue
		}
		if corners, ok := found.Seen(t.Card, in.Frame); ok {
			view := found.Views[in.Frame]
			c := cardSeen{Track: t.ID, Away: view.Pose.Apply(t.Card.At)[2]}
			c.Corners = treatment.Vecs(corners)
			if in.From > 0 {
				for _, part := range found.Stretched(t.Card, in.From, in.Frame) {
					c.Stretched = append(c.Stretched, treatment.Vecs(part))
				}
			}
			out.Cards = append(out.Cards, c)
		}
	}
	return &body[onFrame]{out}, nil
}

// refused is an error of the core's rules, in words.
func refused(err error) error { return huma.Error422UnprocessableEntity(err.Error()) }

func (s *Server) laySpace(ctx context.Context, in *struct {
	ShotPath
	Body carry.Laying
}) (*body[*store.Revision], error) {
	_, _, found, err := s.spaceAt(ctx, &atRevision{in.ShotPath, -1})
	if err != nil {
		return nil, err
	}
	var wrong error
	rev, err := s.Store.Amend(ctx, in.ID, "Lay the space", func(doc *treatment.Document) error {
		if doc.Camera == nil {
			wrong = carry.ErrNoCamera
			return wrong
		}
		wrong = found.Lay(doc, in.Body)
		return wrong
	})
	if wrong != nil {
		return nil, refused(wrong)
	}
	return s.changed(in.ID, rev, err)
}

// changed tells everybody of a new revision, and returns it.
func (s *Server) changed(shot string, rev *store.Revision, err error) (*body[*store.Revision], error) {
	if err != nil {
		return nil, asProblem(err)
	}
	s.Hub.Send(live.RevisionChanged{ShotID: shot, Number: rev.Number})
	return &body[*store.Revision]{rev}, nil
}

// A MadeCard is a card's track, and the revision that has it.
type MadeCard struct {
	Track    string          `json:"track"`
	Revision *store.Revision `json:"revision"`
}

func (s *Server) makeCard(ctx context.Context, in *struct {
	ShotPath
	Body struct {
		carry.NewCard
		Name    string `json:"name,omitempty" maxLength:"200"`
		Removal string `json:"removal,omitempty" doc:"That is to ride on it"`
	}
}) (*body[MadeCard], error) {
	_, motions, found, err := s.spaceAt(ctx, &atRevision{in.ShotPath, -1})
	if err != nil {
		return nil, err
	}
	card, err := found.Card(motions, in.Body.NewCard)
	if err != nil {
		return nil, refused(err)
	}
	t := treatment.Track{ID: jobs.NewID(), Name: in.Body.Name, Kind: treatment.CardTrack, Home: in.Body.Frame, Motion: geom.Perspective, Card: card}
	if t.Name == "" {
		t.Name = "Card"
	}
	rev, err := s.Store.Amend(ctx, in.ID, "New card "+t.Name, func(doc *treatment.Document) error {
		doc.Tracks = append(doc.Tracks, t)
		if r, _ := doc.Find(in.Body.Removal); r != nil {
			r.Follow.Track = t.ID
		}
		return nil
	})
	out, err := s.changed(in.ID, rev, err)
	if err != nil {
		return nil, err
	}
	return &body[MadeCard]{MadeCard{t.ID, out.Body}}, nil
}

// A MovedCard is a card moved by hand, and where it is seen.
type MovedCard struct {
	Card    treatment.Card  `json:"card"`
	Corners []treatment.Vec `json:"corners" nullable:"false" doc:"On the frame; none where it is not seen"`
	Mesh    *warp.Mesh      `json:"mesh,omitempty" doc:"Where it takes its home's surface on the frame"`
}

func (s *Server) moveCard(ctx context.Context, in *struct {
	FramePath
	Body struct {
		Track string         `json:"track,omitempty" doc:"Whose card it is"`
		Card  treatment.Card `json:"card"`
		carry.CardMove
	}
}) (*body[MovedCard], error) {
	_, motions, found, err := s.spaceAt(ctx, &atRevision{in.ShotPath, in.Revision})
	if err != nil {
		return nil, err
	}
	card, err := found.Move(&in.Body.Card, in.Frame, in.Body.CardMove)
	if err != nil {
		return nil, refused(err)
	}
	out := MovedCard{Card: *card, Corners: []treatment.Vec{}, Mesh: motions.Tried(in.Body.Track, card, in.Frame)}
	if corners, ok := found.Seen(card, in.Frame); ok {
		out.Corners = treatment.Vecs(corners)
	}
	return &body[MovedCard]{out}, nil
}

// A FoundLens is a revision with the lens that was found, and how well it does.
type FoundLens struct {
	Off      float64         `json:"off" doc:"How far places are from their straight lines with the lens taken out, RMS, pixels"`
	Before   float64         `json:"before" doc:"The same without any lens"`
	Revision *store.Revision `json:"revision"`
}

func (s *Server) lensFromLines(ctx context.Context, in *struct {
	ShotPath
	Body struct {
		Terms int `json:"terms" minimum:"1" maximum:"3"`
	}
}) (*body[FoundLens], error) {
	source, err := s.Workspace.Source(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	size := [2]int{source.Plates.Width, source.Plates.Height}
	var out FoundLens
	var wrong error
	rev, err := s.Store.Amend(ctx, in.ID, "The lens by straight lines", func(doc *treatment.Document) error {
		if doc.Lens == nil || len(doc.Lens.Lines) == 0 {
			wrong = camera.ErrLines
			return wrong
		}
		shot := *doc.Lens
		shot.Size = size
		var lines [][]geom.Point
		for _, l := range shot.Lines {
			lines = append(lines, treatment.Points(l.Points))
		}
		var start, found geom.Lens
		shot.K = [3]float64{}
		if start, wrong = shot.Of(); wrong != nil {
			return wrong
		}
		if found, out.Off, wrong = camera.LensFromLines(start, size[0], size[1], lines, in.Body.Terms); wrong != nil {
			return wrong
		}
		out.Before = camera.Bow(start, lines)
		shot.K = found.K
		doc.Lens = &shot
		return nil
	})
	if wrong != nil {
		return nil, refused(wrong)
	}
	changed, err := s.changed(in.ID, rev, err)
	if err != nil {
		return nil, err
	}
	out.Revision = changed.Body
	return &body[FoundLens]{out}, nil
}

// A LensMesh is what a lens does, by places.
type LensMesh struct {
	Mesh *warp.Mesh `json:"mesh,omitempty" doc:"From the straight picture to the plate, over the picture's box; none where there is no lens"`
}

func (s *Server) getLens(ctx context.Context, in *atRevision) (*body[LensMesh], error) {
	rev, err := s.revisionAt(ctx, in)
	if err != nil {
		return nil, asProblem(err)
	}
	var out LensMesh
	lens, err := rev.Document.Lens.Of()
	if err == nil && rev.Document.Lens != nil && !lens.Plain() {
		box := geom.Box{Max: geom.Pt(float64(rev.Document.Lens.Size[0]), float64(rev.Document.Lens.Size[1]))}
		out.Mesh, _ = warp.NewMesh(warp.LensIn(lens), box)
	}
	return &body[LensMesh]{out}, nil
}

// cameraFiles serves and takes cameras, points and lenses in open formats.
func (s *Server) cameraFiles(router *gin.Engine) {
	router.GET("/api/shots/:id/camera/file", s.cameraFile)
	router.POST("/api/shots/:id/camera/file", s.readCamera)
	router.GET("/api/shots/:id/lens/file", s.lensFile)
	router.POST("/api/shots/:id/lens/file", s.readLens)
}

func (s *Server) cameraFile(c *gin.Context) {
	head, err := s.Store.Head(c, c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	shot, err := s.Store.Shot(c, c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	source, err := s.Workspace.Source(c, shot.ID)
	if err != nil {
		refuse(c, err)
		return
	}
	doc, err := s.Store.Inline(c, head.Document)
	if err != nil {
		refuse(c, err)
		return
	}
	out, err := exchange.CameraOf(doc, source.Plates.Rate.Float())
	if err != nil {
		problem(c, http.StatusNotFound, err.Error())
		return
	}
	switch c.DefaultQuery("as", "json") {
	case "json":
		attach(c, shot.Name+".camera.json", "application/json", out.JSON())
	case "gltf":
		attach(c, shot.Name+".gltf", "model/gltf+json", out.GLTF())
	case "ply":
		attach(c, shot.Name+".ply", "application/octet-stream", out.PLY())
	default:
		problem(c, http.StatusUnprocessableEntity, "a camera leaves as json, gltf, or its points as ply")
	}
}

const mostCamera = 128 << 20 // bytes of a camera that is brought in

func (s *Server) readCamera(c *gin.Context) {
	source, err := s.Workspace.Source(c, c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	blob, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, mostCamera))
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "the file cannot be read: it may hold 128 MB at most")
		return
	}
	p := source.Plates
	path, lens, unit, err := exchange.ReadCamera(blob, exchange.ShotFrames{Width: p.Width, Height: p.Height, First: p.First, Last: p.Last, Rate: p.Rate.Float()})
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error())
		return
	}
	kept, err := json.Marshal(path)
	if err != nil {
		refuse(c, err)
		return
	}
	sha, err := s.Store.PutArtifact(c, kept)
	if err != nil {
		refuse(c, err)
		return
	}
	rev, err := s.amend(c, "Bring in a camera", func(doc *treatment.Document) error {
		if doc.Camera == nil {
			doc.Camera = &treatment.Camera{Focal: string(camera.Fixed), Terms: 1}
		}
		doc.Camera.Data = &treatment.CameraData{Artifact: sha, Given: true}
		doc.Camera.World = nil
		if unit != "" {
			doc.Camera.World = treatment.WorldOf(camera.Same, unit)
		}
		// glTF says nothing of a lens: the shot's own stays.
		if doc.Lens == nil || lens.K != [3]float64{} {
			if doc.Lens != nil {
				lens.Lines = doc.Lens.Lines
			}
			doc.Lens = lens
		}
		return nil
	})
	if err != nil {
		refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, rev)
}

// lensFile hands the lens out as an ST map: as=out for the map that makes the straight picture of the plate, as=in for the one back.
func (s *Server) lensFile(c *gin.Context) {
	head, err := s.Store.Head(c, c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	lens, err := head.Document.Lens.Of()
	if err != nil || head.Document.Lens == nil {
		problem(c, http.StatusNotFound, "the shot has no lens yet")
		return
	}
	m, name := warp.LensIn(lens), "lens_out.exr" // where on the plate a pixel of the straight picture comes from
	switch c.DefaultQuery("as", "out") {
	case "out":
	case "in":
		m, name = warp.LensOut(lens), "lens_in.exr"
	default:
		problem(c, http.StatusUnprocessableEntity, "a lens is taken out, or put back in")
		return
	}
	size := head.Document.Lens.Size
	attach(c, name, "image/x-exr", exchange.Warp(m, size[0], size[1]))
}

func (s *Server) readLens(c *gin.Context) {
	source, err := s.Workspace.Source(c, c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	p := source.Plates
	blob, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, int64(p.Width)*int64(p.Height)*16+1<<20))
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "the file is larger than an ST map of the shot's size is")
		return
	}
	st, err := media.DecodeEXR(blob, p.Width, p.Height, "R", "G")
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error())
		return
	}
	lens, _, err := exchange.ReadLens(st[0], st[1], p.Width, p.Height)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error())
		return
	}
	rev, err := s.amend(c, "Bring in a lens", func(doc *treatment.Document) error {
		if doc.Lens != nil {
			lens.Lines = slices.Clone(doc.Lens.Lines)
		}
		doc.Lens = lens
		return nil
	})
	if err != nil {
		refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, rev)
}
