package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/render"
	"jardin/core/warp"
)

// pictures serves frames. What a frame's address names never changes, or the
// answer carries the hash of what it was made from.
func (s *Server) pictures(router *gin.Engine) {
	frames := router.Group("/api/shots/:id/frames/:frame")
	for _, kind := range []media.PictureKind{media.ScreenPicture, media.ThumbPicture} {
		frames.GET("/"+string(kind), s.frame(func(c *gin.Context, source *picture.Source, n int) {
			kind := kind
			if asCode(c) && kind == media.ScreenPicture {
				kind = media.CodePicture
			}
			reduction, ok := reductionOf(c)
			if !ok {
				return
			}
			path, err := source.Picture(n, kind, reduction)
			if err != nil {
				refuse(c, err)
				return
			}
			forever(c)
			c.File(path)
		}))
	}
	frames.GET("/exact", s.frame(func(c *gin.Context, source *picture.Source, n int) {
		data, err := source.Exact(n, asCode(c))
		if err != nil {
			refuse(c, err)
			return
		}
		forever(c)
		c.Data(http.StatusOK, "image/png", data)
	}))
	frames.GET("/overlay", s.frame(s.overlay))
	frames.POST("/overlay", s.frame(s.overlay))
}

// asCode reports whether pictures are wanted as code values, for a table that takes them to the screen.
func asCode(c *gin.Context) bool { return c.Query("as") == "code" }

// reductionOf returns by how much smaller a picture is wanted; ok is false where it was refused.
func reductionOf(c *gin.Context) (by int, ok bool) {
	by, err := strconv.Atoi(c.DefaultQuery("reduction", "1"))
	if err != nil || !slices.Contains(media.Reductions, by) {
		problem(c, http.StatusUnprocessableEntity, fmt.Sprintf("pictures are made smaller by one of %v", media.Reductions))
		return 0, false
	}
	return by, true
}

// opened returns a shot's plate and the treatment in force, ready for evaluation.
func (s *Server) opened(ctx context.Context, shot string) (*picture.Source, *store.Revision, *render.Treatment, error) {
	source, err := s.Workspace.Source(ctx, shot)
	if err != nil {
		return nil, nil, nil, err
	}
	head, err := s.Store.Head(ctx, shot)
	if err != nil {
		return nil, nil, nil, err
	}
	t, err := s.Workspace.Treatment(ctx, shot, head.Number)
	return source, head, t, err
}

// forever lets a browser keep an answer for a year, if it asked for what this very program
// computes: another one's may differ.
func forever(c *gin.Context) {
	if c.Query("v") == picture.Computation() {
		c.Header("Cache-Control", "private, max-age=31536000, immutable")
	} else {
		c.Header("Cache-Control", "private, no-cache")
	}
}

func (s *Server) frame(f func(*gin.Context, *picture.Source, int)) gin.HandlerFunc {
	return func(c *gin.Context) {
		n, err := strconv.Atoi(c.Param("frame"))
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, c.Param("frame")+" is not a frame number")
			return
		}
		source, err := s.Workspace.Source(c.Request.Context(), c.Param("id"))
		if err != nil {
			refuse(c, err)
			return
		}
		if n < source.Plates.First || n > source.Plates.Last {
			problem(
				c,
				http.StatusNotFound,
				fmt.Sprintf("frame %d is not in the shot (%d to %d)", n, source.Plates.First, source.Plates.Last),
			)
			return
		}
		f(c, source, n)
	}
}

// overlay serves the rectangle of a frame that differs from the plate. The header
// Jardin-Place says where it lies: x and y of its top left pixel; its ETag is the key
// that the frame has in the list of keys. With at, a mesh from its reference frame, the
// removal lies where that places it, whatever its track says. Posted, with a JSON Patch as the body, it is the
// overlay as it would be after that change, and nothing is saved. A draft is a first picture, with what is gathered
// through time gathered from few frames; its ETag is its own.
func (s *Server) overlay(c *gin.Context, source *picture.Source, n int) {
	ctx, removal := c.Request.Context(), c.Query("removal")
	revision, err := strconv.Atoi(c.Query("revision"))
	view := render.View(c.DefaultQuery("view", string(render.ResultView)))
	if err != nil || !slices.Contains(render.Views, view) {
		problem(
			c,
			http.StatusUnprocessableEntity,
			fmt.Sprintf("give a revision number, and one of %v as the view", render.Views),
		)
		return
	}
	var t *render.Treatment
	if c.Request.Method == http.MethodPost {
		patch, tooLarge := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, 16<<20))
		if tooLarge != nil {
			problem(c, http.StatusRequestEntityTooLarge, "a change that is looked at may have 16 MB")
			return
		}
		t, err = s.Workspace.Try(ctx, c.Param("id"), revision, patch)
	} else {
		t, err = s.Workspace.Treatment(ctx, c.Param("id"), revision)
	}
	if err != nil {
		refuse(c, err)
		return
	}
	if at := c.Query("at"); at != "" {
		var mesh warp.Mesh
		err := json.Unmarshal([]byte(at), &mesh)
		var m warp.Mapping
		if err == nil {
			m, err = mesh.Mapping()
		}
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, fmt.Sprintf("at is not a mesh: %v", err))
			return
		}
		t = t.Placed(removal, n, m)
	}
	if c.Query("draft") == "true" {
		t = t.Draft()
	}
	reduction, ok := reductionOf(c)
	if !ok {
		return
	}
	key, err := source.Evaluator().Key(t, n, view, removal)
	if err != nil {
		refuse(c, err)
		return
	}
	key = `"` + key + `"`
	if c.GetHeader("If-None-Match") == key {
		c.Header("ETag", key)
		forever(c)
		c.Status(http.StatusNotModified)
		return
	}
	if c.Request.Method == http.MethodGet && c.Query("draft") != "true" {
		ctx = render.WithProgress(ctx, s.gathering(c.Param("id"), n))
	}
	overlay, err := source.Overlay(ctx, t, n, view, removal, asCode(c), reduction)
	if err != nil {
		refuse(c, err)
		return
	}
	if c.Request.Method == http.MethodGet {
		forever(c)
	}
	c.Header("ETag", key)
	c.Header("Jardin-Place", fmt.Sprintf("%d %d", overlay.Rect.Min.X, overlay.Rect.Min.Y))
	c.Data(http.StatusOK, "image/png", overlay.PNG)
}

// gathering tells who looks at a shot how far the gathering for a frame is, now and then.
func (s *Server) gathering(shot string, n int) func(done, total int) {
	const now = 100 * time.Millisecond
	var last atomic.Int64
	began := time.Now()
	return func(done, total int) {
		since := time.Since(began)
		if was := last.Load(); since.Nanoseconds()-was < now.Nanoseconds() || !last.CompareAndSwap(was, since.Nanoseconds()) {
			return
		}
		s.Hub.Send(live.FrameGathered{ShotID: shot, Frame: n, Done: done, Total: total})
	}
}
