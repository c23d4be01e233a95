package document

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"jardin/core/treatment"
)

// Bounds of a JSON Patch (RFC 6902), and of what it may make.
const (
	mostOperations = 20_000
	mostCopied     = 8 << 20  // bytes, by operations of kind copy
	mostDocument   = 48 << 20 // bytes
)

// Patched returns what a patch makes of a document. A patch that is none, does not fit, or
// would make far too much of it is refused, before the memory for that is taken.
func Patched(doc, patch []byte) ([]byte, error) {
	operations, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, fmt.Errorf("the patch is not a JSON Patch: %w", err)
	}
	if len(operations) > mostOperations {
		return nil, fmt.Errorf(
			"the patch has %d operations; %d at most: send it in parts",
			len(operations),
			mostOperations,
		)
	}
	options := jsonpatch.NewApplyOptions()
	options.AccumulatedCopySizeLimit = mostCopied
	options.SupportNegativeIndices = false // RFC 6902 knows none
	out, err := operations.ApplyWithOptions(doc, options)
	if err != nil {
		return nil, fmt.Errorf("the patch does not fit the treatment: %w", err)
	}
	if len(out) > mostDocument {
		return nil, fmt.Errorf("the treatment would have %d MB; %d at most", len(out)>>20, mostDocument>>20)
	}
	return out, nil
}

// Replayed is Patched for patches that were stored: together they may be larger than one may.
func Replayed(doc, patch []byte) ([]byte, error) {
	operations, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, err
	}
	return operations.Apply(doc)
}

// An Operation is one step of a JSON Patch.
type Operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

// MarshalJSON keeps values that are null, false or 0.
func (o Operation) MarshalJSON() ([]byte, error) {
	if o.Op == "remove" {
		return json.Marshal(map[string]any{"op": o.Op, "path": o.Path})
	}
	return json.Marshal(map[string]any{"op": o.Op, "path": o.Path, "value": o.Value})
}

// Tree is a document as maps, lists and plain values.
func Tree(doc *treatment.Document) (any, error) {
	blob, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	var out any
	return out, json.Unmarshal(blob, &out)
}

// FromTree is its inverse; the document must be valid. shot is the shot's range, or nil.
func FromTree(tree any, shot *treatment.Range) (*treatment.Document, error) {
	blob, err := json.Marshal(tree)
	if err != nil {
		return nil, err
	}
	doc := treatment.New()
	if err := json.Unmarshal(blob, doc); err != nil {
		return nil, err
	}
	return doc, doc.Validate(shot)
}

// Difference returns a patch that makes b of a.
func Difference(a, b any) []Operation {
	return difference(nil, "", a, b)
}

func difference(out []Operation, path string, a, b any) []Operation {
	switch a := a.(type) {
	case map[string]any:
		b, ok := b.(map[string]any)
		if !ok {
			break
		}
		for _, k := range keysOf(a, b) {
			at := path + "/" + escape(k)
			old, had := a[k]
			now, has := b[k]
			switch {
			case !has:
				out = append(out, Operation{Op: "remove", Path: at})
			case !had:
				out = append(out, Operation{"add", at, now})
			default:
				out = difference(out, at, old, now)
			}
		}
		return out
	case []any:
		b, ok := b.([]any)
		if !ok {
			break
		}
		// What both begin and end with stays; between, as many as both have are changed in place.
		begin, end := 0, 0
		for begin < min(len(a), len(b)) && reflect.DeepEqual(a[begin], b[begin]) {
			begin++
		}
		for end < min(len(a), len(b))-begin && reflect.DeepEqual(a[len(a)-1-end], b[len(b)-1-end]) {
			end++
		}
		old, now := a[begin:len(a)-end], b[begin:len(b)-end]
		for i := len(old) - 1; i >= len(now); i-- {
			out = append(out, Operation{Op: "remove", Path: path + "/" + strconv.Itoa(begin+i)})
		}
		for i := range min(len(old), len(now)) {
			out = difference(out, path+"/"+strconv.Itoa(begin+i), old[i], now[i])
		}
		for i := len(old); i < len(now); i++ {
			out = append(out, Operation{"add", path + "/" + strconv.Itoa(begin+i), now[i]})
		}
		return out
	}
	if !reflect.DeepEqual(a, b) {
		out = append(out, Operation{"replace", path, b})
	}
	return out
}

func keysOf(maps ...map[string]any) (out []string) {
	seen := map[string]bool{}
	for _, m := range maps {
		for k := range m {
			if !seen[k] {
				seen[k] = true
				out = append(out, k)
			}
		}
	}
	sort.Strings(out)
	return out
}

func escape(key string) string {
	return strings.ReplaceAll(strings.ReplaceAll(key, "~", "~0"), "/", "~1")
}

// ErrTouched says that what was changed in two ways cannot be joined.
var ErrTouched = errors.New("the same thing was changed since")

// Merge makes on theirs the change that leads from base to ours (three-way merge). Things that
// have an identifier, or a frame, are the same thing wherever they stand in their list. Where
// theirs changed the same value in another way, the error is ErrTouched.
func Merge(base, ours, theirs any) (any, error) {
	if reflect.DeepEqual(base, ours) || reflect.DeepEqual(ours, theirs) {
		return theirs, nil
	}
	if reflect.DeepEqual(base, theirs) {
		return ours, nil
	}
	switch b := base.(type) {
	case map[string]any:
		o, ok1 := ours.(map[string]any)
		t, ok2 := theirs.(map[string]any)
		if !ok1 || !ok2 {
			break
		}
		out := map[string]any{}
		for _, k := range keysOf(b, o, t) {
			v, there, err := mergeOne(entry(b, k), entry(o, k), entry(t, k))
			if err != nil {
				return nil, err
			}
			if there {
				out[k] = v
			}
		}
		return out, nil
	case []any:
		o, ok1 := ours.([]any)
		t, ok2 := theirs.([]any)
		bn, ok3 := named(b)
		on, ok4 := named(o)
		tn, ok5 := named(t)
		if !ok1 || !ok2 || !ok3 || !ok4 || !ok5 {
			break
		}
		return mergeLists(bn, on, tn, b, o, t)
	}
	return nil, ErrTouched
}

// maybe is a value that may be missing.
type maybe struct {
	value any
	there bool
}

func entry(m map[string]any, k string) maybe {
	v, ok := m[k]
	return maybe{v, ok}
}

func mergeOne(b, o, t maybe) (any, bool, error) {
	switch {
	case b.there == o.there && (!b.there || reflect.DeepEqual(b.value, o.value)):
		return t.value, t.there, nil
	case b.there == t.there && (!b.there || reflect.DeepEqual(b.value, t.value)):
		return o.value, o.there, nil
	case o.there == t.there && (!o.there || reflect.DeepEqual(o.value, t.value)):
		return t.value, t.there, nil
	case !o.there || !t.there:
		return nil, false, ErrTouched // one took away what the other changed
	}
	if !b.there {
		return nil, false, ErrTouched // both put something else there
	}
	v, err := Merge(b.value, o.value, t.value)
	return v, true, err
}

// named returns the things of a list by what tells them apart; ok is false if nothing does.
func named(list []any) (out map[string]any, ok bool) {
	out = map[string]any{}
	for _, v := range list {
		m, isMap := v.(map[string]any)
		if !isMap {
			return nil, false
		}
		name, has := m["id"]
		if !has {
			name, has = m["frame"]
		}
		key := fmt.Sprint(name)
		if _, twice := out[key]; !has || twice {
			return nil, false
		}
		out[key] = v
	}
	return out, true
}

func nameOf(v any) string {
	m, _ := v.(map[string]any)
	if id, ok := m["id"]; ok {
		return fmt.Sprint(id)
	}
	return fmt.Sprint(m["frame"])
}

// mergeLists keeps the order of theirs, and puts what is new in ours after what it stands
// after there. If ours has another order than base, and theirs has it too, the order of ours.
func mergeLists(b, o, t map[string]any, base, ours, theirs []any) (any, error) {
	out := []any{}
	for _, v := range theirs {
		k := nameOf(v)
		merged, there, err := mergeOne(entry(b, k), entry(o, k), entry(t, k))
		if err != nil {
			return nil, err
		}
		if there {
			out = append(out, merged)
		}
	}
	place := func(k string) int {
		for i, v := range out {
			if nameOf(v) == k {
				return i
			}
		}
		return -1
	}
	for i, v := range ours {
		k := nameOf(v)
		if place(k) >= 0 {
			continue
		}
		merged, there, err := mergeOne(entry(b, k), entry(o, k), entry(t, k))
		if err != nil {
			return nil, err
		}
		if !there {
			continue
		}
		at := 0
		for j := i - 1; j >= 0; j-- {
			if p := place(nameOf(ours[j])); p >= 0 {
				at = p + 1
				break
			}
		}
		out = append(out[:at], append([]any{merged}, out[at:]...)...)
	}
	// Only the order was changed: a list of the same things stands as ours has it.
	if len(out) == len(ours) {
		alike := true
		for _, v := range ours {
			alike = alike && place(nameOf(v)) >= 0
		}
		if alike && len(theirs) == len(ours) && reordered(base, ours) {
			sorted := make([]any, len(ours))
			for i, v := range ours {
				sorted[i] = out[place(nameOf(v))]
			}
			out = sorted
		}
	}
	// Keys by frame stand in order.
	if len(out) > 0 {
		if _, id := out[0].(map[string]any)["id"]; !id {
			sort.SliceStable(out, func(i, j int) bool {
				a, _ := out[i].(map[string]any)["frame"].(float64)
				b, _ := out[j].(map[string]any)["frame"].(float64)
				return a < b
			})
		}
	}
	return out, nil
}

// reordered reports whether things that two lists share stand in another order.
func reordered(base, ours []any) bool {
	at := map[string]int{}
	for i, v := range base {
		at[nameOf(v)] = i
	}
	last := -1
	for _, v := range ours {
		if i, ok := at[nameOf(v)]; ok {
			if i < last {
				return true
			}
			last = i
		}
	}
	return false
}
