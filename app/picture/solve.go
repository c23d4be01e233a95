package picture

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"

	"jardin/core/camera"
	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/matte"
	"jardin/core/raster"
	"jardin/core/track"
	"jardin/core/treatment"
)

// A SolvedCamera is what was found of a shot's camera, and its lens.
type SolvedCamera struct {
	Path *treatment.Solved `json:"path"`
	Lens *treatment.Lens   `json:"lens"`
}

const (
	keptEvery    = 24  // frames after which the tracks so far are kept
	followShare  = 0.6 // of the work is following
	fewFeatures  = 400
	mostFeatures = 600
)

// SolveCamera finds where the shot's camera was: features are found and followed over all frames, without what is marked, in front, or
// left out of it by hand; then camera, points and lens are found from them. doc holds all artifacts in place.
func (s *Source) SolveCamera(ctx context.Context, doc *treatment.Document, kept *Checkpoint, report func(words string, done float64)) (*SolvedCamera, error) {
	tracks, err := s.featureTracks(ctx, doc, kept, report)
	if err != nil {
		return nil, err
	}
	how := treatment.Camera{Focal: string(camera.Fixed), Terms: 1}
	if doc.Camera != nil {
		how = *doc.Camera
	}
	shot := treatment.Lens{Size: [2]int{s.Plates.Width, s.Plates.Height}}
	if doc.Lens != nil {
		shot = *doc.Lens
		shot.Size = [2]int{s.Plates.Width, s.Plates.Height}
	}
	lens, err := shot.Of()
	if err != nil {
		return nil, err
	}
	task := camera.Task{
		Width: s.Plates.Width, Height: s.Plates.Height, Frames: s.Plates.Last - s.Plates.First + 1,
		Lens: lens, Focal: camera.Focal(how.Focal), Length: how.Length, Terms: how.Terms, Centre: how.Centre, Squeeze: how.Squeeze,
		Progress: func(what string, done float64) { report(what, followShare+(1-followShare)*done) },
	}
	for _, t := range tracks {
		task.Tracks = append(task.Tracks, camera.Track{First: t.First - s.Plates.First, At: t.At})
	}
	found, err := camera.Solve(ctx, task)
	if err != nil {
		return nil, err
	}
	shot.K = found.Lens.K
	if how.Centre {
		shot.Centre = &treatment.Vec{found.Lens.Centre.X, found.Lens.Centre.Y}
	}
	if how.Squeeze {
		shot.Squeeze = found.Lens.Squeeze
	}
	return &SolvedCamera{solvedOf(found, tracks, s.Plates.First), &shot}, nil
}

// featureTracks follows features over all frames of the shot.
func (s *Source) featureTracks(ctx context.Context, doc *treatment.Document, kept *Checkpoint, report func(words string, done float64)) ([]track.FeatureTrack, error) {
	motions, err := carry.New(doc)
	if err != nil {
		return nil, err
	}
	out := &treatment.Track{ID: "the camera", LeaveMarked: true}
	if doc.Camera != nil {
		out.Exclusions = doc.Camera.Off
	}
	f := follower{Source: s, doc: doc, what: out, motions: motions}
	want := min(max(s.Plates.Width*s.Plates.Height/1000, fewFeatures), mostFeatures)
	see := func(n int) (luma, covered *raster.Plane, err error) {
		read, err := f.reader(n, colorspace.LumaMix)
		if err != nil {
			return nil, nil, err
		}
		if luma, err = read(s.Size()); err != nil {
			return nil, nil, err
		}
		polygons, err := f.exclusions(ctx, n)
		if err != nil || len(polygons) == 0 {
			return luma, nil, err
		}
		covered = raster.NewPlane(s.Size())
		for _, p := range polygons {
			covered.Max(matte.Coverage(p, s.Size()))
		}
		return luma, covered, nil
	}
	var so struct {
		Frame  int
		Tracks []track.FeatureTrack
	}
	features := track.NewFeatures(want)
	first := s.Plates.First
	if kept.read("features", &so) && so.Frame >= first && so.Frame <= s.Plates.Last {
		luma, covered, err := see(so.Frame)
		if err != nil {
			return nil, err
		}
		features = track.ResumeFeatures(want, so.Tracks, so.Frame, luma, covered)
		first = so.Frame + 1
	}
	for n := first; n <= s.Plates.Last; n++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		luma, covered, err := see(n)
		if err != nil {
			return nil, err
		}
		features.Step(n, luma, covered)
		report(fmt.Sprintf("Following %d places", len(features.Live())),
			followShare*float64(n-s.Plates.First+1)/float64(s.Plates.Last-s.Plates.First+1))
		if (n-s.Plates.First)%keptEvery == keptEvery-1 || n == s.Plates.Last {
			so.Frame, so.Tracks = n, features.All()
			kept.save("features", so)
		}
	}
	return append(features.Tracks(), pointTracks(doc, motions)...), nil
}

// pointTracks are the points that the artist had followed, where they were found: what is seen of them counts as any feature does.
func pointTracks(doc *treatment.Document, motions *carry.Set) (out []track.FeatureTrack) {
	for i := range doc.Tracks {
		for _, p := range doc.Tracks[i].Points {
			places := motions.Motion(doc.Tracks[i].ID).Places(p.ID)
			var run track.FeatureTrack
			end := func() {
				if len(run.At) >= 3 {
					out = append(out, run)
				}
				run = track.FeatureTrack{}
			}
			for _, n := range slices.Sorted(maps.Keys(places)) {
				if places[n].Bridged {
					continue
				}
				if len(run.At) > 0 && n != run.First+len(run.At) {
					end()
				}
				if len(run.At) == 0 {
					run.First = n
				}
				run.At = append(run.At, places[n].At)
			}
			end()
		}
	}
	return out
}

// farPoints is how far away the points are, in the middle, as a space is laid that nobody has laid yet.
const farPoints = 10

// solvedOf is a solution as it is kept: upright, and of a size that can be worked with.
func solvedOf(found *camera.Solution, tracks []track.FeatureTrack, first int) *treatment.Solved {
	out := &treatment.Solved{Turning: found.Turning, RMS: found.RMS}
	// Up is where the pictures' tops are, on average; the middle is that of the points.
	var up, eye camera.Vec
	n := 0
	for i, v := range found.Views {
		if found.Known[i] {
			up = up.Sub(v.Pose.R.Back(camera.Vec{0, 1, 0}))
			eye = eye.Add(v.Pose.Eye())
			n++
		}
	}
	eye = eye.Mul(1 / float64(max(n, 1)))
	world := camera.Similarity{Scale: 1, R: camera.Upright(up)}
	var far []float64
	for _, p := range found.Points {
		if p.Fits {
			far = append(far, p.At.Dist(eye))
		}
	}
	slices.Sort(far)
	if len(far) > 0 && far[len(far)/2] > 0 {
		world.Scale = farPoints / far[len(far)/2]
	}
	world.T = world.Apply(eye).Mul(-1)
	for i := range found.Views {
		if !found.Known[i] {
			continue
		}
		v := found.Views[i]
		v.Pose = world.Pose(v.Pose)
		kept := treatment.ViewOf(first+i, &v)
		kept.RMS, kept.Fits = round(found.ByFrame[i], 1e4), found.Fits[i]
		out.Views = append(out.Views, kept)
	}
	for _, p := range found.Points {
		at := world.Apply(p.At)
		if !at.Finite() || at.Len() > 1e6 || math.IsInf(p.Error, 0) || math.IsNaN(p.Error) {
			continue
		}
		t := &tracks[p.Track]
		out.Points = append(out.Points, treatment.CameraPoint{At: at, Error: round(p.Error, 1e4), Off: !p.Fits, First: t.First, Last: t.First + len(t.At) - 1})
	}
	return out
}
