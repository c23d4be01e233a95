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

	"jardin/app/document"
	"jardin/app/live"
	"jardin/app/picture"
	"jardin/app/routines"
	"jardin/app/store"
	"jardin/core/fill"
	"jardin/core/render"
	"jardin/core/treatment"
)

// The brush channel is a WebSocket on which a stroke is painted while the hand
// moves. The browser sends brushMessage; the server answers each move, and the end
// of a stroke that changes more, with the pixels that it changed, as a binary
// message: x, y, width, height as 32-bit little-endian integers, then RGBA bytes
// for an sRGB screen; and the end with strokeSaved, once the stroke is safe in the
// database.
type brushMessage struct {
	Type    string           `json:"type"`    // begin, move, end, drop
	Removal string           `json:"removal"` // of begin
	Source  treatment.Source `json:"source"`  // of begin: which one is painted on; made if it is not there yet
	Stroke  treatment.Stroke `json:"stroke"`  // of begin; its path is not read
	Points  [][]float64      `json:"points"`  // of begin and move
	Code    bool             `json:"code"`    // of begin: pixels come back as code values, for a table, not for an sRGB screen
}

type strokeSaved struct {
	Type     string               `json:"type"` // saved
	Stroke   string               `json:"stroke"`
	Base     int                  `json:"base"` // the revision that the patch is made on
	Patch    []document.Operation `json:"patch"`
	Revision *store.Revision      `json:"revision"` // without its document; with it where there is no patch
}

type strokeRefused struct {
	Type   string `json:"type"` // refused
	Stroke string `json:"stroke"`
	Detail string `json:"detail"`
}

func (s *Server) brush(c *gin.Context) {
	shot := c.Param("id")
	source, err := s.Workspace.Source(c.Request.Context(), shot)
	if err != nil {
		refuse(c, err)
		return
	}
	// Whose page it is was looked at before (fromHere).
	socket, err := websocket.Accept(
		c.Writer,
		c.Request,
		&websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled},
	)
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
		if err := routines.Guard(func() error { return easel.take(ctx, &m) }); err != nil {
			id := easel.stroke.ID
			if m.Type == "begin" {
				id = m.Stroke.ID
			}
			easel.brush, easel.canvas = nil, nil
			if store.Away(err) {
				// Not refused: it is sent again when the database is back.
				socket.Close(websocket.StatusTryAgainLater, "the database does not answer")
				return
			}
			if send(ctx, socket, strokeRefused{"refused", id, told(err)}) != nil {
				return
			}
		}
	}
}

// told is what of an error whoever paints is told.
func told(err error) string { return asProblem(err).Error() }

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
	on       place
	revision int // that the canvas shows
	painted  treatment.Source
	brush    *fill.Brush
	stroke   treatment.Stroke
	code     bool
}

// A place is what a canvas is of.
type place struct {
	removal, source string
	frame           int
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
	if e.brush != nil {
		e.brush, e.canvas = nil, nil // one that never ended
	}
	head, err := e.server.Store.Head(ctx, e.shot)
	if err != nil {
		return err
	}
	r, _ := head.Document.Find(m.Removal)
	if r == nil {
		return errors.New("the removal was deleted; paint on another one")
	}
	e.stroke, e.painted, e.code = m.Stroke, m.Source, m.Code
	e.stroke.Path = &treatment.Path{Points: m.Points}
	if err := e.stroke.Valid(); err != nil {
		return err
	}
	if known := r.Fill.Source(m.Source.ID); known != nil {
		e.painted = *known
	}
	if e.painted.StrokeList() == nil {
		return fmt.Errorf("%q cannot be painted on; choose a clean plate, or paint that travels", e.painted.Name)
	}
	if p := e.source.Plates; e.stroke.Home < p.First || e.stroke.Home > p.Last {
		return fmt.Errorf("frame %d is not in the shot (%d to %d)", e.stroke.Home, p.First, p.Last)
	}
	if frame, fixed := e.painted.PaintedAt(); fixed && e.stroke.Home != frame {
		return fmt.Errorf("%q is of frame %d; go there to paint on it", e.painted.Name, frame)
	}
	t, err := e.server.Workspace.Treatment(ctx, e.shot, head.Number)
	if err != nil {
		return err
	}
	on := place{m.Removal, m.Source.ID, e.stroke.Home}
	if e.canvas == nil || e.on != on || e.revision != head.Number {
		if e.canvas, err = e.source.Evaluator().Easel(ctx, t, m.Removal, &e.painted,
			e.stroke.Home); err != nil {
			return err
		}
		e.on, e.revision = on, head.Number
	}
	begin := treatment.Vec{}
	if len(m.Points) > 0 {
		copy(begin[:], m.Points[0])
	}
	brush, err := e.source.Evaluator().Brush(ctx, t, m.Removal, &e.stroke, begin)
	if err != nil {
		return err
	}
	e.stroke.Path = &treatment.Path{}
	e.brush = e.canvas.Begin(brush)
	return nil
}

func (e *easel) move(ctx context.Context, points [][]float64) error {
	if err := treatment.ValidPath(points); err != nil {
		return err
	}
	if len(e.stroke.Path.Points)+len(points) > treatment.MostTouches {
		return fmt.Errorf("the stroke has more than %d points; lift the pen now and then", treatment.MostTouches)
	}
	e.stroke.Path.Points = append(e.stroke.Path.Points, points...)
	return e.show(ctx, e.brush.Move(render.Touches(points)))
}

// show sends what the stroke has made of r.
func (e *easel) show(ctx context.Context, rect image.Rectangle) error {
	if rect.Empty() {
		return nil
	}
	shown, cover := e.canvas.Shown(rect), e.brush.Cover(rect)
	for i, c := range cover.Pix {
		shown.Pix[4*i+3] = 0
		if c > 0 {
			shown.Pix[4*i+3] = 1
		}
	}
	m := e.source.ForScreen(shown, e.code)
	out := make([]byte, 16, 16+len(m.Pix))
	for i, v := range []int{rect.Min.X, rect.Min.Y, rect.Dx(), rect.Dy()} {
		binary.LittleEndian.PutUint32(out[4*i:], uint32(int32(v)))
	}
	return e.socket.Write(ctx, websocket.MessageBinary, append(out, m.Pix...))
}

// end saves the stroke, whatever else was changed meanwhile, and only then says
// that it is saved.
func (e *easel) end(ctx context.Context) error {
	s := e.server
	if err := e.show(ctx, e.brush.End()); err != nil {
		return err
	}
	e.brush = nil
	blob, err := json.Marshal(e.stroke.Path.Points)
	if err != nil {
		return err
	}
	sha, err := s.Store.PutArtifact(ctx, blob)
	if err != nil {
		return err
	}
	stroke := e.stroke
	stroke.Path = &treatment.Path{Artifact: sha}
	rev, patch, err := s.Store.AddStroke(ctx, e.shot, e.on.removal, e.painted, stroke)
	if err != nil && !errors.Is(err, store.ErrKept) {
		return err
	}
	if rev.Number != e.revision+1 {
		e.canvas = nil // something else was changed meanwhile: begin afresh
	}
	e.revision = rev.Number
	s.Hub.Send(live.RevisionChanged{ShotID: e.shot, Number: rev.Number})
	saved := strokeSaved{"saved", stroke.ID, rev.Number - 1, patch, rev.Brief()}
	if patch == nil { // sent again after the connection broke: it had arrived
		saved.Revision = rev
	}
	return send(ctx, e.socket, saved)
}
