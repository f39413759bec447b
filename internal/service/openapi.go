package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/goccy/go-yaml"

	"keenlantern.example/docs"
)

// openapiJSON turns the document that is written by hand into JSON, when it is first asked for: it takes some 45 ms, for which a
// start need not wait.
var openapiJSON = sync.OnceValues(func() ([]byte, error) {
	var doc map[string]any
	if err := yaml.Unmarshal(docs.OpenAPI, &doc); err != nil {
		return nil, fmt.Errorf("read the OpenAPI document: %w", err)
	}
	out, err := json.Marshal(doc)
	if err != nil {
		return nil, fmt.Errorf("write the OpenAPI document: %w", err)
	}
	return out, nil
})

func (s *service) getOpenAPI(c *gin.Context) error {
	doc, err := openapiJSON()
	if err != nil {
		return err
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", doc)
	return nil
}
