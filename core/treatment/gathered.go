package treatment

// Gathered is the kind of clean pixels that are taken from the frames around.
const Gathered = "gathered"

// MostGathered is how many frames on either side may be looked at.
const MostGathered = 200

// MostLookedAt is how many frames are looked at in all: of more, every second, or every so many.
const MostLookedAt = 96

// A Gathering is clean pixels from other frames: the surface as they show it, carried by a track
// and joined, without what is marked on each, what stands in front, and what is left out of
// the track. Where none shows it, there is nothing.
type Gathering struct {
	Frame      int     `json:"frame,omitempty" minimum:"0" doc:"On which it is made, once for all frames; not of a live one"`
	Live       bool    `json:"live,omitempty" doc:"It is made on every frame anew, of those around it"`
	Over       int     `json:"over" minimum:"1" maximum:"200" doc:"Frames before and after that are looked at: all, or every so many of them, 96 in all at most"`
	Between    *Range  `json:"between,omitempty" doc:"No frame outside of these is looked at"`
	Most       int     `json:"most,omitempty" minimum:"0" maximum:"96" doc:"So many frames are taken at most; left out as many as are needed"`
	AsSeen     bool    `json:"asSeen,omitempty" doc:"Each place is taken from one frame, with its grain; left out frames are averaged"`
	Everything bool    `json:"everything,omitempty" doc:"Nothing is left out, not what is marked either: averages what does not stay with the surface"`
	Track      string  `json:"track,omitempty" doc:"By which frames are carried; left out the removal's own"`
	Scale      float64 `json:"scale,omitempty" minimum:"0" maximum:"500" doc:"Light is made equal over areas of this standard deviation, pixels; 40 where left out"`
}

// LightScale returns the standard deviation, in pixels, of the areas whose light is made equal.
func (g *Gathering) LightScale() float64 {
	if g.Scale > 0 {
		return g.Scale
	}
	return 40
}

func (g *Gathering) put(s *Source) { s.Gathered = g }

func (g *Gathering) copied() sourceBody {
	out := *g
	if g.Between != nil {
		between := *g.Between
		out.Between = &between
	}
	return &out
}

func (g *Gathering) check(c *checker, place string) {
	if !g.Live {
		c.frame(place+"/frame", g.Frame)
	}
	if g.Over < 1 || g.Over > MostGathered {
		c.fault(place+"/over", "give 1 to 200 frames before and after")
	}
	if !(g.Scale >= 0 && g.Scale <= 500) {
		c.fault(place+"/scale", "give 0 to 500 pixels")
	}
	if g.Between != nil {
		c.span(place+"/between", *g.Between)
	}
	c.within(place+"/most", float64(g.Most), 0, MostLookedAt, " frames")
	if g.Track != "" && g.Track != Still && c.doc.Track(g.Track) == nil {
		c.fault(place+"/track", "there is no track %q", g.Track)
	}
}

func (g *Gathering) held() bool { return !g.Live }

// grainless: an average has hardly any left.
func (g *Gathering) grainless() bool { return !g.AsSeen }

func (*Gathering) computed() bool { return true }
