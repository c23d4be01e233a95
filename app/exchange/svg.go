package exchange

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// svg is the part of SVG 1.1 that outlines are written in and read from.
type svg struct {
	XMLName xml.Name  `xml:"http://www.w3.org/2000/svg svg"`
	Width   int       `xml:"width,attr"`
	Height  int       `xml:"height,attr"`
	ViewBox string    `xml:"viewBox,attr"`
	Frame   int       `xml:"data-frame,attr"`
	Paths   []svgPath `xml:"path"`
}

type svgPath struct {
	Name      string  `xml:"data-name,attr"`
	D         string  `xml:"d,attr"`
	Fill      string  `xml:"fill,attr"`
	Stroke    string  `xml:"stroke,attr,omitempty"`
	Width     float64 `xml:"stroke-width,attr,omitempty"`
	Widths    string  `xml:"data-widths,attr,omitempty"`
	Cap       string  `xml:"stroke-linecap,attr,omitempty"`
	Join      string  `xml:"stroke-linejoin,attr,omitempty"`
	Opacity   float64 `xml:"opacity,attr"`
	Combine   string  `xml:"data-combine,attr,omitempty"`
	Invert    bool    `xml:"data-invert,attr,omitempty"`
	Grow      float64 `xml:"data-grow,attr,omitempty"`
	Feather   float64 `xml:"data-feather,attr,omitempty"`
	FeatherIn float64 `xml:"data-feather-in,attr,omitempty"`
}

// SVG writes a removal's shapes as they lie on a frame.
func SVG(set *carry.Set, r *treatment.Removal, frame, width, height int) ([]byte, error) {
	doc := svg{Width: width, Height: height, ViewBox: fmt.Sprintf("0 0 %d %d", width, height), Frame: frame}
	for i := range r.Mark.Outlines {
		s := &r.Mark.Outlines[i]
		pose, ok := set.Pose(s, r.Follow.Track, frame)
		if !ok {
			continue
		}
		scale := pose.ToFrame.Scale(carry.Centre(s))
		p := svgPath{
			Name: s.Name, D: pathData(pose.Knots(), s.Kind == treatment.Outline), Fill: "black", Opacity: s.Through(),
			Combine: s.Combine, Invert: s.Invert,
			Grow: s.Grow * scale, Feather: s.Feather * scale, FeatherIn: s.FeatherIn * scale,
		}
		if s.Kind == treatment.Strand {
			p.Fill, p.Stroke, p.Cap, p.Join = "none", "black", "round", "round"
			var widths []string
			for k := range pose.Points {
				w := pose.Points[k].Width * scale * pose.Placement.Scale(carry.Centre(s))
				p.Width += w / float64(len(pose.Points))
				widths = append(widths, number(w))
			}
			p.Widths = strings.Join(widths, " ")
		}
		doc.Paths = append(doc.Paths, p)
	}
	if len(doc.Paths) == 0 {
		return nil, fmt.Errorf("none of the outlines of %q lies on frame %d", r.Name, frame)
	}
	var out bytes.Buffer
	out.WriteString(xml.Header)
	enc := xml.NewEncoder(&out)
	enc.Indent("", " ")
	if err := enc.Encode(doc); err != nil {
		return nil, err
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }

func pathData(knots []geom.Knot, closed bool) string {
	var d strings.Builder
	at := func(p geom.Point) string { return number(p.X) + " " + number(p.Y) }
	for i, c := range geom.Segments(knots) {
		if i == 0 {
			d.WriteString("M " + at(c[0]))
		}
		if !closed && i == len(knots)-1 {
			break
		}
		if c[1] == c[0] && c[2] == c[3] {
			d.WriteString(" L " + at(c[3]))
		} else {
			d.WriteString(" C " + at(c[1]) + " " + at(c[2]) + " " + at(c[3]))
		}
	}
	if closed {
		d.WriteString(" Z")
	}
	return d.String()
}

// ReadSVG reads shapes from an SVG file: its paths made of absolute M, L, C and Z.
// Filled paths become outlines, others strands. home is the frame they lie on, if
// the file does not say.
func ReadSVG(blob []byte, home int) ([]treatment.Shape, error) {
	doc := svg{Frame: home}
	if err := xml.Unmarshal(blob, &doc); err != nil {
		return nil, fmt.Errorf("this is not an SVG file: %w", err)
	}
	if len(doc.Paths) == 0 {
		return nil, errors.New("there is no path in it; outlines are read from path elements")
	}
	var out []treatment.Shape
	for i, p := range doc.Paths {
		knots, closed, err := readPath(p.D)
		if err != nil {
			return nil, fmt.Errorf("path %d: %w", i+1, err)
		}
		s := treatment.Shape{
			ID: fmt.Sprintf(
				"s%d",
				i+1,
			), Name: p.Name, Kind: treatment.Outline, Home: doc.Frame, Combine: p.Combine, Invert: p.Invert,
			Grow: p.Grow, Feather: p.Feather, FeatherIn: p.FeatherIn,
		}
		if s.Name == "" {
			s.Name = fmt.Sprintf("Outline %d", i+1)
		}
		if p.Opacity > 0 && p.Opacity < 1 {
			s.Opacity = &p.Opacity
		}
		if !closed || p.Fill == "none" {
			s.Kind = treatment.Strand
			widths := strings.Fields(p.Widths)
			for k := range knots {
				knots[k].Width = max(p.Width, 1)
				if k < len(widths) {
					if v, err := strconv.ParseFloat(widths[k], 64); err == nil {
						knots[k].Width = v
					}
				}
			}
		}
		s.Points = knots
		out = append(out, s)
	}
	return out, nil
}

// readPath reads path data of absolute M, L, C and Z.
func readPath(d string) (knots []treatment.Knot, closed bool, err error) {
	fields := strings.Fields(
		strings.NewReplacer(",", " ", "M", " M ", "L", " L ", "C", " C ", "Z", " Z ", "z", " Z ").Replace(d),
	)
	command := ""
	for i := 0; i < len(fields); {
		if f := fields[i]; f == "M" || f == "L" || f == "C" || f == "Z" {
			command = f
			i++
			if f == "Z" {
				closed = true
				continue
			}
		}
		n := 2
		if command == "C" {
			n = 6
		}
		if command == "" || i+n > len(fields) {
			return nil, false, errors.New("its data is cut short")
		}
		var v [6]float64
		for k := range n {
			if v[k], err = strconv.ParseFloat(fields[i+k], 64); err != nil {
				return nil, false, fmt.Errorf("%q is neither a number nor one of M, L, C, Z in capitals", fields[i+k])
			}
		}
		i += n
		if command == "C" {
			if len(knots) == 0 {
				return nil, false, errors.New("it begins with a curve from nowhere")
			}
			last := &knots[len(knots)-1]
			if out := (treatment.Vec{v[0] - last.At[0], v[1] - last.At[1]}); out != (treatment.Vec{}) {
				last.Out = &out
			}
			k := treatment.Knot{At: treatment.Vec{v[4], v[5]}}
			if in := (treatment.Vec{v[2] - v[4], v[3] - v[5]}); in != (treatment.Vec{}) {
				k.In = &in
			}
			knots = append(knots, k)
			continue
		}
		if command == "M" && len(knots) > 0 {
			return nil, false, errors.New("it has several pieces; make a path of each")
		}
		knots = append(knots, treatment.Knot{At: treatment.Vec{v[0], v[1]}})
		if command == "M" {
			command = "L"
		}
	}
	// The way back to the first point is not a point of its own.
	if n := len(knots) - 1; closed && n > 0 && knots[n].At == knots[0].At {
		if knots[n].In != nil {
			knots[0].In = knots[n].In
		}
		knots = knots[:n]
	}
	if len(knots) < 2 || (closed && len(knots) < 3) {
		return nil, false, errors.New("it has too few points")
	}
	return knots, closed, nil
}
