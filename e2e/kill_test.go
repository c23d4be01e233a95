package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
)

// TestNoAcknowledgedStrokeIsLost kills the program in the middle of painting,
// several times, and looks for every stroke that it had said was saved.
func TestNoAcknowledgedStrokeIsLost(t *testing.T) {
	s := serve(t)
	shot := s.bringIn()
	s.prepare(shot, demotest.Truth(t), 1)
	var mu sync.Mutex
	saved := map[string]bool{"s0": true}
	for round := range 4 {
		ctx, stop := context.WithTimeout(context.Background(), time.Minute)
		socket, _, err := websocket.Dial(ctx, strings.Replace(s.address, "http", "ws", 1)+"/api/shots/"+shot+"/brush", nil)
		require.NoError(t, err)
		socket.SetReadLimit(1 << 24)
		var wait sync.WaitGroup
		wait.Go(func() { // the hand: one stroke after the other, until the connection breaks
			for k := 0; ; k++ {
				begin := fmt.Sprintf(`{"type":"begin","removal":"r","source":{"id":"plate","name":"Clean plate","kind":"plate","frame":1037},"stroke":{"id":"k%d-%d","mode":"clone","home":1037,"size":20,"hardness":0.5,"opacity":1,"from":{"offset":[30,0]}},"points":[[%d,300]]}`, round, k, 200+k%300)
				for _, m := range []string{begin, `{"type":"move","points":[[300,310],[320,330]]}`, `{"type":"end"}`} {
					if socket.Write(ctx, websocket.MessageText, []byte(m)) != nil {
						return
					}
				}
			}
		})
		wait.Go(func() { // the eye
			for {
				_, data, err := socket.Read(ctx)
				if err != nil {
					return
				}
				var m struct{ Type, Stroke string }
				if json.Unmarshal(data, &m) == nil && m.Type == "saved" {
					mu.Lock()
					saved[m.Stroke] = true
					mu.Unlock()
				}
			}
		})
		time.Sleep(time.Duration(400+230*round) * time.Millisecond)
		s.stop(syscall.SIGKILL)
		wait.Wait()
		stop()
		s.start()
		var rev struct {
			Document struct {
				Removals []struct {
					Fill struct {
						Sources []struct{ Strokes []struct{ ID string } }
					}
				}
			}
		}
		s.get("/api/shots/"+shot+"/treatment", &rev)
		there := map[string]bool{}
		for _, x := range rev.Document.Removals[0].Fill.Sources[0].Strokes {
			there[x.ID] = true
		}
		for id := range saved {
			assert.True(t, there[id], "round %d: stroke %s was acknowledged and is gone", round, id)
		}
		require.Greater(t, len(saved), 3*(round+1), "strokes were acknowledged before the kill")
		// Every stroke that is there can be looked at.
		s.get("/api/shots/"+shot+"/paths/r", new(map[string]any))
	}
	t.Logf("%d strokes were acknowledged over 4 kills; none is lost", len(saved))
}
