package api

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/render"
	"jardin/core/treatment"
)

// settling serves what settling and guarding a patch need.
func (s *Server) settling(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "settle", Method: http.MethodPost, Path: "/api/shots/{id}/settle/{removal}",
		DefaultStatus: http.StatusAccepted,
		Summary:       "Find out from the plate how a removal's patch takes on its light, softness and grain",
	}, s.settle)
	huma.Register(api, huma.Operation{
		OperationID: "follow-edge", Method: http.MethodPost, Path: "/api/shots/{id}/edges",
		DefaultStatus: http.StatusAccepted,
		Summary:       "Let an outline follow the edge that it lies on, from a frame on which it lies right",
	}, s.followEdge)
	huma.Register(api, huma.Operation{
		OperationID: "get-measures", Method: http.MethodGet, Path: "/api/shots/{id}/measures/{removal}",
		Summary: "By how much a removal's patch is lit and blurred on a run of frames; frames on which nothing is " +
			"known are left out",
	}, s.getMeasures)
}

func (s *Server) settle(ctx context.Context, in *removalPath) (*body[*store.Task], error) {
	r, err := s.Store.Removal(ctx, in.ID, in.Removal, -1)
	if err != nil {
		return nil, asProblem(err)
	}
	return s.begin(ctx, store.Task{
		ShotID: in.ID, Kind: "settle", Title: "Settle " + r.Name, Subject: r.ID, Total: r.Range.Len(),
	}, struct{}{})
}

func (s *Server) followEdge(ctx context.Context, in *struct {
	ShotPath
	Body picture.EdgeRun
}) (*body[*store.Task], error) {
	run := in.Body
	r, err := s.Store.Removal(ctx, in.ID, run.Removal, -1)
	if err != nil {
		return nil, asProblem(err)
	}
	shape := r.Shape(run.Shape)
	if shape == nil {
		return nil, huma.Error404NotFound("there is no such outline")
	}
	if run.First > run.From || run.Last < run.From || run.First == run.Last {
		return nil, nowhere()
	}
	return s.begin(ctx, store.Task{
		ShotID:  in.ID,
		Kind:    "edge",
		Title:   "Follow the edge of " + shape.Name,
		Subject: shape.ID,
		Total:   run.Last - run.First,
	}, run)
}

func (s *Server) getMeasures(ctx context.Context, in *struct {
	ShotPath
	Removal  string `path:"removal"`
	Revision int    `query:"revision"`
	First    int    `query:"first"`
	Last     int    `query:"last"`
}) (*body[[]render.Measure], error) {
	source, t, err := s.onPlate(ctx, in.ID, in.Revision)
	if err != nil {
		return nil, asProblem(err)
	}
	if t.Removal(in.Removal) == nil {
		return nil, huma.Error404NotFound("there is no such removal in the treatment")
	}
	out := []render.Measure{}
	for n := max(in.First, source.Plates.First); n <= min(in.Last, source.Plates.Last, in.First+63); n++ {
		m, ok, err := source.Evaluator().Measure(ctx, t, in.Removal, n)
		if err != nil {
			return nil, asProblem(err)
		}
		if ok {
			out = append(out, m)
		}
	}
	return &body[[]render.Measure]{out}, nil
}

// A cc is a colour decision in the XML of the ASC CDL, version 1.2.
type cc struct {
	XMLName     xml.Name `xml:"ColorCorrection"`
	ID          string   `xml:"id,attr"`
	Description string   `xml:"SOPNode>Description"`
	Slope       string   `xml:"SOPNode>Slope"`
	Offset      string   `xml:"SOPNode>Offset"`
	Power       string   `xml:"SOPNode>Power"`
	Saturation  string   `xml:"SatNode>Saturation"`
}

// cdl is a list of one decision.
type cdl struct {
	XMLName xml.Name `xml:"ColorDecisionList"`
	Space   string   `xml:"xmlns,attr"`
	CC      cc       `xml:"ColorDecision>ColorCorrection"`
}

var notPlain = regexp.MustCompile(`[^A-Za-z0-9_.-]+`)

// guards serves files that go with settling and guarding: tones out, mattes in.
func (s *Server) guards(router *gin.Engine) {
	router.GET("/api/shots/:id/removals/:removal/tones/:tone", func(c *gin.Context) {
		n, err := strconv.Atoi(c.Query("frame"))
		as := c.DefaultQuery("as", "cc")
		if err != nil || (as != "cc" && as != "cdl") {
			problem(c, http.StatusUnprocessableEntity, "give a frame number, and cc or cdl as the format")
			return
		}
		r, err := s.Store.Removal(c, c.Param("id"), c.Param("removal"), -1)
		if err != nil {
			refuse(c, err)
			return
		}
		for i := range r.Settle.Tones {
			t := &r.Settle.Tones[i]
			if t.ID != c.Param("tone") {
				continue
			}
			g := t.On(n)
			three := func(v [3]float64) string { return fmt.Sprintf("%.6g %.6g %.6g", v[0], v[1], v[2]) }
			decision := cc{
				ID:          t.ID,
				Description: fmt.Sprintf("%s, frame %d; meant for linear light", t.Name, n),
				Slope:       three(g.Slopes()),
				Offset:      three(g.Offset),
				Power:       three(g.Power),
				Saturation:  fmt.Sprintf("%.6g", g.Saturation),
			}
			var blob []byte
			if as == "cc" {
				blob, err = xml.MarshalIndent(decision, "", "  ")
			} else {
				blob, err = xml.MarshalIndent(cdl{Space: "urn:ASC:CDL:v1.2", CC: decision}, "", "  ")
			}
			if err != nil {
				refuse(c, err)
				return
			}
			c.Header(
				"Content-Disposition",
				fmt.Sprintf(`attachment; filename="%s.%04d.%s"`, notPlain.ReplaceAllString(t.Name, "_"), n, as),
			)
			c.Data(http.StatusOK, "application/xml", append([]byte(xml.Header), blob...))
			return
		}
		problem(c, http.StatusNotFound, "there is no such tone")
	})
	router.POST("/api/shots/:id/removals/:removal/fronts/:front/matte", s.takeMatte)
	router.POST("/api/shots/:id/removals/:removal/mattes/:matte", s.takeMatte)
}

// numberIn finds the frame's number in a file's name: the last run of digits.
var numberIn = regexp.MustCompile(`(\d+)\D*$`)

// takeMatte keeps a supplied matte of one frame, for a front or for what goes.
func (s *Server) takeMatte(c *gin.Context) {
	ctx, shot := c.Request.Context(), c.Param("id")
	name := path.Base(c.DefaultQuery("name", "matte"))
	found := numberIn.FindStringSubmatch(name)
	if found == nil {
		problem(
			c,
			http.StatusUnprocessableEntity,
			fmt.Sprintf(
				"%s has no frame number in its name; name mattes as the plate's frames are, such as matte.1001.png",
				name,
			),
		)
		return
	}
	n, err := strconv.Atoi(found[1])
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, name+" has a number that is too long to be a frame's")
		return
	}
	source, err := s.Workspace.Source(ctx, shot)
	if err != nil {
		refuse(c, err)
		return
	}
	if n < source.Plates.First || n > source.Plates.Last {
		problem(
			c,
			http.StatusUnprocessableEntity,
			fmt.Sprintf(
				"%s is for frame %d, which is not in the shot (%d to %d)",
				name,
				n,
				source.Plates.First,
				source.Plates.Last,
			),
		)
		return
	}
	data, err := io.ReadAll(c.Request.Body)
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "the file could not be read to its end: "+err.Error())
		return
	}
	still, err := source.Decode(ctx, data)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, name+": "+err.Error())
		return
	}
	if still.Width != source.Plates.Width || still.Height != source.Plates.Height {
		problem(
			c,
			http.StatusUnprocessableEntity,
			fmt.Sprintf(
				"%s is %d x %d, the plate %d x %d; mattes are as large as the plate",
				name,
				still.Width,
				still.Height,
				source.Plates.Width,
				source.Plates.Height,
			),
		)
		return
	}
	sha, err := s.keepStill(ctx, still)
	if err != nil {
		refuse(c, err)
		return
	}
	rev, err := s.Store.Amend(ctx, shot, "Bring in "+name, func(doc *treatment.Document) error {
		r, _ := doc.Find(c.Param("removal"))
		if r == nil {
			return errors.New("the removal was deleted meanwhile")
		}
		mattes := mattesOf(r, c.Param("front"), c.Param("matte"))
		if mattes == nil {
			return errors.New("what the matte is for was deleted meanwhile")
		}
		putMatte(mattes, treatment.FrontMatte{
			Frame:   n,
			Picture: treatment.Picture{Artifact: sha, Name: name, Width: still.Width, Height: still.Height},
		})
		return nil
	})
	s.amended(c, shot, rev, err)
}

// mattesOf returns the supplied mattes of a front, or of a mark; nil where it is not there.
func mattesOf(r *treatment.Removal, front, mark string) *[]treatment.FrontMatte {
	if r.Guard != nil {
		for i := range r.Guard.Fronts {
			if r.Guard.Fronts[i].ID == front {
				return &r.Guard.Fronts[i].Mattes
			}
		}
	}
	for i := range r.Mark.Mattes {
		if r.Mark.Mattes[i].ID == mark {
			return &r.Mark.Mattes[i].Mattes
		}
	}
	return nil
}

// putMatte puts a matte in its place among others, or in place of that of its frame.
func putMatte(mattes *[]treatment.FrontMatte, matte treatment.FrontMatte) {
	at, there := slices.BinarySearchFunc(
		*mattes, matte.Frame, func(m treatment.FrontMatte, n int) int { return m.Frame - n },
	)
	if there {
		(*mattes)[at] = matte
		return
	}
	*mattes = slices.Insert(*mattes, at, matte)
}
