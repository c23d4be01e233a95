package render

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"jardin/core/memo"
	"jardin/core/treatment"
)

// stretched sets some numbers of a document to what nobody would draw, but its rules may allow.
func (d dice) stretched(v reflect.Value) {
	switch v.Kind() {
	case reflect.Float64:
		if d.IntN(24) == 0 {
			odd := []float64{0, -1, 1, 1e-9, 0.5, 3, 250, 1e4, -1e4, 1e5, math.Copysign(0, -1), -0.999}
			v.SetFloat(odd[d.IntN(len(odd))])
		}
	case reflect.Int:
		if d.IntN(24) == 0 {
			v.SetInt(int64([]int{0, 1, 2, 95, 106, 1000}[d.IntN(6)]))
		}
	case reflect.Pointer:
		if !v.IsNil() {
			d.stretched(v.Elem())
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			d.stretched(v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				d.stretched(v.Field(i))
			}
		}
	}
}

// FuzzFrame takes documents by chance, odd ones among them, through every view of a frame: what
// the rules allow gives a picture of finite numbers, in no time that anybody would notice, and
// outside of its coverage nothing.
func FuzzFrame(f *testing.F) {
	for seed := range uint64(24) {
		f.Add(seed, seed%3 > 0, uint8(seed))
	}
	f.Fuzz(func(t *testing.T, seed uint64, odd bool, which uint8) {
		d := dice{rand.New(rand.NewPCG(seed, 99))}
		doc := d.document()
		if odd {
			d.stretched(reflect.ValueOf(doc).Elem())
		}
		blob, err := json.Marshal(doc)
		if err != nil || doc.Validate(&treatment.Range{First: 95, Last: 106}) != nil {
			return
		}
		c, err := Compile(doc)
		if err != nil {
			return
		}
		ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
		defer stop()
		e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26), Short: memo.New(1 << 26)}
		n, view := d.frame(), Views[int(which)%len(Views)]
		m, err := e.Frame(ctx, c, n, view, doc.Removals[0].ID)
		if errors.Is(err, context.DeadlineExceeded) {
			t.Fatalf("it takes longer than 20 s: %s", blob)
		}
		if err != nil {
			return // that it cannot be, said in words
		}
		for i, v := range m.Pix {
			if math.IsNaN(float64(v)) || math.IsInf(float64(v), 0) {
				t.Fatalf("sample %d of %s is %v: %s", i, view, v, blob)
			}
		}
		if m.Coverage == nil || view != AloneView {
			return
		}
		for _, k := range m.Coverage.Pix {
			if !(k >= 0 && k <= 1) {
				t.Fatalf("coverage %v: %s", k, blob)
			}
		}
	})
}
