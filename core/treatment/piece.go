package treatment

import (
	"crypto/sha256"
	"encoding/hex"

	"jardin/core/geom"
)

// Supplied is the kind of a supplied picture that is laid on the surface by its corners.
const Supplied = "piece"

// A Piece is a supplied picture on the surface.
type Piece struct {
	Frame   int      `json:"frame" doc:"On which it was placed"`
	Picture *Picture `json:"picture" required:"true"`
	Corners []Vec    `json:"corners" nullable:"false" minItems:"4" maxItems:"4" doc:"Where its corners lie, from the top left clockwise"`
}

// A Picture was supplied from elsewhere: 16-bit RGBA PNG in the plate's encoding,
// transparent where it leaves the plate alone.
type Picture struct {
	Artifact string `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Data     []byte `json:"data,omitempty" doc:"The file itself, in an exported treatment"`
	Name     string `json:"name" doc:"Of the file that it came from"`
	Width    int    `json:"width" minimum:"1" maximum:"32768"`
	Height   int    `json:"height" minimum:"1" maximum:"32768"`
}

// sum is the SHA-256 of the file, whether it is in place or named by that.
func (p *Picture) sum() string {
	if p.Artifact != "" {
		return p.Artifact
	}
	sum := sha256.Sum256(p.Data)
	return hex.EncodeToString(sum[:])
}

func (p *Piece) picture() **Picture { return &p.Picture }
func (p *Piece) put(s *Source)      { s.Piece = p }

func (p *Piece) copied() sourceBody {
	out := *p
	out.Corners = append([]Vec(nil), p.Corners...)
	return &out
}

func (p *Piece) check(c *checker, place string) {
	c.frame(place+"/frame", p.Frame)
	if p.Picture != nil {
		c.picture(place+"/picture", p.Picture)
	}
	c.places(place+"/corners", p.Corners)
	if p.Picture == nil || len(p.Corners) != 4 || !(geom.Area(Points(p.Corners)) >= 4) {
		c.fault(place, "a piece needs a picture and four corners with room between them")
	}
}

func (*Piece) held() bool { return true }
