package treatment

import (
	"encoding/json"
	"errors"
	"fmt"
)

// Upgrade returns a document of an earlier version as one of this version, and
// any other as it is.
func Upgrade(blob []byte) ([]byte, error) {
	var head struct {
		Format  string
		Version int
	}
	if json.Unmarshal(blob, &head) != nil || head.Format != Format || head.Version < 1 || head.Version >= Version {
		return blob, nil
	}
	var doc map[string]any
	if err := json.Unmarshal(blob, &doc); err != nil {
		return nil, err
	}
	removals, _ := doc["removals"].([]any)
	if head.Version == 1 {
		tracks := []any{}
		for i, v := range removals {
			track, err := fromFirst(v)
			if err != nil {
				return nil, fmt.Errorf("/removals/%d: %w", i, err)
			}
			if track != nil {
				tracks = append(tracks, track)
			}
		}
		doc["tracks"] = tracks
	}
	// From version 3 to 4 things were only added.
	for i, v := range removals {
		if head.Version > 2 {
			break
		}
		if err := fromSecond(v); err != nil {
			return nil, fmt.Errorf("/removals/%d: %w", i, err)
		}
	}
	for i, v := range removals {
		if err := fromFourth(v); err != nil {
			return nil, fmt.Errorf("/removals/%d: %w", i, err)
		}
	}
	doc["version"] = Version
	return json.Marshal(doc)
}

// fromFirst takes a removal from version 1 to 2 and returns its track, if it had
// one: each held its own region and track, and everything lay on its reference
// frame.
func fromFirst(v any) (map[string]any, error) {
	removal, _ := v.(map[string]any)
	mark, _ := removal["mark"].(map[string]any)
	follow, _ := removal["follow"].(map[string]any)
	fill, _ := removal["fill"].(map[string]any)
	if mark == nil || follow == nil || fill == nil {
		return nil, errors.New("mark, follow or fill is missing")
	}
	outlines, _ := mark["outlines"].([]any)
	for _, o := range outlines {
		if o, ok := o.(map[string]any); ok {
			o["kind"], o["home"] = Outline, removal["reference"]
		}
	}
	fill["frame"] = removal["reference"]
	region, _ := follow["region"].([]any)
	if len(region) == 0 && follow["track"] == nil {
		removal["follow"] = map[string]any{}
		return nil, nil
	}
	track := map[string]any{
		"id": fmt.Sprint("t-", removal["id"]), "name": removal["name"], "kind": PlaneTrack,
		"home": removal["reference"], "motion": follow["motion"], "range": removal["range"],
	}
	if len(region) > 0 {
		track["region"] = region
	}
	if data, ok := follow["track"].(map[string]any); ok {
		delete(data, "basis") // counted otherwise now
		track["data"] = data
	}
	removal["follow"] = map[string]any{"track": track["id"]}
	return track, nil
}

// fromSecond takes a removal from version 2 to 3: all of its paint lay on one
// frame, copied by an offset, and pressure scaled the size.
func fromSecond(v any) error {
	removal, _ := v.(map[string]any)
	fill, _ := removal["fill"].(map[string]any)
	if fill == nil {
		return errors.New("fill is missing")
	}
	strokes, _ := fill["strokes"].([]any)
	sources := []any{}
	for _, v := range strokes {
		s, _ := v.(map[string]any)
		if s == nil {
			return errors.New("a stroke is no object")
		}
		s["home"], s["pen"] = fill["frame"], []any{"size"}
		s["from"] = map[string]any{"offset": s["offset"]}
		delete(s, "offset")
	}
	if len(strokes) > 0 {
		sources = append(
			sources,
			map[string]any{
				"id":      "plate",
				"name":    fmt.Sprint("Clean plate ", fill["frame"]),
				"kind":    HeldPlate,
				"frame":   fill["frame"],
				"strokes": strokes,
			},
		)
	}
	removal["fill"] = map[string]any{"sources": sources}
	return nil
}

// fromFourth takes a removal from version 4 to 5: the properties of all kinds of sources stood
// beside each other.
func fromFourth(v any) error {
	removal, _ := v.(map[string]any)
	fill, _ := removal["fill"].(map[string]any)
	if fill == nil {
		return errors.New("fill is missing")
	}
	sources, _ := fill["sources"].([]any)
	own := map[string][]string{
		HeldPlate: {"frame", "whole", "picture", "strokes"}, Travelling: {"strokes"},
		Beside: {"frame", "offsets", "screen", "crisp"}, Supplied: {"frame", "picture", "corners"},
	}
	for _, v := range sources {
		s, _ := v.(map[string]any)
		if s == nil {
			return errors.New("a source is no object")
		}
		kind, _ := s["kind"].(string)
		body := map[string]any{}
		for _, k := range own[kind] {
			if v, ok := s[k]; ok {
				body[k] = v
			}
		}
		for _, k := range []string{"frame", "whole", "picture", "corners", "offsets", "screen", "crisp", "strokes"} {
			delete(s, k) // what another kind left lying there was never looked at
		}
		if own[kind] != nil {
			s[kind] = body
		}
	}
	return nil
}
