package media

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
)

// A Timecode is a time address of SMPTE ST 12-1: hours, minutes, seconds and frames, of a
// number of frames a second that is whole in name. Dropping leaves out the first two numbers
// (four at 60) of every minute but each tenth, so that 29.97 frames a second keep to the clock.
type Timecode struct {
	frames  int // since 00:00:00:00
	nominal int // frames a second, in name
	drop    bool
}

var timecodes = regexp.MustCompile(`^(\d\d):([0-5]\d):([0-5]\d)([:;.])(\d\d\d?)$`)

// ParseTimecode reads a timecode as it is written, with a semicolon before the frames where
// numbers are dropped; ok is false for what is none at that rate.
func ParseTimecode(text string, rate Rational) (t Timecode, ok bool) {
	m := timecodes.FindStringSubmatch(text)
	if m == nil || rate.Num < 1 || rate.Den < 1 {
		return t, false
	}
	n := func(i int) int { v, _ := strconv.Atoi(m[i]); return v }
	t.nominal = int(math.Round(float64(rate.Num) / float64(rate.Den)))
	t.drop = m[4] != ":" && (t.nominal == 30 || t.nominal == 60)
	if t.nominal < 1 || n(5) >= t.nominal || n(1) > 23 {
		return t, false
	}
	minutes := 60*n(1) + n(2)
	t.frames = (60*minutes+n(3))*t.nominal + n(5)
	if t.drop {
		if n(5) < t.dropped() && n(3) == 0 && n(2)%10 != 0 {
			return t, false // a number that is left out
		}
		t.frames -= t.dropped() * (minutes - minutes/10)
	}
	return t, true
}

// dropped is how many numbers are left out in a minute.
func (t Timecode) dropped() int { return t.nominal / 15 }

// Add returns the timecode so many frames later; after 24 hours it begins anew.
func (t Timecode) Add(frames int) Timecode {
	day := 24 * 3600 * t.nominal
	if t.drop {
		day -= t.dropped() * (24*60 - 24*6)
	}
	t.frames = ((t.frames+frames)%day + day) % day
	return t
}

// parts returns hours, minutes, seconds and frames.
func (t Timecode) parts() (h, m, s, f int) {
	n := t.frames
	if t.drop {
		ten := 600*t.nominal - 9*t.dropped()
		minute := 60*t.nominal - t.dropped()
		tens, rest := n/ten, n%ten
		n += 9 * t.dropped() * tens
		if rest >= 60*t.nominal {
			n += t.dropped() * ((rest-60*t.nominal)/minute + 1)
		}
	}
	f, n = n%t.nominal, n/t.nominal
	return n / 3600, n / 60 % 60, n % 60, f
}

func (t Timecode) String() string {
	h, m, s, f := t.parts()
	mark := ":"
	if t.drop {
		mark = ";"
	}
	return fmt.Sprintf("%02d:%02d:%02d%s%02d", h, m, s, mark, f)
}

// Digits returns the timecode as eight digits in binary-coded decimals, as DPX and OpenEXR
// keep it, from the tens of hours down; ok is false where frames have no room, above 39.
func (t Timecode) digits() (v uint32, ok bool) {
	h, m, s, f := t.parts()
	for _, n := range []int{h, m, s, f} {
		v = v<<8 | uint32(n/10)<<4 | uint32(n%10)
	}
	return v, f < 40
}

// TimecodeAt returns the timecode of a frame of the shot, of a field that of its frame; empty if
// it has none.
func (s Shot) TimecodeAt(n int) string {
	if s.Fields != WholeFrames {
		return s.Woven().TimecodeAt(n / 2)
	}
	t, ok := ParseTimecode(s.Timecode, s.Rate)
	if !ok {
		return ""
	}
	return t.Add(n - s.First).String()
}
