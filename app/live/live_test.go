package live

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jardin/app/store"
)

func TestEveryListenerHearsInOrder(t *testing.T) {
	var h Hub
	h.Send(RevisionChanged{ShotID: "to nobody"})
	a, stopA := h.Listen("w", "s")
	b, stopB := h.Listen("w", "s")
	for i := range 5 {
		h.Send(RevisionChanged{"s", i})
	}
	for i := range 5 {
		assert.Equal(t, RevisionChanged{"s", i}, <-a)
		assert.Equal(t, RevisionChanged{"s", i}, <-b)
	}
	stopA()
	stopA() // twice does no harm
	h.Send(RevisionChanged{"s", 9})
	_, open := <-a
	assert.False(t, open)
	assert.Equal(t, RevisionChanged{"s", 9}, <-b)
	stopB()
}

func TestAListenerThatSleepsIsLetGo(t *testing.T) {
	var h Hub
	slow, stop := h.Listen("w", "s")
	defer stop()
	done := make(chan bool)
	go func() {
		for i := range 5000 {
			h.Send(RevisionChanged{"s", i})
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

func TestOnlyThoseWhoLookAtAShotHearOfIt(t *testing.T) {
	var h Hub
	here, _ := h.Listen("w", "s")
	there, _ := h.Listen("w", "other")
	wall, _ := h.Listen("w", "")
	own := []Event{RevisionChanged{"s", 1}, FrameFollowed{ShotID: "s"}, EdgeFollowed{ShotID: "s"}}
	all := []Event{TaskChanged{store.Task{ShotID: "s"}}, ShotChanged{"s"}}
	for _, e := range append(own, all...) {
		h.Send(e)
	}
	for _, e := range append(own, all...) {
		assert.Equal(t, e, <-here)
	}
	for _, c := range []<-chan Event{there, wall} {
		for _, e := range all {
			assert.Equal(t, e, <-c)
		}
		assert.Empty(t, c)
	}
}
