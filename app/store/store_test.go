package store_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/store"
	"jardin/app/store/storetest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

var ctx = context.Background()

func databaseURL(t testing.TB) string { return storetest.URL(t) }

func withShot(t testing.TB) *store.Store { return withShotAt(t, storetest.URL(t)) }

func withShotAt(t testing.TB, url string) *store.Store {
	s, err := store.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.AddShot(ctx, &store.Shot{
		ID: "s", Show: "show", Name: "shot", First: 1001, Last: 1010, Width: 64, Height: 48, Depth: 8,
		RateNum: 24000, RateDen: 1001, Transfer: "bt709", State: "ready",
	}))
	return s
}

func removal(id string) string {
	return `{"id":"` + id + `","name":"` + id + `","range":{"first":1001,"last":1010},"reference":1005,"mark":{"outlines":[]},` +
		`"follow":{},"fill":{"sources":[]},"settle":{"opacity":1}}`
}

func add(id string) json.RawMessage {
	return json.RawMessage(`[{"op":"add","path":"/removals/-","value":` + removal(id) + `}]`)
}

func names(r *store.Revision) (out []string) {
	for _, x := range r.Document.Removals {
		out = append(out, x.ID)
	}
	return out
}

func TestEditsUndoAndRedo(t *testing.T) {
	s := withShot(t)
	one, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: add("a"), Label: "Add a"})
	require.NoError(t, err)
	two, err := s.Edit(ctx, "s", store.Change{From: one.Number, Patch: add("b"), Label: "Add b"})
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names(two))
	assert.Equal(t, "Add b", two.Undo)

	back, err := s.Undo(ctx, "s")
	require.NoError(t, err)
	assert.Equal(t, []string{"a"}, names(back))
	assert.Equal(t, "Add b", back.Redo)
	again, err := s.Redo(ctx, "s")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names(again))

	// After a new edit there is nothing to redo, and the state left behind is still there by its
	// number: it can be gone back to.
	undone, err := s.Undo(ctx, "s")
	require.NoError(t, err)
	branch, err := s.Edit(ctx, "s", store.Change{From: undone.Number, Patch: add("c"), Label: "Add c"})
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "c"}, names(branch))
	assert.Empty(t, branch.Redo)
	left, err := s.Revision(ctx, "s", two.Number)
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names(left))
	gone, err := s.GoBack(ctx, "s", two.Number)
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names(gone))
	assert.Greater(t, gone.Number, branch.Number, "as a new state: nothing of what came after is lost")
	assert.Equal(t, fmt.Sprintf("Back to state %d", two.Number), gone.Undo)

	for range 5 { // beyond the beginning nothing happens
		back, err = s.Undo(ctx, "s")
		require.NoError(t, err)
	}
	assert.Empty(t, back.Document.Removals)
	assert.Empty(t, back.Undo)
}

func TestAStaleEditIsRefusedWithTheNewerState(t *testing.T) {
	s := withShot(t)
	_, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: add("a"), Label: "Add a"})
	require.NoError(t, err)
	_, err = s.Edit(ctx, "s", store.Change{From: 0, Patch: add("b"), Label: "Add b"})
	var stale *store.Stale
	require.ErrorAs(t, err, &stale)
	assert.Equal(t, []string{"a"}, names(stale.Now))
}

func TestAnEditThatWouldBreakTheTreatmentChangesNothing(t *testing.T) {
	s := withShot(t)
	for name, patch := range map[string]string{
		"outside the shot": `[{"op":"add","path":"/removals/-","value":` + removal("x") + `},{"op":"replace","path":"/removals/0/reference","value":2000}]`,
		"unknown property": `[{"op":"add","path":"/removals/-","value":` + removal("x") + `},{"op":"add","path":"/removals/0/colour","value":1}]`,
		"no such place":    `[{"op":"replace","path":"/removals/7/name","value":"x"}]`,
		"not a patch":      `{"op":"add"}`,
		"same id twice":    `[{"op":"add","path":"/removals/-","value":` + removal("x") + `},{"op":"add","path":"/removals/-","value":` + removal("x") + `}]`,
	} {
		t.Run(name, func(t *testing.T) {
			_, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: json.RawMessage(patch), Label: "x"})
			var invalid *store.Invalid
			assert.ErrorAs(t, err, &invalid)
		})
	}
	head, err := s.Head(ctx, "s")
	require.NoError(t, err)
	assert.Zero(t, head.Number)
}

// Many hands at once: every amendment lands, none is lost, numbers are unique.
func TestAmendmentsAtOnceAllLand(t *testing.T) {
	s := withShot(t)
	var wait sync.WaitGroup
	for k := range 20 {
		wait.Go(func() {
			_, err := s.Amend(ctx, "s", "Add", func(d *treatment.Document) error {
				var r treatment.Removal
				if err := json.Unmarshal([]byte(removal(fmt.Sprint("r", k))), &r); err != nil {
					return err
				}
				d.Removals = append(d.Removals, r)
				return nil
			})
			assert.NoError(t, err)
		})
	}
	wait.Wait()
	head, err := s.Head(ctx, "s")
	require.NoError(t, err)
	assert.Len(t, head.Document.Removals, 20)
	assert.Equal(t, 20, head.Number)

	_, err = s.Amend(ctx, "s", "Fail", func(*treatment.Document) error { return errors.New("no") })
	assert.ErrorContains(t, err, "no")
}

func TestATrackFromAnOlderRegionIsStale(t *testing.T) {
	s := withShot(t)
	_, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: add("a"), Label: "Add a"})
	require.NoError(t, err)
	rev, err := s.Amend(ctx, "s", "Follow", func(d *treatment.Document) error {
		t := treatment.Track{
			ID:     "t",
			Kind:   treatment.PlaneTrack,
			Home:   1005,
			Motion: geom.Position,
			Region: []treatment.Vec{{0, 0}, {40, 0}, {40, 40}},
		}
		t.Data = &treatment.Data{Basis: t.Basis(), Samples: []treatment.Sample{{Frame: 1005, Matrix: geom.Identity}}}
		d.Tracks = append(d.Tracks, t)
		return nil
	})
	require.NoError(t, err)
	assert.Empty(t, rev.Stale)
	rev, err = s.Amend(ctx, "s", "Move", func(d *treatment.Document) error {
		d.Tracks[0].Region[1][0] = 50
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"t"}, rev.Stale)
}

func TestArtifactsAndShots(t *testing.T) {
	s := withShot(t)
	sha, err := s.PutArtifact(ctx, []byte("abc"))
	require.NoError(t, err)
	// FIPS 180-2, appendix B.1.
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", sha)
	again, err := s.PutArtifact(ctx, []byte("abc"))
	require.NoError(t, err)
	assert.Equal(t, sha, again)
	content, err := s.Artifact(ctx, sha)
	require.NoError(t, err)
	assert.Equal(t, "abc", string(content))
	_, err = s.Artifact(ctx, "00")
	assert.ErrorIs(t, err, store.ErrNone)

	assert.ErrorIs(t, s.AddShot(ctx, &store.Shot{ID: "t", Show: "show", Name: "shot"}), store.ErrTaken)
	require.NoError(t, s.DeleteShot(ctx, "s"))
	_, err = s.Head(ctx, "s")
	assert.ErrorIs(t, err, store.ErrNone)
}

// Who works on a task, and what it was asked, stands in the database: a worker anywhere finds it.
func TestWhoWorksAndWhatWasAsked(t *testing.T) {
	s := withShot(t)
	require.NoError(t, s.AddTask(ctx, &store.Task{ID: "t", ShotID: "s", Kind: "render", Title: "x", State: "waiting"}))
	task, err := s.Take(ctx, "t", "one")
	require.NoError(t, err)
	assert.Equal(t, "running", task.State)
	assert.Equal(t, "one", task.Worker)
	assert.WithinDuration(t, time.Now(), *task.Since, time.Minute)
	require.NoError(t, s.Ask(ctx, "t", "paused"))
	for worker, want := range map[string]map[string]string{"one": {"t": "paused"}, "two": {}} {
		asked, err := s.Asked(ctx, worker)
		require.NoError(t, err)
		assert.Equal(t, want, asked, worker)
	}
	// The worker broke down: another one takes over, and hears of it.
	task, err = s.Take(ctx, "t", "two")
	require.NoError(t, err)
	assert.Equal(t, "paused", task.Asked)
	task.State = "paused"
	require.NoError(t, s.SaveTask(ctx, task))
	asked, err := s.Asked(ctx, "two")
	require.NoError(t, err)
	assert.Empty(t, asked, "what does not run is nobody's")
	_, err = s.Take(ctx, "t", "one")
	assert.ErrorIs(t, err, store.ErrNone, "it has ended")
	_, err = s.Unask(ctx, "t")
	assert.ErrorIs(t, err, store.ErrNone, "nothing is taken back of what has ended")
}

// How work ends that was asked to halt is decided by what stands in the database in that moment: who
// took back what was asked before it is heard, who comes after finds it ended.
func TestWhatWasAskedIsTakenBack(t *testing.T) {
	s := withShot(t)
	for id, back := range map[string]bool{"a": true, "b": false} {
		require.NoError(t, s.AddTask(ctx, &store.Task{ID: id, ShotID: "s", Kind: "render", Title: "x", State: "waiting"}))
		_, err := s.Take(ctx, id, "one")
		require.NoError(t, err)
		require.NoError(t, s.Ask(ctx, id, "cancelled"))
		want := "cancelled"
		if back {
			task, err := s.Unask(ctx, id)
			require.NoError(t, err)
			assert.Empty(t, task.Asked)
			want = "waiting"
		}
		state, err := s.Halt(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, want, state)
		task, err := s.Task(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, want, task.State)
		_, err = s.Unask(ctx, id)
		if back {
			require.NoError(t, err, "it waits, and may be asked again")
		} else {
			require.ErrorIs(t, err, store.ErrNone)
		}
	}
	_, err := s.Halt(ctx, "none")
	assert.ErrorIs(t, err, store.ErrNone)
}
