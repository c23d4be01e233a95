package app_test

import (
	"bytes"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// send posts bytes and decodes the answer.
func (h *house) send(address string, data []byte, status int, into any) {
	h.Helper()
	response, err := http.Post(h.service.Address+address, "application/octet-stream", bytes.NewReader(data))
	require.NoError(h, err)
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	require.NoError(h, err)
	require.Equal(h, status, response.StatusCode, string(answer))
	require.NoError(h, json.Unmarshal(answer, into))
}

func TestPicturesGoOutAndComeBack(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	at := "/api/shots/" + shot.ID
	h.ask("PATCH", at+"/treatment", edit(0, newRemoval), 200, nil)
	response, err := http.Get(h.service.Address + at + "/removals/r/picture?frame=112&as=png")
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Contains(t, response.Header.Get("Content-Disposition"), `.0112.png"`)
	sent, err := png.Decode(response.Body)
	require.NoError(t, err)
	painted := image.NewNRGBA64(sent.Bounds())
	for y := range painted.Rect.Dy() {
		for x := range painted.Rect.Dx() {
			painted.Set(x, y, sent.At(x, y))
		}
	}
	painted.SetNRGBA64(48, 28, color.NRGBA64{1000, 50000, 1000, 65535})
	var file bytes.Buffer
	require.NoError(t, png.Encode(&file, painted))

	var back struct {
		Document struct {
			Removals []struct {
				Fill struct {
					Sources []struct {
						Kind, Name string
						Plate      struct {
							Picture struct{ Artifact, Name string }
						}
						Piece struct{ Corners [][]float64 }
					}
				}
			}
		}
	}
	h.send(at+"/removals/r/picture?frame=112&name=back.png", file.Bytes(), 200, &back)
	h.send(at+"/removals/r/picture?frame=112&kind=piece&name=../../piece.png", file.Bytes(), 200, &back)
	sources := back.Document.Removals[0].Fill.Sources
	require.Len(t, sources, 2)
	assert.Equal(t, "plate", sources[0].Kind)
	assert.Len(t, sources[0].Plate.Picture.Artifact, 64)
	assert.Equal(t, "piece.png", sources[1].Name, "a name is no path")
	assert.Len(t, sources[1].Piece.Corners, 4)

	// The exported treatment holds the pictures themselves.
	var exported struct {
		Removals []struct {
			Fill struct {
				Sources []struct {
					Plate struct {
						Picture struct {
							Data     []byte
							Artifact string
						}
					}
				}
			}
		}
	}
	h.ask("GET", at+"/treatment/export", "", 200, &exported)
	kept := exported.Removals[0].Fill.Sources[0].Plate.Picture
	assert.Empty(t, kept.Artifact)
	m, err := png.Decode(bytes.NewReader(kept.Data))
	require.NoError(t, err)
	_, _, _, alpha := m.At(48, 28).RGBA()
	assert.EqualValues(t, 65535, alpha)
	_, _, _, alpha = m.At(10, 10).RGBA()
	assert.Zero(t, alpha, "what was left alone is not kept")

	// What is wrong is said, and nothing is kept.
	for address, want := range map[string]struct {
		status int
		says   string
	}{
		"/removals/r/picture?frame=x":      {422, "not a frame number"},
		"/removals/r/picture?frame=999":    {422, "not in the shot"},
		"/removals/none/picture?frame=112": {404, "deleted"},
	} {
		var problem struct{ Detail string }
		h.send(at+address, file.Bytes(), want.status, &problem)
		assert.Contains(t, problem.Detail, want.says)
	}
	h.ask("GET", at+"/removals/r/picture?frame=112&as=gif", "", 422, nil)
	h.ask("GET", at+"/removals/none/picture?frame=112", "", 404, nil)
	h.ask("POST", at+"/align", `{"removal":"r","frame":112,"from":{"offset":[0,0]}}`, 422, nil)
	h.ask("GET", at+"/removals/none/beside?frame=112", "", 422, nil)
	var rev revision
	h.ask("GET", at+"/treatment", "", 200, &rev)
	assert.Len(t, rev.Document.Removals[0].Fill.Sources, 2)
}
