package api

import (
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"jardin/app/datafolder"
)

// What every request passes before anything looks at it: whether this server is meant, by
// whom it is sent, how much it brings.

// mostBytes is the most that the body of a request may hold; of uploads each piece.
const mostBytes = 256 << 20

// bodies is how much memory the bodies of all requests that are being read may take, as a
// share of the server's.
const bodies = 4

// idle is how long a client may take to send the next bytes of a body.
const idle = 30 * time.Second

// contentPolicy lets the interface load what it ships and nothing else, and nobody frame it.
const contentPolicy = "default-src 'self'; img-src 'self' blob: data:; style-src 'self'; script-src 'self'; " +
	"connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// gate returns what every request passes.
func (s *Server) gate() []gin.HandlerFunc {
	room := int64(max(s.Memory/bodies, mostBytes))
	sum := semaphore.NewWeighted(room)
	return []gin.HandlerFunc{
		headers, s.meant, fromHere, namesThings, s.locked, acting,
		func(c *gin.Context) { s.bounded(c, sum, room) },
	}
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", contentPolicy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
}

// meant refuses requests for another host: a page elsewhere whose name was made to lead here
// would otherwise count as ours.
func (s *Server) meant(c *gin.Context) {
	host := c.Request.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.ToLower(strings.Trim(host, "[]"))
	if host == "localhost" || slices.Contains(s.Access.Hosts, host) {
		return
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
		return
	}
	problem(
		c,
		http.StatusMisdirectedRequest,
		"this server does not go by that name; start it with --host "+bounded(host, 100)+" if it should",
	)
}

// changes reports whether a request changes something, or opens a channel on which that is
// done.
func changes(request *http.Request) bool {
	return request.Method != http.MethodGet && request.Method != http.MethodHead ||
		strings.EqualFold(request.Header.Get("Upgrade"), "websocket")
}

// fromHere refuses what other sites' pages send: each request that changes something comes
// from our own page, which says so, or from no page at all; and its body is of a kind that a
// form cannot send.
func fromHere(c *gin.Context) {
	request := c.Request
	if !changes(request) {
		return
	}
	if origin := request.Header.Get("Origin"); origin != "" {
		u, err := url.Parse(origin)
		if err != nil || u.Host != request.Host || (u.Scheme != "http" && u.Scheme != "https") {
			problem(c, http.StatusForbidden, "this was sent by another site's page")
			return
		}
	}
	if site := request.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		problem(c, http.StatusForbidden, "this was sent by another site's page")
		return
	}
	kind, _, err := mime.ParseMediaType(request.Header.Get("Content-Type"))
	switch {
	case request.Header.Get("Content-Type") == "" && request.ContentLength == 0:
	case request.Header.Get("Content-Type") == "" && strings.EqualFold(request.Header.Get("Upgrade"), "websocket"):
	case err == nil && (kind == "application/json" || kind == "application/json-patch+json" ||
		kind == "application/octet-stream"):
	default:
		problem(
			c,
			http.StatusUnsupportedMediaType,
			"send the body as application/json, or a file as application/octet-stream",
		)
	}
}

// namesThings refuses addresses in which something stands for a name that no thing has.
func namesThings(c *gin.Context) {
	for _, p := range c.Params {
		if !datafolder.ValidID(p.Value) {
			problem(
				c,
				http.StatusUnprocessableEntity,
				"the address names something that cannot be: a name has letters, digits, dashes and underscores, 64 "+
					"at most",
			)
			return
		}
	}
	for key, values := range c.Request.URL.Query() {
		for _, v := range append(values, key) {
			if strings.ContainsRune(v, 0) || strings.ToValidUTF8(v, "") != v {
				problem(c, http.StatusUnprocessableEntity, "the address holds what is no text")
				return
			}
		}
	}
}

// bounded gives a request room for its body, and ends it when the body does not come.
func (s *Server) bounded(c *gin.Context, sum *semaphore.Weighted, room int64) {
	request := c.Request
	if !changes(request) || request.Body == nil || request.ContentLength == 0 {
		return
	}
	if request.ContentLength > mostBytes {
		problem(c, http.StatusRequestEntityTooLarge, "the body may hold 256 MB at most; footage is sent in pieces")
		return
	}
	control := http.NewResponseController(c.Writer)
	request.Body = &awaited{http.MaxBytesReader(c.Writer, request.Body, mostBytes), control}
	if request.Method != http.MethodPut { // pieces of footage go to disk as they come
		want := request.ContentLength
		if want < 0 {
			want = mostBytes // it does not say
		}
		want = min(want, room)
		if err := sum.Acquire(request.Context(), want); err != nil {
			c.Abort()
			return
		}
		defer sum.Release(want)
	}
	c.Next()
	_ = control.SetReadDeadline(time.Time{})
}

// awaited is a body whose next bytes must come within a time.
type awaited struct {
	io.ReadCloser
	control *http.ResponseController
}

func (a *awaited) Read(p []byte) (int, error) {
	_ = a.control.SetReadDeadline(time.Now().Add(idle))
	return a.ReadCloser.Read(p)
}
