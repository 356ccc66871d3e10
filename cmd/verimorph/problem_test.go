package main

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// failed runs a command that fails, with -json, and returns what stands on the error output.
func failed(t *testing.T, args ...string) (code int, p localProblem) {
	t.Helper()
	var out, errs bytes.Buffer
	code = run(context.Background(), args, &out, &errs)
	assert.NotEqual(t, exitDone, code)
	assert.Empty(t, out.String())
	require.NoError(t, json.Unmarshal(errs.Bytes(), &p), "%s: %s", args, errs.String())
	return code, p
}

// With -json every command tells its errors as JSON.
func TestErrorsOfEveryCommandAreJSON(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	for _, c := range commands() {
		code, p := failed(t, append(strings.Fields(c.name), "-no-such-flag", "-json")...)
		assert.Equal(t, exitUsage, code, c.name)
		assert.Equal(t, "usage", p.Type)
		assert.Equal(t, c.name, p.Command)
		assert.Contains(t, p.Detail, "no-such-flag")
	}
	_, p := failed(t, "no", "such", "--json")
	assert.Equal(t, `there is no command "no such"`, p.Detail)
	code, p := failed(t, "device", "list", "-server", "http://127.0.0.1:1", "-json")
	assert.Equal(t, exitFailed, code)
	assert.Equal(t, "failed", p.Type)
}

// Mistakes in files are told one by one, with their places.
func TestMistakesInFilesAreJSON(t *testing.T) {
	dir := t.TempDir()
	old, new := filepath.Join(dir, "old"), filepath.Join(dir, "new")
	require.NoError(t, os.WriteFile(old, []byte("a {\n  b\n  c;\n  d\n}\n"), 0o600))
	require.NoError(t, os.WriteFile(new, []byte("a;\n"), 0o600))
	_, p := failed(t, "compare", "-json", "-syntax", "braces", old, new)
	require.Len(t, p.Errors, 2)
	assert.Equal(t, old, p.Errors[0].File)
	assert.Equal(t, 2, p.Errors[0].Line)
	assert.Equal(t, 4, p.Errors[1].Line)
	_, p = failed(t, "compare", "-json", "-syntax", "bracs", old, new)
	assert.Contains(t, p.Detail, `syntax "bracs" is not known; known and near: braces`)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "catalog"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "catalog", "x.yaml"), []byte("format: verimorph-catalogue/1\nno: 1\n"), 0o600))
	_, p = failed(t, "support", "-json", "-catalog", filepath.Join(dir, "catalog"), "-from", "A@1", "-to", "A@2")
	require.NotEmpty(t, p.Errors)
	assert.Equal(t, "x.yaml", filepath.Base(p.Errors[0].File))
}

// The order of what stands at the top does not count when nobody said that it does, and blanks behind commas are nobody's.
func TestCompareWithoutASchema(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		return filepath.Join(dir, name)
	}
	compare := func(args ...string) int {
		return run(context.Background(), append([]string{"compare", "-syntax", "block-indent"}, args...), &bytes.Buffer{}, &bytes.Buffer{})
	}
	a, b := write("a", "host x\n  pass 1\nname y\nchain\n  allow a\n  deny b\n"), write("b", "name y\nhost x\n  pass 1\nchain\n  allow a\n  deny b\n")
	assert.Equal(t, exitDone, compare(a, b))
	c := write("c", "name y\nhost x\n  pass 1\nchain\n  deny b\n  allow a\n")
	assert.Equal(t, exitDone, compare(b, c))
	assert.Equal(t, exitNo, compare("-ordered", "host, chain", b, c))
	var out bytes.Buffer
	d := write("d", "name y\nhost x\n  pass 2\nchain\n  allow a\n  deny b\n")
	assert.Equal(t, exitNo, run(context.Background(), []string{"compare", "-secret", "code, pass", b, d}, &out, &bytes.Buffer{}))
	assert.Contains(t, out.String(), "***")
}
