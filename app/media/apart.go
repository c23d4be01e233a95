package media

import (
	"context"
	"fmt"
	"math"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// Interlaced frames are worked on by fields: a shot of them holds two frames for each, 2n and
// 2n+1 of frame n, one moment each. A field's own lines keep their code values, those between
// are made; when frames leave, each field gives its own lines alone. So what is not painted on
// leaves as it came.

// Woven returns how a shot's frames leave: as they are kept, or where those are fields, in whole
// frames at half the rate.
func (s Shot) Woven() Shot {
	if s.Fields == WholeFrames {
		return s
	}
	s.Fields, s.First, s.Last = WholeFrames, s.First/2, s.Last/2
	if s.Rate.Num%2 == 0 {
		s.Rate.Num /= 2
	} else {
		s.Rate.Den *= 2
	}
	return s
}

// Kept returns the numbers of the kept frames that leave as frame n.
func (s Shot) Kept(n int) []int {
	if s.Fields == WholeFrames {
		return []int{n}
	}
	return []int{2 * n, 2*n + 1}
}

// Apart returns the shot of whole frames as it is kept with their fields taken apart.
func (s Shot) Apart(fields string) Shot {
	if fields == WholeFrames {
		return s
	}
	s.Fields = fields
	s.First, s.Last = 2*s.First, 2*s.Last+1
	if s.Rate.Den%2 == 0 {
		s.Rate.Den /= 2
	} else {
		s.Rate.Num *= 2
	}
	return s
}

// eachKept decodes what is kept of the frames of a plan, from the k-th on: the frames, or their fields.
func (m *Material) eachKept(ctx context.Context, plan []int, r Reading, k int, f func(k int, frame *Frame) error) error {
	if r.Fields == WholeFrames {
		return m.each(ctx, plan, r, k, f)
	}
	if k >= 2*len(plan) {
		return nil
	}
	var before, here *Frame
	give := func(n int, after *Frame) error { // of frame n, which is here
		for i := range 2 {
			if 2*n+i < k {
				continue
			}
			if err := f(2*n+i, field(before, here, after, r.Fields, i)); err != nil {
				return err
			}
		}
		return nil
	}
	from := max(k/2-1, 0)
	err := m.each(ctx, plan, r, from, func(n int, frame *Frame) error {
		frame = frame.Unpacked()
		if here != nil && 2*n > k {
			if err := give(n-1, frame); err != nil {
				return err
			}
		}
		before, here = here, frame
		return nil
	})
	if err != nil || here == nil {
		return err
	}
	return give(len(plan)-1, nil)
}

// ownLines returns which lines are those of a frame's first (0) or second (1) field: even or odd.
func ownLines(fields string, i int) int {
	if fields == BottomFirst {
		return 1 - i
	}
	return i
}

// field returns the first (0) or second (1) field of a frame as a picture of all lines. before and
// after are the frames around it, nil where there are none. Its own lines are the frame's. Each
// line between is interpolated from them by a cubic (the mid-point weights of Catmull & Rom), and
// held to what the fields just before and after show there, as far apart as those are or as its
// own lines change: where nothing moves that is the other field's line, where it moves the cubic.
func field(before, here, after *Frame, fields string, i int) *Frame {
	own := ownLines(fields, i)
	around := func(f *Frame) *Frame { // itself at the ends
		if f == nil {
			return here
		}
		return f
	}
	earlier, later, end := around(before), here, before == nil // frames that hold the other field around this one
	if i == 1 {
		earlier, later, end = here, around(after), after == nil
	}
	if end { // one side is known alone: how much that changes, in a whole frame
		earlier, later = here, around(before)
		if before == nil {
			later = around(after)
		}
	}
	alone := before == nil && after == nil
	out := NewFrame(here.Width, here.Height, here.Samples)
	out.Head = here.Head
	mend := func(n int, at func(f *Frame) line, set func(k int, v float32)) {
		e, l, b, h, a := at(earlier), at(later), at(around(before)), at(here), at(around(after))
		raster.Rows(0, here.Height, func(y int) {
			for k := y * n; k < (y+1)*n; k++ {
				if y%2 == own || here.Height < 2 {
					set(k, h(k))
					continue
				}
				up, down := k-n, k+n
				switch {
				case y == 0:
					up = down
				case y == here.Height-1:
					down = up
				}
				v := (h(up) + h(down)) / 2
				if y >= 3 && y+3 < here.Height {
					v = (9*(h(up)+h(down)) - h(up-2*n) - h(down+2*n)) / 16
				}
				if alone {
					set(k, v)
					continue
				}
				mean, moved := (e(k)+l(k))/2, abs(e(k)-l(k))/2
				if end {
					mean, moved = e(k), 2*moved
				}
				moved = max(moved, (abs(b(up)-h(up))+abs(b(down)-h(down)))/2, (abs(a(up)-h(up))+abs(a(down)-h(down)))/2)
				set(k, min(max(v, mean-moved), mean+moved))
			}
		})
	}
	mend(3*here.Width, func(f *Frame) line { return getter(f.Samples, f.Codes, f.Floats) }, setter(out.Samples, out.Codes, out.Floats))
	if here.Alpha != nil {
		out.Alpha = &Alpha{}
		if here.Alpha.Floats != nil {
			out.Alpha.Floats = make([]float32, len(here.Alpha.Floats))
		} else {
			out.Alpha.Codes = make([]uint16, len(here.Alpha.Codes))
		}
		mend(here.Width, func(f *Frame) line { return getter(f.Samples, f.Alpha.Codes, f.Alpha.Floats) },
			setter(out.Samples, out.Alpha.Codes, out.Alpha.Floats))
	}
	return out
}

// A line returns samples by their place.
type line func(k int) float32

// getter reads samples as numbers, integers as they are.
func getter(s Samples, codes []uint16, floats []float32) line {
	switch {
	case floats != nil:
		return func(k int) float32 { return floats[k] }
	case s.Float:
		return func(k int) float32 { return colorspace.FromHalf(codes[k]) }
	}
	return func(k int) float32 { return float32(codes[k]) }
}

// setter writes them.
func setter(s Samples, codes []uint16, floats []float32) func(k int, v float32) {
	top := float32(s.Max())
	switch {
	case floats != nil:
		return func(k int, v float32) { floats[k] = v }
	case s.Float:
		return func(k int, v float32) { codes[k] = colorspace.ToHalf(v) }
	}
	return func(k int, v float32) { codes[k] = uint16(math.Round(float64(min(max(v, 0), top)))) }
}

func abs(v float32) float32 {
	if v < 0 {
		return -v
	}
	return v
}

// Weave puts the lines of the second of two fields into the first, which thereby is the frame
// that they came from, with what was changed on either.
func Weave(first, second *Frame, fields string) (*Frame, error) {
	if first.Width != second.Width || first.Height != second.Height || first.Samples != second.Samples ||
		(first.Alpha == nil) != (second.Alpha == nil) {
		return nil, fmt.Errorf("two fields do not fit together: %d × %d, %s and %d × %d, %s", first.Width, first.Height,
			first.Samples, second.Width, second.Height, second.Samples)
	}
	first, second = first.Unpacked(), second.Unpacked()
	w := first.Width
	for y := ownLines(fields, 1); y < first.Height; y += 2 {
		codes, floats := first.row(y)
		from, fromFloats := second.row(y)
		copy(codes, from)
		copy(floats, fromFloats)
		if first.Alpha == nil {
			continue
		}
		if first.Alpha.Floats != nil {
			copy(first.Alpha.Floats[y*w:(y+1)*w], second.Alpha.Floats[y*w:])
		} else {
			copy(first.Alpha.Codes[y*w:(y+1)*w], second.Alpha.Codes[y*w:])
		}
	}
	if first.Hash != "" {
		first.Hash += "+" + second.Hash
	}
	return first, nil
}
