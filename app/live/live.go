// Package live tells everyone who looks at a shot what has changed.
package live

import (
	"sync"

	"jardin/app/picture"
	"jardin/app/store"
)

// An Event is something that happened to a shot. Each is sent as it is to the browser.
type Event interface {
	// Of returns the shot, and whether those who look at no shot, or at another, hear of it as
	// well: long work, and shots that come and go, are shown everywhere.
	Of() (shot string, everywhere bool)
}

func (e TaskChanged) Of() (string, bool)     { return e.Task.ShotID, true }
func (e ShotChanged) Of() (string, bool)     { return e.ShotID, true }
func (e RevisionChanged) Of() (string, bool) { return e.ShotID, false }
func (e FrameFollowed) Of() (string, bool)   { return e.ShotID, false }
func (e EdgeFollowed) Of() (string, bool)    { return e.ShotID, false }
func (e FrameGathered) Of() (string, bool)   { return e.ShotID, false }

// Events.
type (
	// TaskChanged: long work has gone on, or ended.
	TaskChanged struct {
		Task store.Task `json:"task"`
	}
	// RevisionChanged: another revision of a shot's treatment is in force.
	RevisionChanged struct {
		ShotID string `json:"shotId"`
		Number int    `json:"number"`
	}
	// ShotChanged: a shot was added, came in, or was removed.
	ShotChanged struct {
		ShotID string `json:"shotId"`
	}
	// FrameFollowed: a track that is being measured has reached a frame.
	FrameFollowed struct {
		ShotID string          `json:"shotId"`
		TaskID string          `json:"taskId"`
		Track  string          `json:"track"`
		Found  picture.Tracked `json:"found"`
	}
	// EdgeFollowed: an outline that follows an edge has reached a frame.
	EdgeFollowed struct {
		ShotID string            `json:"shotId"`
		TaskID string            `json:"taskId"`
		Found  picture.EdgeFound `json:"found"`
	}
	// FrameGathered: so much is done of what is gathered through time for a frame that somebody waits for.
	FrameGathered struct {
		ShotID string `json:"shotId"`
		Frame  int    `json:"frame"`
		Done   int    `json:"done"`
		Total  int    `json:"total"`
	}
)

// A Hub passes events on. The zero Hub is ready; it is safe for concurrent use.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan Event]listener
}

// A listener is a browser's window, and the shot that it looks at; none where that is empty.
type listener struct{ window, shot string }

// IsOpen reports whether somebody listens in a window.
func (h *Hub) IsOpen(window string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, l := range h.listeners {
		if l.window == window {
			return true
		}
	}
	return false
}

// Send passes an event to those who are to hear of it. A listener that has fallen far behind is
// let go; its browser connects again and asks for the state anew.
func (h *Hub) Send(event Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	shot, everywhere := event.Of()
	for c, l := range h.listeners {
		if !everywhere && l.shot != shot {
			continue
		}
		select {
		case c <- event:
		default:
			delete(h.listeners, c)
			close(c)
		}
	}
}

// Listen returns a channel of events for a browser's window that looks at a shot, and what to
// call when done with it.
func (h *Hub) Listen(window, shot string) (<-chan Event, func()) {
	c := make(chan Event, 1024)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan Event]listener{}
	}
	h.listeners[c] = listener{window, shot}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, there := h.listeners[c]; there {
			delete(h.listeners, c)
			close(c)
		}
	}
}
