package core_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"keenlantern.example/internal/core"
)

func TestKey(t *testing.T) {
	assert.Regexp(t, `^[0-9a-f]{16}$`, core.Key("{}"))
	assert.Equal(t, core.Key("{}"), core.Key("{}"))
	assert.NotEqual(t, core.Key("{}"), core.Key(`{"leak":3}`))
}
