package treatment

import (
	"encoding/json"
	"fmt"
)

// Upgrade returns a document of an earlier version as one of this version, and
// any other as it is. In version 1 each removal held its own region and track,
// and everything lay on its reference frame.
func Upgrade(blob []byte) ([]byte, error) {
	var head struct {
		Format  string
		Version int
	}
	if json.Unmarshal(blob, &head) != nil || head.Format != Format || head.Version != 1 {
		return blob, nil
	}
	var doc map[string]any
	if err := json.Unmarshal(blob, &doc); err != nil {
		return nil, err
	}
	tracks := []any{}
	removals, _ := doc["removals"].([]any)
	for i, v := range removals {
		r, _ := v.(map[string]any)
		mark, _ := r["mark"].(map[string]any)
		follow, _ := r["follow"].(map[string]any)
		fill, _ := r["fill"].(map[string]any)
		if mark == nil || follow == nil || fill == nil {
			return nil, fmt.Errorf("/removals/%d: mark, follow or fill is missing", i)
		}
		outlines, _ := mark["outlines"].([]any)
		for _, o := range outlines {
			if o, ok := o.(map[string]any); ok {
				o["kind"], o["home"] = Outline, r["reference"]
			}
		}
		fill["frame"] = r["reference"]
		region, _ := follow["region"].([]any)
		if len(region) == 0 && follow["track"] == nil {
			r["follow"] = map[string]any{}
			continue
		}
		track := map[string]any{
			"id": fmt.Sprint("t-", r["id"]), "name": r["name"], "kind": PlaneTrack,
			"home": r["reference"], "motion": follow["motion"], "range": r["range"],
		}
		if len(region) > 0 {
			track["region"] = region
		}
		if data, ok := follow["track"].(map[string]any); ok {
			delete(data, "basis") // counted otherwise now
			track["data"] = data
		}
		tracks = append(tracks, track)
		r["follow"] = map[string]any{"track": track["id"]}
	}
	doc["version"], doc["tracks"] = Version, tracks
	return json.Marshal(doc)
}
