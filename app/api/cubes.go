package api

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"path"
	"strings"
	"unicode"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/store"
	"jardin/core/colorspace"
)

// cubes serves the tables through which shots are looked at.
func (s *Server) cubes(api huma.API, router *gin.Engine) {
	huma.Register(api, huma.Operation{
		OperationID: "get-cube", Method: http.MethodGet, Path: "/api/shots/{id}/cube",
		Summary: "Through which .cube file a shot is looked at",
	}, func(ctx context.Context, in *ShotPath) (*body[store.Cube], error) {
		c, err := s.Store.CubeOf(ctx, in.ID)
		return &body[store.Cube]{c}, asProblem(err)
	})
	huma.Register(api, huma.Operation{
		OperationID: "drop-cube", Method: http.MethodDelete, Path: "/api/shots/{id}/cube",
		Summary: "Look at a shot without its .cube file: through its show's, or, if it was looked at through that, through none",
	}, func(ctx context.Context, in *struct {
		ShotPath
		For string `query:"for" enum:"show,shot" required:"true"`
	}) (*body[store.Cube], error) {
		if err := s.Store.DropCube(ctx, in.ID, in.For); err != nil {
			return nil, asProblem(err)
		}
		s.shotChanged(in.ID)
		c, err := s.Store.CubeOf(ctx, in.ID)
		return &body[store.Cube]{c}, asProblem(err)
	})
	router.PUT("/api/shots/:id/cube", s.setCube)
	router.GET("/api/shots/:id/cube/table", s.cubeTable)
}

// setCube takes a .cube file as the body, with its name, and whether it is for the show or the shot.
func (s *Server) setCube(c *gin.Context) {
	of, name := c.Query("for"), path.Base(strings.ReplaceAll(c.Query("name"), `\`, "/"))
	if of != store.ForShow && of != store.ForShot {
		problem(c, http.StatusUnprocessableEntity, "say whether it is for the show or the shot")
		return
	}
	name = strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return -1
	}, name)
	if len(name) > 200 || strings.Trim(name, "./ ") == "" {
		name = "look.cube"
	}
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, colorspace.MostCube))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		problem(c, http.StatusRequestEntityTooLarge, fmt.Sprintf("a .cube file may have %d MB", colorspace.MostCube>>20))
		return
	}
	if err != nil {
		problem(c, http.StatusBadRequest, err.Error())
		return
	}
	if _, err := colorspace.ReadCube(data); err != nil {
		problem(c, http.StatusUnprocessableEntity, fmt.Sprintf("%s cannot be used: %v", name, err))
		return
	}
	ctx := c.Request.Context()
	if err := s.Store.SetCube(ctx, c.Param("id"), of, name, data); err != nil {
		refuse(c, err)
		return
	}
	s.shotChanged(c.Param("id"))
	now, err := s.Store.CubeOf(ctx, c.Param("id"))
	if err != nil {
		refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, now)
}

// cubeTable serves the table as the browser's graphics card takes it: 32-bit little-endian floats. First its size, 1 for
// a grid or 0 for curves, and the domain's six numbers; then the entries, of a grid with red going fastest.
func (s *Server) cubeTable(c *gin.Context) {
	data, err := s.Store.CubeFile(c.Request.Context(), c.Query("hash"))
	if err != nil {
		refuse(c, err)
		return
	}
	cube, err := colorspace.ReadCube(data)
	if err != nil {
		refuse(c, err)
		return
	}
	grid := float32(0)
	if cube.Grid {
		grid = 1
	}
	numbers := append([]float32{float32(cube.Size), grid}, append(cube.Min[:], cube.Max[:]...)...)
	out := make([]byte, 0, 4*(len(numbers)+3*len(cube.Table)))
	for _, v := range numbers {
		out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
	}
	for _, entry := range cube.Table {
		for _, v := range entry {
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(v))
		}
	}
	c.Header("Cache-Control", "private, max-age=31536000, immutable")
	c.Data(http.StatusOK, "application/octet-stream", out)
}
