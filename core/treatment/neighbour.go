package treatment

// Beside is the kind of the frame's own pixels, from a little to the side.
const Beside = "neighbour"

// A Neighbour takes a frame's own pixels from an offset.
type Neighbour struct {
	Frame   int         `json:"frame" doc:"For which offsets along the surface are given"`
	Offsets []OffsetKey `json:"offsets" nullable:"false" minItems:"1" doc:"From each pixel to the one that is taken, by frame"`
	Screen  bool        `json:"screen,omitempty" doc:"Offsets are as on the screen, not along the surface"`
	Crisp   bool        `json:"crisp,omitempty" doc:"Only whole pixels, which keeps grain as it is"`
}

// An OffsetKey is a neighbour's offset on a frame.
type OffsetKey struct {
	Frame  int  `json:"frame"`
	Ease   Ease `json:"ease" enum:"eased,linear"`
	Offset Vec  `json:"offset"`
}

func (n *Neighbour) put(s *Source) { s.Neighbour = n }

func (n *Neighbour) copied() sourceBody {
	out := *n
	out.Offsets = append([]OffsetKey(nil), n.Offsets...)
	return &out
}

func (n *Neighbour) counts(c *checker, place string) {
	c.most(place+"/offsets", len(n.Offsets), MostKeys, "keys")
}

func (n *Neighbour) check(c *checker, place string) {
	c.frame(place+"/frame", n.Frame)
	if len(n.Offsets) == 0 {
		c.fault(place+"/offsets", "a neighbour needs an offset")
	}
	c.ordered(place+"/offsets", len(n.Offsets), func(k int) int { return n.Offsets[k].Frame })
	for _, k := range n.Offsets {
		c.places(place+"/offsets", []Vec{k.Offset})
	}
}

func (*Neighbour) held() bool { return false }
