package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/store"
)

// The ways in which a request may not do what it wants.
var (
	errNoToken   = errors.New("this service wants a token, as 'Authorization: Bearer …'; 'keenlantern token create' makes one")
	errNoSession = errors.New("the session has ended; sign in again")
	errBadToken  = errors.New("the token is not known here; it may have been revoked")
	errWrongKind = errors.New("the token is of a kind that may not do this")
)

// cookie is what a browser keeps its session in.
const cookie = "keenlantern"

// whoKey is where a request's context has who sent it.
const whoKey = "who"

// owner returns the id of the token that a request was sent with, "" where none is wanted.
func owner(c *gin.Context) string {
	who, _ := c.Value(whoKey).(access.Who)
	return who.Token
}

// who returns who sent a request: by a token, or by a session that was begun with one.
func (s *service) who(c *gin.Context) (access.Who, error) {
	if bearer, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		if who, ok := s.Gate.Check(bearer); ok {
			return who, nil
		}
		return access.Who{}, errBadToken
	}
	kept, err := c.Cookie(cookie)
	if err != nil || kept == "" {
		return access.Who{}, errNoToken
	}
	if who, ok := s.Gate.Session(kept); ok {
		return who, nil
	}
	return access.Who{}, errNoSession
}

// stillMay reports whether the sender of a long request still has the right to it.
func (s *service) stillMay(c *gin.Context) bool {
	if !s.Tokens {
		return true
	}
	who, err := s.who(c)
	return err == nil && who.Kind.May(need(c.Request.Method, c.FullPath()))
}

// open are the routes that want no token. What serves the console and the recorders is open too: they hold
// nothing of a recording.
var open = map[string]bool{
	"/healthz": true, "/readyz": true, "/api/v1/openapi.json": true, "/api/v1/contract.schema.json": true, "/api/v1/session": true, "/go/*file": true, "/maven/*file": true, "/nuget/*file": true, "/composer/packages.json": true, "/recorders/:runtime/:file": true, "": true,
}

// need returns the kind of token that a route needs.
func need(method, route string) access.Kind {
	switch {
	case strings.HasPrefix(route, "/api/v1/tokens"):
		return access.Manage
	case strings.HasPrefix(route, "/api/v1/streams/"), route == "/v1/logs", route == "/api/v1/recordings" && method == http.MethodPost,
		strings.HasSuffix(route, "/recorders/:recorder"):
		return access.Record
	case route == "/api/v1/recordings/:recording/contract": // a question, whichever way the contract comes
		return access.Read
	case method == http.MethodGet || method == http.MethodHead:
		return access.Read
	}
	return access.Manage
}

// authorized refuses requests without a token that is enough, where the service wants one.
func (s *service) authorized(c *gin.Context) {
	if !s.Tokens || open[c.FullPath()] {
		c.Next()
		return
	}
	who, err := s.who(c)
	switch {
	case err != nil:
		s.problem(c, err)
	case !who.Kind.May(need(c.Request.Method, c.FullPath())):
		s.problem(c, errWrongKind)
	default:
		c.Set(whoKey, who)
		c.Next()
	}
}

// accessRoutes adds signing in and out, and what makes and ends tokens.
func (s *service) accessRoutes(g *gin.RouterGroup) {
	g.GET("/session", s.do(s.getSession))
	g.POST("/session", s.do(s.postSession))
	g.DELETE("/session", s.do(s.deleteSession))
	g.GET("/tokens", s.do(s.getTokens))
	g.POST("/tokens", s.do(s.postToken))
	g.DELETE("/tokens/:token", s.do(s.deleteToken))
}

// session is whether the service wants a token, and which kind the asker has.
type session struct {
	Required bool   `json:"required"`
	Kind     string `json:"kind"`
}

func (s *service) getSession(c *gin.Context) error {
	kept, _ := c.Cookie(cookie)
	who, _ := s.Gate.Session(kept)
	c.JSON(http.StatusOK, session{s.Tokens, string(who.Kind)})
	return nil
}

// maxSmall bounds the bodies of what is asked here.
const maxSmall = 4 << 10

func small(c *gin.Context, into any) error {
	in := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxSmall))
	in.DisallowUnknownFields()
	if err := in.Decode(into); err != nil {
		return &badRequest{fmt.Sprintf("the body cannot be read: %v", err)}
	}
	return nil
}

// postSession begins a session for the holder of a token. The browser keeps it in a cookie that scripts cannot read and
// other sites cannot send.
func (s *service) postSession(c *gin.Context) error {
	var in struct {
		Token string `json:"token"`
	}
	if err := small(c, &in); err != nil {
		return err
	}
	from := c.ClientIP()
	secret := strings.TrimSpace(in.Token)
	if wait := s.signIns.wait(from, secret); wait > 0 {
		s.Log.Warn("sign-ins from an address are rejected: too many have failed", "address", from)
		return &tooOften{int(wait.Seconds()) + 1}
	}
	value, who, ok := s.Gate.SignIn(secret)
	if !ok {
		s.signIns.failed(from, secret)
		s.Log.Warn("a sign-in failed", "address", from)
		if who.Token != "" {
			return errWrongKind
		}
		return errBadToken
	}
	s.keep(c, value, int(access.SessionFor.Seconds()))
	c.JSON(http.StatusOK, session{s.Tokens, string(who.Kind)})
	return nil
}

// keep has the browser keep a session. It is sent over HTTPS only where that is what the browser speaks, with this service
// or with a proxy in front of it that sets it.
func (s *service) keep(c *gin.Context, value string, seconds int) {
	http.SetCookie(c.Writer, &http.Cookie{
		Name: cookie, Value: value, Path: "/", MaxAge: seconds, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: c.Request.TLS != nil || strings.EqualFold(c.GetHeader("X-Forwarded-Proto"), "https"),
	})
}

func (s *service) deleteSession(c *gin.Context) error {
	if kept, err := c.Cookie(cookie); err == nil {
		s.Gate.SignOut(kept)
	}
	s.keep(c, "", -1)
	c.Status(http.StatusNoContent)
	return nil
}

func (s *service) getTokens(c *gin.Context) error {
	list, err := s.Gate.List(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, gin.H{"tokens": list})
	return nil
}

func (s *service) postToken(c *gin.Context) error {
	var in struct {
		Kind access.Kind `json:"kind"`
		Name string      `json:"name"`
	}
	if err := small(c, &in); err != nil {
		return err
	}
	made, err := s.Gate.Create(c.Request.Context(), in.Kind, in.Name)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, made)
	return nil
}

func (s *service) deleteToken(c *gin.Context) error {
	id := c.Param("token")
	err := s.Gate.Revoke(c.Request.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return &notHere{fmt.Sprintf("there is no token %q; GET /api/v1/tokens lists those there are", id)}
	}
	if err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
