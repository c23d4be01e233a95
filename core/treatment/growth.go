package treatment

import "fmt"

// Grown is the kind of clean pixels that are made of what lies around.
const Grown = "grown"

// MostGuides is how many lines and areas a growth may have.
const MostGuides = 50

// A Growth is clean pixels that no frame shows: they are made on one frame of patches of what lies
// around what is marked there, with the grain taken out, and held.
type Growth struct {
	Frame   int     `json:"frame" doc:"On which they are made"`
	Seed    int     `json:"seed,omitempty" minimum:"0" maximum:"2147483647" doc:"Another one is another result"`
	From    [][]Vec `json:"from,omitempty" doc:"Polygons on that frame from inside of which may be taken; left out from all around"`
	Guides  [][]Vec `json:"guides,omitempty" doc:"Lines on that frame along which something goes on through what is marked"`
	Feature float64 `json:"feature,omitempty" minimum:"0" maximum:"200" doc:"How large the texture's features are, pixels; left out as it seems best"`
	Longest int     `json:"longest,omitempty" minimum:"0" maximum:"2000" doc:"The longest stretch that is copied from one place, pixels; left out any"`
	Flat    bool    `json:"flat,omitempty" doc:"In the surface's own plane, as the four corners of the track's region lie"`
}

func (g *Growth) put(s *Source) { s.Grown = g }

func (g *Growth) copied() sourceBody {
	out := *g
	out.From, out.Guides = lines(g.From), lines(g.Guides)
	return &out
}

func lines(all [][]Vec) (out [][]Vec) {
	for _, l := range all {
		out = append(out, append([]Vec(nil), l...))
	}
	return out
}

func (g *Growth) counts(c *checker, place string) {
	for name, all := range map[string][][]Vec{"from": g.From, "guides": g.Guides} {
		c.most(place+"/"+name, len(all), MostGuides, name)
		for i := range all {
			c.most(fmt.Sprintf("%s/%s/%d", place, name, i), len(all[i]), MostKnots, "points")
		}
	}
}

func (g *Growth) check(c *checker, place string) {
	c.frame(place+"/frame", g.Frame)
	c.within(place+"/seed", float64(g.Seed), 0, 1<<31-1, "")
	c.within(place+"/feature", g.Feature, 0, 200, " pixels")
	c.within(place+"/longest", float64(g.Longest), 0, 2000, " pixels")
	for name, least := range map[string]int{"from": 3, "guides": 2} {
		all := map[string][][]Vec{"from": g.From, "guides": g.Guides}[name]
		for i := range all {
			at := fmt.Sprintf("%s/%s/%d", place, name, i)
			if len(all[i]) < least {
				c.fault(at, "it has %d points; %d at least", len(all[i]), least)
			}
			c.places(at, all[i])
		}
	}
}

func (*Growth) held() bool      { return true }
func (*Growth) grainless() bool { return true }
func (*Growth) computed() bool  { return true }
