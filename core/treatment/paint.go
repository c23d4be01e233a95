package treatment

// Travelling is the kind of strokes that are painted on every frame anew, from its own pixels.
const Travelling = "paint"

// A Paint is strokes that travel.
type Paint struct {
	Strokes []Stroke `json:"strokes,omitempty" doc:"In the order in which they are laid"`
}

func (p *Paint) strokes() *[]Stroke     { return &p.Strokes }
func (p *Paint) frame() (int, bool)     { return 0, false }
func (p *Paint) put(s *Source)          { s.Paint = p }
func (p *Paint) check(*checker, string) {}

func (p *Paint) copied() sourceBody { return p.with(append([]Stroke(nil), p.Strokes...)) }

func (p *Paint) with(strokes []Stroke) sourceBody { return &Paint{strokes} }

func (*Paint) held() bool { return false }
