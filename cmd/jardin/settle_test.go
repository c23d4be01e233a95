package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/treatment"
)

// What "jardin settle" writes is a treatment that is settled, and that renders to what "jardin render --settle" makes of the
// one that is not, bit for bit. What cannot be settled is said, and stays.
func TestSettleOnTheCommandLine(t *testing.T) {
	demotest.Share(t, 3)
	known := demotest.Folder(t, demo.PlateFolder)
	plate := t.TempDir()
	for n := 1030; n <= 1044; n++ {
		name := filepath.Base(demo.FramePath("", "", n))
		require.NoError(t, os.Symlink(filepath.Join(known, name), filepath.Join(plate, name)))
	}
	example := bytes.ReplaceAll(demotest.WorkedExample(t), []byte(`"first": 1001, "last": 1072`), []byte(`"first": 1030, "last": 1044`))
	file, settled := save(t, example), filepath.Join(t.TempDir(), "settled.json")
	stdout, stderr, code := jardin(t, "settle", "--plate", plate, "--treatment", file, "--out", settled)
	require.Zero(t, code, stderr)
	assert.Regexp(t, `^Dot left of the packets: .*grain \d`, stdout)
	blob, err := os.ReadFile(settled)
	require.NoError(t, err)
	var doc treatment.Document
	require.NoError(t, json.Unmarshal(blob, &doc))
	s := doc.Removals[0].Settle
	require.NotNil(t, s.Light)
	require.NotNil(t, s.Softness)
	require.NotNil(t, s.Grain)
	assert.NotNil(t, s.Grain.Model)

	frame := filepath.Base(demo.FramePath("", "", 1040))
	render := func(file string, more ...string) []byte {
		out := t.TempDir()
		_, stderr, code := jardin(t, append([]string{"render", "--plate", plate, "--treatment", file, "--out", out}, more...)...)
		require.Zero(t, code, stderr)
		blob, err := os.ReadFile(filepath.Join(out, frame))
		require.NoError(t, err)
		return blob
	}
	by := render(file, "--settle")
	assert.True(t, bytes.Equal(render(settled), by), "the same either way")
	assert.False(t, bytes.Equal(render(file), by), "settling changes something")

	// Without an outline there is nothing to settle by; the file is written all the same.
	require.NoError(t, json.Unmarshal(example, &doc))
	doc.Removals[0].Mark.Outlines = []treatment.Shape{}
	blob, err = json.Marshal(doc)
	require.NoError(t, err)
	stdout, stderr, code = jardin(t, "settle", "--plate", plate, "--treatment", save(t, blob), "--out", settled)
	require.Zero(t, code, stderr)
	assert.Contains(t, stdout, "not settled: draw an outline")

	before, err := os.ReadFile(settled)
	require.NoError(t, err)
	_, stderr, code = jardin(t, "settle", "--plate", plate, "--treatment", save(t, []byte(`{"broken"`)), "--out", settled)
	assert.NotZero(t, code)
	assert.Contains(t, stderr, "not a valid treatment", fmt.Sprint(stderr))
	after, err := os.ReadFile(settled)
	require.NoError(t, err)
	assert.Equal(t, before, after, "what is there stays")
}
