package colorspace

import (
	"bufio"
	"bytes"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// A Cube is a look-up table that takes code values to those of a display, as .cube files hold it
// (Cube LUT Specification 1.0, 2013): one curve for each colour, or a grid over all three.
type Cube struct {
	Title    string
	Size     int          // entries of each curve, or of the grid along each side
	Grid     bool         // over all three colours (3D), else curves (1D)
	Min, Max [3]float32   // code values of the first and the last entry
	Table    [][3]float32 // of a grid red goes fastest, then green
}

// How large tables may be. The specification has 65536 and 256; a grid of 129 is 17 MB on a
// graphics card, and none that is used for looking at pictures is larger (common practice).
const (
	mostCurve = 65536
	mostGrid  = 129
	MostCube  = 80 << 20 // bytes of a file
)

// ReadCube reads a .cube file. The error says which line is wrong, and how.
func ReadCube(text []byte) (*Cube, error) {
	if len(text) > MostCube {
		return nil, fmt.Errorf("the file has more than %d MB; tables for looking at pictures have a few", MostCube>>20)
	}
	c := &Cube{Max: [3]float32{1, 1, 1}}
	lines := bufio.NewScanner(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	lines.Buffer(nil, 1<<16)
	wanted := 0
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		words := strings.Fields(line)
		wrong := func(how string, args ...any) error {
			return fmt.Errorf("line %d: %s", n, fmt.Sprintf(how, args...))
		}
		switch word := words[0]; {
		case word == "TITLE":
			c.Title = strings.Trim(strings.TrimSpace(strings.TrimPrefix(line, "TITLE")), `"`)
			if len(c.Title) > 250 {
				c.Title = strings.ToValidUTF8(c.Title[:250], "")
			}
		case word == "LUT_1D_SIZE" || word == "LUT_3D_SIZE":
			if wanted > 0 {
				return nil, wrong("a second table; it can hold one: write curves and grid into one grid")
			}
			c.Grid = word == "LUT_3D_SIZE"
			most := mostCurve
			if c.Grid {
				most = mostGrid
			}
			size := 0
			if len(words) == 2 {
				size, _ = strconv.Atoi(words[1])
			}
			if size < 2 || size > most {
				return nil, wrong("%s needs one number from 2 to %d", word, most)
			}
			c.Size, wanted = size, size
			if c.Grid {
				wanted = size * size * size
			}
		case word == "DOMAIN_MIN" || word == "DOMAIN_MAX":
			v, err := three(words[1:])
			if err != nil {
				return nil, wrong("%s: %v", word, err)
			}
			if word == "DOMAIN_MIN" {
				c.Min = v
			} else {
				c.Max = v
			}
		case word == "LUT_1D_INPUT_RANGE" || word == "LUT_3D_INPUT_RANGE": // common practice, not in the specification
			if len(words) != 3 {
				return nil, wrong("%s needs two numbers", word)
			}
			v, err := three([]string{words[1], words[2], "0"})
			if err != nil {
				return nil, wrong("%s: %v", word, err)
			}
			c.Min, c.Max = [3]float32{v[0], v[0], v[0]}, [3]float32{v[1], v[1], v[1]}
		case word[0] >= 'A' && word[0] <= 'Z' && !strings.HasPrefix(word, "NAN") && !strings.HasPrefix(word, "INF"):
			continue // a keyword of somebody's own: the specification has readers pass over those
		default:
			v, err := three(words)
			if err != nil {
				return nil, wrong("%v", err)
			}
			if wanted == 0 {
				return nil, wrong("numbers before LUT_1D_SIZE or LUT_3D_SIZE say how many there are")
			}
			if len(c.Table) == wanted {
				return nil, wrong("there are more than %d entries", wanted)
			}
			if c.Table == nil {
				c.Table = make([][3]float32, 0, min(wanted, len(text)/6+1))
			}
			c.Table = append(c.Table, v)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("a line is too long: this is no .cube file")
	}
	if wanted == 0 {
		return nil, fmt.Errorf("there is no LUT_1D_SIZE and no LUT_3D_SIZE in it: this is no .cube file")
	}
	if len(c.Table) < wanted {
		return nil, fmt.Errorf("it ends after %d of %d entries", len(c.Table), wanted)
	}
	for k := range 3 {
		if c.Min[k] >= c.Max[k] {
			return nil, fmt.Errorf("its domain ends (%g) before it begins (%g)", c.Max[k], c.Min[k])
		}
	}
	return c, nil
}

// three reads three finite numbers.
func three(words []string) (out [3]float32, err error) {
	if len(words) != 3 {
		return out, fmt.Errorf("%d numbers in place of three", len(words))
	}
	for k, w := range words {
		v, err := strconv.ParseFloat(w, 32)
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
			return out, fmt.Errorf("%.20q is not a number", w)
		}
		if math.Abs(v) > 1e6 {
			return out, fmt.Errorf("%.20s is no code value", w)
		}
		out[k] = float32(v)
	}
	return out, nil
}

// Apply looks code values up: along curves linearly, in a grid trilinearly, as graphics cards
// do. Beyond the domain its border goes on.
func (c *Cube) Apply(v [3]float32) [3]float32 {
	var base [3]int
	var part [3]float32
	for k := range 3 {
		t := (v[k] - c.Min[k]) / (c.Max[k] - c.Min[k]) * float32(c.Size-1)
		if !(t > 0) {
			t = 0
		}
		t = min(t, float32(c.Size-1))
		base[k] = min(int(t), c.Size-2)
		part[k] = t - float32(base[k])
	}
	if !c.Grid {
		for k := range 3 {
			a, b := c.Table[base[k]][k], c.Table[base[k]+1][k]
			v[k] = a + (b-a)*part[k]
		}
		return v
	}
	n := c.Size
	at := base[0] + n*(base[1]+n*base[2])
	mix := func(a, b [3]float32, t float32) [3]float32 {
		for k := range 3 {
			a[k] += (b[k] - a[k]) * t
		}
		return a
	}
	along := func(at int) [3]float32 { return mix(c.Table[at], c.Table[at+1], part[0]) }
	flat := func(at int) [3]float32 { return mix(along(at), along(at+n), part[1]) }
	return mix(flat(at), flat(at+n*n), part[2])
}
