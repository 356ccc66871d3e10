package server

import (
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/access"
)

// Every call of the contract that sends something needs a right, or is known to change nothing.
func TestEveryCallNeedsARight(t *testing.T) {
	text, err := os.ReadFile("../api/openapi.yaml")
	require.NoError(t, err)
	calls := regexp.MustCompile(`(?m)^    (get|put|post|patch|delete):\n      operationId: (\w+)`).FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(calls), 100)
	known := map[string]bool{}
	for _, m := range calls {
		name := strings.ToUpper(m[2][:1]) + m[2][1:]
		known[name] = true
		_, has := rights[name]
		switch look := slices.Contains(looks, name); {
		case m[1] == "get":
			assert.False(t, has || look, "%s reads only", name)
		default:
			assert.True(t, has != look, "%s: which right it needs is not said, or twice", name)
		}
	}
	for name := range rights {
		assert.True(t, known[name], "%s is no call", name)
	}
}

// Nobody who has not signed in gets past the gate, whatever route leads to it.
func TestCallsWithoutARight(t *testing.T) {
	called := 0
	next := func(*gin.Context, any) (any, error) { called++; return nil, nil }
	c, _ := gin.CreateTestContext(httptest.NewRecorder())
	c.Request = httptest.NewRequest("POST", "/", nil)
	for name := range rights {
		_, err := (&Server{}).gate(next, name)(c, nil)
		var r *access.Refusal
		require.ErrorAs(t, err, &r, name)
		assert.Equal(t, access.NoRight, r.Reason)
		assert.Equal(t, 403, asProblem(err).Status)
	}
	assert.Zero(t, called)
	c.Set(userName, "me")
	for name := range rights {
		_, err := (&Server{}).gate(next, name)(c, nil)
		require.NoError(t, err, name)
	}
	assert.Equal(t, len(rights), called)
}
