package api

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"image"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	"jardin/app/live"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/fill"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

// The brush channel is a WebSocket on which a stroke is painted while the hand
// moves. The browser sends brushMessage; the server answers each move with the
// pixels that it changed, as a binary message: x, y, width, height as 32-bit
// little-endian integers, then RGBA bytes for an sRGB screen; and the end of a
// stroke with strokeSaved, once the stroke is safe in the database.
type brushMessage struct {
	Type    string           `json:"type"`    // begin, move, end, drop
	Removal string           `json:"removal"` // of begin
	Stroke  treatment.Stroke `json:"stroke"`  // of begin; its path is not read
	Points  [][]float64      `json:"points"`  // of begin and move
}

type strokeSaved struct {
	Type     string          `json:"type"` // saved
	Stroke   string          `json:"stroke"`
	Revision *store.Revision `json:"revision"`
}

type strokeRefused struct {
	Type   string `json:"type"` // refused
	Stroke string `json:"stroke"`
	Detail string `json:"detail"`
}

func (s *Server) brush(c *gin.Context) {
	shot := c.Param("id")
	source, err := s.Rooms.Source(c.Request.Context(), shot)
	if err != nil {
		refuse(c, err)
		return
	}
	socket, err := websocket.Accept(c.Writer, c.Request, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return // Accept has answered
	}
	socket.SetReadLimit(8 << 20)
	defer socket.CloseNow()
	ctx, stop := context.WithCancel(c.Request.Context())
	defer stop()
	defer context.AfterFunc(s.Closing, stop)()
	easel := &easel{server: s, shot: shot, source: source, socket: socket}
	for {
		_, data, err := socket.Read(ctx)
		if err != nil {
			return
		}
		var m brushMessage
		if err := json.Unmarshal(data, &m); err != nil {
			socket.Close(websocket.StatusUnsupportedData, "not a brush message")
			return
		}
		if err := easel.take(ctx, &m); err != nil {
			id := easel.stroke.ID
			if m.Type == "begin" {
				id = m.Stroke.ID
			}
			easel.brush = nil
			if send(ctx, socket, strokeRefused{"refused", id, err.Error()}) != nil {
				return
			}
		}
	}
}

func send(ctx context.Context, socket *websocket.Conn, message any) error {
	blob, err := json.Marshal(message)
	if err != nil {
		return err
	}
	return socket.Write(ctx, websocket.MessageText, blob)
}

// An easel holds the canvas between strokes, as long as nothing else changes the
// paint.
type easel struct {
	server *Server
	shot   string
	source *picture.Source
	socket *websocket.Conn

	canvas   *fill.Canvas
	removal  string
	revision int // that the canvas shows
	plate    *raster.Image
	brush    *fill.Brush
	stroke   treatment.Stroke
}

func (e *easel) take(ctx context.Context, m *brushMessage) error {
	switch m.Type {
	case "begin":
		if err := e.begin(ctx, m); err != nil {
			return err
		}
		return e.move(ctx, m.Points)
	case "move":
		if e.brush == nil {
			return nil // of a stroke that was refused
		}
		return e.move(ctx, m.Points)
	case "end":
		if e.brush == nil {
			return nil
		}
		return e.end(ctx)
	case "drop":
		e.brush, e.canvas = nil, nil
		return nil
	}
	return fmt.Errorf("%q is not a brush message", m.Type)
}

func (e *easel) begin(ctx context.Context, m *brushMessage) error {
	head, err := e.server.Store.Head(ctx, e.shot)
	if err != nil {
		return err
	}
	r, _ := head.Document.Find(m.Removal)
	if r == nil {
		return errors.New("the removal was deleted; paint on another one")
	}
	e.stroke = m.Stroke
	e.stroke.Path = treatment.Path{Points: m.Points}
	if err := e.stroke.Valid(); err != nil {
		return err
	}
	if e.canvas == nil || e.removal != m.Removal || e.revision != head.Number {
		t, err := e.server.Rooms.Treatment(ctx, e.shot, head.Number)
		if err != nil {
			return err
		}
		if e.canvas, err = e.source.Evaluator().Canvas(ctx, t, m.Removal); err != nil {
			return err
		}
		if e.plate, err = e.source.Linear(ctx, r.Fill.Frame, e.source.Size()); err != nil {
			return err
		}
		e.removal, e.revision = m.Removal, head.Number
	}
	e.stroke.Path.Points = nil
	e.brush = e.canvas.Begin(render.StrokeOf(&e.stroke))
	return nil
}

func (e *easel) move(ctx context.Context, points [][]float64) error {
	if err := treatment.ValidPath(points); err != nil {
		return err
	}
	e.stroke.Path.Points = append(e.stroke.Path.Points, points...)
	dirty := e.brush.Move(render.Touches(points))
	if dirty.Empty() {
		return nil
	}
	return e.socket.Write(ctx, websocket.MessageBinary, e.pixels(dirty))
}

// pixels returns the plate with the paint over it in r, for the screen.
func (e *easel) pixels(r image.Rectangle) []byte {
	layer, shown := e.canvas.View(r), e.plate.Crop(r)
	for i := 0; i < len(shown.Pix); i += 4 {
		rest := 1 - layer.Pix[i+3]
		if rest == 1 {
			shown.Pix[i+3] = 0
			continue
		}
		for k := range 3 {
			shown.Pix[i+k] = layer.Pix[i+k] + shown.Pix[i+k]*rest
		}
	}
	m := picture.ForScreen(shown)
	out := make([]byte, 16, 16+len(m.Pix))
	for i, v := range []int{r.Min.X, r.Min.Y, r.Dx(), r.Dy()} {
		binary.LittleEndian.PutUint32(out[4*i:], uint32(int32(v)))
	}
	return append(out, m.Pix...)
}

// end saves the stroke, whatever else was changed meanwhile, and only then says
// that it is saved.
func (e *easel) end(ctx context.Context) error {
	s := e.server
	e.brush = nil
	blob, err := json.Marshal(e.stroke.Path.Points)
	if err != nil {
		return err
	}
	sha, err := s.Store.PutArtifact(ctx, blob)
	if err != nil {
		e.canvas = nil
		return err
	}
	stroke := e.stroke
	stroke.Path = treatment.Path{Artifact: sha}
	rev, err := s.Store.Amend(ctx, e.shot, "Paint a stroke", func(doc *treatment.Document) error {
		r, _ := doc.Find(e.removal)
		if r == nil {
			return errors.New("the removal was deleted while you painted")
		}
		for _, other := range r.Fill.Strokes {
			if other.ID == stroke.ID {
				return errKept // sent again after the connection broke: it had arrived
			}
		}
		r.Fill.Strokes = append(r.Fill.Strokes, stroke)
		return nil
	})
	if errors.Is(err, errKept) {
		rev, err = s.Store.Head(ctx, e.shot)
	}
	if err != nil {
		e.canvas = nil
		return err
	}
	if rev.Number != e.revision+1 {
		e.canvas = nil // something else was changed meanwhile: begin afresh
	}
	e.revision = rev.Number
	s.Hub.Send(live.RevisionChanged{ShotID: e.shot, Number: rev.Number})
	return send(ctx, e.socket, strokeSaved{"saved", stroke.ID, rev})
}

var errKept = errors.New("the stroke is kept already")
