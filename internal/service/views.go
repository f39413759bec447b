package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/core/views"
)

// viewRoutes adds the questions that can be asked of a recording.
func (s *service) viewRoutes(g *gin.RouterGroup) {
	one := g.Group("/recordings/:recording")
	one.GET("/registrations", s.view(func(_ *gin.Context, src *views.Source, f views.Filter) (any, error) {
		return views.Registrations(src, f), nil
	}))
	one.GET("/by-hand", s.view(func(_ *gin.Context, src *views.Source, f views.Filter) (any, error) {
		return views.ByHand(src, f), nil
	}))
	one.GET("/graph", s.view(func(_ *gin.Context, src *views.Source, f views.Filter) (any, error) {
		return views.Wiring(src, f), nil
	}))
	one.GET("/disposal", s.view(func(_ *gin.Context, src *views.Source, f views.Filter) (any, error) {
		return views.Disposal(src, f), nil
	}))
	one.GET("/keys", s.view(func(c *gin.Context, src *views.Source, f views.Filter) (any, error) {
		all, err := boolean(c, "all")
		return views.Keys(src, f, all), err
	}))
	one.GET("/layers", s.view(func(_ *gin.Context, src *views.Source, f views.Filter) (any, error) {
		return views.Layers(src, f), nil
	}))
	one.GET("/wiring", s.view(func(c *gin.Context, src *views.Source, f views.Filter) (any, error) {
		near, err := number(c, "near", -1, -1, 1<<31)
		if c.Query("limit") == "" {
			f.Limit = views.MaxMapNodes
		}
		return views.WiringMap(src, views.MapQuery{Filter: f, Open: c.Query("open"), Near: near}), err
	}))
	one.GET("/costs", s.view(func(c *gin.Context, src *views.Source, f views.Filter) (any, error) {
		order := c.Query("order")
		if !views.IsCostOrder(order) {
			return nil, &badRequest{fmt.Sprintf("order is %q; it is own, saves or made", order)}
		}
		return views.Costs(src, f, order), nil
	}))
	one.GET("/scopes", s.view(s.getScopes))
	one.GET("/scopes/:scope", s.view(s.getScope))
	one.GET("/sharing", s.view(s.getSharing))
	one.GET("/instances/:instance", s.view(s.getInstance))
	g.GET("/compare", s.working(s.getCompare))
	g.GET("/rules", s.do(s.getRules))
	g.GET("/service", s.do(s.getService))
}

// view answers a question about the recording that the address names.
func (s *service) view(answer func(*gin.Context, *views.Source, views.Filter) (any, error)) gin.HandlerFunc {
	return s.looking(func(c *gin.Context) (any, error) {
		f, err := filter(c)
		if err != nil {
			return nil, err
		}
		src, err := s.source(c, c.Param("recording"))
		if err != nil {
			return nil, err
		}
		v, err := answer(c, src, f)
		if err == nil {
			err = src.Err()
		}
		return v, missing(err)
	})
}

// looking sends an answer that is made from recordings as a whole. A few are made at once, the others wait; one that is
// ready waits for no reader.
func (s *service) looking(answer func(*gin.Context) (any, error)) gin.HandlerFunc {
	return s.packed(func(c *gin.Context) (func(), error) { return s.Hub.View(c.Request.Context()) }, answer)
}

// working answers an expensive request. Such requests wait for their turn, besides views.
func (s *service) working(answer func(*gin.Context) (any, error)) gin.HandlerFunc {
	return s.packed(func(c *gin.Context) (func(), error) { return s.turns.take(c.Request.Context(), s.asker(c)) }, answer)
}

func (s *service) packed(place func(*gin.Context) (done func(), err error), answer func(*gin.Context) (any, error)) gin.HandlerFunc {
	packed := func(c *gin.Context) ([]byte, error) {
		done, err := place(c)
		if err != nil {
			return nil, err
		}
		defer done()
		v, err := answer(c)
		if err != nil {
			return nil, err
		}
		return json.Marshal(v)
	}
	return s.do(func(c *gin.Context) error {
		body, err := packed(c)
		if err != nil {
			return err
		}
		c.Data(http.StatusOK, "application/json; charset=utf-8", body)
		return nil
	})
}

// missing makes what a view could not find an answer of its own kind.
func missing(err error) error {
	var scope *views.ErrNoScope
	var part *views.NoPart
	var instance *views.ErrNoInstance
	var group *views.ErrNoGroup
	if errors.As(err, &scope) || errors.As(err, &group) || errors.As(err, &instance) || errors.As(err, &part) {
		return &notHere{err.Error()}
	}
	return err
}

func (s *service) source(c *gin.Context, name string) (*views.Source, error) {
	src, err := s.Hub.Source(c.Request.Context(), name)
	return src, named(name, err)
}

// filter reads what narrows every view.
func filter(c *gin.Context) (f views.Filter, err error) {
	f = views.Filter{Service: c.Query("service"), Lifetime: c.Query("lifetime"), Module: c.Query("module"), Name: c.Query("name"), When: c.Query("when"), How: c.Query("how")}
	if f.When != "" && f.When != views.WhenAtStart && f.When != views.WhenOnDemand {
		return f, &badRequest{fmt.Sprintf("when is %q; it is %q or %q", f.When, views.WhenAtStart, views.WhenOnDemand)}
	}
	if f.Limit, err = number(c, "limit", views.DefaultRows, 1, views.MaxRows); err != nil {
		return f, err
	}
	f.Offset, err = number(c, "offset", 0, 0, 1<<31)
	return f, err
}

func boolean(c *gin.Context, name string) (bool, error) {
	switch c.Query(name) {
	case "", "false":
		return false, nil
	case "true":
		return true, nil
	}
	return false, &badRequest{fmt.Sprintf("%s is %q; it is true or false", name, c.Query(name))}
}

// nanoseconds reads a parameter that is a number of ns.
func nanoseconds(c *gin.Context, name string) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, &badRequest{fmt.Sprintf("%s is %q; it is a number of nanoseconds", name, text)}
	}
	return n, nil
}

func (s *service) getScopes(c *gin.Context, src *views.Source, f views.Filter) (any, error) {
	q := views.ScopeQuery{Name: f.Name, Part: c.Query("part"), Kind: c.Query("kind"), Trace: c.Query("trace"), Limit: f.Limit, Offset: f.Offset}
	var errs [6]error
	q.Stream, errs[0] = number(c, "stream", -1, -1, 1<<20)
	q.Since, errs[1] = nanoseconds(c, "since_ns")
	q.Until, errs[2] = nanoseconds(c, "until_ns")
	q.AtLeast, errs[3] = nanoseconds(c, "at_least_ns")
	q.Findings, errs[4] = boolean(c, "findings")
	switch c.Query("order") {
	case "", "latest":
	case "longest":
		q.Longest = true
	default:
		errs[5] = &badRequest{fmt.Sprintf("order is %q; it is latest or longest", c.Query("order"))}
	}
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return views.Scopes(src, q)
}

func (s *service) getScope(c *gin.Context, src *views.Source, f views.Filter) (any, error) {
	stream, id, err := scopeName(c.Param("scope"))
	if err != nil {
		return nil, err
	}
	if c.Query("stream") != "" {
		if stream, err = number(c, "stream", 0, 0, 1<<20); err != nil {
			return nil, err
		}
	}
	once, err := boolean(c, "once")
	if err != nil {
		return nil, err
	}
	return views.TellScope(src, stream, id, f, once)
}

// scopeName reads a scope's address.
func scopeName(text string) (stream int, id uint64, err error) {
	stream, id, ok := views.ScopeAt(text)
	if !ok {
		return 0, 0, &badRequest{fmt.Sprintf("the scope is %q; it is a number or root, behind its stream's number and a dot where there are several streams", text)}
	}
	return stream, id, nil
}

func (s *service) getSharing(c *gin.Context, src *views.Source, f views.Filter) (any, error) {
	q := views.SharingQuery{Filter: f, Name: f.Name, Consumer: c.Query("consumer")}
	var errs [3]error
	q.Stream, errs[0] = number(c, "stream", 0, 0, 1<<20)
	q.Last, errs[1] = number(c, "last", views.DefaultBoardScopes, 1, views.MaxBoardScopes)
	q.Depth, errs[2] = number(c, "depth", views.DefaultBoardDepth, 1, views.MaxBoardDepth)
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	if list := c.Query("scopes"); list != "" {
		for n, text := range strings.Split(list, ",") {
			stream, id, err := scopeName(text)
			if err != nil {
				return nil, err
			}
			if n == 0 && c.Query("stream") == "" {
				q.Stream = stream
			}
			if strings.Contains(text, ".") && stream != q.Stream {
				return nil, &badRequest{fmt.Sprintf("scope %s is of another stream than those before it; a board shows one stream's", text)}
			}
			q.Scopes = append(q.Scopes, id)
		}
	}
	q.Filter.Name = ""
	return views.Sharing(src, q)
}

func (s *service) getInstance(c *gin.Context, src *views.Source, _ views.Filter) (any, error) {
	stream, id, ok := views.ScopeAt(c.Param("instance"))
	if !ok {
		return nil, &badRequest{fmt.Sprintf("%q is no instance; it is a number, behind its stream's and a dot where there are several streams", c.Param("instance"))}
	}
	return views.TellInstance(src, stream, id)
}

func (s *service) getRules(c *gin.Context) error {
	c.JSON(http.StatusOK, gin.H{"rules": views.Rules()})
	return nil
}

func (s *service) getService(c *gin.Context) error {
	sizes, err := s.Hub.Sizes(c.Request.Context())
	if err != nil {
		return err
	}
	info := views.ServiceInfo{
		Version: s.Version, Tokens: s.Tokens, Recordings: len(sizes), Streams: s.Hub.Stats().Streams,
		KeepForNS: s.Keep.For.Nanoseconds(), KeepBytes: s.Keep.Bytes, Derivation: s.Hub.Key(), Recorders: s.recorders(),
	}
	stats := s.Hub.Stats()
	info.Stale, info.Refreshed = stats.Stale, stats.Refreshed
	for _, one := range sizes {
		info.StoredBytes += one.Bytes
	}
	c.JSON(http.StatusOK, info)
	return nil
}

func (s *service) getCompare(c *gin.Context) (any, error) {
	side := func(param string) (*views.Source, string, error) {
		name, part, _ := strings.Cut(c.Query(param), "@")
		if name == "" {
			return nil, "", &badRequest{param + " names a recording, or a part of one as in latest@first-half or latest@version=1.2"}
		}
		src, err := s.source(c, name)
		if err != nil {
			return nil, "", err
		}
		if err := src.Fresh(); err != nil {
			return nil, "", err
		}
		src, err = views.Part(src, part)
		if err != nil {
			return nil, "", missing(err)
		}
		return src, part, nil
	}
	a, partA, err := side("a")
	if err != nil {
		return nil, err
	}
	b, partB, err := side("b")
	if err != nil {
		return nil, err
	}
	limit, err := number(c, "limit", views.DefaultCompared, 1, views.MaxRows)
	if err != nil {
		return nil, err
	}
	return views.Compare(a, b, partA, partB, limit), nil
}
