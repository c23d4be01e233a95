package main

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
)

// jardin runs the program, built from these sources.
func jardin(t *testing.T, args ...string) (stdout, stderr string, code int) {
	cmd := exec.Command(program(t), args...)
	var out, problems bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &problems
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil {
		require.ErrorAs(t, err, &exit)
		code = exit.ExitCode()
	}
	return out.String(), problems.String(), code
}

var built string

func program(t *testing.T) string {
	if built == "" {
		built = filepath.Join(os.TempDir(), "jardin-under-test")
		out, err := exec.Command("go", "build", "-o", built, ".").CombinedOutput()
		require.NoError(t, err, string(out))
	}
	return built
}

func save(t *testing.T, text []byte) string {
	path := filepath.Join(t.TempDir(), "t.json")
	require.NoError(t, os.WriteFile(path, text, 0o644))
	return path
}

func TestRenderTheWorkedExample(t *testing.T) {
	plate := demotest.Folder(t, demo.PlateFolder)
	out := t.TempDir()
	stdout, stderr, code := jardin(
		t,
		"render",
		"--plate",
		plate,
		"--treatment",
		save(t, demotest.WorkedExample(t)),
		"--out",
		out,
		"--json",
		"--movie",
	)
	require.Zero(t, code, stderr)
	var s summary
	require.NoError(t, json.Unmarshal([]byte(stdout), &s))
	assert.Equal(t, 72, s.Changed)
	assert.True(t, s.Removals[0].Tracked)
	assert.Equal(t, 1001, s.Removals[0].First)
	assert.Equal(t, 1072, s.Removals[0].Last)
	assert.Greater(t, s.Removals[0].MinMatch, 0.95)
	frames, err := filepath.Glob(filepath.Join(out, "lm_010.*.png"))
	require.NoError(t, err)
	assert.Len(t, frames, 72)
	assert.FileExists(t, s.Movie)

	// The dot is gone: nothing orange is left where it was.
	known := demotest.Truth(t)
	for _, n := range []int{1001, 1037, 1072} {
		m := demotest.ReadPNG(t, filepath.Join(out, filepath.Base(demo.FramePath("", "", n))))
		p := known.Motion[n]
		c := p.Apply(known.Dots[0].Point())
		r, _, b, _ := m.At(int(c.X), int(c.Y)).RGBA()
		assert.Less(t, float64(r)/float64(b+1), 1.6, "frame %d", n)
	}
}

func TestBadInputIsRefusedClearly(t *testing.T) {
	plate := demotest.Folder(t, demo.PlateFolder)
	good := save(t, demotest.WorkedExample(t))
	bad := save(t, bytes.Replace(demotest.WorkedExample(t), []byte(`"reference": 1037`), []byte(`"reference": 3`), 1))
	flat := save(
		t,
		bytes.Replace(
			demotest.WorkedExample(t),
			[]byte(`[[190, 95], [600, 95], [600, 345], [190, 345]]`),
			[]byte(`[[2000, 95], [2600, 95], [2600, 345]]`),
			1,
		),
	)
	out := t.TempDir()
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"no plate": {[]string{"--plate", "/nowhere", "--treatment", good, "--out", out},
			"/nowhere cannot be opened"},
		"no treatment": {[]string{"--plate", plate, "--treatment", "/nowhere.json", "--out", out},
			"read the treatment"},
		"bad treatment": {[]string{"--plate", plate, "--treatment", bad, "--out", out},
			"frame 3 is not in the shot (1001 to 1072)"},
		"bad transfer":   {[]string{"--plate", plate, "--treatment", good, "--out", out, "--transfer", "odd"}, `"odd"`},
		"over the plate": {[]string{"--plate", plate, "--treatment", good, "--out", plate}, "plate's own folder"},
		"region outside": {[]string{"--plate", plate, "--treatment", flat, "--out", out}, "too few pixels"},
		"missing flag":   {[]string{"--plate", plate}, "required"},
	} {
		t.Run(name, func(t *testing.T) {
			stdout, stderr, code := jardin(t, append([]string{"render"}, c.args...)...)
			assert.Equal(t, 1, code)
			assert.Empty(t, stdout)
			assert.Contains(t, stderr, c.says)
		})
	}
	left, err := os.ReadDir(out)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is written for bad input")
}
