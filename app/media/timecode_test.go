package media

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
)

// Worked values of SMPTE ST 12-1 dropping (from memory): 29.97 frames a second number the
// frame after 00:00:59;29 as 00:01:00;02, keep 00:10:00;00, have 17,982 frames in ten minutes
// and 2,589,408 in a day.
func TestTimecodes(t *testing.T) {
	ntsc, film, pal := Rational{30000, 1001}, Rational{24000, 1001}, Rational{25, 1}
	for _, c := range []struct {
		from string
		rate Rational
		add  int
		want string
	}{
		{"01:00:00:00", film, 0, "01:00:00:00"}, {"01:00:00:00", film, 24, "01:00:01:00"}, {"10:59:59:23", film, 1,
			"11:00:00:00"}, {"23:59:59:24", pal, 1, "00:00:00:00"},
		{"00:00:59;29", ntsc, 1, "00:01:00;02"}, {"00:09:59;29", ntsc, 1, "00:10:00;00"}, {"00:00:00;00", ntsc, 17982,
			"00:10:00;00"}, {"00:00:00;00", ntsc, 1800, "00:01:00;02"},
		{"00:00:00;00", ntsc, 2589408, "00:00:00;00"}, {"00:01:00;02", ntsc, -1, "00:00:59;29"}, {"01:00:00;00", ntsc,
			1798, "01:00:59;28"},
		{"00:00:59;59", Rational{60000, 1001}, 1, "00:01:00;04"}, {"00:00:00:00", ntsc, 1800, "00:01:00:00"},
	} {
		at, ok := ParseTimecode(c.from, c.rate)
		require.True(t, ok, c.from)
		assert.Equal(t, c.want, at.Add(c.add).String(), "%s and %d frames", c.from, c.add)
	}
	for _, bad := range []string{"", "1:2:3:4", "00:60:00:00", "00:00:60:00", "00:00:00:25", "24:00:00:00",
		"00:01:00;00x", "aa:bb:cc:dd"} {
		_, ok := ParseTimecode(bad, pal)
		assert.False(t, ok, bad)
	}
	_, ok := ParseTimecode("00:01:00;00", ntsc)
	assert.False(t, ok, "a number that is left out")
	// Every number of a day is met once.
	at, _ := ParseTimecode("00:00:00;00", ntsc)
	last := ""
	for n := range 40_000 {
		text := at.Add(n).String()
		require.NotEqual(t, last, text)
		back, ok := ParseTimecode(text, ntsc)
		require.True(t, ok, text)
		require.Equal(t, n, back.frames)
		last = text
	}
}

func made(t *testing.T, path string, args ...string) {
	t.Helper()
	out, err := exec.Command("ffmpeg", append(append([]string{"-v", "error", "-y"}, args...), path)...).CombinedOutput()
	require.NoError(t, err, string(out))
}

// The timecode that leaves in movies, DPX and OpenEXR is what other programs read there.
func TestTimecodeLeaves(t *testing.T) {
	shot := Shot{
		First:    1001,
		Last:     1010,
		Width:    32,
		Height:   24,
		Samples:  Samples{Depth: 8},
		Rate:     Rational{24, 1},
		Aspect:   1,
		Transfer: colorspace.BT709,
		Timecode: "09:59:59:20",
	}
	assert.Equal(t, "10:00:00:01", shot.TimecodeAt(1006))
	for _, kind := range []string{Review, Master} {
		path := filepath.Join(t.TempDir(), "m."+MovieEnding(kind))
		movie, err := NewMovie(ctx, path+".0."+MovieEnding(kind), kind, shot, nil)
		require.NoError(t, err)
		for range 5 {
			require.NoError(t, movie.Write(noisy(32, 24, Samples{Depth: 8}, false, 1)))
		}
		require.NoError(t, movie.Close(true))
		require.NoError(t, Join(ctx, path, []string{path + ".0." + MovieEnding(kind)}, shot.TimecodeAt(1006)))
		out, err := exec.Command("ffprobe", "-v", "error", "-of", "json", "-show_entries",
			"stream_tags=timecode:format_tags=timecode", path).
			Output()
		require.NoError(t, err)
		assert.Contains(t, string(out), "10:00:00:01", kind)
		m, err := Inspect(ctx, path)
		require.NoError(t, err)
		assert.Equal(t, "10:00:00:01", m.Timecode, kind)
	}
	f := noisy(32, 24, Samples{Depth: 10}, false, 1)
	f.Timecode = "10:00:00:01"
	data, err := EncodeDPX(f, colorspace.BT709, "x")
	require.NoError(t, err)
	h, err := readDPX(data)
	require.NoError(t, err)
	assert.Equal(t, "10:00:00:01", h.Timecode)
	own := noisy(32, 24, Samples{Depth: 10}, false, 1)
	own.Head, own.Timecode = data[:2048], "11:11:11:11"
	data, err = EncodeDPX(own, colorspace.BT709, "x")
	require.NoError(t, err)
	h, err = readDPX(data)
	require.NoError(t, err)
	assert.Equal(t, "10:00:00:01", h.Timecode, "the file's own stays")

	e := noisy(32, 24, Samples{Depth: 16, Float: true}, false, 1)
	e.Timecode = "10:00:00;03"
	data, err = EncodeFrameEXR(e, colorspace.BT709Primaries)
	require.NoError(t, err)
	x, err := readEXR(data)
	require.NoError(t, err)
	assert.Equal(t, "10:00:00:03", x.Timecode)
	// Of the flags of SMPTE ST 12-1 the one for dropped numbers is the seventh bit (OpenEXR's ImfTimeCode).
	at := bytes.Index(data, []byte("timeCode\x00timecode\x00")) + len("timeCode\x00timecode\x00") + 4
	assert.Equal(t, uint32(0x10000003|1<<6), binary.LittleEndian.Uint32(data[at:]))
}

// A part that is brought in begins at its own timecode.
func TestTimecodeOfAPart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "m.mov")
	made(t, path, "-f", "lavfi", "-i", "testsrc=s=64x48:r=25:d=2", "-c:v", "mpeg4", "-timecode", "01:00:00:10")
	m, err := Inspect(ctx, path)
	require.NoError(t, err)
	assert.Equal(t, "01:00:00:10", m.Timecode)
	from := 21
	plan, err := m.Plan(Reading{From: &from})
	require.NoError(t, err)
	assert.Equal(t, "01:00:01:05", m.TimecodeOf(plan, Rational{25, 1}))
}

// Interlaced footage is recognised by its pictures, whatever its file says; whole frames are
// not taken for it, be they flagged, noisy or fine in their lines.
func TestInterlacedFootageIsRecognised(t *testing.T) {
	demotest.Share(t, 3)
	dir := t.TempDir()
	moving := "testsrc2=s=320x240:r=50:d=1.2"
	for name, c := range map[string]struct {
		filter, want, by string
		flags            []string
	}{
		"progressive": {"fps=25", "", "", nil},
		"top first": {"tinterlace=interleave_top", TopFirst, "measured", []string{"-flags",
			"+ildct+ilme", "-top", "1"}},
		"bottom first": {"tinterlace=interleave_bottom", BottomFirst, "measured", []string{"-flags",
			"+ildct+ilme", "-top", "0"}},
		"interlaced without a flag": {"tinterlace=interleave_top,setfield=prog", TopFirst, "measured", nil},
		"noise on whole frames":     {"fps=25,noise=alls=30:allf=t", "", "", nil},
		"flagged, but whole":        {"fps=25,setfield=tff", "", "", []string{"-flags", "+ildct+ilme", "-top", "1"}},
		"still, and said to be such": {"select='eq(n,0)',loop=30:1,setfield=tff", TopFirst, "told", []string{"-flags",
			"+ildct+ilme", "-top", "1"}},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(dir, fmt.Sprintf("%x.mov", name))
			made(
				t,
				path,
				append(
					[]string{"-f", "lavfi", "-i", moving, "-vf", c.filter, "-c:v", "mpeg2video", "-q:v", "2"},
					c.flags...)...)
			m, err := Inspect(ctx, path)
			require.NoError(t, err)
			require.NoError(t, m.FindFields(ctx))
			assert.Equal(t, c.want, m.Fields)
			assert.Equal(t, c.by, m.FieldsBy)
			err = m.OneMoment(Reading{})
			if c.want == "" {
				assert.NoError(t, err)
				return
			}
			var interlaced *Interlaced
			require.ErrorAs(t, err, &interlaced)
			assert.Contains(t, err.Error(), "two moments")
			assert.NoError(t, m.OneMoment(Reading{Whole: true}), "whoever knows better says so")
		})
	}
	stills := filepath.Join(dir, "stills")
	require.NoError(t, os.Mkdir(stills, 0o755))
	made(t, filepath.Join(stills, "s.%04d.png"), "-f", "lavfi", "-i", moving, "-vf", "tinterlace=interleave_top")
	m, err := Inspect(ctx, stills)
	require.NoError(t, err)
	require.NoError(t, m.FindFields(ctx))
	assert.Equal(t, TopFirst, m.Fields)
	blob, err := json.Marshal(m)
	require.NoError(t, err)
	assert.Contains(t, string(blob), `"fields":"top"`)
}
