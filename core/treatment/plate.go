package treatment

// HeldPlate is the kind of a clean plate: one frame, painted on and held.
const HeldPlate = "plate"

// A Plate is a frame that is painted on and held.
type Plate struct {
	Frame   int      `json:"frame" doc:"That is held"`
	Whole   bool     `json:"whole,omitempty" doc:"All of the frame counts as clean, not only what is painted"`
	Picture *Picture `json:"picture,omitempty" doc:"Supplied from elsewhere: lies on the frame, under the strokes"`
	Strokes []Stroke `json:"strokes,omitempty" doc:"In the order in which they are laid"`
}

func (p *Plate) strokes() *[]Stroke { return &p.Strokes }
func (p *Plate) frame() (int, bool) { return p.Frame, true }
func (p *Plate) picture() **Picture { return &p.Picture }
func (p *Plate) put(s *Source)      { s.Plate = p }

func (p *Plate) copied() sourceBody { return p.with(append([]Stroke(nil), p.Strokes...)) }

func (p *Plate) with(strokes []Stroke) sourceBody {
	out := *p
	out.Strokes = strokes
	return &out
}

func (p *Plate) check(c *checker, place string) {
	c.frame(place+"/frame", p.Frame)
	if p.Picture != nil {
		c.picture(place+"/picture", p.Picture)
	}
}

func (*Plate) held() bool { return true }
