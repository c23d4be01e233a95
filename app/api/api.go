// Package api is the HTTP interface: the described API, pictures, live events
// and the brush channel.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"jardin/app/datafolder"
	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/routines"
	"jardin/app/store"
	"jardin/core/render"
)

// A Server answers requests.
type Server struct {
	Store     *store.Store
	Workspace *picture.Workspace
	Jobs      *jobs.Runner
	Hub       *live.Hub
	Roots     media.Roots

	Access *Access
	Memory int // bytes that the server may take
	// KeepDeleted is for how many days a deleted shot can be taken back.
	KeepDeleted int

	Web fs.FS // the built interface

	Closing context.Context // done when the server shuts down; ends event streams
}

// Handler returns the HTTP handler, and the description of the API.
func (s *Server) Handler() (http.Handler, *huma.OpenAPI) {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.Use(s.recovered)
	router.Use(s.gate()...)
	huma.DefaultArrayNullable = false
	config := huma.DefaultConfig("Jardin", "1")
	config.DocsPath, config.SchemasPath = "", ""
	config.OpenAPIPath = "/api/openapi"
	config.CreateHooks = nil // no $schema links in answers
	described := humagin.New(router, config)
	s.session(described, router)
	s.shots(described, router)
	s.treatments(described)
	s.history(described)
	s.tasks(described)
	s.uploads(described, router)
	s.usage(described)
	s.tracks(described)
	s.fills(described)
	s.cubes(described, router)
	s.cameras(described)
	s.settling(described)
	s.events(described)
	s.pictures(router)
	s.downloads(router)
	s.exchanges(router)
	s.supplies(router)
	s.guards(router)
	s.cameraFiles(router)
	router.GET("/api/shots/:id/brush", s.brush)
	router.NoRoute(s.web())
	named(described.OpenAPI())
	return router, described.OpenAPI()
}

// named says in the description what names may be; package datafolder holds them to it.
func named(description *huma.OpenAPI) {
	for _, item := range description.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if op == nil {
				continue
			}
			for _, p := range op.Parameters {
				if p.In == "path" && p.Schema != nil && p.Schema.Type == huma.TypeString && p.Schema.Enum == nil {
					p.Schema.Pattern = datafolder.Pattern
				}
			}
		}
	}
}

// recovered answers a request whose work broke, and keeps the server alive.
func (s *Server) recovered(c *gin.Context) {
	if err := routines.Guard(func() error { c.Next(); return nil }); err != nil && !c.Writer.Written() {
		refuse(c, err)
	}
}

// web serves the interface: its files by name, and its page for any other path.
func (s *Server) web() gin.HandlerFunc {
	files := http.FileServerFS(s.Web)
	return func(c *gin.Context) {
		path := strings.TrimPrefix(c.Request.URL.Path, "/")
		if strings.HasPrefix(path, "api/") {
			problem(c, http.StatusNotFound, "there is nothing at this address")
			return
		}
		if _, err := fs.Stat(s.Web, path); err != nil || path == "" {
			c.Request.URL.Path = "/"
			c.Header("Cache-Control", "no-cache")
		} else if strings.HasPrefix(path, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		files.ServeHTTP(c.Writer, c.Request)
	}
}

// problem answers with a problem document (RFC 9457).
func problem(c *gin.Context, status int, detail string) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: detail})
}

// refuse turns an error into the problem document that fits it.
func refuse(c *gin.Context, err error) {
	var p huma.StatusError
	if errors.As(asProblem(err), &p) {
		problem(c, p.GetStatus(), p.Error())
	}
}

// asProblem gives an error its status for described operations.
func asProblem(err error) error {
	var stale *store.Stale
	var invalid *store.Invalid
	var touched *store.Touched
	var known huma.StatusError
	var beyond *render.Beyond
	var tooMuch *http.MaxBytesError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, store.ErrNone):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, datafolder.ErrID):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.As(err, &touched):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, store.ErrGone):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, picture.ErrNotReady):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, store.ErrTaken):
		return huma.Error409Conflict(err.Error())
	case errors.As(err, &stale):
		return &StaleProblem{
			ErrorModel: huma.ErrorModel{Title: "Conflict", Status: http.StatusConflict, Detail: err.Error()},
			Revision:   stale.Now,
		}
	case errors.As(err, &invalid):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.As(err, &known):
		return err
	case errors.As(err, &beyond):
		return huma.Error404NotFound(err.Error())
	case errors.As(err, &tooMuch):
		return huma.NewError(
			http.StatusRequestEntityTooLarge,
			fmt.Sprintf("the body may hold %d MB at most", tooMuch.Limit>>20),
		)
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the request was withdrawn")
	case store.Unfit(err):
		return huma.Error422UnprocessableEntity("a number is larger than any can be here, or a text holds what is none")
	case store.Away(err):
		return huma.Error503ServiceUnavailable(
			"the database does not answer; nothing was changed. Try again in a moment",
		)
	case store.Foreign(err):
		// What the database's driver says is for the log, not for whoever asked.
		slog.Error("the database failed", "error", err)
		return huma.Error500InternalServerError("the database could not do this; the server's log says why")
	}
	return huma.Error500InternalServerError(err.Error())
}

// StaleProblem is the problem document of a stale edit. It carries the newer
// state, so that nothing has to be asked for again.
type StaleProblem struct {
	huma.ErrorModel
	Revision *store.Revision `json:"revision"`
}

// MarshalJSON keeps the error model's own fields beside the revision.
func (p *StaleProblem) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Title    string          `json:"title"`
		Status   int             `json:"status"`
		Detail   string          `json:"detail"`
		Revision *store.Revision `json:"revision"`
	}{p.Title, p.Status, p.Detail, p.Revision})
}

// body is an answer with nothing but a body.
type body[T any] struct{ Body T }

// ShotPath is the shot in an address.
type ShotPath struct {
	ID string `path:"id" doc:"The shot"`
}
