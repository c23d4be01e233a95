package picture

import "encoding/json"

// Steps remember what long work has found, by name, so that it goes on where it was
// interrupted. All that is found is a function of what it is found on, so a remembered
// step is as good as one taken again. Nil Steps remember nothing.
type Steps struct {
	Found map[string]json.RawMessage
	Kept  func() // told after each step; nil for nobody
}

// read sets v to what a step found, and reports whether it was taken.
func (s *Steps) read(name string, v any) bool {
	if s == nil {
		return false
	}
	blob, ok := s.Found[name]
	return ok && json.Unmarshal(blob, v) == nil
}

// keep remembers a step. One that JSON has no words for, what is not finite, is taken
// again.
func (s *Steps) keep(name string, v any) {
	if s == nil {
		return
	}
	blob, err := json.Marshal(v)
	if err != nil {
		return
	}
	if s.Found == nil {
		s.Found = map[string]json.RawMessage{}
	}
	s.Found[name] = blob
	if s.Kept != nil {
		s.Kept()
	}
}

// step returns what a step found, and takes it if it was not taken before.
func step[T any](s *Steps, name string, take func() (T, error)) (T, error) {
	var v T
	if s.read(name, &v) {
		return v, nil
	}
	v, err := take()
	if err == nil {
		s.keep(name, v)
	}
	return v, err
}
