package api

import (
	"archive/zip"
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/exchange"
	"jardin/app/jobs"
	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/carry"
	"jardin/core/check"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

type trackPath struct {
	ShotPath
	Track    string `path:"track"`
	Revision int    `query:"revision" minimum:"-1" maximum:"2147483647" default:"-1" doc:"Left out, the one in force"`
}

type motion struct {
	Samples  []moment                  `json:"samples" nullable:"false" doc:"Each frame on which it is known, all that was decided by hand included"`
	Points   map[string][]placeOfPoint `json:"points,omitempty" doc:"Of a track of points: where each is tracked, by its id"`
	Surface  []treatment.Vec           `json:"surface,omitempty" doc:"Of a card: its four corners on the home frame"`
	Straight []treatment.Vec           `json:"straight,omitempty" doc:"The same with the lens taken out"`
}

// A moment is where a surface is on a frame, by places, and how good that is.
type moment struct {
	Frame     int             `json:"frame"`
	Mesh      *warp.Mesh      `json:"mesh,omitempty" doc:"From the track's home to there; missing where nothing of the surface is seen"`
	Before    *warp.Mesh      `json:"before,omitempty" doc:"The same without the last correction, where there is one"`
	Crossings []treatment.Vec `json:"crossings,omitempty" doc:"How far the last correction by a grid moves each crossing here"`
	ByHand    bool            `json:"byHand,omitempty" doc:"Placed by hand"`
	Bridged   bool            `json:"bridged,omitempty" doc:"Not known itself, but between frames on which it is"`
	Grade     carry.Grade     `json:"grade" enum:"good,look,bad"`
	Advice    string          `json:"advice,omitempty" doc:"What is doubtful, and what to do"`
	Match     float64         `json:"match,omitempty" doc:"Normalised correlation of the region with the frame it was compared with, 0 to 1"`
	Agree     float64         `json:"agree,omitempty" doc:"Share of what is seen of the region that agrees with the motion, 0 to 1"`
	Residual  float64         `json:"residual,omitempty" doc:"By how much parts of the region would still move by themselves, RMS, pixels"`
	Deviation float64         `json:"deviation,omitempty" doc:"Standard deviation of where the region's corners are, as grain and texture let it be known, pixels"`
	Blocks    string          `json:"blocks,omitempty" doc:"8 x 8 parts of the region's box, by rows: 0 not seen, 1 drives the track, 2 left out"`
	Chained   bool            `json:"chained,omitempty" doc:"Compared with the last frame on which it was found, not with the frame it is followed from"`
	Moved     int             `json:"moved,omitempty" doc:"How often the region has moved on to other texture of the same surface"`
	Bent      bool            `json:"bent,omitempty" doc:"What of the surface bends was followed as well"`
	Agreement *agreement      `json:"agreement,omitempty" doc:"Of a surface that bends: how it was found, place by place"`
}

// agreement is how much what is seen of a surface that bends is like its home frame, place by place.
type agreement struct {
	Box     [4]float64 `json:"box" doc:"Left, top, right, bottom, on the home frame"`
	Columns int        `json:"columns"`
	At      []byte     `json:"at" doc:"Base64: of each crossing of a grid over the box, by rows, 1 to 255 for 0 to 1; 0 where it is out of the region"`
	Least   int        `json:"least" doc:"From this on a place counts as found"`
}

func agreementOf(b *treatment.Bend) *agreement {
	if b == nil || len(b.Agree) == 0 {
		return nil
	}
	return &agreement{Box: b.Box, Columns: b.Columns, At: b.Agree, Least: 1 + int(math.Round(254*treatment.Agrees))}
}

func momentsOf(motions *carry.Set, m *carry.Motion) []moment {
	out := make([]moment, len(m.Samples))
	raster.Rows(0, len(out), func(i int) {
		v := &m.Samples[i]
		out[i] = moment{
			Frame: v.Frame, Mesh: motions.Mesh(m.Track.ID, v.Frame), Crossings: v.Crossings, ByHand: v.ByHand, Bridged: v.Bridged,
			Grade: v.Grade, Advice: v.Advice, Match: v.Match, Agree: v.Agree, Residual: v.Residual, Blocks: v.Blocks,
			Chained: v.Chained, Moved: v.Moved, Deviation: v.Deviation, Bent: v.Bend != nil, Agreement: agreementOf(v.Bend),
		}
		if before := m.Before(v.Frame); before != nil {
			out[i].Before = carry.MeshOf(m.Track, before)
		}
	})
	return out
}

type placeOfPoint struct {
	Frame    int           `json:"frame"`
	At       treatment.Vec `json:"at"`
	Match    float64       `json:"match,omitempty"`
	ByHand   bool          `json:"byHand,omitempty"`
	Bridged  bool          `json:"bridged,omitempty" doc:"Not known itself, but between frames on which it is"`
	Variance *[3]float64   `json:"variance,omitempty" doc:"How well the place is known: variance of x, of x with y, of y, square pixels"`
	Drift    *float64      `json:"drift,omitempty" doc:"How far it is from where it looks as where it was put, pixels"`
}

// pose is how a shape lies on a frame, for handles; what it rides on takes it to there.
type pose struct {
	Points    []treatment.Knot `json:"points" nullable:"false" doc:"In home coordinates, as its keys say"`
	Placement geom.Homography  `json:"placement" doc:"Moves them as a whole, at home"`
	Shifts    []treatment.Vec  `json:"shifts,omitempty" doc:"Moves each by itself after that"`
}

type poses struct {
	First  int                `json:"first"`
	Frames []map[string]*pose `json:"frames" nullable:"false" doc:"From first on: by shape id; a shape that is not there is missing"`
}

// tracks serves where surfaces and shapes are, and starts what measures them.
func (s *Server) tracks(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "get-motion", Method: http.MethodGet, Path: "/api/shots/{id}/tracks/{track}",
		Summary: "Where a track's surface is on every frame",
	}, s.getMotion)
	huma.Register(api, huma.Operation{
		OperationID: "get-poses", Method: http.MethodGet, Path: "/api/shots/{id}/poses",
		Summary: "How all shapes of a removal, or the exclusions of a track, lie on a run of frames",
	}, s.getPoses)
	huma.Register(api, huma.Operation{
		OperationID: "follow", Method: http.MethodPost, Path: "/api/shots/{id}/follow",
		DefaultStatus: http.StatusAccepted,
		Summary:       "Follow a surface, or points, from a frame on which it is known",
	}, s.follow)
	huma.Register(api, huma.Operation{
		OperationID: "scout", Method: http.MethodPost, Path: "/api/shots/{id}/scout/{removal}",
		DefaultStatus: http.StatusAccepted,
		Summary:       "Score every frame of a removal as its reference frame",
	}, s.scout)
	huma.Register(api, huma.Operation{
		OperationID: "get-scores", Method: http.MethodGet, Path: "/api/shots/{id}/scores/{removal}",
		Summary: "The last scores of a removal's frames; none as long as they were not asked for",
	}, s.getScores)
}

func (s *Server) getMotion(ctx context.Context, in *trackPath) (*body[motion], error) {
	t, err := s.compiledAt(ctx, &atRevision{in.ShotPath, in.Revision})
	if err != nil {
		return nil, asProblem(err)
	}
	m := t.Motions().Motion(in.Track)
	if m == nil {
		return nil, huma.Error404NotFound("there is no such track in the treatment")
	}
	out := motion{Samples: momentsOf(t.Motions(), m)}
	if m.Track.Kind == treatment.CardTrack {
		out.Surface = m.Track.Surface
		if len(out.Surface) == 4 { // else it lies where the lens, or the camera, shows nothing
			out.Straight = treatment.Vecs(m.Corners())
		}
	}
	for i := range m.Track.Points {
		p := &m.Track.Points[i]
		if out.Points == nil {
			out.Points = map[string][]placeOfPoint{}
		}
		out.Points[p.ID] = placesOf(m, p)
	}
	return &body[motion]{out}, nil
}

func (s *Server) getPoses(ctx context.Context, in *struct {
	ShotPath
	Revision int    `query:"revision" minimum:"-1" maximum:"2147483647" default:"-1" doc:"Left out, the one in force"`
	Removal  string `query:"removal"`
	Track    string `query:"track"`
	First    int    `query:"first" minimum:"0" maximum:"99999999"`
	Last     int    `query:"last" minimum:"0" maximum:"99999999"`
}) (*body[poses], error) {
	t, err := s.compiledAt(ctx, &atRevision{in.ShotPath, in.Revision})
	if err != nil {
		return nil, asProblem(err)
	}
	var shapes []treatment.Shape
	own := treatment.Still
	if r := t.Removal(in.Removal); r != nil {
		own = r.Follow.Track
		for _, list := range r.Shapes() {
			shapes = append(shapes, *list...)
		}
	} else if m := t.Motions().Motion(in.Track); m != nil {
		shapes = m.Track.Exclusions
	}
	out := poses{First: in.First, Frames: []map[string]*pose{}}
	for n := in.First; n <= min(in.Last, in.First+500); n++ {
		here := map[string]*pose{}
		for i := range shapes {
			l, ok := t.Motions().Pose(&shapes[i], own, n)
			if !ok {
				continue
			}
			here[shapes[i].ID] = &pose{Points: l.Points, Placement: l.Placement, Shifts: treatment.Vecs(l.Shifts)}
		}
		out.Frames = append(out.Frames, here)
	}
	return &body[poses]{out}, nil
}

func (s *Server) follow(ctx context.Context, in *struct {
	ShotPath
	Body struct {
		Track  string   `json:"track"`
		From   int      `json:"from" doc:"Frame to start from"`
		First  int      `json:"first" doc:"Follow down to this frame; from for not at all"`
		Last   int      `json:"last" doc:"Follow up to this frame; from for not at all"`
		Points []string `json:"points,omitempty" doc:"Of a track of points: which of them; left out, all"`
	}
}) (*body[*store.Task], error) {
	rev, err := s.Store.Head(ctx, in.ID)
	if err != nil {
		return nil, asProblem(err)
	}
	t := rev.Document.Track(in.Body.Track)
	switch {
	case t == nil:
		return nil, huma.Error404NotFound("there is no such track in the treatment")
	case picture.Ready(t) != nil:
		return nil, huma.Error422UnprocessableEntity(picture.Ready(t).Error())
	case in.Body.First > in.Body.From || in.Body.Last < in.Body.From || in.Body.First == in.Body.Last:
		return nil, nowhere()
	}
	run := picture.Run{
		Track:  t.ID,
		From:   in.Body.From,
		First:  in.Body.First,
		Last:   in.Body.Last,
		Points: in.Body.Points,
	}
	return s.begin(ctx, store.Task{
		ShotID:  in.ID,
		Kind:    "track",
		Title:   "Follow " + t.Name,
		Subject: t.ID,
		Total:   run.Last - run.First,
	}, run)
}

func (s *Server) scout(ctx context.Context, in *removalPath) (*body[*store.Task], error) {
	r, err := s.Store.Removal(ctx, in.ID, in.Removal, -1)
	if err != nil {
		return nil, asProblem(err)
	}
	if len(r.Mark.Outlines) == 0 {
		return nil, huma.Error422UnprocessableEntity(
			"draw an outline around the thing first: frames are scored by how it looks on them",
		)
	}
	return s.begin(ctx, store.Task{
		ShotID:  in.ID,
		Kind:    "scout",
		Title:   "Score frames for " + r.Name,
		Subject: r.ID,
		Total:   r.Range.Len(),
	}, struct{}{})
}

func (s *Server) getScores(ctx context.Context, in *removalPath) (*body[picture.Scores], error) {
	out := picture.Scores{Removal: in.Removal, Frames: []check.FrameScore{}}
	_, err := s.Store.LastResult(ctx, in.ID, "scout", in.Removal, &out)
	return &body[picture.Scores]{out}, asProblem(err)
}

func placesOf(m *carry.Motion, p *treatment.Point) []placeOfPoint {
	measured, hand := p.Measured(), map[int]bool{p.Home: true}
	for _, v := range p.Placed {
		hand[v.Frame] = true
	}
	var out []placeOfPoint
	for n, v := range m.Places(p.ID) {
		place := placeOfPoint{Frame: n, At: treatment.Vec{v.At.X, v.At.Y}, ByHand: hand[n], Bridged: v.Bridged}
		if s := measured[n]; s != nil && !v.Bridged && !hand[n] {
			place.Match, place.Variance, place.Drift = s.Match, s.Variance, s.Drift
		}
		out = append(out, place)
	}
	slices.SortFunc(out, func(a, b placeOfPoint) int { return a.Frame - b.Frame })
	return out
}

// exchanges serves and takes tracks and outlines in open formats.
func (s *Server) exchanges(router *gin.Engine) {
	router.GET("/api/shots/:id/tracks/:track/file", s.trackFile)
	router.POST("/api/shots/:id/tracks/file", s.readTrack)
	router.GET("/api/shots/:id/removals/:removal/outlines.svg", s.outlinesFile)
	router.POST("/api/shots/:id/removals/:removal/outlines.svg", s.readOutlines)
}

// inForce returns the treatment in force, ready for evaluation.
func (s *Server) inForce(c *gin.Context) (*picture.Source, motionsOf, bool) {
	shot := c.Param("id")
	source, err := s.Workspace.Source(c, shot)
	if err != nil {
		refuse(c, err)
		return nil, nil, false
	}
	head, err := s.Store.Head(c, shot)
	if err != nil {
		refuse(c, err)
		return nil, nil, false
	}
	t, err := s.Workspace.Treatment(c, shot, head.Number)
	if err != nil {
		refuse(c, err)
		return nil, nil, false
	}
	return source, t, true
}

type motionsOf interface {
	Motions() *carry.Set
	Removal(id string) *treatment.Removal
}

// fileName is a name without what no file's name can have.
func fileName(name string) string {
	return strings.Map(func(char rune) rune {
		if char < ' ' || strings.ContainsRune(`"\/:*?<>|`, char) {
			return '_'
		}
		return char
	}, name)
}

func attachment(c *gin.Context, name, kind string) {
	c.Header("Content-Disposition", `attachment; filename="`+fileName(name)+`"`)
	c.Header("Content-Type", kind)
}

func attach(c *gin.Context, name, kind string, data []byte) {
	attachment(c, name, kind)
	c.Data(http.StatusOK, kind, data)
}

// trackFile hands a track out: as matrices, corners or points in CSV, as JSON, or
// the warp of one frame to another as an ST map.
func (s *Server) trackFile(c *gin.Context) {
	source, t, ok := s.inForce(c)
	if !ok {
		return
	}
	m := t.Motions().Motion(c.Param("track"))
	if m == nil {
		problem(c, http.StatusNotFound, "there is no such track in the treatment")
		return
	}
	what := c.DefaultQuery("as", "json")
	switch what {
	case "json":
		attach(c, m.Track.Name+".track.json", "application/json", exchange.Of(m).JSON())
	case "st":
		from, err1 := strconv.Atoi(c.Query("from"))
		to, err2 := strconv.Atoi(c.Query("to"))
		toSource := t.Motions().Mapping(m.Track.ID, to, from)
		if err1 != nil || err2 != nil || toSource == nil {
			problem(c, http.StatusUnprocessableEntity, "give from and to: two frames on which the track is known")
			return
		}
		attach(
			c,
			fmt.Sprintf("%s_%d_to_%d.exr", m.Track.Name, from, to),
			"image/x-exr",
			exchange.Warp(toSource, source.Plates.Width, source.Plates.Height),
		)
	case "warps":
		var frames []int
		for _, v := range m.Samples {
			frames = append(frames, v.Frame)
		}
		next := func(n int) warp.Mapping { return t.Motions().Mapping(m.Track.ID, n, m.Track.Home) }
		attachment(c, m.Track.Name+".warps.zip", "application/zip")
		if err := exchange.Warps(c.Writer, fileName(m.Track.Name), frames, next, source.Plates.Width, source.Plates.Height); err != nil {
			_ = c.Error(err) // who asked has gone
		}
	default:
		data, err := exchange.Of(m).CSV(what)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, err.Error())
			return
		}
		attach(c, m.Track.Name+"."+what+".csv", "text/csv; charset=utf-8", data)
	}
}

// nowhere refuses to follow over no frame but the one that is begun from.
func nowhere() error {
	return huma.Error422UnprocessableEntity(
		"there is no other frame to follow to; go to another one, or choose the other direction",
	)
}

const (
	mostTrack = 64 << 20 // bytes of a track or outlines that are brought in
	mostWarps = 8 << 30  // of an archive of ST maps
)

// readWarps reads a track from an archive of ST maps, by way of a file, as an archive is read from its end.
func readWarps(
	ctx context.Context, p *media.Plates, body io.Reader, name string, home int, progress func(done, of int),
) (*treatment.Track, error) {
	file, err := os.CreateTemp("", "jardin-warps-*.zip")
	if err != nil {
		return nil, fmt.Errorf("the archive cannot be kept while it is read: %w", err)
	}
	defer os.Remove(file.Name())
	defer file.Close()
	size, err := io.Copy(file, body)
	if err != nil {
		return nil, fmt.Errorf("the archive cannot be read: %w", err)
	}
	archive, err := zip.NewReader(file, size)
	if err != nil {
		return nil, fmt.Errorf("this is no whole ZIP archive: %w", err)
	}
	return exchange.ReadWarps(ctx, archive, name, home, p.Width, p.Height, func(n int) bool { return n >= p.First && n <= p.Last }, progress)
}

// An outcome is told by lines of JSON to who accepts them: how far it is, and in the end what came of it. Who does not is answered once.
type outcome struct {
	c     *gin.Context
	lines bool
}

const asLines = "application/x-ndjson"

func outcomeFor(c *gin.Context) *outcome { return &outcome{c, c.GetHeader("Accept") == asLines} }

func (o *outcome) line(v any) {
	o.c.Header("Content-Type", asLines)
	o.c.Status(http.StatusOK)
	_ = json.NewEncoder(o.c.Writer).Encode(v) // who asked may have gone
	o.c.Writer.Flush()
}

func (o *outcome) progress(done, of int) {
	if o.lines {
		o.line(gin.H{"done": done, "of": of})
	}
}

func (o *outcome) problem(status int, detail string) {
	if o.lines {
		o.line(gin.H{"detail": detail})
		return
	}
	problem(o.c, status, detail)
}

// readTrack takes a track from a file in the body and adds it to the treatment.
func (s *Server) readTrack(c *gin.Context) {
	home, err := strconv.Atoi(c.Query("home"))
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "give home: the frame on which the surface lies as it is drawn")
		return
	}
	name := strings.TrimSuffix(filepath.Base(c.DefaultQuery("name", "Track")), filepath.Ext(c.Query("name")))
	body := bufio.NewReader(http.MaxBytesReader(c.Writer, c.Request.Body, mostWarps))
	var t *treatment.Track
	told := outcomeFor(c)
	if head, _ := body.Peek(4); string(head) == "PK\x03\x04" {
		source, _, ok := s.inForce(c)
		if !ok {
			return
		}
		t, err = readWarps(c.Request.Context(), source.Plates, body, name, home, told.progress)
	} else {
		var blob []byte
		if blob, err = io.ReadAll(io.LimitReader(body, mostTrack+1)); err != nil || len(blob) > mostTrack {
			told.problem(http.StatusRequestEntityTooLarge, "the file cannot be read: it may hold 64 MB at most")
			return
		}
		t, err = exchange.Read(blob, name, home)
	}
	if err != nil {
		told.problem(http.StatusUnprocessableEntity, err.Error())
		return
	}
	t.ID = jobs.NewID()
	rev, err := s.amend(c, "Bring in track "+t.Name, func(doc *treatment.Document) error {
		if t.Data != nil { // samples are bulk: they go beside the document
			blob, err := json.Marshal(t.Data.Samples)
			if err != nil {
				return err
			}
			sha, err := s.Store.PutArtifact(c, blob)
			if err != nil {
				return err
			}
			t.Data = &treatment.Data{Artifact: sha}
		}
		doc.Tracks = append(doc.Tracks, *t)
		return nil
	})
	switch {
	case err != nil && told.lines:
		told.line(gin.H{"detail": asProblem(err).Error()})
	case err != nil:
		refuse(c, err)
	case told.lines:
		told.line(rev)
	default:
		c.JSON(http.StatusOK, rev)
	}
}

// outlinesFile hands out the shapes of a removal as they lie on a frame, as SVG.
func (s *Server) outlinesFile(c *gin.Context) {
	source, t, ok := s.inForce(c)
	if !ok {
		return
	}
	r := t.Removal(c.Param("removal"))
	frame, err := strconv.Atoi(c.Query("frame"))
	if r == nil || err != nil {
		problem(c, http.StatusUnprocessableEntity, "give a removal of the treatment and a frame")
		return
	}
	data, err := exchange.SVG(t.Motions(), r, frame, source.Plates.Width, source.Plates.Height)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error())
		return
	}
	attach(c, fmt.Sprintf("%s_%d.svg", r.Name, frame), "image/svg+xml", data)
}

// readOutlines takes shapes from an SVG file in the body and adds them to a removal.
func (s *Server) readOutlines(c *gin.Context) {
	frame, err := strconv.Atoi(c.Query("frame"))
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "give the frame that the outlines lie on")
		return
	}
	blob, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, mostTrack))
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "the file cannot be read: it may hold 64 MB at most")
		return
	}
	shapes, err := exchange.ReadSVG(blob, frame)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, err.Error())
		return
	}
	rev, err := s.amend(c, "Bring in outlines", func(doc *treatment.Document) error {
		r, _ := doc.Find(c.Param("removal"))
		if r == nil {
			return fmt.Errorf("removal %q: %w", c.Param("removal"), store.ErrNone)
		}
		for i := range shapes {
			shapes[i].ID = jobs.NewID()
		}
		r.Mark.Outlines = append(r.Mark.Outlines, shapes...)
		return nil
	})
	if err != nil {
		refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, rev)
}

// amend changes the treatment in force, tells everybody, and returns the new revision.
func (s *Server) amend(c *gin.Context, label string, change func(*treatment.Document) error) (*store.Revision, error) {
	rev, err := s.Store.Amend(c, c.Param("id"), label, change)
	if err != nil {
		return nil, err
	}
	s.Hub.Send(live.RevisionChanged{ShotID: c.Param("id"), Number: rev.Number})
	return rev, nil
}
