package memo

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"reflect"
	"sync"
)

// A Key names an input: equal keys mean equal inputs. It is 32 hexadecimal digits, the
// first half of a SHA-256.
type Key string

// KeyOf derives the key of a value from all that it holds: numbers by their bits, strings
// and slices with their lengths, structs with the name of their type and all of their
// fields, what pointers point to. A *Keyed counts by its own key.
//
// Fields tagged `memo:"-"` are left out: use that only for what follows from other fields,
// and for names that errors tell. What has no fixed content is refused with an error:
// functions, channels, maps, unexported fields, and NaN, which equals nothing.
func KeyOf(v any) (Key, error) {
	e := encoders.Get().(*encoder)
	defer encoders.Put(e)
	e.buf = e.buf[:0]
	if v != nil {
		e.text(reflect.TypeOf(v).String())
	}
	if err := e.value(reflect.ValueOf(v)); err != nil {
		return "", fmt.Errorf("derive the key of a %T: %w", v, err)
	}
	sum := sha256.Sum256(e.buf)
	return Key(hex.EncodeToString(sum[:16])), nil
}

// A Keyed is a value whose key is worked out once, when it is first asked for: a part that
// many inputs share. The value must not change after that.
type Keyed[T any] struct {
	Value T
	once  sync.Once
	key   Key
	err   error
}

// Of returns a value with its key.
func Of[T any](v T) *Keyed[T] { return &Keyed[T]{Value: v} }

// Key returns the value's key.
func (k *Keyed[T]) Key() (Key, error) {
	k.once.Do(func() { k.key, k.err = KeyOf(k.Value) })
	return k.key, k.err
}

// keyed is any *Keyed, whatever it holds.
type keyed interface{ Key() (Key, error) }

var keyedType = reflect.TypeFor[keyed]()

// encoder writes values so that different ones are written differently.
type encoder struct{ buf []byte }

var encoders = sync.Pool{New: func() any { return &encoder{buf: make([]byte, 0, 1024)} }}

// A layout is what of a type of struct counts: its fields' places.
type layout struct {
	name   string
	fields []int
	err    error
}

var layouts sync.Map // reflect.Type to *layout

func layoutOf(t reflect.Type) *layout {
	if l, ok := layouts.Load(t); ok {
		return l.(*layout)
	}
	l := &layout{name: t.String()}
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Tag.Get("memo") == "-" {
			continue
		}
		if !f.IsExported() && !f.Anonymous {
			l.err = fmt.Errorf("field %s of %s is not exported", f.Name, t)
			break
		}
		l.fields = append(l.fields, i)
	}
	layouts.Store(t, l)
	return l
}

func (e *encoder) word(v uint64) { e.buf = binary.LittleEndian.AppendUint64(e.buf, v) }

func (e *encoder) text(s string) {
	e.word(uint64(len(s)))
	e.buf = append(e.buf, s...)
}

func (e *encoder) value(v reflect.Value) error {
	if !v.IsValid() { // a nil interface
		e.buf = append(e.buf, 0)
		return nil
	}
	switch v.Kind() {
	case reflect.Bool:
		b := byte(0)
		if v.Bool() {
			b = 1
		}
		e.buf = append(e.buf, b)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		e.word(uint64(v.Int()))
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		e.word(v.Uint())
	case reflect.Float32, reflect.Float64:
		f := v.Float()
		if math.IsNaN(f) {
			return fmt.Errorf("NaN has no key")
		}
		e.word(math.Float64bits(f))
	case reflect.String:
		e.text(v.String())
	case reflect.Array:
		return e.list(v)
	case reflect.Slice:
		if v.IsNil() { // as good as an empty one
			e.word(0)
			return nil
		}
		e.word(uint64(v.Len()))
		return e.list(v)
	case reflect.Pointer:
		if v.IsNil() {
			e.buf = append(e.buf, 0)
			return nil
		}
		e.buf = append(e.buf, 1)
		if v.Type().Implements(keyedType) && v.CanInterface() {
			key, err := v.Interface().(keyed).Key()
			e.text(string(key))
			return err
		}
		return e.value(v.Elem())
	case reflect.Interface:
		if v.IsNil() {
			e.buf = append(e.buf, 0)
			return nil
		}
		e.buf = append(e.buf, 1)
		e.text(v.Elem().Type().String())
		return e.value(v.Elem())
	case reflect.Struct:
		return e.fields(v)
	default:
		return fmt.Errorf("a %s has no key", v.Type())
	}
	return nil
}

func (e *encoder) list(v reflect.Value) error {
	if v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Uint8 { // pictures
		e.buf = append(e.buf, v.Bytes()...)
		return nil
	}
	if v.Type() == reflect.TypeFor[[]float64]() && v.CanInterface() { // points of strokes: there are many
		for _, f := range v.Interface().([]float64) {
			if math.IsNaN(f) {
				return fmt.Errorf("NaN has no key")
			}
			e.word(math.Float64bits(f))
		}
		return nil
	}
	for i := range v.Len() {
		if err := e.value(v.Index(i)); err != nil {
			return err
		}
	}
	return nil
}

func (e *encoder) fields(v reflect.Value) error {
	l := layoutOf(v.Type())
	if l.err != nil {
		return l.err
	}
	e.text(l.name)
	for _, i := range l.fields {
		if err := e.value(v.Field(i)); err != nil {
			return fmt.Errorf("%s: %w", v.Type().Field(i).Name, err)
		}
	}
	return nil
}
