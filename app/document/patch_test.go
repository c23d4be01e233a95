package document_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/document"
)

// anything is a random value of JSON, with keys that need escaping.
func anything(rng *rand.Rand, depth int) any {
	keys := []string{"a", "b", "c/d", "e~f", "0"} // no field of a treatment is named by nothing
	switch k := rng.IntN(7); {
	case k < 2 && depth > 0:
		out := map[string]any{}
		for range rng.IntN(4) {
			out[keys[rng.IntN(len(keys))]] = anything(rng, depth-1)
		}
		return out
	case k < 4 && depth > 0:
		out := []any{}
		for range rng.IntN(5) {
			out = append(out, anything(rng, depth-1))
		}
		return out
	case k == 4:
		return nil
	case k == 5:
		return fmt.Sprint("t", rng.IntN(3))
	}
	return float64(rng.IntN(3))
}

// What a difference says of two states makes the second of the first, whatever they are.
func TestADifferenceMakesOneStateOfAnother(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		a, b := map[string]any{
			"x": anything(rng, 4),
			"y": anything(rng, 2),
		}, map[string]any{
			"x": anything(rng, 4),
			"z": anything(rng, 2),
		}
		if rng.IntN(2) == 0 { // alike but for something
			blob, err := json.Marshal(a)
			require.NoError(t, err)
			b = map[string]any{}
			require.NoError(t, json.Unmarshal(blob, &b))
			if list, ok := b["x"].([]any); ok && len(list) > 1 {
				at := rng.IntN(len(list))
				b["x"] = append(slices.Clone(list[:at]), list[at+1:]...)
			}
		}
		from, err := json.Marshal(a)
		require.NoError(t, err)
		patch, err := json.Marshal(document.Difference(a, b))
		require.NoError(t, err)
		if string(patch) == "null" {
			assert.Equal(t, a, b)
			continue
		}
		got, err := document.Replayed(from, patch)
		require.NoError(t, err, "%s\n%s", from, patch)
		want, err := json.Marshal(b)
		require.NoError(t, err)
		require.JSONEq(t, string(want), string(got), "%s\n%s", from, patch)
	}
}

// A plain model of a list of things with names: their fields, one by one.
type things map[string]map[string]float64

func (m things) clone() things {
	out := things{}
	for k, v := range m {
		out[k] = maps.Clone(v)
	}
	return out
}

func (m things) tree(order []string) any {
	list := []any{}
	for _, id := range order {
		fields, there := m[id]
		if !there {
			continue
		}
		inner := map[string]any{}
		for k, v := range fields {
			inner[k] = v
		}
		list = append(list, map[string]any{"id": id, "in": inner})
	}
	return map[string]any{"list": list}
}

// changed is what differs between two models: things that came or went, and fields.
func changed(a, b things) map[string]string {
	out := map[string]string{}
	for _, id := range slices.Sorted(maps.Keys(a)) {
		if _, there := b[id]; !there {
			out[id] = "gone"
		}
	}
	for id, fields := range b {
		old, there := a[id]
		if !there {
			out[id] = fmt.Sprint("new ", fields)
			continue
		}
		for k := range fields {
			if v, had := old[k]; !had || v != fields[k] {
				out[id+"."+k] = fmt.Sprint(fields[k])
			}
		}
	}
	return out
}

// Two make random changes of one state at once. Where they touched other things, both changes
// stand; where they touched the same in different ways, that is said, and nothing else.
func TestChangesAtOnceAreMergedOrRefused(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	refused := 0
	for round := range 4000 {
		base, order := things{}, []string{}
		for k := range 1 + rng.IntN(4) {
			id := fmt.Sprint("r", k)
			base[id] = map[string]float64{"x": 0, "y": 0, "z": 0}
			order = append(order, id)
		}
		someone := func(who string) (things, []string) {
			m, order := base.clone(), slices.Clone(order)
			for k := range 1 + rng.IntN(3) {
				id := order[rng.IntN(len(order))]
				switch _, there := m[id]; {
				case rng.IntN(6) == 0:
					id = fmt.Sprint(who, k)
					m[id] = map[string]float64{"x": 1}
					order = slices.Insert(order, rng.IntN(len(order)+1), id)
				case rng.IntN(8) == 0:
					delete(m, id)
				case there:
					m[id][[]string{"x", "y", "z"}[rng.IntN(3)]] = float64(1 + rng.IntN(3))
				}
			}
			return m, order
		}
		ours, ourOrder := someone("o")
		theirs, theirOrder := someone("t")
		// The plain reference: their state with each of our changes made on it.
		mine, other := changed(base, ours), changed(base, theirs)
		want, touched := theirs.clone(), false
		for at, value := range mine {
			if v, both := other[at]; both && v != value {
				touched = true
			}
			id := at[:2]
			if value == "gone" {
				for k := range other {
					touched = touched || k[:2] == id && other[k] != "gone"
				}
				delete(want, id)
			} else if other[id] == "gone" {
				touched = true
			} else if len(at) > 2 {
				want[id][at[3:]] = ours[id][at[3:]]
			} else {
				want[id] = ours[id]
			}
		}
		got, err := document.Merge(base.tree(order), ours.tree(ourOrder), theirs.tree(theirOrder))
		if touched {
			require.ErrorIs(t, err, document.ErrTouched, "round %d: %v and %v", round, mine, other)
			refused++
			continue
		}
		require.NoError(t, err, "round %d: %v and %v", round, mine, other)
		list := got.(map[string]any)["list"].([]any)
		have, places := things{}, []string{}
		for _, v := range list {
			id := v.(map[string]any)["id"].(string)
			have[id] = map[string]float64{}
			for k, v := range v.(map[string]any)["in"].(map[string]any) {
				have[id][k] = v.(float64)
			}
			places = append(places, id)
		}
		require.Equal(t, want, have, "round %d: %v and %v", round, mine, other)
		require.Len(t, list, len(want), "nothing stands there twice")
		// What is new stands after what it was put after.
		for i, id := range ourOrder {
			if _, old := base[id]; old || i == 0 || !slices.Contains(places, ourOrder[i-1]) ||
				!slices.Contains(places, id) {
				continue
			}
			require.Greater(
				t,
				slices.Index(places, id),
				slices.Index(places, ourOrder[i-1]),
				"round %d: %v of %v and %v",
				round,
				places,
				ourOrder,
				theirOrder,
			)
		}
		// What stood in their order still does.
		theirOrder = slices.DeleteFunc(theirOrder, func(id string) bool { _, there := want[id]; return !there })
		places = slices.DeleteFunc(places, func(id string) bool { return !slices.Contains(theirOrder, id) })
		require.Equal(t, theirOrder, places)
	}
	t.Logf("4000 pairs, %d refused", refused)
	assert.Greater(t, refused, 100)
}

// Keys by frame stand in the order of their frames, whoever added them.
func TestKeysOfTwoAreMergedInOrder(t *testing.T) {
	keys := func(frames ...float64) any {
		out := []any{}
		for _, f := range frames {
			out = append(out, map[string]any{"frame": f, "value": f})
		}
		return out
	}
	got, err := document.Merge(keys(1, 9), keys(1, 5, 9, 12), keys(0, 1, 3, 7, 9))
	require.NoError(t, err)
	assert.Equal(t, keys(0, 1, 3, 5, 7, 9, 12), got)
	_, err = document.Merge(
		keys(1),
		[]any{map[string]any{"frame": 1.0, "value": 2.0}},
		[]any{map[string]any{"frame": 1.0, "value": 3.0}},
	)
	assert.ErrorIs(t, err, document.ErrTouched)
}
