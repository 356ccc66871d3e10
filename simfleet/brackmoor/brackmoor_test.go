package brackmoor

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/config"
)

// A gateway reads its configuration into the language of the other train, and what both offer comes back as it was.
func TestAGatewayConvertsItsServices(t *testing.T) {
	text, err := os.ReadFile("../../demo/configs/control-sg1.json")
	require.NoError(t, err)
	three := string(text)
	four := services(three, "3.8.4", "4.0.3")
	doc, broken := config.Parse("x", four, config.JSON)
	require.Empty(t, broken)
	web := doc.Root.Child("services").Child("tickets-web")
	assert.Equal(t, "443", web.Child("listen").Child("port").Value())
	assert.Equal(t, "second", web.Child("cipher-set").Value(), "train 3 assumes it, train 4 does not")
	assert.NotContains(t, four, `"ciphers"`)
	assert.Equal(t, gateway.Serves(three), gateway.Serves(four), "it does the same for its users")
	back := services(four, "4.0.3", "3.8.4")
	doc, broken = config.Parse("x", back, config.JSON)
	require.Empty(t, broken)
	assert.Equal(t, "443", doc.Root.Child("services").Child("tickets-web").Child("port").Value())
	assert.NotContains(t, back, `"listen"`)
	assert.Equal(t, four, services(four, "4.0.3", "4.4.2"), "within a train nothing changes")
	assert.Equal(t, "{ nonsense", services("{ nonsense", "3.8.4", "4.0.3"))
}
