// Package live tells everyone who looks at a shot what has changed.
package live

import (
	"sync"

	"jardin/app/picture"
	"jardin/app/store"
)

// Events. Each is sent as it is to the browser.
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
		ShotID string        `json:"shotId"`
		TaskID string        `json:"taskId"`
		Track  string        `json:"track"`
		Found  picture.Found `json:"found"`
	}
	// EdgeFollowed: an outline that follows an edge has reached a frame.
	EdgeFollowed struct {
		ShotID string            `json:"shotId"`
		TaskID string            `json:"taskId"`
		Found  picture.EdgeFound `json:"found"`
	}
)

// A Hub passes events on. The zero Hub is ready; it is safe for concurrent use.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan any]string // the window that listens
}

// IsOpen reports whether somebody listens in a window.
func (h *Hub) IsOpen(window string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, w := range h.listeners {
		if w == window {
			return true
		}
	}
	return false
}

// Send passes an event to every listener. A listener that has fallen far behind is
// let go; its browser connects again and asks for the state anew.
func (h *Hub) Send(event any) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- event:
		default:
			delete(h.listeners, c)
			close(c)
		}
	}
}

// Listen returns a channel of events for a browser's window, and what to call when done with
// it.
func (h *Hub) Listen(window string) (<-chan any, func()) {
	c := make(chan any, 1024)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan any]string{}
	}
	h.listeners[c] = window
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, there := h.listeners[c]; there {
			delete(h.listeners, c)
			close(c)
		}
	}
}
