package treatment

import (
	"fmt"
	"slices"
)

// Guard says what stays in front of the patch.
type Guard struct {
	Fronts []Front `json:"fronts,omitempty" doc:"Laid back from the untouched plate, in order"`
	Within []Shape `json:"within,omitempty" doc:"The patch lies only inside these: it never pokes past its surface"`
}

// What a front is known by.
const (
	ByOutline    = "outline"    // all inside its outlines
	ByColour     = "colour"     // inside its outlines, what is of a colour
	ByBrightness = "brightness" // inside its outlines, what is bright, or dark
	ByMatte      = "matte"      // supplied mattes
)

// A Front is something that passes in front of the patch.
type Front struct {
	ID      string       `json:"id" doc:"Unique within the removal"`
	Name    string       `json:"name"`
	Off     bool         `json:"off,omitempty"`
	All     bool         `json:"all,omitempty" doc:"In front of every removal's patch, not only this one's"`
	By      string       `json:"by" enum:"outline,colour,brightness,matte"`
	Shapes  []Shape      `json:"shapes,omitempty" doc:"Combined in order; of a key or mattes where they count, left out everywhere"`
	Key     *FrontKey    `json:"key,omitempty"`
	Mattes  []FrontMatte `json:"mattes,omitempty" doc:"Supplied, by frame"`
	Black   float64      `json:"black,omitempty" minimum:"0" maximum:"1" doc:"Coverage up to this becomes 0"`
	White   *float64     `json:"white,omitempty" minimum:"0" maximum:"1" doc:"Coverage from this on becomes 1; 1 where left out"`
	Grow    float64      `json:"grow,omitempty" minimum:"-100" maximum:"100" doc:"Moves the edge outwards by so many pixels, or inwards"`
	Blur    float64      `json:"blur,omitempty" minimum:"0" maximum:"100" doc:"Sigma in pixels"`
	Opacity *float64     `json:"opacity,omitempty" minimum:"0" maximum:"1" doc:"1 where left out"`
	Combine string       `json:"combine,omitempty" enum:"add,take,keep" doc:"How it joins the fronts before it; add where left out"`
	Unmix   float64      `json:"unmix,omitempty" minimum:"0" maximum:"100" doc:"Corrects the soft edge's colour: the removed thing's, as it is found within so many pixels, is taken out of it"`
}

// A FrontKey finds a front by its colour or its brightness.
type FrontKey struct {
	Colour [3]float64 `json:"colour" doc:"Linear light; of a key on colour"`
	Near   float64    `json:"near" minimum:"0" maximum:"200" doc:"Colour difference (CIE 1976) up to which it is covered in full; of a key on brightness, L* from which on"`
	Far    float64    `json:"far" minimum:"0" maximum:"200" doc:"Colour difference from which on it is not covered; of a key on brightness, L*"`
	Invert bool       `json:"invert,omitempty" doc:"All but that"`
}

// A FrontMatte is a supplied matte of one frame.
type FrontMatte struct {
	Frame   int     `json:"frame"`
	Picture Picture `json:"picture"`
}

// Matte returns the supplied matte of frame n, or nil.
func (f *Front) Matte(n int) *Picture { return matteOf(f.Mattes, n) }

func matteOf(mattes []FrontMatte, n int) *Picture {
	for i := range mattes {
		if mattes[i].Frame == n {
			return &mattes[i].Picture
		}
	}
	return nil
}

// Clips returns where coverage becomes 0 and where it becomes 1.
func (f *Front) Clips() (black, white float64) {
	white = 1
	if f.White != nil {
		white = *f.White
	}
	return f.Black, white
}

// Through returns the front's opacity.
func (f *Front) Through() float64 {
	if f.Opacity == nil {
		return 1
	}
	return *f.Opacity
}

var frontKinds = []string{ByOutline, ByColour, ByBrightness, ByMatte}

// guard finds the faults of a removal's guard.
func (c *checker) guard(at string, g *Guard) {
	c.shapes(at+"/within", g.Within)
	own := c.ids()
	for i := range g.Fronts {
		f, place := &g.Fronts[i], fmt.Sprintf("%s/fronts/%d", at, i)
		own(place, f.ID)
		if !slices.Contains(frontKinds, f.By) {
			c.fault(place+"/by", "%q is nothing that a front is known by; choose one of %v", f.By, frontKinds)
		}
		c.shapes(place+"/shapes", f.Shapes)
		black, white := f.Clips()
		c.within(place+"/black", black, 0, 1, "")
		c.within(place+"/white", white, 0, 1, "")
		if !(black < white) {
			c.fault(place+"/white", "what becomes 1 must lie above what becomes 0")
		}
		c.within(place+"/grow", f.Grow, -100, 100, " pixels")
		c.within(place+"/blur", f.Blur, 0, 100, " pixels")
		c.within(place+"/opacity", f.Through(), 0, 1, "")
		c.within(place+"/unmix", f.Unmix, 0, 100, " pixels")
		if f.Combine != "" && f.Combine != Add && f.Combine != Take && f.Combine != Keep {
			c.fault(place+"/combine", "%q is not known; choose add, take or keep", f.Combine)
		}
		if k := f.Key; k != nil {
			for _, v := range k.Colour {
				c.within(place+"/key/colour", v, 0, 1000, "")
			}
			c.within(place+"/key/near", k.Near, 0, 200, "")
			c.within(place+"/key/far", k.Far, 0, 200, "")
			if k.Near == k.Far {
				c.fault(place+"/key/far", "it must differ from near")
			}
		} else if f.By == ByColour || f.By == ByBrightness {
			c.fault(place+"/key", "a front known by %s needs a key", f.By)
		}
		c.mattes(place+"/mattes", f.Mattes)
	}
}

func (c *checker) mattes(at string, mattes []FrontMatte) {
	c.ordered(at, len(mattes), func(k int) int { return mattes[k].Frame })
	for k := range mattes {
		c.picture(fmt.Sprintf("%s/%d/picture", at, k), &mattes[k].Picture)
	}
}

// marks checks what is marked by pictures.
func (c *checker) marks(at string, mattes []MarkMatte) {
	own := c.ids()
	for i := range mattes {
		m, place := &mattes[i], fmt.Sprintf("%s/%d", at, i)
		own(place, m.ID)
		c.within(place+"/feather", m.Feather, 0, 500, " pixels")
		c.within(place+"/featherIn", m.FeatherIn, 0, 500, " pixels")
		c.within(place+"/grow", m.Grow, -500, 500, " pixels")
		c.within(place+"/opacity", m.Through(), 0, 1, "")
		if m.Combine != "" && m.Combine != Add && m.Combine != Take && m.Combine != Keep {
			c.fault(place+"/combine", "%q is not known; choose add, take or keep", m.Combine)
		}
		if m.Alpha && len(m.Mattes) > 0 {
			c.fault(place+"/mattes", "it is the plate's alpha, or pictures, not both")
		}
		c.mattes(place+"/mattes", m.Mattes)
	}
}

// shapes finds the faults of several shapes.
func (c *checker) shapes(at string, shapes []Shape) {
	own := c.ids()
	for i := range shapes {
		place := fmt.Sprintf("%s/%d", at, i)
		own(place, shapes[i].ID)
		c.shape(place, &shapes[i])
	}
}

func (c *checker) picture(place string, p *Picture) {
	if (p.Artifact == "") == (len(p.Data) == 0) {
		c.fault(place, "it needs an artifact or data")
	}
	c.within(place+"/width", float64(p.Width), 1, 32768, " pixels")
	c.within(place+"/height", float64(p.Height), 1, 32768, " pixels")
}
