package memo_test

import (
	"context"
	"fmt"

	"jardin/core/memo"
)

// tableInput is all that the computation below gets: its key follows from it.
type tableInput struct {
	Name string
	Rows []int
}

type noEnvironment struct{}

func (noEnvironment) Key() string { return "" }

// What was worked out for an input is remembered under a key that is derived from all of it.
func ExampleDo() {
	cache := memo.New(1 << 20)
	sum := func(_ context.Context, _ noEnvironment, in tableInput) (int, error) {
		fmt.Println("working out", in.Name)
		n := 0
		for _, v := range in.Rows {
			n += v
		}
		return n, nil
	}
	for _, in := range []tableInput{{"a", []int{1, 2}}, {"a", []int{1, 2}}, {"a", []int{1, 3}}} {
		n, _ := memo.Do(context.Background(), cache, noEnvironment{}, in, sum)
		fmt.Println(n)
	}
	// Output:
	// working out a
	// 3
	// 3
	// working out a
	// 4
}
