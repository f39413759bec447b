package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/control"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/store"
)

// What only the HTTP side can get wrong.
var (
	errMethod   = errors.New("this address does not take that method")
	errNotReady = errors.New("what was accepted before the start is still being analysed")
	errFault    = errors.New("internal error; the service's log has the details")
)

// badRequest is a request that cannot be understood.
type badRequest struct{ why string }

func (e *badRequest) Error() string { return e.why }

// notHere is an address or a name behind which there is nothing.
type notHere struct{ what string }

func (e *notHere) Error() string { return e.what }

// tooLarge is a body over a bound.
type tooLarge struct {
	what  string
	bound int64
}

func (e *tooLarge) Error() string {
	return fmt.Sprintf("%s is larger than %d bytes; send it in smaller pieces", e.what, e.bound)
}

// problem answers with an error, as RFC 9457 has it. It is the only place where errors become statuses.
func (s *service) problem(c *gin.Context, err error) {
	status, kind, title, extra := describe(err)
	detail := err.Error()
	if errors.Is(err, store.ErrDamaged) {
		s.Log.Error("the database is damaged", "path", c.Request.URL.Path, "error", err)
	} else if status == http.StatusInternalServerError {
		s.Log.Error("a request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
		detail = errFault.Error()
	}
	body := gin.H{
		"type": "urn:keenlantern:problem:" + kind, "title": title, "status": status,
		"detail": sentence(detail),
	}
	for name, value := range extra {
		body[name] = value
	}
	if status == http.StatusInsufficientStorage {
		s.Log.Error("nothing more can be stored", "error", err)
	}
	if status == http.StatusTooManyRequests || status == http.StatusServiceUnavailable {
		wait := 1
		if seconds, ok := extra["retry_after"].(int); ok {
			wait = seconds
		}
		c.Header("Retry-After", strconv.Itoa(wait))
	}
	refuseBody(c)
	if status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", "Bearer")
	}
	c.Abort()
	if c.Writer.Written() {
		return // the answer had begun; there is no room for another
	}
	c.Header("Content-Type", "application/problem+json")
	c.JSON(status, body)
}

// sentence makes an error's text one.
func sentence(s string) string {
	s = strings.ToUpper(s[:1]) + s[1:]
	if strings.HasSuffix(s, "?") {
		return s
	}
	return s + "."
}

func describe(err error) (status int, kind, title string, extra map[string]any) {
	var (
		turn     *ingest.OutOfTurn
		unusable *ingest.Unusable
		bad      *badRequest
		nothing  *notHere
		large    *tooLarge
		cut      *http.MaxBytesError
		foreign  *foreignRequest
		order    *control.Unusable
		token    *access.Unusable
	)
	var conflict *ingest.Conflict
	var often *tooOften
	var stale *views.Stale
	var contract *misagreed
	var part *ingest.ErrPart
	switch {
	case errors.As(err, &stale):
		return http.StatusConflict, "stale", "The recording is being reanalysed", map[string]any{"left": stale.Left}
	case errors.As(err, &contract):
		return http.StatusUnprocessableEntity, "contract", "The contract cannot be used", map[string]any{"mistakes": contract.mistakes}
	case errors.As(err, &conflict):
		return http.StatusConflict, "batch-conflict", "The batch was taken before with other lines", nil
	case errors.Is(err, store.ErrNotOwner):
		return http.StatusForbidden, "not-owner", "The stream belongs to another token", nil
	case errors.Is(err, ingest.ErrDeleted):
		return http.StatusGone, "deleted", "The recording was deleted meanwhile", nil
	case errors.Is(err, errBusy):
		return http.StatusTooManyRequests, "busy", "Too many requests at once", map[string]any{"retry_after": busyFor}
	case errors.Is(err, errCopying):
		return http.StatusConflict, "backup", "A backup is being made", nil
	case errors.Is(err, errRoom):
		return http.StatusServiceUnavailable, "connections", "Too many connections", nil
	case errors.As(err, &often):
		return http.StatusTooManyRequests, "sign-ins", "Too many sign-ins", map[string]any{"retry_after": often.seconds}
	case errors.As(err, &turn):
		return http.StatusConflict, "batch-out-of-turn", "A batch before this one is missing", map[string]any{"expected": turn.Expected}
	case errors.As(err, &large), errors.As(err, &cut):
		return http.StatusRequestEntityTooLarge, "too-large", "The body is over its bound", nil
	case errors.As(err, &unusable):
		return http.StatusUnprocessableEntity, "not-a-trace", "This cannot be taken as a trace", nil
	case errors.As(err, &bad):
		return http.StatusBadRequest, "bad-request", "The request cannot be understood", nil
	case errors.As(err, &nothing), errors.Is(err, store.ErrNotFound):
		return http.StatusNotFound, "not-found", "There is nothing here", nil
	case errors.Is(err, ingest.ErrRunning):
		return http.StatusConflict, "running", "It is being recorded", nil
	case errors.Is(err, store.ErrAmbiguous):
		return http.StatusConflict, "ambiguous", "The name fits more than one", nil
	case errors.As(err, &foreign):
		return http.StatusForbidden, "foreign-request", "The request comes from another site", nil
	case errors.Is(err, errNoToken), errors.Is(err, errBadToken), errors.Is(err, errNoSession):
		return http.StatusUnauthorized, "token", "A token is needed", nil
	case errors.Is(err, errWrongKind):
		return http.StatusForbidden, "token-kind", "The token is not enough", nil
	case errors.As(err, &token):
		return http.StatusBadRequest, "bad-request", "The request cannot be understood", nil
	case errors.Is(err, errMethod):
		return http.StatusMethodNotAllowed, "method", "The method is not known here", nil
	case errors.As(err, &order):
		return http.StatusBadRequest, "bad-request", "The request cannot be understood", nil
	case errors.Is(err, ingest.ErrBusy), errors.Is(err, control.ErrFull):
		return http.StatusTooManyRequests, "busy", "Too much at once", nil
	case errors.Is(err, store.ErrFull), errors.Is(err, store.ErrReadOnly):
		return http.StatusInsufficientStorage, "storage", "Nothing more can be stored", nil
	case errors.As(err, &part), errors.Is(err, store.ErrTakingOver), errors.Is(err, store.ErrHeld):
		return http.StatusServiceUnavailable, "taking-over", "A part of the streams is being taken over", nil
	case errors.Is(err, store.ErrAway):
		return http.StatusServiceUnavailable, "log-away", "The log cannot be reached", map[string]any{"retry_after": 2}
	case errors.Is(err, store.ErrDamaged):
		return http.StatusInternalServerError, "damaged", "What was stored cannot be read", nil
	case errors.Is(err, errNotReady):
		return http.StatusServiceUnavailable, "not-ready", "Not ready yet", nil
	case errors.Is(err, ingest.ErrClosed), errors.Is(err, control.ErrClosed), errors.Is(err, context.Canceled):
		return http.StatusServiceUnavailable, "closing", "The service is shutting down", nil
	}
	return http.StatusInternalServerError, "fault", "The service has a fault", nil
}
