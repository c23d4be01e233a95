package attack

import (
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/coder/websocket"

	"jardin/core/treatment"
	"jardin/core/warp"
)

// hostileNames puts names that lead elsewhere into every place of every address.
func hostileNames(g *target) (string, error) {
	_, answer := g.ask("GET", "/api/openapi.json", "")
	var description struct {
		Paths map[string]map[string]any
	}
	if err := json.Unmarshal([]byte(answer), &description); err != nil {
		return "", err
	}
	addresses := map[string][]string{}
	for path, methods := range description.Paths {
		for method := range methods {
			addresses[path] = append(addresses[path], strings.ToUpper(method))
		}
	}
	// Those that are not described.
	for _, path := range []string{"/api/shots/{id}/frames/{frame}/screen", "/api/shots/{id}/frames/{frame}/exact",
		"/api/shots/{id}/frames/{frame}/overlay",
		"/api/renders/{task}/movie", "/api/renders/{task}/frames", "/api/shots/{id}/tracks/{track}/file",
		"/api/shots/{id}/removals/{removal}/picture",
		"/api/shots/{id}/removals/{removal}/outlines.svg", "/api/shots/{id}/removals/{removal}/fronts/{front}/matte",
		"/api/shots/{id}/brush"} {
		addresses[path] = []string{"GET", "POST"}
	}
	addresses["/api/uploads/{id}/file"] = []string{"PUT"}
	n := 0
	for path, methods := range addresses {
		if !strings.Contains(path, "{") {
			continue
		}
		for _, method := range methods {
			for _, name := range []string{"..", ".", "%2e%2e", "..%2f..", "%2e%2e%2f%2e%2e%2fetc", "a%2f..%2f..", "%00",
				"a%00b", "%ff", "..%5c..", ".hidden", "-rf", "~", "a b", strings.Repeat("a", 300)} {
				at := path
				for strings.Contains(at, "{") {
					a, b := strings.Index(at, "{"), strings.Index(at, "}")
					at = at[:a] + name + at[b+1:]
				}
				body := ""
				if method != "GET" && method != "DELETE" {
					body = "{}"
				}
				status, answer := g.ask(method, at, body)
				n++
				// What is tidied away leads to the interface's page, or to nothing.
				if status >= 500 || (method == "DELETE" && status < 400) {
					return "", fmt.Errorf("%s %s: %d %.100s", method, at, status, answer)
				}
				if status > 0 && status < 300 && strings.Contains(answer, `"id"`) && method != "GET" {
					return "", fmt.Errorf("%s %s did something: %.100s", method, at, answer)
				}
			}
		}
	}
	return fmt.Sprintf("%d addresses, nothing done", n), nil
}

// foreign sends what other sites' pages can send.
func foreign(g *target) (string, error) {
	n := 0
	own := strings.TrimPrefix(g.url, "http://")
	patch := edit(1, fmt.Sprintf(removal, 7))
	for _, headers := range [][]string{
		{"Origin: https://elsewhere.example"}, {"Origin: null"}, {"Origin: http://" + own + ".elsewhere.example"},
		{"Origin: http://127.0.0.1:1"},
		{"Sec-Fetch-Site: cross-site"}, {"Sec-Fetch-Site: same-site"}, {"Host: elsewhere.example"},
		{"Host: elsewhere.example", "Origin: http://elsewhere.example"},
		{"Content-Type: text/plain"}, {"Content-Type: application/x-www-form-urlencoded"},
		{"Content-Type: multipart/form-data; boundary=x"},
	} {
		for _, at := range [][3]string{{"PATCH", "/treatment", patch}, {"POST", "/undo", ""}, {"POST", "/render", "{}"},
			{"DELETE", "", ""}} {
			body := at[2]
			if body == "" && strings.HasPrefix(headers[0], "Content-Type") {
				body = "x=1"
			}
			status, answer := g.ask(at[0], "/api/shots/"+g.shot+at[1], body, headers...)
			n++
			if err := refused(n, status, answer); err != nil {
				return "", fmt.Errorf("%s %s with %v: %w", at[0], at[1], headers, err)
			}
		}
		if strings.HasPrefix(headers[0], "Content-Type") {
			continue
		}
		header := http.Header{}
		host := ""
		for _, h := range headers {
			name, value, _ := strings.Cut(h, ": ")
			if name == "Host" {
				host = value
			} else {
				header.Set(name, value)
			}
		}
		c, _, err := websocket.Dial(
			context.Background(),
			"ws://"+own+"/api/shots/"+g.shot+"/brush",
			&websocket.DialOptions{HTTPHeader: header, Host: host},
		)
		n++
		if err == nil {
			c.CloseNow()
			return "", fmt.Errorf("the brush channel opens for %v", headers)
		}
	}
	response, err := client.Get(g.url)
	if err != nil {
		return "", err
	}
	response.Body.Close()
	for name, part := range map[string]string{"Content-Security-Policy": "frame-ancestors 'none'",
		"X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer"} {
		if v := response.Header.Get(name); !strings.Contains(v, part) || strings.Contains(v, "unsafe") {
			return "", fmt.Errorf("%s is %q", name, v)
		}
	}
	return fmt.Sprintf("%d refused", n), nil
}

// bomb is a PNG of few bytes and many pixels.
func bomb(side int) []byte {
	var out bytes.Buffer
	out.WriteString("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, data []byte) {
		_ = binary.Write(&out, binary.BigEndian, uint32(len(data)))
		body := append([]byte(kind), data...)
		out.Write(body)
		_ = binary.Write(&out, binary.BigEndian, crc32.ChecksumIEEE(body))
	}
	head := make([]byte, 13)
	binary.BigEndian.PutUint32(head, uint32(side))
	binary.BigEndian.PutUint32(head[4:], uint32(side))
	head[8] = 1 // one bit a pixel, grey
	chunk("IHDR", head)
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	line := make([]byte, 1+(side+7)/8)
	for range side {
		_, _ = z.Write(line)
	}
	z.Close()
	chunk("IDAT", packed.Bytes())
	chunk("IEND", nil)
	return out.Bytes()
}

// bombs supplies pictures that would take all memory, as pieces, as mattes, as footage.
func bombs(g *target) (string, error) {
	sides := []int{16384}
	if long {
		sides = []int{6000, 16384, 32768}
	}
	n := 0
	for _, side := range sides {
		data := string(bomb(side))
		for _, at := range []string{"/removals/r0/picture?frame=6&kind=piece&name=p.png",
			"/removals/r0/picture?frame=6&name=p.png", "/removals/r0/fronts/f/matte?name=m.0006.png",
			"/removals/r0/mattes/m?name=m.0006.png"} {
			status, answer := g.ask("POST", "/api/shots/"+g.shot+at, data, "Content-Type: application/octet-stream")
			n++
			if err := refused(n, status, answer); err != nil {
				return "", err
			}
		}
		dir := filepath.Join(g.media, fmt.Sprint("bomb", side))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return "", err
		}
		for k := 1; k <= 3; k++ {
			if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("b.%03d.png", k)), []byte(data), 0o644); err != nil {
				return "", err
			}
		}
		status, answer := g.ask(
			"POST",
			"/api/shots",
			fmt.Sprintf(
				`{"show":"s","name":"bomb%d","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
				side,
				dir,
			),
		)
		n++
		if err := refused(n, status, answer); err != nil {
			return "", err
		}
	}
	// The largest that is taken, several at once.
	var wait sync.WaitGroup
	data := string(bomb(2800))
	for range 4 {
		wait.Go(func() {
			_, _ = g.ask(
				"POST",
				"/api/shots/"+g.shot+"/removals/none/picture?frame=6&kind=piece&name=p.png",
				data,
				"Content-Type: application/octet-stream",
			)
		})
	}
	wait.Wait()
	return fmt.Sprintf("%d refused by their headers", n), nil
}

// patches sends JSON Patches that double what is there again and again, at once.
func patches(g *target) (string, error) {
	var ops []string
	ops = append(ops, `{"op":"add","path":"/removals/0/notes","value":"`+strings.Repeat("x", 1000)+`"}`)
	for k := range 24 {
		ops = append(ops, `{"op":"copy","from":"/removals","path":"/removals/`+[]string{"-", "0/x"}[k%2]+`"}`)
	}
	many := strings.Repeat(`{"op":"test","path":"/format","value":"jardin/treatment"},`, 60_000)
	deep := strings.Repeat("[", 100_000) + strings.Repeat("]", 100_000)
	bad := map[string]string{
		"copies": strings.Join(
			ops,
			",",
		), "many": many[:len(many)-1], "deep": `{"op":"add","path":"/x","value":` + deep + `}`,
		"long path": `{"op":"add","path":"/` + strings.Repeat(
			"a/",
			100_000,
		) + `","value":1}`, "no operation": `{"op":"burn","path":"/"}`,
		"huge index": `{"op":"add","path":"/removals/99999999999999999999","value":{}}`, "negative": `{"op":"remove","path":"/removals/-1"}`,
	}
	n := atomic.Int32{}
	var wait sync.WaitGroup
	failed := make(chan error, 100)
	for name, patch := range bad {
		for _, trial := range []bool{false, true} {
			wait.Go(func() {
				var status int
				var answer string
				if trial {
					status, answer = g.ask(
						"POST",
						"/api/shots/"+g.shot+"/frames/6/overlay?revision=1&view=result",
						"["+patch+"]",
					)
				} else {
					status, answer = g.ask("PATCH", "/api/shots/"+g.shot+"/treatment", edit(1, patch))
				}
				n.Add(1)
				if status < 400 || status >= 500 {
					failed <- fmt.Errorf("%s: %d %.200s", name, status, answer)
				}
			})
		}
	}
	// Meanwhile others work.
	began := time.Now()
	status, answer := g.ask("GET", "/api/shots/"+g.shot+"/treatment", "")
	waited := time.Since(began)
	wait.Wait()
	select {
	case err := <-failed:
		return "", err
	default:
	}
	if status != 200 || waited > 5*time.Second {
		return "", fmt.Errorf("another request was answered after %v: %d %.100s", waited, status, answer)
	}
	return fmt.Sprintf("%d refused; another request meanwhile took %d ms", n.Load(), waited.Milliseconds()), nil
}

// wildMesh is a mesh over a small box whose nodes go anywhere, as it stands in an address.
func wildMesh(cells int, place func(k int) float64) string {
	m := warp.Mesh{Box: [4]float64{20, 20, 60, 50}, Cells: cells}
	for k := range 2 * (cells + 1) * (cells + 1) {
		m.Places = append(m.Places, place(k))
	}
	blob, _ := json.Marshal(m)
	return url.QueryEscape(string(blob))
}

// numbers asks with numbers that fit nowhere and texts that are none.
func numbers(g *target) (string, error) {
	n := 0
	s := "/api/shots/" + g.shot
	overlay := s + "/frames/1/overlay?revision=1&view=result&removal=r0&at="
	for _, at := range []string{
		s + "/treatment?revision=99999999999", s + "/treatment?revision=-7", s +
			"/keys?revision=4000000000&view=result", s + "/frames/99999999999999999999/screen",
		s + "/frames/1/overlay?revision=99999999999999&view=result", s + "/frames/1/overlay?revision=1&view=nothing",
		s + "/history?before=99999999999", s + "/history?limit=0",
		s + "/poses?first=0&last=999999999999", "/api/tasks?limit=100000", "/api/tasks?before=%00",
		"/api/tasks?shot=%ff%fe", "/api/material?path=%00", "/api/folders?path=%ff",
		s + "/treatment?revision=1e9", s + "/frames/1/overlay?revision=1&view=result&at=1,2,3", s +
			"/frames/1/overlay?revision=1&view=result&at=" + strings.Repeat("1e308,", 8) + "1e308",
		overlay + wildMesh(1, func(int) float64 { return 1e308 }),
		overlay + wildMesh(24, func(k int) float64 { return float64(k*7919%1000) * 1e300 }),
		overlay + wildMesh(24, func(k int) float64 { return float64(k * 7919 % 61) }), // folded over itself
		overlay + wildMesh(1, func(k int) float64 { return []float64{0, 0, 1e-9, 0, 0, 1e-9, 1e9, 1e9}[k] }),
		overlay + url.QueryEscape(`{"box":[0,0,1,1],"cells":1000000000,"places":[]}`), overlay + "%ff",
		s + "/seen/none/x?revision=1&frame=1", s + "/seen/r0/n?revision=1&frame=1",
		s + "/seen/none/x?revision=1&frame=99999999", s + "/seen/r0/n?revision=1&frame=-1",
		s + "/measures/none?revision=1&first=1&last=2",
	} {
		status, answer := g.ask("GET", at, "")
		n++
		if status >= 500 || (status < 400 && !strings.Contains(at, "at=")) {
			return "", fmt.Errorf("%s: %d %.200s", at, status, answer)
		}
	}
	for _, body := range []string{
		edit(99999999999, `{"op":"remove","path":"/removals/0"}`), `{"revision":1,"label":"\u0000","patch":[{"op":"add","path":"/removals/0/notes","value":"\u0000"}]}`, `{"revision":1,"label":"x","patch":null}`, `{`, `[]`, `null`, `"x"`, strings.Repeat("[", 1_000_000),
		edit(1, `{"op":"replace","path":"/removals/0/settle/opacity","value":1e400}`), edit(1, `{"op":"replace","path":"/removals/0/range/last","value":1e18}`),
	} {
		status, answer := g.ask("PATCH", s+"/treatment", body)
		n++
		if err := refused(n, status, answer); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%d refused", n), nil
}

// heavyDocuments are valid but for their numbers, or as heavy as the rules allow.
func heavyDocuments(g *target) (string, error) {
	id := g.bringIn(fmt.Sprint("heavy", rand.Uint32()), filepath.Join(g.media, "w"))
	at := "/api/shots/" + id + "/treatment"
	knots := func(n int) string {
		var all []string
		for k := range n {
			all = append(all, fmt.Sprintf(`{"at":[%d,%d]}`, (k*37)%90, (k*61)%60))
		}
		return "[" + strings.Join(all, ",") + "]"
	}
	outline := func(points, more string) string {
		return fmt.Sprintf(
			`{"op":"add","path":"/removals/-","value":{"id":"h","name":"h","range":{"first":1,"last":12},"reference":6,"mark":{"outlines":[
			{"id":"o","name":"o","kind":"outline","home":6,"points":%s%s}]},"follow":{"track":"still"},"fill":{"sources":[]},"settle":{"opacity":1}}}`,
			points,
			more,
		)
	}
	n := 0
	for _, patch := range []string{outline(knots(100_000), ""), outline(knots(4), `,"feather":1e9`), outline(knots(4), `,"grow":-1e9`), outline(`[{"at":[1e300,0]},{"at":[0,1]},{"at":[1,1]}]`, "")} {
		status, answer := g.ask("PATCH", at, edit(0, patch))
		n++
		if err := refused(n, status, answer); err != nil {
			return "", err
		}
	}
	// As heavy as is allowed: it is taken, and a frame of it ends.
	beside := `{"id":"n","name":"n","kind":"neighbour","neighbour":{"frame":6,"offsets":[{"frame":6,"ease":"eased","offset":[-20,0]}]}}`
	var around []string
	for k := range treatment.MostComputed {
		around = append(around, fmt.Sprintf(
			`{"id":"g%d","name":"g","kind":"gathered","gathered":{"live":true,"over":200,"scale":%d}}`, k, k,
		))
	}
	var slowest time.Duration
	for revision, sources := range []string{beside, strings.Join(around, ",")} {
		heavy := strings.Replace(outline(knots(1500), `,"feather":400,"grow":300`), `"sources":[]`, `"sources":[`+sources+`]`, 1)
		if revision > 0 {
			heavy = `{"op":"remove","path":"/removals/0"},` + heavy
		}
		status, answer := g.ask("PATCH", at, edit(revision, heavy))
		if status != 200 {
			return "", fmt.Errorf("a heavy document was answered with %d: %.200s", status, answer)
		}
		began := time.Now()
		frame := fmt.Sprintf("/api/shots/%s/frames/6/overlay?revision=%d&view=result", id, revision+1)
		if status, answer = g.ask("GET", frame, ""); status != 200 {
			return "", fmt.Errorf("its frame was answered with %d: %.200s", status, answer)
		}
		took := time.Since(began)
		if took > 30*time.Second {
			return "", fmt.Errorf("its frame took %v", took)
		}
		slowest = max(slowest, took)
	}
	return fmt.Sprintf("%d refused; the heaviest frame took %d ms", n, slowest.Milliseconds()), nil
}

// endless is a body that goes on until the other end has enough.
type endless struct{ n int64 }

func (e *endless) Read(p []byte) (int, error) {
	if e.n <= 0 {
		return 0, io.EOF
	}
	for i := range p {
		p[i] = ' '
	}
	e.n -= int64(len(p))
	return len(p), nil
}

// bodies are large, several at once, and slow.
func bodies(g *target) (string, error) {
	var wait sync.WaitGroup
	failed := make(chan error, 100)
	count := 6
	if long {
		count = 24
	}
	for k := range count {
		wait.Go(func() {
			at := []string{"/treatment", "/tracks/file?home=6&name=x.csv", "/removals/r0/outlines.svg?frame=6",
				"/removals/r0/picture?frame=6"}[k%4]
			method := "POST"
			if k%4 == 0 {
				method = "PATCH"
			}
			length := int64(200 << 20)
			if k%3 == 0 {
				length = -1 // it does not say
			}
			status, answer := g.send(
				method,
				"/api/shots/"+g.shot+at,
				&endless{200 << 20},
				length,
				"Content-Type: application/json",
			)
			if status >= 500 || (status > 0 && status < 400) {
				failed <- fmt.Errorf("%s: %d %.100s", at, status, answer)
			}
		})
	}
	wait.Wait()
	// Headers, and a body, that never come to their end.
	host := strings.TrimPrefix(g.url, "http://")
	var open []net.Conn
	for k := range 60 {
		c, err := net.Dial("tcp", host)
		if err != nil {
			return "", err
		}
		defer c.Close()
		open = append(open, c)
		if k%2 == 0 {
			fmt.Fprintf(c, "GET /api/shots HTTP/1.1\r\nHost: %s\r\nX: ", host)
		} else {
			fmt.Fprintf(c, "PATCH /api/shots/%s/treatment HTTP/1.1\r\nHost: %s\r\nContent-Type: "+
				"application/json\r\nContent-Length: 1000\r\n\r\n{", g.shot, host)
		}
	}
	status, answer := g.ask("GET", "/api/shots", "")
	if status != 200 {
		return "", fmt.Errorf("beside slow ones a request was answered with %d: %.100s", status, answer)
	}
	_ = open[0].SetReadDeadline(time.Now().Add(25 * time.Second))
	if _, err := io.Copy(io.Discard, open[0]); err != nil && strings.Contains(err.Error(), "timeout") {
		return "", fmt.Errorf("headers may take for ever")
	}
	select {
	case err := <-failed:
		return "", err
	default:
	}
	return fmt.Sprintf("%d large ones refused, 60 slow ones let wait", count), nil
}

// outside tries to have files read that lie elsewhere.
func outside(g *target) (string, error) {
	secret := filepath.Join(filepath.Dir(g.media), "secret")
	if err := os.MkdirAll(secret, 0o755); err != nil {
		return "", err
	}
	copyOf := func(from, to string) error {
		data, err := os.ReadFile(from)
		if err != nil {
			return err
		}
		return os.WriteFile(to, data, 0o644)
	}
	for n := 1; n <= 3; n++ {
		if err := copyOf(filepath.Join(g.media, "w", fmt.Sprintf("w.%03d.png", n)), filepath.Join(secret,
			fmt.Sprintf("s.%03d.png", n))); err != nil {
			return "", err
		}
	}
	if out, err := exec.Command("ffmpeg", "-v", "error", "-y", "-f", "lavfi", "-i", "testsrc=s=64x48:d=0.5",
		filepath.Join(secret, "s.mp4")).CombinedOutput(); err != nil {
		return "", fmt.Errorf("%s", out)
	}
	at := func(name string) string { return filepath.Join(g.media, name) }
	_ = os.MkdirAll(at("links"), 0o755)
	for n := 1; n <= 3; n++ {
		_ = os.Symlink(
			filepath.Join(secret, fmt.Sprintf("s.%03d.png", n)),
			filepath.Join(at("links"), fmt.Sprintf("s.%03d.png", n)),
		)
	}
	_ = os.Symlink(secret, at("folder"))
	_ = os.Symlink(filepath.Join(secret, "s.mp4"), at("link.mp4"))
	movie := filepath.Join(secret, "s.mp4")
	for name, text := range map[string]string{
		"list.mp4":   "ffconcat version 1.0\nfile '" + movie + "'\n",
		"list.mkv":   "#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\n" + movie + "\n#EXT-X-ENDLIST\n",
		"remote.mov": "#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\nhttp://127.0.0.1:1/x.ts\n#EXT-X-ENDLIST\n",
		"sdp.avi": "v=0\no=- 0 0 IN IP4 127.0.0.1\ns=x\nc=IN IP4 127.0.0.1\nt=0 0\nm=video 5004 RTP/AVP " +
			"96\na=rtpmap:96 H264/90000\n",
	} {
		if err := os.WriteFile(at(name), []byte(text), 0o644); err != nil {
			return "", err
		}
	}
	n := 0
	for _, path := range []string{at("links"), at("folder"), at("link.mp4"), at("list.mp4"), at("list.mkv"),
		at("remote.mov"), at("sdp.avi"), secret, at("../secret"), g.media + "/./w/../../secret", "/etc", g.data,
		filepath.Join(g.data, "postgres"),
		"concat:" + movie, "http://127.0.0.1/x.mp4", "file:" + movie, "|cat " + movie, "-i " + movie} {
		for _, request := range [][2]string{{"GET", "/api/material?path=" + url.QueryEscape(path)}, {"GET",
			"/api/folders?path=" + url.QueryEscape(path)}} {
			status, answer := g.ask(request[0], request[1], "")
			n++
			if strings.Contains(request[1], "/folders") && path == at("links") {
				continue // it may be listed; what it links to is not read
			}
			if err := refused(n, status, answer); err != nil {
				return "", fmt.Errorf("%s: %w", path, err)
			}
		}
		status, answer := g.ask(
			"POST",
			"/api/shots",
			fmt.Sprintf(
				`{"show":"s","name":"out%d","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
				n,
				path,
			),
		)
		n++
		if err := refused(n, status, answer); err != nil {
			return "", fmt.Errorf("%s: %w", path, err)
		}
	}
	return fmt.Sprintf("%d refused", n), nil
}

// leavers ask for what takes long, and leave at once.
func leavers(g *target) (string, error) {
	count := 200
	if long {
		count = 2000
	}
	var wait sync.WaitGroup
	gate := make(chan struct{}, 20)
	for k := range count {
		wait.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			ctx, cancel := context.WithTimeout(context.Background(), time.Duration(rand.IntN(8))*time.Millisecond)
			defer cancel()
			request, err := http.NewRequestWithContext(
				ctx,
				"GET",
				fmt.Sprintf(
					"%s/api/shots/%s/frames/%d/overlay?revision=1&view=%s&removal=r0",
					g.url,
					g.shot,
					1+k%12,
					[]string{"result", "patch", "alone", "matte"}[k%4],
				),
				nil,
			)
			if err != nil {
				return
			}
			if response, err := client.Do(request); err == nil {
				_, _ = io.Copy(io.Discard, response.Body)
				response.Body.Close()
			}
		})
	}
	wait.Wait()
	began := time.Now()
	if err := g.stands(); err != nil {
		return "", err
	}
	if d := time.Since(began); d > 5*time.Second {
		return "", fmt.Errorf("afterwards three requests took %v", d)
	}
	return fmt.Sprintf("%d came and went", count), nil
}

// brushes sends what is no stroke over the brush channel.
func brushes(g *target) (string, error) {
	host := strings.TrimPrefix(g.url, "http://")
	many := strings.Repeat(`[1,1],`, 60_000)
	stroke := `{"id":"s","mode":"colour","home":6,"size":10,"hardness":1,"opacity":1,"colour":[1,0,0]}`
	begin := func(source, stroke, points string) string {
		return `{"type":"begin","removal":"r0","source":` + source + `,"stroke":` + stroke + `,"points":` + points + `}`
	}
	plate := `{"id":"p","name":"p","kind":"plate","plate":{"frame":6}}`
	n := 0
	for _, messages := range [][]string{
		{"x"}, {"{}"}, {`{"type":"end"}`}, {`{"type":"move","points":[[1,1]]}`}, {begin(plate, stroke, `[[1e300,1]]`), `{"type":"end"}`}, {begin(plate, stroke, `[[]]`), `{"type":"end"}`},
		{begin(plate, `{"id":"s","mode":"lift","home":6,"size":10,"hardness":1,"opacity":1,"amount":130}`, `[[1,1]]`), `{"type":"end"}`},
		{begin(plate, `{"id":"s","mode":"colour","home":6,"size":1e9,"hardness":1,"opacity":1,"colour":[1,0,0]}`, `[[1,1]]`), `{"type":"end"}`},
		{begin(`{"id":"n","kind":"neighbour"}`, stroke, `[[1,1]]`), `{"type":"end"}`}, {begin(plate, strings.Replace(stroke, `"home":6`, `"home":99999`, 1), `[[1,1]]`), `{"type":"end"}`},
		{strings.Replace(begin(plate, stroke, `[[1,1]]`), `"r0"`, `"../.."`, 1), `{"type":"end"}`}, {begin(plate, stroke, "["+many[:len(many)-1]+"]"), `{"type":"end"}`},
	} {
		c, _, err := websocket.Dial(context.Background(), "ws://"+host+"/api/shots/"+g.shot+"/brush", nil)
		if err != nil {
			return "", err
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		for _, m := range messages {
			_ = c.Write(ctx, websocket.MessageText, []byte(m))
		}
		// Until a refusal, the end of the channel, or nothing for a moment.
		for {
			wait, stop := context.WithTimeout(ctx, 300*time.Millisecond)
			_, data, err := c.Read(wait)
			stop()
			if err != nil {
				break
			}
			if strings.Contains(string(data), `"saved"`) {
				cancel()
				return "", fmt.Errorf("%.100s was saved", messages[0])
			}
		}
		cancel()
		c.CloseNow()
		n++
	}
	return fmt.Sprintf("%d refused", n), nil
}

// crowd is twenty people at work at once.
func crowd(g *target) (string, error) {
	seconds := 8
	if long {
		seconds = 180
	}
	id := g.bringIn(fmt.Sprint("crowd", rand.Uint32()), filepath.Join(g.media, "w"))
	if status, answer := g.ask("PATCH", "/api/shots/"+id+"/treatment", edit(0, fmt.Sprintf(removal,
		0))); status != 200 {
		return "", fmt.Errorf("%d %s", status, answer)
	}
	host := strings.TrimPrefix(g.url, "http://")
	end := time.Now().Add(time.Duration(seconds) * time.Second)
	var mu sync.Mutex
	var took []time.Duration
	var wait sync.WaitGroup
	failed := make(chan error, 100)
	saved := map[string]bool{}
	for who := range 20 {
		wait.Go(func() {
			err := func() error {
				ctx, cancel := context.WithDeadline(context.Background(), end.Add(20*time.Second))
				defer cancel()
				c, _, err := websocket.Dial(
					ctx,
					fmt.Sprintf("ws://%s/api/shots/%s/brush?window=w%d&author=p%d", host, id, who, who),
					nil,
				)
				if err != nil {
					return err
				}
				defer c.CloseNow()
				c.SetReadLimit(64 << 20)
				for k := 0; time.Now().Before(end); k++ {
					name := fmt.Sprintf("s%d-%d", who, k)
					began := time.Now()
					messages := []string{
						fmt.Sprintf(
							`{"type":"begin","removal":"r0","source":{"id":"p%d","name":"p","kind":"plate","plate":{"frame":6}},"stroke":{"id":%q,"mode":"colour","home":6,"size":8,"hardness":1,"opacity":1,"colour":[1,0,0]},"points":[[%d,%d]]}`,
							who%4,
							name,
							20+k%50,
							10+who,
						),
						`{"type":"move","points":[[30,30],[40,31]]}`, `{"type":"end"}`,
					}
					for _, m := range messages {
						if err := c.Write(ctx, websocket.MessageText, []byte(m)); err != nil {
							return err
						}
					}
					for {
						kind, data, err := c.Read(ctx)
						if err != nil {
							return err
						}
						if kind != websocket.MessageText {
							continue
						}
						if !strings.Contains(string(data), `"saved"`) {
							return fmt.Errorf("refused: %.200s", data)
						}
						break
					}
					mu.Lock()
					took = append(took, time.Since(began))
					saved[name] = true
					mu.Unlock()
					time.Sleep(time.Duration(400+rand.IntN(800)) * time.Millisecond) // as a hand does
				}
				return nil
			}()
			if err != nil {
				failed <- err
			}
		})
	}
	wait.Wait()
	select {
	case err := <-failed:
		return "", err
	default:
	}
	_, answer := g.ask("GET", "/api/shots/"+id+"/treatment", "")
	_, whole := g.ask("GET", "/api/shots/"+id+"/paths/r0", "")
	for name := range saved {
		if !strings.Contains(answer, `"`+name+`"`) && !strings.Contains(whole, `"`+name+`"`) {
			return "", fmt.Errorf("stroke %s was acknowledged and is gone", name)
		}
	}
	q := quantile(took, 0.95)
	if q > 500*time.Millisecond {
		return "", fmt.Errorf("95 %% of %d strokes within %v; it should be 500 ms", len(took), q)
	}
	return fmt.Sprintf(
		"20 people, %d s: %d strokes, median %d ms, 95 %% within %d ms",
		seconds,
		len(took),
		quantile(took, 0.5).Milliseconds(),
		q.Milliseconds(),
	), nil
}

func quantile(all []time.Duration, q float64) time.Duration {
	if len(all) == 0 {
		return 0
	}
	sorted := append([]time.Duration{}, all...)
	for i := range sorted {
		for j := i; j > 0 && sorted[j] < sorted[j-1]; j-- {
			sorted[j], sorted[j-1] = sorted[j-1], sorted[j]
		}
	}
	return sorted[min(int(q*float64(len(sorted))), len(sorted)-1)]
}

// latePlates starts the server while the disk with the plates is not there.
func latePlates(g *target) (string, error) {
	plates := filepath.Join(g.data, "plates", g.shot)
	aside := filepath.Join(filepath.Dir(g.data), "aside")
	g.stop(syscall.SIGTERM)
	if err := os.Rename(plates, aside); err != nil {
		return "", err
	}
	g.start()
	_, answer := g.ask("GET", "/api/shots/"+g.shot, "")
	if !strings.Contains(answer, "put back the disk") {
		return "", fmt.Errorf("it is not said that plates are missing: %.200s", answer)
	}
	if err := os.Rename(aside, plates); err != nil {
		return "", err
	}
	began := time.Now()
	g.until("the shot comes back by itself", func() bool {
		_, answer := g.ask("GET", "/api/shots/"+g.shot, "")
		return strings.Contains(answer, `"state":"ready"`)
	})
	return fmt.Sprintf("missed, and back by itself %d ms after the disk", time.Since(began).Milliseconds()), nil
}

// kills the server in the middle of edits and undos, while one of them is on its way: what was
// acknowledged last is in force afterwards, or what was sent after it.
func kills(g *target) (string, error) {
	count := 3
	if long {
		count = 60
	}
	if n, err := strconv.Atoi(os.Getenv("JARDIN_KILLS")); err == nil {
		count = n
	}
	acknowledged, sentToo := 0, 0
	for k := range count {
		id := g.bringIn(fmt.Sprint("kills", rand.Uint32()), filepath.Join(g.media, "w"))
		type names []string
		in := func(answer string) (out names) {
			var got struct {
				Document struct{ Removals []struct{ ID string } }
			}
			if json.Unmarshal([]byte(answer), &got) == nil {
				for _, r := range got.Document.Removals {
					out = append(out, r.ID)
				}
			}
			return out
		}
		var known []names // what was in force after each edit that stands
		known = append(known, nil)
		var next names // what was on its way
		done := make(chan error, 1)
		_, answer := g.ask("GET", "/api/shots/"+id+"/treatment", "")
		go func() {
			for n := 0; ; n++ {
				var rev struct{ Number int }
				_ = json.Unmarshal([]byte(answer), &rev)
				status, undo := 0, rand.IntN(3) == 0 && len(known) > 1
				if undo {
					next = known[len(known)-2]
					status, answer = g.ask("POST", "/api/shots/"+id+"/undo", "")
				} else {
					next = append(slices.Clone(known[len(known)-1]), fmt.Sprintf("r%d", n))
					status, answer = g.ask("PATCH", "/api/shots/"+id+"/treatment", edit(rev.Number, fmt.Sprintf(removal,
						n)))
				}
				switch got := in(answer); {
				case status == 0 || !json.Valid([]byte(answer)):
					done <- nil
					return
				case status != 200 || !slices.Equal(got, next):
					done <- fmt.Errorf("%d: %v instead of %v: %.200s", status, got, next, answer)
					return
				}
				acknowledged++
				if undo {
					known = known[:len(known)-1]
				} else {
					known = append(known, next)
				}
			}
		}()
		time.Sleep(time.Duration(100+rand.IntN(500)) * time.Millisecond)
		g.stop(syscall.SIGKILL)
		if err := <-done; err != nil {
			return "", err
		}
		g.start()
		_, answer = g.ask("GET", "/api/shots/"+id+"/treatment", "")
		switch now := in(answer); {
		case slices.Equal(now, known[len(known)-1]):
		case slices.Equal(now, next):
			sentToo++
		default:
			return "", fmt.Errorf(
				"kill %d: %v in force, acknowledged was %v, on its way %v",
				k,
				now,
				known[len(known)-1],
				next,
			)
		}
	}
	return fmt.Sprintf(
		"%d kills, %d edits and undos acknowledged, none lost; %d arrived without their answer",
		count,
		acknowledged,
		sentToo,
	), nil
}
