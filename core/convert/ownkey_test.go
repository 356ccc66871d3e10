package convert

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const keyed = "box\n  name a\n\nport p1\n  role outside\n  address 198.51.100.2/29\n\ntunnel home\n  peer 203.0.113.200\n  inside 10.9.0.0/16\n  secret sealed:7f:abcdef\n\ntunnel far\n  peer 203.0.113.201\n  inside 10.8.0.0/16\n  secret plain-words\n"

// rowOf is what became of a statement of the source.
func rowOf(t *testing.T, r *Result, path string) SourceItem {
	for _, x := range r.Ledger.Source {
		if x.Path == path {
			return x
		}
	}
	require.FailNow(t, "no such statement", path)
	return SourceItem{}
}

func TestSecretsUnderAKeyOfTheOldDevice(t *testing.T) {
	l := demo(t)
	to80 := func(answers map[string]string) *Result {
		return convert(t, l, "TH-60@5.4.2", "TH-80@5.4.2", keyed, func(j *Job) {
			j.Answers, j.Ports = answers, []PortChoice{{Port: "p1", To: "x1", Chosen: true}}
		})
	}
	r := to80(nil)
	open := rowOf(t, r, "tunnel home / secret")
	assert.Equal(t, NeedsPerson, open.State)
	assert.Equal(t, AskSecret, open.Ask)
	assert.NotContains(t, open.Text+open.Reason, "abcdef")
	assert.Equal(t, Kept, rowOf(t, r, "tunnel far / secret").State, "it is not written under a key of the device")
	assert.False(t, r.Ledger.Complete())

	r = to80(map[string]string{OwnKey: SameKey})
	assert.Equal(t, Kept, rowOf(t, r, "tunnel home / secret").State)
	assert.Contains(t, r.Text, "sealed:7f:abcdef")
	assert.True(t, r.Ledger.Complete())

	r = to80(map[string]string{"secret @ tunnel home / secret": "typed again"})
	again := rowOf(t, r, "tunnel home / secret")
	assert.Equal(t, Changed, again.State)
	assert.True(t, r.Ledger.Complete())
	assert.Contains(t, r.Text, `secret "typed again"`)
	assert.NotContains(t, r.Text, "abcdef")
	for _, x := range r.Ledger.Target {
		assert.NotContains(t, x.Text, "typed again", "a ledger holds no secret")
	}

	// The same device keeps its key when it only changes its release.
	r = convert(t, l, "TH-60@5.4.2", "TH-60@6.0.1", keyed, nil)
	assert.Equal(t, Kept, rowOf(t, r, "tunnel home / secret").State)
}

func TestWhatIsSaidAboutOwnKeys(t *testing.T) {
	r := convert(t, demo(t), "TH-60@5.4.2", "TH-80@5.4.2", keyed, nil)
	for answer, says := range map[string]string{"own-key=other": "both devices have the same key", "secret @ tunnel hoem / secret=x": "tunnel home / secret", "own-key=same": "", "secret @ tunnel home / secret=x": ""} {
		key, value, _ := strings.Cut(answer, "=")
		wrong := strings.Join(r.Unmatched(map[string]string{key: value}, nil), "\n")
		if says == "" {
			assert.Empty(t, wrong, answer)
		} else {
			assert.Contains(t, wrong, says, answer)
		}
	}
}
