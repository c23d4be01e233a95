package api

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"jardin/app/picture"
	"jardin/app/store"
)

// Access says who may use a server.
type Access struct {
	Key    string   // empty: whoever reaches it, which is then only this machine
	Hosts  []string // names by which it may be asked for, besides those of loopback
	Secure bool     // it is served by TLS: cookies are for that alone

	mu    sync.Mutex
	tries []time.Time // with a wrong key
}

const cookieName = "jardin_access"

// triesAMinute is how many wrong keys are looked at in a minute, from all together. A key has
// 128 bits.
const triesAMinute = 20

// cookie is what a browser keeps in place of the key.
func (a *Access) cookie() string {
	m := hmac.New(sha256.New, []byte(a.Key))
	m.Write([]byte("cookie"))
	return hex.EncodeToString(m.Sum(nil))
}

func same(a, b string) bool {
	x, y := sha256.Sum256([]byte(a)), sha256.Sum256([]byte(b))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1
}

// admits reports whether a request comes with the key, or with the cookie for it.
func (a *Access) admits(request *http.Request) bool {
	if a.Key == "" {
		return true
	}
	if bearer, ok := strings.CutPrefix(request.Header.Get("Authorization"), "Bearer "); ok {
		return a.try(strings.TrimSpace(bearer))
	}
	c, err := request.Cookie(cookieName)
	return err == nil && same(c.Value, a.cookie())
}

// try reports whether a key is the key. After too many wrong ones none is, for a while.
func (a *Access) try(key string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for len(a.tries) > 0 && time.Since(a.tries[0]) > time.Minute {
		a.tries = a.tries[1:]
	}
	if len(a.tries) >= triesAMinute {
		return false
	}
	if same(key, a.Key) {
		return true
	}
	a.tries = append(a.tries, time.Now())
	return false
}

// locked refuses requests to the API that come without the key. The interface itself may be
// fetched, so that it can ask for the key.
func (s *Server) locked(c *gin.Context) {
	path := c.Request.URL.Path
	if !strings.HasPrefix(path, "/api/") || path == "/api/session" || s.Access.admits(c.Request) {
		return
	}
	c.Header("WWW-Authenticate", "Bearer")
	problem(
		c,
		http.StatusUnauthorized,
		"this server is used with a key; open its page in a browser and enter it, or send it as a bearer token",
	)
}

// acting puts who acts into the request's context: for now, the name and the window that the
// browser tells.
func acting(c *gin.Context) {
	text := func(header string, most int) string {
		v, err := url.QueryUnescape(c.GetHeader(header))
		if err != nil {
			return ""
		}
		v = strings.ToValidUTF8(strings.Map(func(char rune) rune {
			if char < ' ' {
				return ' '
			}
			return char
		}, v), "")
		if len(v) > most {
			v = strings.ToValidUTF8(v[:most], "")
		}
		return strings.TrimSpace(v)
	}
	actor := store.Actor{
		Name:    text("Jardin-Author", 80),
		Window:  text("Jardin-Window", 64),
		Browser: text("Jardin-Browser", 64),
	}
	if actor.Window == "" { // a WebSocket and an event stream cannot send headers
		actor = store.Actor{
			Name:    bounded(c.Query("author"), 80),
			Window:  bounded(c.Query("window"), 64),
			Browser: bounded(c.Query("browser"), 64),
		}
	}
	c.Request = c.Request.WithContext(store.WithActor(c.Request.Context(), actor))
}

func bounded(v string, most int) string {
	v = strings.ToValidUTF8(v, "")
	if len(v) > most {
		v = strings.ToValidUTF8(v[:most], "")
	}
	return v
}

// Session is what a browser is told before anything else.
type Session struct {
	Open        bool   `json:"open" doc:"What is asked for will be answered; false where the key is wanted first"`
	Computation string `json:"computation" doc:"Names the program: pictures asked for with it as v may be kept"`
	Version     string `json:"version"`
}

// session serves whether the key is wanted, and takes it.
func (s *Server) session(api huma.API, router *gin.Engine) {
	router.GET("/api/session", func(c *gin.Context) {
		c.JSON(http.StatusOK, Session{s.Access.admits(c.Request), picture.Computation(), picture.Version()})
	})
	huma.Register(api, huma.Operation{
		OperationID: "enter", Method: http.MethodPost, Path: "/api/session", DefaultStatus: http.StatusOK,
		MaxBodyBytes: 4096,
		Summary:      "Enter the server's key: the browser gets a cookie for it",
	}, func(_ context.Context, in *struct {
		Body struct {
			Key string `json:"key" maxLength:"200"`
		}
	}) (*struct {
		Cookie http.Cookie `header:"Set-Cookie"`
		Body   Session
	}, error) {
		if s.Access.Key != "" && !s.Access.try(strings.TrimSpace(in.Body.Key)) {
			return nil, huma.NewError(
				http.StatusForbidden,
				"this is not the key; it stands in the file that the server was started with. After many tries wait "+
					"for a minute",
			)
		}
		return &struct {
			Cookie http.Cookie `header:"Set-Cookie"`
			Body   Session
		}{
			http.Cookie{
				Name:     cookieName,
				Value:    s.Access.cookie(),
				Path:     "/",
				MaxAge:   90 * 24 * 3600,
				HttpOnly: true,
				SameSite: http.SameSiteStrictMode,
				Secure:   s.Access.Secure,
			},
			Session{true, picture.Computation(), picture.Version()},
		}, nil
	})
}
