package treatment

// Evened is the kind of the frame's own pixels, evened out.
const Evened = "evened"

// What an evening takes away.
const (
	EvenCoarse = "coarse" // differences larger than the scale: stains, a shadow's edge
	EvenFine   = "fine"   // faint texture smaller than it: wrinkles, pores; edges stay
	EvenBlur   = "blur"   // the same, with light and all: a plain blur
)

// An Evening is a frame's own pixels, whose coarse differences are taken away and whose fine texture stays,
// or the other way round.
type Evening struct {
	Takes  string  `json:"takes" enum:"coarse,fine,blur" doc:"coarse: differences larger than the scale; fine: texture smaller than it; blur: all of it is blurred"`
	Scale  float64 `json:"scale" minimum:"0.3" maximum:"200" doc:"Standard deviation, pixels"`
	Amount float64 `json:"amount" minimum:"0" maximum:"1"`
}

func (e *Evening) put(s *Source) { s.Evened = e }

func (e *Evening) copied() sourceBody {
	out := *e
	return &out
}

func (e *Evening) check(c *checker, place string) {
	if e.Takes != EvenCoarse && e.Takes != EvenFine && e.Takes != EvenBlur {
		c.fault(place+"/takes", "%q is nothing that can be evened out; choose coarse, fine or blur", e.Takes)
	}
	c.within(place+"/scale", e.Scale, 0.3, 200, " pixels")
	c.within(place+"/amount", e.Amount, 0, 1, "")
}

func (*Evening) held() bool { return false }

// grainless: what is smaller than the scale goes with its grain.
func (e *Evening) grainless() bool { return e.Takes != EvenCoarse }
