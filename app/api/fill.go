package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/geom"
	"jardin/core/render"
	"jardin/core/treatment"
)

// fills serves what painting needs besides the brush channel.
func (s *Server) fills(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "align-loan", Method: http.MethodPost, Path: "/api/shots/{id}/align",
		Summary: "Lay a frame on loan so that it fits around a removal's outlines",
	}, func(ctx context.Context, in *struct {
		ShotPath
		Body struct {
			Removal string         `json:"removal"`
			Frame   int            `json:"frame" doc:"Frame that is painted on"`
			From    treatment.From `json:"from" doc:"How the other frame lies now"`
		}
	}) (*body[*picture.Aligned], error) {
		source, _, t, err := s.opened(ctx, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		out, err := source.Align(ctx, t, in.Body.Removal, in.Body.Frame, in.Body.From)
		if err != nil && ctx.Err() == nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return &body[*picture.Aligned]{out}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "propose-region", Method: http.MethodPost, Path: "/api/shots/{id}/removals/{removal}/region",
		Summary: "A region around a removal's outlines to follow its surface by, that holds on the frames beside",
	}, func(ctx context.Context, in *struct {
		ShotPath
		Removal string `path:"removal"`
		Body    struct {
			Frame int `json:"frame" doc:"On which it is to lie"`
		}
	}) (*body[*picture.ProposedRegion], error) {
		source, _, t, err := s.opened(ctx, in.ID)
		if err != nil {
			return nil, asProblem(err)
		}
		out, err := source.ProposeRegion(ctx, t, in.Removal, in.Body.Frame)
		if err != nil && ctx.Err() == nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return &body[*picture.ProposedRegion]{out}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "get-light", Method: http.MethodGet, Path: "/api/shots/{id}/frames/{frame}/light",
		Summary: "The light in a disc of a frame, as a view shows it, and how far colours around it are apart",
	}, s.getLight)
	huma.Register(api, huma.Operation{
		OperationID: "find-beside", Method: http.MethodGet, Path: "/api/shots/{id}/removals/{removal}/beside",
		Summary: "A place on a frame that looks most like what is around a removal's outlines",
	}, s.beside)
	huma.Register(api, huma.Operation{
		OperationID: "get-seen", Method: http.MethodGet, Path: "/api/shots/{id}/seen/{removal}/{source}",
		Summary: "How much of what is marked on a frame a source through time finds on some frame",
	}, s.getSeen)
	huma.Register(api, huma.Operation{
		OperationID: "get-shares", Method: http.MethodGet, Path: "/api/shots/{id}/seen/{removal}/{source}/frames",
		Summary: "The same on a run of frames, as shares; frames on which it is not known are left out",
	}, s.getShares)
}

// seen is how much of what is marked is seen on some frame.
type seen struct {
	Seen  int    `json:"seen" doc:"Pixels that some frame shows"`
	All   int    `json:"all" doc:"Pixels that are marked"`
	Words string `json:"words"`
}

// A SeenPath is in the address of what a source through time finds.
type SeenPath struct {
	ShotPath
	Removal  string `path:"removal"`
	Source   string `path:"source"`
	Revision int    `query:"revision" minimum:"0" maximum:"2147483647" required:"true"`
}

// gathered opens a revision in which a source through time stands.
func (s *Server) gathered(ctx context.Context, in *SeenPath) (*picture.Source, *render.Treatment, error) {
	source, t, err := s.onPlate(ctx, in.ID, in.Revision)
	if err != nil {
		return nil, nil, asProblem(err)
	}
	r := t.Removal(in.Removal)
	if r == nil || !slices.ContainsFunc(r.Fill.Sources, func(f treatment.Source) bool {
		return f.ID == in.Source && f.Gathered != nil
	}) {
		return nil, nil, huma.Error404NotFound("there is no such source through time in the treatment")
	}
	return source, t, nil
}

func (s *Server) getSeen(ctx context.Context, in *struct {
	SeenPath
	Frame int `query:"frame" minimum:"0" maximum:"99999999" required:"true"`
}) (*body[seen], error) {
	source, t, err := s.gathered(ctx, &in.SeenPath)
	if err != nil {
		return nil, err
	}
	share, words, err := source.Seen(ctx, t, in.Removal, in.Source, in.Frame)
	if err != nil {
		return nil, asProblem(err)
	}
	return &body[seen]{seen{share.Seen, share.All, words}}, nil
}

// A shareOn is how much of what is marked on a frame is seen on some frame.
type shareOn struct {
	Frame int     `json:"frame"`
	Share float64 `json:"share" minimum:"0" maximum:"1"`
}

func (s *Server) getShares(ctx context.Context, in *struct {
	SeenPath
	First int `query:"first" minimum:"0" maximum:"99999999" required:"true"`
	Last  int `query:"last" minimum:"0" maximum:"99999999" required:"true"`
}) (*body[[]shareOn], error) {
	source, t, err := s.gathered(ctx, &in.SeenPath)
	if err != nil {
		return nil, err
	}
	out := []shareOn{}
	within := t.Removal(in.Removal).Range
	for n := max(in.First, source.Plates.First, within.First); n <= min(in.Last, source.Plates.Last, within.Last,
		in.First+63); n++ {
		found, err := source.Evaluator().Seen(ctx, t, in.Removal, in.Source, n, true)
		if err != nil {
			return nil, asProblem(err)
		}
		if found != nil && found.All > 0 {
			out = append(out, shareOn{n, float64(found.Seen) / float64(found.All)})
		}
	}
	return &body[[]shareOn]{out}, nil
}

type besideQuery struct {
	ShotPath
	Removal string `path:"removal"`
	Frame   int    `query:"frame"`
}

// beside answers with a place that clean pixels may come from.
func (s *Server) beside(ctx context.Context, in *besideQuery) (*body[*picture.Place], error) {
	source, _, t, err := s.opened(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	place, err := source.Beside(ctx, t, in.Removal, in.Frame)
	if err != nil && ctx.Err() == nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &body[*picture.Place]{place}, asProblem(err)
}

// supplies hands pictures out to other programs and takes them back.
func (s *Server) supplies(router *gin.Engine) {
	at := router.Group("/api/shots/:id/removals/:removal/picture")
	outside := func(c *gin.Context) (picture.ExternalPicture, error) {
		n, err := strconv.Atoi(c.Query("frame"))
		if err != nil {
			return picture.ExternalPicture{}, fmt.Errorf("%q is not a frame number", c.Query("frame"))
		}
		return picture.ExternalPicture{
			Removal:  c.Param("removal"),
			Source:   c.Query("source"),
			Frame:    n,
			Denoised: c.Query("grain") == "less",
		}, nil
	}
	at.GET("", func(c *gin.Context) {
		ctx, as := c.Request.Context(), c.DefaultQuery("as", "png")
		o, err := outside(c)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, err.Error())
			return
		}
		source, head, t, err := s.opened(ctx, c.Param("id"))
		if err != nil {
			refuse(c, err)
			return
		}
		if r, _ := head.Document.Find(o.Removal); r == nil {
			problem(c, http.StatusNotFound, "there is no such removal")
			return
		}
		data, err := source.HandOut(ctx, t, o, as)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, err.Error())
			return
		}
		shot, err := s.Store.Shot(ctx, c.Param("id"))
		if err != nil {
			refuse(c, err)
			return
		}
		name := fmt.Sprintf(
			"%s.%04d.%s",
			shot.Name,
			o.Frame,
			map[string]string{"png": "png", "tiff": "tif", "exr": "exr"}[as],
		)
		c.Header("Content-Disposition", `attachment; filename="`+name+`"`)
		c.Data(http.StatusOK, "application/octet-stream", data)
	})
	at.POST("", func(c *gin.Context) {
		o, err := outside(c)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, err.Error())
			return
		}
		data, err := io.ReadAll(c.Request.Body)
		if err != nil {
			problem(c, http.StatusRequestEntityTooLarge, "the file could not be read to its end: "+err.Error())
			return
		}
		s.takeBack(c, o, data)
	})
}

// takeBack keeps a picture as a source of its own.
func (s *Server) takeBack(c *gin.Context, o picture.ExternalPicture, data []byte) {
	ctx, shot := c.Request.Context(), c.Param("id")
	source, head, t, err := s.opened(ctx, shot)
	if err != nil {
		refuse(c, err)
		return
	}
	if r, _ := head.Document.Find(o.Removal); r == nil {
		problem(c, http.StatusNotFound, "there is no such removal; it may have been deleted")
		return
	}
	piece := c.Query("kind") == treatment.Supplied
	var still *media.Still
	if piece {
		still, err = source.TakePiece(ctx, data)
	} else {
		still, err = source.TakeBack(ctx, t, o, data, c.Query("anyway") == "1")
	}
	var odd *picture.Suspicious
	if errors.As(err, &odd) {
		problem(c, http.StatusConflict, err.Error())
		return
	}
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error())
		return
	}
	sha, err := s.keepStill(ctx, still)
	if err != nil {
		refuse(c, err)
		return
	}
	name := path.Base(c.DefaultQuery("name", "picture"))
	rev, err := s.Store.Amend(ctx, shot, "Bring in "+name, func(doc *treatment.Document) error {
		r, _ := doc.Find(o.Removal)
		if r == nil {
			return errors.New("the removal was deleted meanwhile")
		}
		supplied := &treatment.Picture{Artifact: sha, Name: name, Width: still.Width, Height: still.Height}
		fresh := treatment.Source{
			ID:    "p" + sha[:7],
			Name:  name,
			Kind:  treatment.HeldPlate,
			Plate: &treatment.Plate{Frame: o.Frame, Picture: supplied},
		}
		if piece {
			fresh.Kind, fresh.Plate = treatment.Supplied, nil
			fresh.Piece = &treatment.Piece{Frame: o.Frame, Picture: supplied, Corners: cornersFor(still, source, r)}
		}
		for n := 2; r.Fill.Source(fresh.ID) != nil; n++ {
			fresh.ID = fmt.Sprintf("p%s-%d", sha[:7], n)
		}
		r.Fill.Sources = append(r.Fill.Sources, fresh)
		return nil
	})
	s.amended(c, shot, rev, err)
}

// amended answers with a revision that a file brought about, and tells everyone of it.
func (s *Server) amended(c *gin.Context, shot string, rev *store.Revision, err error) {
	if err != nil {
		refuse(c, err)
		return
	}
	s.Hub.Send(live.RevisionChanged{ShotID: shot, Number: rev.Number})
	c.JSON(http.StatusOK, rev)
}

// keepStill keeps a supplied picture as an artifact.
func (s *Server) keepStill(ctx context.Context, still *media.Still) (sha string, err error) {
	blob, err := still.PNG()
	if err != nil {
		return "", err
	}
	return s.Store.PutArtifact(ctx, blob)
}

// cornersFor lays a new piece over the thing, or in the middle of the frame, at its own
// size if that fits.
func cornersFor(still *media.Still, source *picture.Source, r *treatment.Removal) []treatment.Vec {
	size := source.Size()
	k := min(1, 0.8*float64(size.Dx())/float64(still.Width), 0.8*float64(size.Dy())/float64(still.Height))
	w, h := k*float64(still.Width)/2, k*float64(still.Height)/2
	x, y := float64(size.Dx())/2, float64(size.Dy())/2
	if len(r.Mark.Outlines) > 0 && r.Mark.Outlines[0].Home == r.Reference {
		var sum treatment.Vec
		points := r.Mark.Outlines[0].Points
		for _, p := range points {
			sum[0], sum[1] = sum[0]+p.At[0]/float64(len(points)), sum[1]+p.At[1]/float64(len(points))
		}
		// Over the thing, as far as all of it stays in sight.
		x, y = min(max(sum[0], w), float64(size.Dx())-w), min(max(sum[1], h), float64(size.Dy())-h)
	}
	return []treatment.Vec{{x - w, y - h}, {x + w, y - h}, {x + w, y + h}, {x - w, y + h}}
}

func (s *Server) getLight(ctx context.Context, in *struct {
	ShotPath
	Revision int         `query:"revision" minimum:"-1" maximum:"2147483647" default:"-1" doc:"Left out, the one in force"`
	Frame    int         `path:"frame"`
	X        float64     `query:"x" required:"true" minimum:"-100000" maximum:"100000"`
	Y        float64     `query:"y" required:"true" minimum:"-100000" maximum:"100000"`
	Radius   float64     `query:"radius" minimum:"0" maximum:"1000"`
	View     render.View `query:"view" enum:",result,patch" doc:"Left out the plate"`
	Removal  string      `query:"removal"`
}) (*body[picture.Picked], error) {
	source, err := s.Workspace.Source(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	rev, err := s.revisionAt(ctx, &atRevision{in.ShotPath, in.Revision})
	if err != nil {
		return nil, asProblem(err)
	}
	t, err := s.Workspace.Treatment(ctx, in.ID, rev.Number)
	if err != nil {
		return nil, asProblem(err)
	}
	if !geom.Pt(in.X, in.Y).Finite() || !(in.Radius >= 0) {
		return nil, huma.Error422UnprocessableEntity("x, y and radius are not numbers")
	}
	light, ok, err := source.Light(ctx, t, in.Frame, in.View, in.Removal, geom.Pt(in.X, in.Y), in.Radius)
	if err == nil && !ok {
		return nil, huma.Error422UnprocessableEntity("that is beside the picture")
	}
	return &body[picture.Picked]{light}, asProblem(err)
}
