package picture

import "encoding/json"

// Checkpoint remember what long work has found, by name, so that it goes on where it was
// interrupted. All that is found is a function of what it is found on, so a remembered
// step is as good as one taken again. Nil Checkpoint remember nothing.
type Checkpoint struct {
	Found map[string]json.RawMessage
	Saved func() // told after each step; nil for nobody
}

// read sets v to what a step found, and reports whether it was taken.
func (s *Checkpoint) read(name string, v any) bool {
	if s == nil {
		return false
	}
	blob, ok := s.Found[name]
	return ok && json.Unmarshal(blob, v) == nil
}

// save remembers a step. One that JSON has no words for, what is not finite, is taken
// again.
func (s *Checkpoint) save(name string, v any) {
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
	if s.Saved != nil {
		s.Saved()
	}
}

// taken returns what a taken found, and takes it if it was not taken before.
func taken[T any](s *Checkpoint, name string, take func() (T, error)) (T, error) {
	var v T
	if s.read(name, &v) {
		return v, nil
	}
	v, err := take()
	if err == nil {
		s.save(name, v)
	}
	return v, err
}
