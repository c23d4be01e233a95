package exchange

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"

	"jardin/app/media"
	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// Warp writes a mapping, bent or not, as an ST map: an OpenEXR file with two float channels
// that say for each pixel of a frame where on the source its content lies, R as
// x / width and G as 1 - y / height, so that (0, 0) is the bottom left corner of
// the picture and (1, 1) its top right (common practice). toSource takes the
// frame's coordinates to the source's. Pixels from beyond the horizon hold -1.
func Warp(toSource warp.Mapping, width, height int) []byte {
	return warpFile(toSource, width, height, false)
}

func warpFile(toSource warp.Mapping, width, height int, packed bool) []byte {
	return media.EncodeEXR(width, height, packed, []string{"R", "G"}, func(x, y int, out []float32) {
		p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
		out[0], out[1] = -1, -1
		if toSource.Sees(p) {
			q := toSource.Apply(p)
			out[0], out[1] = float32(q.X/float64(width)), float32(1-q.Y/float64(height))
		}
	})
}

// Warps writes a ZIP archive of the ST maps of frames, each to the home frame, named by their numbers. next returns the mapping from a
// frame to the home frame; nil for a frame that is left out.
func Warps(out io.Writer, name string, frames []int, next func(n int) warp.Mapping, width, height int) error {
	archive := zip.NewWriter(out)
	for _, n := range frames {
		m := next(n)
		if m == nil {
			continue
		}
		// They are packed already.
		to, err := archive.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("%s.%04d.exr", name, n), Method: zip.Store})
		if err != nil {
			return err
		}
		if _, err := to.Write(warpFile(m, width, height, true)); err != nil {
			return err
		}
	}
	return archive.Close()
}

const (
	warpCells = 8   // pixels of a cell of the lattice that a warp is read as
	mostCells = 160 // of it, along a side
	mostWarps = 20_000
)

var numbered = regexp.MustCompile(`(-?\d+)\.exr$`)

// ReadWarps reads a ZIP archive of ST maps as they are written here, each from the frame that its name ends with to home: a track that
// bends. width and height are the shot's. Frames whose numbers the shot does not have are left out. progress hears after each file how many
// of all have been read.
func ReadWarps(
	ctx context.Context, archive *zip.Reader, name string, home, width, height int, has func(n int) bool, progress func(done, of int),
) (*treatment.Track, error) {
	if len(archive.File) > mostWarps {
		return nil, fmt.Errorf("it holds more than %d files", mostWarps)
	}
	out := &treatment.Track{Name: name, Kind: treatment.GivenTrack, Home: home, Motion: geom.Perspective, Data: &treatment.Data{}}
	box := geom.Box{Max: geom.Pt(float64(width), float64(height))}
	corners := box.Corners()
	out.Surface = treatment.Vecs(corners[:])
	found := map[int]bool{}
	for i, f := range archive.File {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		progress(i, len(archive.File))
		number := numbered.FindStringSubmatch(path.Base(f.Name))
		if number == nil {
			continue
		}
		n, err := strconv.Atoi(number[1])
		if err != nil || !has(n) || n == home {
			continue
		}
		if found[n] {
			return nil, fmt.Errorf("two files are of frame %d", n)
		}
		found[n] = true
		most := int64(width)*int64(height)*16 + 1<<20
		if f.UncompressedSize64 > uint64(most) {
			return nil, fmt.Errorf("%s is larger than an ST map of the shot's size is", path.Base(f.Name))
		}
		file, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(f.Name), err)
		}
		blob, err := io.ReadAll(io.LimitReader(file, most))
		_ = file.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(f.Name), err)
		}
		st, err := media.DecodeEXR(blob, width, height, "R", "G")
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(f.Name), err)
		}
		sample, err := (&stMap{st[0], st[1], width, height}).sample(n, box)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(f.Name), err)
		}
		out.Data.Samples = append(out.Data.Samples, *sample)
	}
	if len(out.Data.Samples) == 0 {
		return nil, errors.New("it holds no ST map of a frame of this shot: OpenEXR files whose names end with the frame's number are read")
	}
	slices.SortFunc(out.Data.Samples, func(a, b treatment.Sample) int { return a.Frame - b.Frame })
	return out, nil
}

// An stMap says for each pixel of a frame where its content lies at home.
type stMap struct {
	r, g          []float32
	width, height int
}

// at returns the place at home of a place of the frame, between pixels as they say.
func (m *stMap) at(q geom.Point) (p geom.Point, ok bool) {
	x, y := q.X-0.5, q.Y-0.5
	if !(x >= 0 && y >= 0 && x <= float64(m.width-1) && y <= float64(m.height-1)) {
		return p, false
	}
	i, j := min(int(x), m.width-2), min(int(y), m.height-2)
	if i < 0 || j < 0 {
		return p, false
	}
	fx, fy := x-float64(i), y-float64(j)
	for k, w := range [4]float64{(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy} {
		at := (j+k/2)*m.width + i + k%2
		r, g := float64(m.r[at]), float64(m.g[at])
		if !(r > -0.99 && r < 2 && g > -1 && g < 2) || r == -1 && g == -1 {
			return p, false
		}
		p = p.Add(geom.Pt(r*float64(m.width), (1-g)*float64(m.height)).Mul(w))
	}
	return p, true
}

// sample turns a map round: the homography that is nearest to it, from home to the frame, and before it a lattice for the rest.
func (m *stMap) sample(n int, box geom.Box) (*treatment.Sample, error) {
	var from, to []geom.Point
	for y := 0.5; y < float64(m.height); y += 16 {
		for x := 0.5; x < float64(m.width); x += 16 {
			if p, ok := m.at(geom.Pt(x, y)); ok && p.X >= 0 && p.Y >= 0 && p.X <= box.Max.X && p.Y <= box.Max.Y {
				from, to = append(from, p), append(to, geom.Pt(x, y))
			}
		}
	}
	h, err := geom.Fit(geom.Perspective, from, to, nil)
	if err != nil {
		return nil, errors.New("hardly any of its pixels say where they come from")
	}
	cells := func(length int) int { return min(max((length+warpCells-1)/warpCells, 2), mostCells) }
	l := geom.Lattice{Box: box, Columns: cells(m.width), Rows: cells(m.height)}
	agree := make([]float32, (l.Columns+1)*(l.Rows+1))
	l.Shift = make([]geom.Point, len(agree))
	for k := range agree {
		c := l.Crossing(k%(l.Columns+1), k/(l.Columns+1))
		agree[k] = -1
		// The place d away from the crossing that is seen where the map says the crossing is.
		var d geom.Point
		for range 60 {
			p, ok := m.at(h.Apply(c.Add(d)))
			if !ok {
				break
			}
			rest := c.Sub(p)
			if rest.Len() < 0.005 {
				l.Shift[k], agree[k] = d, 1
				break
			}
			d = d.Add(rest)
			if !(d.Len() < 400) {
				break
			}
		}
	}
	known := make([]bool, len(agree))
	for k, v := range agree {
		known[k] = v >= 0
	}
	l.Flood(known, func(from, to int) { l.Shift[to] = l.Shift[from] })
	return &treatment.Sample{Frame: n, Matrix: h, Match: 1, Agree: 1, Bend: treatment.NewBend(&l, agree)}, nil
}
