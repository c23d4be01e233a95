package treatment

// Spread is the kind of clean pixels that are spread from the rim inwards.
const Spread = "spread"

// A Spreading is clean pixels that go on from the rim of what is marked: made on one frame and held, or on
// every frame anew.
type Spreading struct {
	Frame int  `json:"frame,omitempty" minimum:"0" doc:"On which they are made, once for all frames; not of live ones"`
	Live  bool `json:"live,omitempty" doc:"They are made on every frame anew"`
	Edges bool `json:"edges,omitempty" doc:"Along the edges that come to the rim; left out evenly"`
	Over  int  `json:"over,omitempty" minimum:"0" maximum:"12" doc:"Of live ones: over so many frames before and after they are steadied along the track"`
}

func (s *Spreading) put(to *Source) { to.Spread = s }

func (s *Spreading) copied() sourceBody {
	out := *s
	return &out
}

func (s *Spreading) check(c *checker, place string) {
	if !s.Live {
		c.frame(place+"/frame", s.Frame)
	}
	c.within(place+"/over", float64(s.Over), 0, 12, " frames")
}

func (s *Spreading) held() bool    { return !s.Live }
func (*Spreading) grainless() bool { return true }
