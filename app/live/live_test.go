package live

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestEveryListenerHearsInOrder(t *testing.T) {
	var h Hub
	h.Send("to nobody")
	a, stopA := h.Listen("w")
	b, stopB := h.Listen("w")
	for i := range 5 {
		h.Send(i)
	}
	for i := range 5 {
		assert.Equal(t, i, <-a)
		assert.Equal(t, i, <-b)
	}
	stopA()
	stopA() // twice does no harm
	h.Send("later")
	_, open := <-a
	assert.False(t, open)
	assert.Equal(t, "later", <-b)
	stopB()
}

func TestAListenerThatSleepsIsLetGo(t *testing.T) {
	var h Hub
	slow, stop := h.Listen("w")
	defer stop()
	done := make(chan bool)
	go func() {
		for i := range 5000 {
			h.Send(i)
		}
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		t.Fatal("a sleeping listener held everyone up")
	}
	n := 0
	for range slow {
		n++
	}
	assert.Less(t, n, 5000, "its channel was closed")
}
