package config

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// hidden holds a configuration of each syntax in which everything that begins with qz is secret.
var hidden = map[Syntax]string{
	BlockIndent: "box\n  name pier # by the gate\n  secret qzAA11bb22 \"qzCC 33dd\" # note\nuser x\n  # secret qzOLD9999\n  secret qzEE44ff55\n  level plain\n",
	Braces:      "box { name pier; secret qzAA11bb22; } # secret qzOLD9999\nuser x {\n  secret \"qzCC;33dd\" qzEE44ff55;\n  level plain;\n}\n",
	Dotted:      "box.name = pier\nuser.x.secret = qzAA11bb22 # note\n# user.y.secret = qzOLD9999\nuser.z.secret = \"qzCC 33dd\"\nuser.z.level = plain\n",
	INI:         "[user x]\nsecret = qzAA11bb22 ; note\n; secret = qzOLD9999\nlevel = plain\n[user y]\nsecret = \"qzCC;33dd\"\n",
	JSON:        "{\n  \"name\": \"pier\",\n  \"users\": [\n    {\"name\": \"x\", \"secret\": \"qzAA11bb22\", \"level\": \"plain\"},\n    {\"name\": \"y\", \"secret\":\n      \"qzCC\\n33dd\"}\n  ]\n}\n",
	XML:         "<box>\n  <!-- secret qzOLD9999\n  qzOLD8888 -->\n  <name>pier</name>\n  <user id=\"x\">\n    <secret>qzAA11bb22</secret>\n    <level secret='qzCC33dd'>plain</level>\n    <secret>\n      qzEE44\n      qzFF55\n    </secret>\n  </user>\n</box>\n",
}

// A file that was cut off anywhere shows no part of a secret, and what can be shown of it stays.
func TestNoCutShowsASecret(t *testing.T) {
	for syntax, text := range hidden {
		s := Simple(syntax, []string{"secret"}, nil)
		whole := s.MaskText("x", text)
		assert.NotContains(t, whole, "qz", "%s", syntax)
		assert.Contains(t, whole, "plain", syntax)
		assert.Equal(t, strings.Count(text, "\n"), strings.Count(whole, "\n"), "lines stay where they are")
		for cut := range len(text) {
			if got := s.MaskText("x", text[:cut]); strings.Contains(got, "qz") {
				t.Errorf("%s, cut at %d: %q shows %q", syntax, cut, text[:cut], got)
			}
		}
	}
}

// Nor does one in which something was lost or put in, as long as nobody touched the words that say what is secret.
func TestNoDamageShowsASecret(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		syntax := Syntax(rapid.SampledFrom(Syntaxes).Draw(t, "syntax"))
		text := hidden[syntax]
		for range rapid.IntRange(1, 3).Draw(t, "times") {
			lines := splitLines(text)
			i := rapid.IntRange(0, len(lines)-1).Draw(t, "line")
			if strings.Contains(lines[i], "secret") || strings.Contains(lines[i], "qz") {
				continue
			}
			switch rapid.IntRange(0, 2).Draw(t, "kind") {
			case 0:
				lines[i] = ""
			case 1:
				lines[i] = rapid.SampledFrom([]string{"\x00\n", "{\n", "}\n", "\"\n", "<a>\n", "</user>\n", "\xff\n", "[\n", "]\n", ",\n", "\t\n", "<!--\n", "-->\n", "{\"a\" 1}\n"}).Draw(t, "junk") + lines[i]
			case 2:
				lines[i] = lines[i][:rapid.IntRange(0, len(lines[i])-1).Draw(t, "cut")] + "\n"
			}
			text = strings.Join(lines, "")
		}
		if got := Simple(syntax, []string{"secret"}, nil).MaskText("x", text); strings.Contains(got, "qz") {
			t.Fatalf("%s\n%s\nshows\n%s", syntax, text, got)
		}
	})
}

// Everything that shows statements masks alike: items, differences, labels.
func TestSecretsAreMaskedWhereverStatementsAreShown(t *testing.T) {
	for syntax, text := range hidden {
		s := Simple(syntax, []string{"secret"}, nil)
		d := parse(t, syntax, text)
		for _, it := range s.Items(d) {
			assert.NotContains(t, it.Text+it.Path, "qz", "%s", syntax)
		}
		d.Root.Walk(func(n *Node) { assert.NotContains(t, s.Label(n)+s.Masked(n, false), "qz", "%s", syntax) })
		changed := parse(t, syntax, strings.ReplaceAll(text, "qzAA11", "qzZZ11"))
		seen := false
		for _, diff := range Compare(d, changed, s).Differences {
			assert.NotContains(t, diff.Old+diff.New+diff.Path+diff.OldPath, "qz", "%s", syntax)
			seen = seen || diff.Secret
		}
		assert.True(t, seen, "%s: that it changed is seen", syntax)
		gone := parse(t, syntax, map[bool]string{true: "<box/>", false: map[bool]string{true: "{}", false: ""}[syntax == JSON]}[syntax == XML])
		for _, diff := range Compare(d, gone, s).Differences {
			assert.NotContains(t, diff.Old+diff.New, "qz", "%s", syntax)
		}
	}
}

// The demo's large files, by the words their catalogue calls secret.
func TestDemoSecretsAreMasked(t *testing.T) {
	for name, c := range map[string]struct {
		syntax  Syntax
		secrets []string
	}{
		"control-fw1.cfg": {BlockIndent, []string{"secret", "watchword", "pin", "community"}}, "hollen-sw1.conf": {Braces, []string{"passphrase", "community"}}, "tern-rt1.xml": {XML, []string{"key", "secret"}},
		"innersund-wc1.conf": {Dotted, []string{"passphrase", "shared", "key"}}, "control-sg1.json": {JSON, []string{"password", "key"}}, "control-td1.json": {JSON, []string{"secret"}}, "marrow-ramp1.ini": {INI, []string{"code"}},
	} {
		data, err := os.ReadFile("../../demo/configs/" + name)
		require.NoError(t, err)
		require.Contains(t, string(data), "demo-")
		got := Simple(c.syntax, c.secrets, nil).MaskText(name, string(data))
		assert.NotContains(t, got, "demo-", name)
		assert.Equal(t, strings.Count(string(data), "\n"), strings.Count(got, "\n"), name)
		masked, broken := Parse(name, got, c.syntax)
		assert.Empty(t, broken, "%s: what is masked can still be read", name)
		original, _ := Parse(name, string(data), c.syntax)
		assert.Zero(t, Simple(c.syntax, c.secrets, nil).Unmask(masked, original), name)
		assert.True(t, Compare(original, masked, Simple(c.syntax, c.secrets, nil)).Same(), "%s: secrets are put back", name)
	}
}
