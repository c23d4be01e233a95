package treatment

import "fmt"

// Toned is the kind of a flat tone or a gradient.
const Toned = "tone"

// A FlatTone is one tone, or one that goes over into another, keyed.
type FlatTone struct {
	Frame int      `json:"frame" doc:"For which the ends of a gradient are given"`
	Rim   bool     `json:"rim,omitempty" doc:"It is picked on every frame from the rim of what is marked, by itself"`
	Keys  []ToneAt `json:"keys,omitempty" doc:"Not of one from the rim"`
	Ends  []Vec    `json:"ends,omitempty" maxItems:"2" doc:"Where the two tones of a gradient lie; left out one tone, the first"`
}

// A ToneAt is a tone on a frame.
type ToneAt struct {
	Frame int        `json:"frame"`
	Ease  Ease       `json:"ease" enum:"eased,linear"`
	One   [3]float64 `json:"one" doc:"Linear light"`
	Other [3]float64 `json:"other,omitempty" doc:"At the other end of a gradient"`
}

func (f *FlatTone) put(s *Source) { s.Tone = f }

func (f *FlatTone) copied() sourceBody {
	out := *f
	out.Keys, out.Ends = append([]ToneAt(nil), f.Keys...), append([]Vec(nil), f.Ends...)
	return &out
}

func (f *FlatTone) counts(c *checker, place string) {
	c.most(place+"/keys", len(f.Keys), MostKeys, "keys")
}

func (f *FlatTone) check(c *checker, place string) {
	c.frame(place+"/frame", f.Frame)
	if !f.Rim && len(f.Keys) == 0 {
		c.fault(place+"/keys", "a tone needs a key, or to be picked from the rim")
	}
	if n := len(f.Ends); n != 0 && n != 2 {
		c.fault(place+"/ends", "a gradient has two ends, not %d", n)
	}
	c.places(place+"/ends", f.Ends)
	c.ordered(place+"/keys", len(f.Keys), func(k int) int { return f.Keys[k].Frame })
	for i := range f.Keys {
		for _, v := range append(f.Keys[i].One[:], f.Keys[i].Other[:]...) {
			c.within(fmt.Sprintf("%s/keys/%d", place, i), v, -10, 1000, "")
		}
	}
}

func (*FlatTone) held() bool      { return false }
func (*FlatTone) grainless() bool { return true }
